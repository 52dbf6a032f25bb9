"""What stands in for the network while a test runs: looked up by every client at every call."""

import os
from collections.abc import Callable
from typing import Any, Protocol, TypeVar
from urllib.parse import urlsplit

from ..core.errors import NotRecorded
from ..core.http.address import is_local
from ..core.http.exchange import HttpRequest, Timeouts
from .base import AsyncReply, AsyncTransport, SyncReply, SyncTransport


class Instead(Protocol):
    """What stands in for the network.

    Attributes:
        hooks: see every call of every client before its own hooks do.
        keyless: no key is needed by clients that are made meanwhile.
    """

    hooks: tuple[Any, ...]
    keyless: bool

    def sync(self, network: SyncTransport) -> SyncTransport:
        """What threads send through; ``network`` is what they would."""

    def asynchronous(self, network: AsyncTransport) -> AsyncTransport:
        """What tasks send through."""


ACTIVE: list[Instead] = []
"""All that stand in now, the latest last; changed by `agouti.testing` alone."""


def instead_of(network: Any, *, threads: bool) -> Any:
    """What stands in for a network now, the latest outermost."""
    for each in ACTIVE:
        network = each.sync(network) if threads else each.asynchronous(network)
    return network


def all_hooks() -> tuple[Any, ...]:
    """The hooks of all that stand in now."""
    return tuple([hook for each in reversed(ACTIVE) for hook in each.hooks])


_Network = TypeVar("_Network")
OFFLINE = "AGOUTI_OFFLINE"
"""The variable by which a test tells the programs that it starts that nothing may go out."""


def if_allowed(network: Any, guard: "Callable[[Any, Callable[[HttpRequest], None]], _Network]") -> "_Network":
    """A network as it is; guarded where a test has begun this program."""
    allowed: _Network = guard(network, check_local) if os.environ.get(OFFLINE) else network
    return allowed


def check_local(request: HttpRequest) -> None:
    """See that a request stays on this machine.

    Raises:
        NotRecorded: it would go out.
    """
    if not is_local(urlsplit(request.url).hostname or ""):
        raise NotRecorded(
            f"this program would have sent {request.method} {request.url.partition('?')[0]}",
            hint=f"A test allows nothing but this machine ({OFFLINE} is set): use the stand-ins, or an archive.",
        )


class Guarded:
    """Sends what a check lets through.

    Args:
        check: raises an error for what must not be sent.
    """

    def __init__(self, inner: SyncTransport, check: Callable[[HttpRequest], None]) -> None:
        self._inner = inner
        self._check = check
        self.at_once = getattr(inner, "at_once", False)

    def open(self, request: HttpRequest, timeouts: Timeouts) -> SyncReply:
        self._check(request)
        return self._inner.open(request, timeouts)

    def interrupt(self, owner: object) -> None:
        getattr(self._inner, "interrupt", lambda _: None)(owner)

    def close(self) -> None:
        self._inner.close()


class AsyncGuarded:
    """`Guarded` for asyncio."""

    def __init__(self, inner: AsyncTransport, check: Callable[[HttpRequest], None]) -> None:
        self._inner = inner
        self._check = check
        self.at_once = getattr(inner, "at_once", False)

    async def open(self, request: HttpRequest, timeouts: Timeouts) -> AsyncReply:
        self._check(request)
        return await self._inner.open(request, timeouts)

    def interrupt(self, owner: object) -> None:
        getattr(self._inner, "interrupt", lambda _: None)(owner)

    async def close(self) -> None:
        await self._inner.close()
