"""Quotas: stand-ins that allow so many requests in any second, minute or day and at once, exactly, and say so."""

import json
import re
import time
from collections import Counter, deque
from collections.abc import Mapping
from dataclasses import dataclass, field

from starlette.types import ASGIApp, Message, Receive, Scope, Send

_SECONDS = {"second": 1.0, "minute": 60.0, "day": 86400.0}
_COUNTS = re.compile(rb'"prompt_tokens": ?(\d+), ?"completion_tokens": ?(\d+)')


@dataclass
class Quota:
    """What a stand-in allows.

    Attributes:
        per_second, per_minute, per_day: requests in any stretch of that length; `None`: as many as come.
        tokens_per_minute: of prompts and answers, as the replies tell them: once they are used, nothing more goes.
        credit: tokens in all; once they are used, every request is refused as not paid.
        at_once: requests under way.
        speed: how much faster than others its clock runs.
        style: of the headers that say what is left: ``x-ratelimit``, ``ratelimit``, or none.
    """

    per_second: int | None = None
    per_minute: int | None = None
    per_day: int | None = None
    tokens_per_minute: int | None = None
    credit: int | None = None
    at_once: int | None = None
    speed: float = 1.0
    style: str = "x-ratelimit"
    _times: deque[float] = field(default_factory=deque)
    _tokens: deque[tuple[float, int]] = field(default_factory=deque)
    _used: int = 0
    _under_way: int = 0

    @property
    def spent(self) -> bool:
        """Whether the credit is used up."""
        return self.credit is not None and self._used >= self.credit

    def took(self, tokens: int) -> None:
        """A reply has told its tokens."""
        self._used += tokens
        self._tokens.append((time.monotonic() * self.speed, tokens))

    def refused(self) -> float | None:
        """Seconds until there is room again; `None`: there is room, and the request counts."""
        now = time.monotonic() * self.speed
        if self.at_once is not None and self._under_way >= self.at_once:
            return 1.0
        for unit, seconds in _SECONDS.items():
            most: int | None = getattr(self, f"per_{unit}")
            within = [at for at in self._times if at > now - seconds] if most is not None else []
            if most is not None and len(within) >= most:
                return (within[-most] + seconds - now) / self.speed
        if self.tokens_per_minute is not None:
            while self._tokens and self._tokens[0][0] <= now - 60:
                self._tokens.popleft()
            if self._tokens and sum(tokens for _, tokens in self._tokens) >= self.tokens_per_minute:
                return (self._tokens[0][0] + 60 - now) / self.speed
        self._times.append(now)
        return None

    def left(self) -> tuple[int, float]:
        """The requests that are left in the shortest stretch, and the seconds until all are."""
        now = time.monotonic() * self.speed
        for unit, seconds in _SECONDS.items():
            most: int | None = getattr(self, f"per_{unit}")
            if most is not None:
                within = [at for at in self._times if at > now - seconds]
                return max(most - len(within), 0), (seconds if within else 0.0) / self.speed
        return 1000, 0.0


@dataclass
class Books:
    """What the stand-ins have counted.

    Attributes:
        requests: by provider and HTTP status.
        input_tokens, output_tokens: by provider, of the replies that told them.
    """

    requests: Counter[tuple[str, int]] = field(default_factory=Counter)
    input_tokens: Counter[str] = field(default_factory=Counter)
    output_tokens: Counter[str] = field(default_factory=Counter)


class Counted:
    """An ASGI application whose requests are counted, and refused beyond a quota."""

    def __init__(self, app: ASGIApp, quotas: Mapping[str, Quota], books: Books) -> None:
        self._app = app
        self._quotas = quotas
        self._books = books

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer one request."""
        label = scope.get("path", "").split("/")[1] if scope["type"] == "http" else ""
        quota = self._quotas.get(label)
        if quota is not None and quota.spent:
            self._books.requests[label, 402] += 1
            await _say(send, 402, {"message": "Your credit is used up.", "type": "billing", "code": "no_credit"})
            return
        if quota is not None and (seconds := quota.refused()) is not None:
            self._books.requests[label, 429] += 1
            error = {"message": "Rate limit reached for requests.", "type": "requests", "code": "rate_limit_exceeded"}
            await _say(send, 429, error, (b"retry-after", f"{max(seconds, 0.0):.3f}".encode()))
            return
        body = bytearray()

        async def counted(message: Message) -> None:
            if message["type"] == "http.response.start":
                self._books.requests[label, message["status"]] += 1
                if quota is not None:
                    message["headers"] = [*message["headers"], *_headers(quota)]
            body.extend(message.get("body", b""))
            del body[:-4096]  # the counts stand at the end
            await send(message)

        if quota is not None:
            quota._under_way += 1
        try:
            await self._app(scope, receive, counted)
        finally:
            if quota is not None:
                quota._under_way -= 1
            if told := _COUNTS.findall(bytes(body)):
                self._books.input_tokens[label] += int(told[-1][0])
                self._books.output_tokens[label] += int(told[-1][1])
                if quota is not None:
                    quota.took(int(told[-1][0]) + int(told[-1][1]))


def _headers(quota: Quota) -> list[tuple[bytes, bytes]]:
    left, reset = quota.left()
    if quota.style == "x-ratelimit":
        names = ("x-ratelimit-remaining-requests", "x-ratelimit-reset-requests")
    elif quota.style == "ratelimit":
        names = ("ratelimit-remaining", "ratelimit-reset")
    else:
        return []
    return [(names[0].encode(), str(left).encode()), (names[1].encode(), f"{reset:.3f}".encode())]


async def _say(send: Send, status: int, error: dict[str, str], *headers: tuple[bytes, bytes]) -> None:
    body = json.dumps({"error": error}).encode()
    plain = [(b"content-type", b"application/json"), (b"content-length", str(len(body)).encode())]
    await send({"type": "http.response.start", "status": status, "headers": [*plain, *headers]})
    await send({"type": "http.response.body", "body": body})
