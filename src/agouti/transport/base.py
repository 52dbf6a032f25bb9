"""What a transport is, and how it says that it failed.

An application brings its own HTTP stack by passing an object with these two methods to
``Client(transport=...)``. A transport holds no policy: it retries nothing, follows no redirect and
decides nothing by status.
"""

from collections.abc import Mapping
from typing import Literal, Protocol

from ..core.http import HttpRequest, Timeouts

Reason = Literal["dns", "refused", "unreachable", "tls", "proxy", "not http", "lost", "timeout"]


class TransportFailure(Exception):
    """No reply, or not the whole of it.

    It is raised without the foreign exception as its cause: frames of HTTP libraries hold the bytes
    of the request, key included, and tracebacks that print locals would show them.

    Attributes:
        reason: what kind of failure.
        detail: the HTTP library's own words.
        phase: for ``timeout``, which limit ran out.
        began: whether a part of the reply had come.
    """

    def __init__(self, reason: Reason, detail: str, phase: str | None = None, *, began: bool = False) -> None:
        super().__init__(detail)
        self.reason = reason
        self.detail = detail
        self.phase = phase
        self.began = began


class SyncReply(Protocol):
    """A reply whose headers have come."""

    @property
    def status(self) -> int:
        """The HTTP status."""

    @property
    def headers(self) -> Mapping[str, str]:
        """A case-insensitive mapping."""

    def receive(self, limit: float | None = None) -> bytes:
        """Some bytes of the body as soon as there are any, decoded from any content encoding; empty at the end.

        Args:
            limit: seconds to wait at most, where that is less than the limit between chunks.

        Raises:
            TransportFailure: the connection broke, or was silent for too long.
        """

    def read(self) -> bytes:
        """All the rest of the body.

        Raises:
            TransportFailure: as for `receive`.
        """

    def finish(self) -> None:
        """Nothing more is wanted because nothing more should come: keep the connection if it has ended cleanly."""

    def abort(self) -> None:
        """Close the connection at once."""


class SyncTransport(Protocol):
    """The two methods of a transport."""

    def open(self, request: HttpRequest, timeouts: Timeouts) -> SyncReply:
        """Send a request and wait for the headers of its reply.

        ``request.target`` is the address to send to; it prints as a mask where it holds a key.

        Raises:
            TransportFailure: no reply came.
        """

    def close(self) -> None:
        """Close all connections."""


class AsyncReply(Protocol):
    """`SyncReply` for asyncio."""

    @property
    def status(self) -> int: ...
    @property
    def headers(self) -> Mapping[str, str]: ...
    async def receive(self, limit: float | None = None) -> bytes: ...
    async def read(self) -> bytes: ...
    async def finish(self) -> None: ...
    def abort(self) -> None: ...


class AsyncTransport(Protocol):
    """`SyncTransport` for asyncio."""

    async def open(self, request: HttpRequest, timeouts: Timeouts) -> AsyncReply: ...
    async def close(self) -> None: ...


def bare(error: BaseException) -> BaseException:
    """An interruption without the frames that it came through: they hold the bytes of the request, key included."""
    error.__traceback__ = None
    error.__context__ = None
    return error
