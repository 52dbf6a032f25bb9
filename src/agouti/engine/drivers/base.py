"""What both drivers share: the call under way, and what becomes of it when it is given up."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from ...core.http.exchange import HttpReply, Timeouts, TimeoutsWithin, TransportFailure
from .. import effects as e

if TYPE_CHECKING:
    from ...transport.base import SyncReply

T = TypeVar("T")


class BaseDriver(Generic[T]):
    """One call under way.

    Attributes:
        result: what the call ended with, once `advance` has returned `None`.
    """

    __slots__ = ("_busy", "_environment", "_opened", "_owner", "_steps", "_stopped", "_transport", "_undo", "result")

    def __init__(self, steps: "e.Steps[T]", transport: Any, environment: Mapping[str, str]) -> None:
        self._steps = steps
        self._transport = transport
        self._environment = environment
        self._opened: Any = None
        self._undo = e.UndoList()
        self._busy = self._stopped = False
        self._owner: Any = None  # the thread or task that advances it
        self.result: T

    def _stop(self) -> bool:
        """Give it up; whether another thread or task is advancing it: that one is woken, and ends it with an error."""
        self._stopped = True
        if self._busy and self._opened is not None:
            interrupted(self._opened)
        elif self._busy and (interrupt := getattr(self._transport, "interrupt", None)) is not None:
            interrupt(self._owner)  # it waits for the head of a reply
        return self._busy

    def _opening(self, effect: "e.Send | e.Open") -> Any:
        """The reply to a request, or what gives it when it is awaited.

        Raises:
            TransportFailure: the call was given up meanwhile.
        """
        if self._stopped:
            raise TransportFailure("lost", "the call was given up", sent=True)
        return self._transport.open(effect.request, effect.timeouts)

    def _is_open(self, opened: Any) -> None:
        """A reply has begun; nobody may want it any more."""
        self._opened = opened
        if self._stopped:
            interrupted(opened)

    def _advance(self) -> Any:
        opened, self._opened = self._opened, None
        return opened


def body_lost(status: int, failure: TransportFailure) -> bytes:
    """What stands for a body that broke off: a refusal is one by its status alone.

    Raises:
        TransportFailure: the body was the answer.
    """
    if status < 300 or failure.reason != "lost":
        raise failure
    return b""


def pause(seconds: float, transport: Any) -> float:
    """How long to sleep: what is replayed waits for nobody."""
    return 0.0 if getattr(transport, "at_once", False) else seconds


TOKEN_BYTES = 1_000_000
"""The most that is read of what a token endpoint answers."""


def token_reply(reply: "SyncReply") -> HttpReply:
    """What a token endpoint answers.

    Raises:
        TransportFailure: it broke off, or is no such answer by its size.
    """
    body = b""
    while data := reply.receive():
        body += data
        if len(body) > TOKEN_BYTES:
            reply.abort()
            raise TransportFailure("too large", "the answer has more than 1 MB")
    reply.finish()
    return HttpReply(reply.status, reply.headers, body)


def seconds_left(timeouts: Timeouts) -> float | None:
    """Seconds to the deadline of a request; `None`: there is none."""
    return timeouts.within if isinstance(timeouts, TimeoutsWithin) else None


def interrupted(opened: Any) -> None:
    """Wake whoever waits for a reply; a transport of one's own may know no better way than to close it."""
    getattr(opened, "interrupt", opened.abort)()
