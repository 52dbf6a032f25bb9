"""Faults on demand, for every stand-in: named in a header, or after a ``+`` in the model's name.

``x-standin-fault: cut=3`` and model ``loam-2b+cut=3`` both close the connection after three pieces.
``status=503x2#a`` fails the first two requests that name it so, and lets the third one through.

They work on the reply as it goes out, so that one implementation serves all dialects; only an error inside
a stream and its odd frames are a matter of the dialect.
"""

import asyncio
import gzip
import json
import re
import time
from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from email.utils import formatdate

from starlette.types import ASGIApp, Message, Receive, Scope, Send

HEADER = "x-standin-fault"
# How long a stall or a slow start lasts where no number says so: longer than any test waits.
LONG = 30.0

FAULTS = {
    "status": "that HTTP status with an error body",
    "status-empty": "that HTTP status with no body",
    "status-html": "that HTTP status with a web page",
    "limit-seconds": "429, `retry-after` in seconds",
    "limit-date": "429, `retry-after` as a date",
    "limit-ms": "429, `retry-after-ms`",
    "limit-body": "429, the wait in the body",
    "limit-reset": "429, the wait in a rate-limit header",
    "html": "a web page with status 200",
    "other-json": "JSON that is no reply",
    "not-json": "broken JSON under the JSON media type",
    "empty": "status 200 and no body",
    "wrong-type": "a good reply under another media type",
    "gzip": "a compressed reply, though none was asked for",
    "trailing": "garbage after the end of the reply",
    "redirect": "a redirect to another host",
    "slow": "the first byte after that many tenths of a second",
    "drop": "the connection closed before any byte of a reply",
    "reset": "the connection reset after that many bytes of the body",
    "cut": "the connection closed after that many pieces of the body",
    "stall": "silence after that many pieces of the body",
    "garbage": "a frame of garbage after that many pieces",
    "oversize": "an endless line after that many pieces",
    "split": "every byte in a packet of its own",
    "error": "an error reported inside the stream after that many pieces",
    "odd": "comments, nulls, repeated roles, usage twice, no end mark",
    "fenced": "the JSON of an answer in a code fence, with words around it",
    "prose": "words instead of JSON",
    "twice": "the JSON of an answer twice",
    "thinking": "thoughts before the JSON of an answer",
    "broken": "JSON without its end, in answers and in calls",
    "truncated": "an answer cut off by a cap on tokens",
    "invalid": "JSON of another form, in answers and in calls",
    "unknown-tool": "a call to a tool that there is not",
    "refusal": "a refusal",
    "nothing": "an empty answer",
    "lies": "something that is accepted and not done: see `agouti.standins.misbehaviour`",
    "loose": "what real servers leave out: indices, end marks, reasons, the last line end; NaN and counts with a point",
}
# These change what the model says; with a number, only its first so many answers in a conversation.
_IN_ANSWER = frozenset(
    {"fenced", "prose", "twice", "thinking", "broken", "truncated", "invalid", "unknown-tool", "refusal", "nothing"}
)
# These are up to the dialect's own module.
_IN_DIALECT = frozenset({"error", "odd", "loose", "lies"}) | _IN_ANSWER
_PAGE = b"<!doctype html><html><head><title>Northbank - models for everyone</title></head><body><h1>Hello</h1></body></html>"
_FORM = re.compile(r"(?P<name>[a-z-]+)(?:=(?P<number>\d+))?(?:x(?P<times>\d+))?(?:#\w+)?$")


@dataclass(frozen=True)
class Fault:
    """One fault, and its number, where it takes one."""

    name: str
    number: int = 0


def parse(text: str) -> tuple[Fault, int | None]:
    """The fault that a text names, and how many times it happens (`None`: always).

    >>> parse("status=503x2#a")
    (Fault(name='status', number=503), 2)
    """
    found = _FORM.match(text)
    if not found or found["name"] not in FAULTS:
        raise ValueError(f"no such fault: {text}; there are {', '.join(FAULTS)}")
    return Fault(found["name"], int(found["number"] or 0)), int(found["times"]) if found["times"] else None


