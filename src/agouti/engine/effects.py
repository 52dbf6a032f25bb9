"""Effects: what the engine asks its driver to do, one small frozen request each, answered by sending the result in.

An effect that fails is answered by throwing its exception in: `TransportFailure` for the network.
When the steps end, however they end, the driver closes a reply that was opened and not finished, and undoes what was
not settled: steps that are being closed could not ask for it any more.
"""

import logging
from collections.abc import Callable, Generator, Iterable, Mapping
from threading import Lock
from typing import TYPE_CHECKING, Any, Protocol, TypeAlias, TypeVar

from msgspec import Struct

from ..core.http.exchange import HttpRequest, Timeouts
from ..credentials.sources import Key

if TYPE_CHECKING:
    from ..core.canonical.events import Event

T = TypeVar("T")
Error = TypeVar("Error", bound=Exception)


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
    """Finish the opened reply: it is complete, keep the connection if it can be used again."""


class Drop(Struct, frozen=True):
    """Drop the opened reply: close its connection, another one may be opened."""


class Sleep(Struct, frozen=True):
    """Wait that many seconds."""

    seconds: float


class Signal:
    """Something that is waited for without looking again and again; set once, from any thread.

    >>> signal, seen = Signal(), []
    >>> signal.when_set(lambda: seen.append("now"))
    >>> signal.set()
    >>> seen
    ['now']
    """

    def __init__(self) -> None:
        self._lock = Lock()
        self._waiting: list[Callable[[], None]] = []
        self.is_set = False

    def set(self) -> None:
        """Let everybody go on who waits."""
        with self._lock:
            self.is_set = True
            waiting, self._waiting = self._waiting, []
        for each in waiting:
            each()

    def when_set(self, action: Callable[[], None]) -> None:
        """Do something once it is set; at once where it is set already."""
        with self._lock:
            if not self.is_set:
                self._waiting.append(action)
                return
        action()


class WaitFor(Struct, frozen=True):
    """Wait until a signal is set: answered with whether it was, before the time ran out.

    Attributes:
        seconds: how long at most; `None`: without limit.
    """

    signal: Signal
    seconds: float | None = None


class OnAbandon(Struct, frozen=True, eq=False):
    """Undo something when the steps end before it was `Settled`: a request is sent, once; a function is called.

    A function must be quick and wait for nothing: it may be called while a task is being cancelled.
    """

    undo: HttpRequest | Callable[[], None]


class Settled(Struct, frozen=True, eq=False):
    """There is nothing left to undo of an `OnAbandon`."""

    undo: OnAbandon


class UndoList:
    """What is to be undone when the steps end: kept by a driver."""

    def __init__(self) -> None:
        self._open: list[OnAbandon] = []

    def __bool__(self) -> bool:
        return bool(self._open)

    def add(self, effect: OnAbandon) -> None:
        """Undo this, unless it is settled."""
        self._open.append(effect)

    def settle(self, effect: Settled) -> None:
        """Nothing is left to undo of it."""
        if self._open and self._open[-1] is effect.undo:
            self._open.pop()
        else:
            self._open = [each for each in self._open if each is not effect.undo]

    def undo(self) -> list[HttpRequest]:
        """Call the functions, the latest first; what is returned has to be sent."""
        opened, self._open = self._open, []
        for each in reversed(opened):
            if not isinstance(each.undo, HttpRequest):
                try:
                    each.undo()
                except Exception:  # what goes wrong with it must not hide why it is undone
                    logging.getLogger("agouti.engine").exception("what was begun could not be undone")
        return [each.undo for each in opened if isinstance(each.undo, HttpRequest)]


class RunCallable(Struct, frozen=True):
    """Call a function of the caller's own: answered with its result; a result that can be awaited is awaited.

    Attributes:
        seconds: how long is waited for it at most (`TimeoutError`); a coroutine is cancelled then, a plain function
            goes on where nobody looks at it.
    """

    function: Callable[[], Any]
    seconds: float | None = None


class FetchKey(Struct, frozen=True):
    """Get a key from where it lives: answered with a `Credential`.

    Attributes:
        timeouts: for a request to a token endpoint.
    """

    key: Key
    timeouts: Timeouts


class Emit(Struct, frozen=True, gc=False):
    """Events for the caller; answered when the caller wants more."""

    events: "list[Event]"


class Together(Struct, frozen=True):
    """Take many steps side by side: answered with their results, in order. The first error stops the others.

    Attributes:
        steps: taken one by one as there is room, so there may be any number of them.
        concurrency: how many are under way at a time.
        keep: whether the results are wanted; of a hundred thousand pieces they would fill the memory.
        stopped: is called when those that are under way are about to be given up; must be quick.
    """

    steps: "Iterable[Steps[Any]]"
    concurrency: int
    keep: bool = True
    stopped: Callable[[], None] | None = None


Effect: TypeAlias = (
    Send
    | Open
    | Receive
    | Finish
    | Drop
    | Sleep
    | WaitFor
    | OnAbandon
    | Settled
    | RunCallable
    | FetchKey
    | Emit
    | Together
)
Steps: TypeAlias = Generator[Effect, Any, T]

UNDO_TIMEOUTS = Timeouts(connect=2.0, first_byte=3.0, between_chunks=3.0)
"""For the requests that undo something: nobody waits for what they answer."""


def attempted(steps: Steps[T], kind: type[Error]) -> "Steps[T | Error]":
    """The result of steps, or their error as a value where it is of this kind: for `Together`."""
    try:
        return (yield from steps)
    except kind as error:
        return error
