"""What a transport is; how it says that it failed is `agouti.core.http.exchange.TransportFailure`.

An application brings its own HTTP stack by passing an object with these two methods to
``Client(transport=...)``. A transport holds no policy: it retries nothing, follows no redirect and
decides nothing by status.
"""

from collections.abc import Mapping
from typing import Protocol

from ..core.errors import RequestError
from ..core.http.exchange import HttpRequest, Timeouts, TransportFailure

__all__ = ["AsyncReply", "AsyncTransport", "SyncReply", "SyncTransport", "TransportFailure", "closed"]


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


def closed() -> RequestError:
    """The error for a client that is used after its end."""
    return RequestError("this client is closed", hint="Make a new one, or keep it open as long as it is used.")
