"""What both drivers share: the call under way, and what becomes of it when it is given up."""

from collections.abc import Mapping
from typing import Any, Generic, TypeVar

from . import effects as e

T = TypeVar("T")


class BaseDriver(Generic[T]):
    """One call under way.

    Attributes:
        result: what the call ended with, once `advance` has returned `None`.
    """

    __slots__ = ("_busy", "_environment", "_opened", "_steps", "_stopped", "_transport", "_undo", "result")

    def __init__(self, steps: "e.Steps[T]", transport: Any, environment: Mapping[str, str]) -> None:
        self._steps = steps
        self._transport = transport
        self._environment = environment
        self._opened: Any = None
        self._undo = e.UndoList()
        self._busy = self._stopped = False
        self.result: T

    def _stop(self) -> bool:
        """Give it up; whether another thread or task is advancing it: that one is woken, and ends it with an error."""
        self._stopped = True
        if self._busy and self._opened is not None:
            interrupted(self._opened)
        return self._busy

    def _is_open(self, opened: Any) -> None:
        """A reply has begun; nobody may want it any more."""
        self._opened = opened
        if self._stopped:
            interrupted(opened)

    def _taken(self) -> Any:
        opened, self._opened = self._opened, None
        return opened


def interrupted(opened: Any) -> None:
    """Wake whoever waits for a reply; a transport of one's own may know no better way than to close it."""
    getattr(opened, "interrupt", opened.abort)()
