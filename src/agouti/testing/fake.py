"""A transport that answers with what it is given, and keeps what was sent."""

from collections.abc import Iterable
from typing import TypeAlias

import msgspec

from ..core.canonical.chat import Json
from ..core.errors import RequestError
from ..core.http.exchange import HttpReply, HttpRequest, Timeouts
from ..core.http.har import Received
from ..transport.archive import AsyncCannedReply, CannedReply
from ..transport.base import AsyncReply, SyncReply, TransportFailure

Answer: TypeAlias = "dict[str, Json] | bytes | list[bytes] | HttpReply | TransportFailure"
"""What a fake answers: a JSON body, bytes, the pieces of a stream, a whole reply, or a failure."""


class _Answers:
    def __init__(self, answers: Iterable[Answer]) -> None:
        self._answers = list(answers)
        self.requests: list[HttpRequest] = []
        self.replies: list[CannedReply] = []
        self.closed = False

    def next(self, request: HttpRequest) -> CannedReply:
        self.requests.append(request)
        if not self._answers:
            raise RequestError(
                f"the fake has no answer left for request {len(self.requests)}", hint="Give it one answer more."
            )
        answer = self._answers.pop(0)
        if isinstance(answer, TransportFailure):
            raise answer
        reply = CannedReply(_received(answer))
        self.replies.append(reply)
        return reply


def _received(answer: "dict[str, Json] | bytes | list[bytes] | HttpReply") -> Received:
    if isinstance(answer, HttpReply):
        return Received(answer.status, tuple(answer.headers.items()), 0.0, [(0.0, answer.body)])
    if isinstance(answer, list):
        return Received(200, (("content-type", "text/event-stream"),), 0.0, [(0.0, chunk) for chunk in answer])
    body = answer if isinstance(answer, bytes) else msgspec.json.encode(answer)
    return Received(200, (("content-type", "application/json"),), 0.0, [(0.0, body)])


class FakeTransport:
    """For `Client(transport=...)`.

    Args:
        answers: one for each request, in order.

    Attributes:
        requests: what was sent; keys print as their mask.
        replies: what was answered; ``aborted`` says whether the connection was given up.
        closed: whether the client was closed.

    Example:
        >>> import agouti
        >>> fake = FakeTransport([{"choices": [{"message": {"content": "In March."}}]}])
        >>> with agouti.Client.at("https://api.northbank.example/v1", transport=fake) as client:
        ...     print(client.ask("quill-large", "When do peas go in?"))
        In March.
    """

    def __init__(self, answers: Iterable[Answer]) -> None:
        self._answers = _Answers(answers)
        self.requests = self._answers.requests
        self.replies = self._answers.replies
        self.closed = False

    def open(self, request: HttpRequest, timeouts: Timeouts) -> SyncReply:
        return self._answers.next(request)

    def close(self) -> None:
        self.closed = True


class AsyncFakeTransport:
    """`FakeTransport` for `AsyncClient(transport=...)`."""

    def __init__(self, answers: Iterable[Answer]) -> None:
        self._answers = _Answers(answers)
        self.requests = self._answers.requests
        self.replies = self._answers.replies
        self.closed = False

    async def open(self, request: HttpRequest, timeouts: Timeouts) -> AsyncReply:
        return AsyncCannedReply(self._answers.next(request))

    async def close(self) -> None:
        self.closed = True
