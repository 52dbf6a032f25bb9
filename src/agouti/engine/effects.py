"""What the engine asks its driver to do: one small frozen request each, answered by sending the result in.

An effect that fails is answered by throwing: `TransportFailure` for the network, the library's own errors otherwise.
When the generator ends, however it ends, the driver closes a reply that was opened and not finished: a generator
that is being closed could not ask for it any more.
"""

from collections.abc import Callable, Generator, Mapping
from typing import Any, Protocol, TypeAlias, TypeVar

from msgspec import Struct

from ..core.events import Event
from ..core.http import HttpRequest, Timeouts
from ..credentials.sources import Key

T = TypeVar("T")


class OpenReply(Protocol):
    """A reply whose body is still to come, as the engine sees it. A call has at most one open at a time."""

    @property
    def status(self) -> int: ...
    @property
    def headers(self) -> Mapping[str, str]: ...


class Send(Struct, frozen=True, gc=False):
    """Send a request and read the whole reply: answered with an `HttpReply`."""

    request: HttpRequest
    timeouts: Timeouts


class Open(Struct, frozen=True, gc=False):
    """Send a request and stop after the headers: answered with an `OpenReply`."""

    request: HttpRequest
    timeouts: Timeouts


class Receive(Struct, frozen=True, gc=False):
    """Read what has come of the opened reply: answered with bytes, empty at the end.

    Attributes:
        limit: seconds to wait at most, where that is less than the limit between chunks.
    """

    limit: float | None = None


class Finish(Struct, frozen=True):
    """The opened reply is complete: keep the connection if it can be used again."""


class Sleep(Struct, frozen=True):
    """Wait that many seconds."""

    seconds: float


class Drop(Struct, frozen=True):
    """The opened reply is no use: close its connection, another one may be opened."""


class Parting(Struct, frozen=True):
    """What to send, once and without waiting long, when the call is given up from here on; `None`: nothing."""

    request: HttpRequest | None


class Perform(Struct, frozen=True):
    """Do these pieces of work of the caller's own, side by side: answered with the result of each, or its exception.

    A result that can be awaited is awaited.
    """

    work: tuple[Callable[[], Any], ...]


class Fetch(Struct, frozen=True):
    """Get a key from where it lives: answered with a `Credential`."""

    key: Key


class Emit(Struct, frozen=True, gc=False):
    """Events for the caller; answered when the caller wants more."""

    events: list[Event]


Effect: TypeAlias = Send | Open | Receive | Finish | Drop | Sleep | Parting | Perform | Fetch | Emit
Steps: TypeAlias = Generator[Effect, Any, T]

PARTING_TIMEOUTS = Timeouts(connect=2.0, first_byte=3.0, between_chunks=3.0)