def in_dialect(headers: Mapping[str, str], model: str) -> tuple[str, Fault | None]:
    """The model's plain name, and the fault that the dialect itself is to show.

    >>> in_dialect({}, "loam-2b+error=3")
    ('loam-2b', Fault(name='error', number=3))
    """
    name, _, by_model = model.partition("+")
    text = headers.get(HEADER) or by_model
    fault = parse(text)[0] if text else None
    return name, fault if fault is not None and fault.name in _IN_DIALECT else None


class Faulty:
    """An ASGI application whose replies go wrong where a request wants them to."""

    def __init__(self, app: ASGIApp, drop: Callable[[Scope, bool], None]) -> None:
        self._app = app
        self._drop = drop
        self._happened: Counter[str] = Counter()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer one request."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        body, again = await _whole(receive)
        text = _wanted(scope, body)
        fault = None
        if text:
            try:
                fault, times = parse(text)
            except ValueError as error:
                await _reply(send, 400, json.dumps({"error": {"message": str(error)}}).encode())
                return
            self._happened[text] += 1
            if fault.name in _IN_DIALECT or (times is not None and self._happened[text] > times):
                fault = None
        if fault is None:
            await self._app(scope, again, send)
        elif (instead := _instead(fault)) is not None:
            await _reply(send, *instead)
        else:
            broken = _Broken(fault, send, lambda hard: self._drop(scope, hard))
            await broken.before()
            if not broken.over:
                await self._app(scope, again, broken.send)


async def _whole(receive: Receive) -> tuple[bytes, Receive]:
    """A request's body, and a way to receive it again."""
    body = b""
    while True:
        message = await receive()
        body += message.get("body", b"")
        if not message.get("more_body"):
            break
    given = False

    async def again() -> Message:
        nonlocal given
        if given:
            return await receive()
        given = True
        return {"type": "http.request", "body": body, "more_body": False}

    return body, again


def _wanted(scope: Scope, body: bytes) -> str:
    for name, value in scope["headers"]:
        if name == HEADER.encode():
            return str(value.decode())
    # In the body only where the model is named: base64 has a plus here and there, too.
    for pattern, place in ((rb'"(?:model|engine|version)"\s*:\s*"[^"]*', body), (rb"[^+]*", scope["path"].encode())):
        found = re.search(pattern + rb"\+([a-z-]+(?:=\d+)?(?:x\d+)?(?:#\w+)?)[\"/:]", place)
        if found:
            return found[1].decode()
    return ""


async def _reply(send: Send, status: int, body: bytes, headers: dict[str, str] | None = None) -> None:
    sent = {"content-type": "application/json", "content-length": str(len(body)), **(headers or {})}
    raw = [(name.encode(), value.encode()) for name, value in sent.items()]
    await send({"type": "http.response.start", "status": status, "headers": raw})
    await send({"type": "http.response.body", "body": body})


def _instead(fault: Fault) -> tuple[int, bytes, dict[str, str]] | None:
    """A reply that takes the place of the real one."""
    seconds = fault.number
    page = {"content-type": "text/html; charset=utf-8"}
    limit = json.dumps({"error": {"message": "Too many requests.", "code": "rate_limit_exceeded"}}).encode()
    with_wait = {"error": {"message": "Too many requests.", "details": [{"retryDelay": f"{seconds}s"}]}}
    replies: dict[str, Callable[[], tuple[int, bytes, dict[str, str]]]] = {
        "status": lambda: (fault.number, b'{"error": {"message": "Something went wrong in here."}}', {}),
        "status-empty": lambda: (fault.number, b"", {}),
        "status-html": lambda: (fault.number, b"<html><title>Bad gateway</title></html>", page),
        "limit-seconds": lambda: (429, limit, {"retry-after": str(seconds)}),
        "limit-date": lambda: (429, limit, {"retry-after": formatdate(time.time() + seconds, usegmt=True)}),
        "limit-ms": lambda: (429, limit, {"retry-after-ms": str(seconds)}),
        "limit-body": lambda: (429, json.dumps(with_wait).encode(), {}),
        "limit-reset": lambda: (
            429,
            limit,
            {"x-ratelimit-remaining-requests": "0", "x-ratelimit-reset-requests": f"{seconds}s"},
        ),
        "html": lambda: (200, _PAGE, page),
        "other-json": lambda: (200, b'{"greeting": "This is some other service."}', {}),
        "not-json": lambda: (200, b'{"choices": [', {}),
        "empty": lambda: (200, b"", {}),
        "redirect": lambda: (307, b"", {"location": "https://elsewhere.example/v1"}),
    }
    return replies[fault.name]() if fault.name in replies else None


