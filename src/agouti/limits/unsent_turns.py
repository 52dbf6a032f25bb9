"""Turns that were granted, and whose requests have not gone out: they are dated anew, so that they count as now."""

import threading
from typing import Protocol

from ..runtime.fork_reset import reset_after_fork

_TICK = 0.25
# The thread ends when there has been nothing to do for so many ticks.
_IDLE_TICKS = 20


class Turn(Protocol):
    """A turn that a store has granted."""

    def renew(self) -> None:
        """Let the store date it anew."""


class UnsentTurns:
    """A thread that renews turns, as long as there are some.

    A connection can take longer than a window lasts. Without this, the store would give the turn to somebody else
    before the request goes out.
    """

    def __init__(self) -> None:
        self.after_fork()
        reset_after_fork(self)

    def after_fork(self) -> None:
        """A child has no thread, and no turns."""
        self._lock = threading.Lock()
        self._turns: dict[Turn, None] = {}
        self._thread: threading.Thread | None = None

    def add(self, turn: Turn) -> None:
        """A turn was granted."""
        self._turns[turn] = None
        if self._thread is None:
            self._start()

    def remove(self, turn: Turn) -> None:
        """Its request has gone out, or never will."""
        self._turns.pop(turn, None)

    def _start(self) -> None:
        with self._lock:
            if self._thread is not None:
                return
            self._thread = threading.Thread(target=self._work, name="agouti-limits-unsent", daemon=True)
            try:
                self._thread.start()
            except RuntimeError:  # the program is at its end, and takes no new threads
                self._thread = None

    def _work(self) -> None:
        idle, pause = 0, threading.Event()
        while idle < _IDLE_TICKS or not self._may_end():
            pause.wait(_TICK)
            turns = list(self._turns)
            for turn in turns:
                if turn in self._turns:  # it may have gone out meanwhile
                    turn.renew()
            idle = 0 if turns else idle + 1

    def _may_end(self) -> bool:
        with self._lock:
            self._thread = None
            if self._turns:
                self._thread = threading.current_thread()
        return self._thread is None  # a turn that comes from now on starts another thread
