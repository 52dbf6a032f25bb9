"""Time limits of a blocking connection as a whole: a thread wakes those who wait for it when their time is over.

A socket's own limit holds for each read alone: a server that sends a byte now and then keeps it for ever.
"""

import heapq
import itertools
import socket
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

from ..runtime.fork_reset import reset_after_fork


class _Limit:
    __slots__ = ("over", "sock")

    def __init__(self, sock: socket.socket) -> None:
        self.sock: socket.socket | None = sock
        self.over = False


class Watchman:
    """Shuts sockets down at a given moment."""

    def __init__(self) -> None:
        self._numbers = itertools.count()
        self._thread: threading.Thread | None = None
        self._limits: list[tuple[float, int, _Limit]] = []
        self._changed = threading.Condition()
        reset_after_fork(self)

    def after_fork(self) -> None:
        """The thread is the parent's."""
        self._thread, self._limits, self._changed = None, [], threading.Condition()

    @contextmanager
    def within(self, sock: socket.socket | None, seconds: float) -> Iterator[None]:
        """While the block runs, a socket is used for so long at most.

        Raises:
            TimeoutError: the time was over.
        """
        if sock is None or sys.is_finalizing():  # at the very end no thread begins any more
            yield
            return
        limit = _Limit(sock)
        when = time.monotonic() + seconds
        with self._changed:
            heapq.heappush(self._limits, (when, next(self._numbers), limit))
            if self._thread is None:
                self._thread = threading.Thread(target=self._watch, name="agouti-limits", daemon=True)
                self._thread.start()
            elif self._limits[0][2] is limit:
                self._changed.notify()
        try:
            yield
        except Exception:
            if not limit.over:
                raise
        finally:
            limit.sock = None
        if limit.over:  # also where what had come up to then looks like a whole
            raise TimeoutError("the time for the request is over")

    def _watch(self) -> None:
        while True:
            with self._changed:
                while not self._limits or self._limits[0][0] > time.monotonic():
                    self._changed.wait(self._limits[0][0] - time.monotonic() if self._limits else None)
                limit = heapq.heappop(self._limits)[2]
            sock = limit.sock
            if sock is not None:
                limit.over = True
                with suppress(OSError):
                    sock.shutdown(socket.SHUT_RDWR)


WATCHMAN = Watchman()


class Patrol:
    """Ends what has gone on for far too long. It looks every few seconds only, so that being watched costs nothing."""

    def __init__(self) -> None:
        self._numbers = itertools.count()
        self._watched: dict[int, tuple[float, Callable[[], None]]] = {}
        self._thread: threading.Thread | None = None
        self._lock = threading.Lock()
        reset_after_fork(self)

    def after_fork(self) -> None:
        """The thread is the parent's."""
        self._thread, self._watched, self._lock = None, {}, threading.Lock()

    def watch(self, seconds: float, end: Callable[[], None]) -> int:
        """From now on something may take so long; a number for `leave`.

        Args:
            end: ends it; called by another thread.
        """
        number = next(self._numbers)
        self._watched[number] = (time.monotonic() + seconds, end)
        if (self._thread is None or seconds < PATROL) and not sys.is_finalizing():
            self._look_more(seconds)
        return number

    def leave(self, number: int) -> bool:
        """It has come to an end; whether in time."""
        return self._watched.pop(number, None) is not None

    def _look_more(self, seconds: float) -> None:
        if seconds < PATROL:
            # So short a limit is somebody's wish; it is worth a timer of its own.
            timer = threading.Timer(seconds + 0.02, self._check)
            timer.daemon = True
            timer.start()
        with self._lock:
            if self._thread is None:
                self._thread = threading.Thread(target=self._walk, name="agouti-patrol", daemon=True)
                self._thread.start()

    def _walk(self) -> None:
        while True:
            time.sleep(PATROL)
            self._check()

    def _check(self) -> None:
        now = time.monotonic()
        for number, (until, end) in list(self._watched.items()):
            if until <= now and self._watched.pop(number, None) is not None:
                with suppress(Exception):
                    end()


PATROL = 5.0
"""Seconds from one look to the next."""
PATROLS = Patrol()