class _Broken:
    """A reply that goes wrong on its way out."""

    def __init__(self, fault: Fault, send: Send, drop: Callable[[bool], None]) -> None:
        self._fault = fault
        self._send = send
        self._drop = drop
        self._pieces = 0
        self._bytes = 0
        self._start: Message | None = None
        self._held = b""
        self.over = False

    async def before(self) -> None:
        if self._fault.name == "slow":
            await asyncio.sleep(self._fault.number / 10 if self._fault.number else LONG)
        elif self._fault.name == "drop":
            self._break(False)

    async def send(self, message: Message) -> None:
        if self.over:
            return
        if message["type"] == "http.response.start":
            await self._head(message)
            return
        body, more = message.get("body", b""), message.get("more_body", False)
        await getattr(self, "_" + self._fault.name.replace("-", "_"), self._pass)(body, more)

    async def _head(self, message: Message) -> None:
        name = self._fault.name
        headers = [(key, value) for key, value in message["headers"] if key != b"content-length"]
        if name == "wrong-type":
            headers = [(key, b"text/plain" if key == b"content-type" else value) for key, value in headers]
        elif name == "gzip":
            headers.append((b"content-encoding", b"gzip"))
        await self._send({**message, "headers": headers})

    async def _pass(self, body: bytes, more: bool) -> None:
        await self._send({"type": "http.response.body", "body": body, "more_body": more})

    def _break(self, hard: bool) -> None:
        self.over = True
        self._drop(hard)

    def _due(self, body: bytes) -> bool:
        """Whether the fault is due before this piece."""
        due = self._pieces == self._fault.number
        self._pieces += bool(body)
        return due and bool(body)

    async def _gzip(self, body: bytes, more: bool) -> None:
        self._held += body
        if not more:
            await self._pass(gzip.compress(self._held), False)

    async def _trailing(self, body: bytes, more: bool) -> None:
        await self._pass(body, True)
        if not more:
            await self._pass(b"\n\n<!-- served by the seed library -->", False)

    async def _reset(self, body: bytes, more: bool) -> None:
        room = self._fault.number - self._bytes
        self._bytes += len(body)
        if len(body) < room:
            await self._pass(body, more)
            return
        await self._pass(body[:room], True)
        await asyncio.sleep(0.05)  # a reset overtakes bytes that the other side has not read yet
        self._break(True)

    async def _cut(self, body: bytes, more: bool) -> None:
        if self._due(body):
            self._break(False)
        else:
            await self._pass(body, more)

    async def _stall(self, body: bytes, more: bool) -> None:
        if self._due(body):
            if self._fault.number == 0:
                await self._pass(body[:1], True)
                body = body[1:]
            await asyncio.sleep(LONG)
        await self._pass(body, more)

    async def _garbage(self, body: bytes, more: bool) -> None:
        if self._due(body):
            await self._pass(b"data: {\x00 this is no JSON\n\n", True)
        await self._pass(body, more)

    async def _oversize(self, body: bytes, more: bool) -> None:
        if self._due(body):
            await self._pass(b"data: ", True)
            for _ in range(20):
                await self._pass(b"x" * 1024 * 1024, True)
        await self._pass(body, more)

    async def _split(self, body: bytes, more: bool) -> None:
        for place in range(len(body)):
            await self._pass(body[place : place + 1], True)
        await self._pass(b"", more)
