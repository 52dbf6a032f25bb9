"""One HTTP request under way, over ASGI: its body within limits, its answer, and whether the caller is still there."""

import asyncio
from collections.abc import Awaitable, Callable, Mapping, MutableMapping
from contextlib import suppress
from typing import Any, TypeAlias

from .error_responses import Refused

Scope: TypeAlias = MutableMapping[str, Any]
Receive: TypeAlias = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send: TypeAlias = Callable[[MutableMapping[str, Any]], Awaitable[None]]


# Headers of which the first one must be the only one.
_ONCE = frozenset({b"host", b"authorization", b"x-api-key", b"content-length", b"content-type", b"origin"})
ABORT = "agouti.abort"
"""The extension of the server by which a connection is broken off."""


class CallerDisconnected(Exception):
    """The caller has closed the connection, or does not take the answer."""


class Exchange:
    """A request, and its answer as it goes out.

    Attributes:
        headers: of the request, under lower-case names.
        identifier: of the request, told to the caller and in the log.
        status: of the answer, once it has begun.
        extra: headers that every answer to it has.
        token: name of the access token.
        error: what went wrong, in the owner's words.
        logged: whether it stands in the log.
        size: bytes of its body.
        keeps_alive: says whether a comment may stand in the answer now; `None`: none may.
        sent_at: when the last piece of the answer went out, by the event loop's clock.
        sending_since: since when the caller does not take a piece of the answer; `None`: nothing waits.
    """

    def __init__(self, scope: Scope, receive: Receive, send: Send, identifier: str) -> None:
        self.scope = scope
        self.identifier = identifier
        self.headers: dict[str, str] = {}
        for name, value in scope["headers"]:
            self.headers.setdefault(name.decode("latin-1"), value.decode("latin-1"))
        self.token = ""
        self.error = ""
        self.logged = False
        self.size = 0
        self.keeps_alive: Callable[[], bool] | None = None
        self.sent_at = 0.0
        self.status: int | None = None
        self.extra: list[tuple[bytes, bytes]] = [(b"x-request-id", identifier.encode())]
        self.sending_since: float | None = None
        self._receive = receive
        self._send = send
        self._task: asyncio.Task[Any] | None = None
        self._watch: asyncio.Task[None] | None = None
        self._disconnected = False
        self._complete = False

    async def body(self, limit: int, seconds: float) -> bytes:
        """The body of the request.

        Raises:
            Refused: it is too large, or comes too slowly.
            CallerGone: it does not come to its end.
        """
        if self.headers.get("content-encoding", "identity").strip().lower() not in ("", "identity"):
            raise Refused(415, "send the request as it is, without content-encoding")
        length = self.headers.get("content-length", "")
        if length.isdigit() and int(length) > limit:
            raise _too_large(limit)
        chunks: list[bytes] = []
        size = 0
        try:
            async with asyncio.timeout(seconds):
                while True:
                    message = await self._receive()
                    if message["type"] == "http.disconnect":
                        raise CallerDisconnected
                    chunk = message.get("body", b"")
                    size += len(chunk)
                    if size > limit:
                        raise _too_large(limit)
                    self.size = size
                    chunks.append(chunk)
                    if not message.get("more_body"):
                        return chunks[0] if len(chunks) == 1 else b"".join(chunks)
        except TimeoutError:
            raise Refused(408, f"the request did not come whole within {seconds:g} s") from None

    def watch(self) -> None:
        """From here on, a caller who goes away ends the task that answers."""
        self._task = asyncio.current_task()
        self._watch = asyncio.create_task(self._until_disconnected())

    async def _until_disconnected(self) -> None:
        while (await self._receive())["type"] != "http.disconnect":
            pass
        self.give_up()

    def give_up(self) -> None:
        """The caller is gone: the task that answers is cancelled."""
        if self._task is not None and not self._disconnected and not self._complete:
            self._disconnected = True
            self._task.cancel()

    def break_off(self) -> None:
        """The caller does not take the answer: the connection is broken off, and the task that answers is cancelled."""
        extension = (self.scope.get("extensions") or {}).get(ABORT)
        if extension is not None:
            extension["abort"]()
        self.give_up()

    def linger(self) -> None:
        """The answer goes out before the request is whole: its rest is read away before the connection is closed."""
        extension = (self.scope.get("extensions") or {}).get(ABORT)
        if extension is not None and "linger" in extension:
            extension["linger"]()

    @property
    def disconnected(self) -> bool:
        """Whether the caller has gone."""
        return self._disconnected

    def check(self) -> None:
        """See that the head says one thing.

        Raises:
            Refused: it does not: what stands before the relay may have read another one.
        """
        names = [name for name, _ in self.scope["headers"] if name in _ONCE]
        if len(names) != len(set(names)):
            raise Refused(400, "a header that may stand once stands twice")
        if b"host" not in names and self.scope.get("http_version", "1.1") not in ("1.0", "2", "3"):
            raise Refused(400, "the request has no host")

    def done(self) -> bool:
        """The answer is out, or given up: nobody is watched any more. Whether the caller had gone."""
        if self._watch is not None:
            self._watch.cancel()
        task, self._task = self._task, None
        if self._disconnected and task is not None:
            task.uncancel()
        return self._disconnected

    async def answer(self, status: int, body: bytes, kind: str, headers: Mapping[str, str] | None = None) -> None:
        """Send a whole answer."""
        has_more = [(b"content-length", str(len(body)).encode())]
        await self.begin(status, kind, headers, has_more)
        await self.send_chunk(body, has_more=False)

    async def begin(
        self,
        status: int,
        kind: str,
        headers: Mapping[str, str] | None = None,
        further_headers: list[tuple[bytes, bytes]] | None = None,
    ) -> None:
        """Send status and headers."""
        self.status = status
        fields = [(b"content-type", kind.encode()), *self.extra, *(further_headers or ())]
        fields += [(name.encode(), value.encode("latin-1", "replace")) for name, value in (headers or {}).items()]
        await self._send({"type": "http.response.start", "status": status, "headers": fields})

    async def send_chunk(self, data: bytes, *, has_more: bool = True) -> None:
        """Send a piece of the answer; waits while the caller does not take it."""
        self.sending_since = self.sent_at = asyncio.get_running_loop().time()
        await self._send({"type": "http.response.body", "body": data, "more_body": has_more})
        self.sending_since = None
        # Servers tell of the end of an answer as they tell of a caller who has gone.
        self._complete = not has_more

    async def comment(self, data: bytes) -> None:
        """Send something that says nothing, to show that the connection is alive."""
        with suppress(Exception):
            await self.send_chunk(data)


def _too_large(limit: int) -> Refused:
    return Refused(413, f"the request is larger than {limit / 1e6:g} MB", "request_too_large")
