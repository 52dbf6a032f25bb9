"""The ledger as a hook: rows are handed to a thread that writes them in batches, beside the calls."""

import atexit
import logging
import sqlite3
import threading
import time
import weakref
from pathlib import Path
from queue import SimpleQueue
from typing import TYPE_CHECKING

from ..core.forks import begin_anew
from ..engine.effects import Steps
from ..engine.hooks import AttemptDetails, AttemptResult, Hook
from .rows import LedgerRow, row_of
from .sqlite import SqliteLedger

if TYPE_CHECKING:
    from ..config.singles import LedgerSettings

log = logging.getLogger("agouti.ledger")

# Rows that come within so many seconds are written together; a kill loses at most those.
_BATCH = 0.05
_DAY = 86400.0


class LedgerHook(Hook):
    """Keeps a row for every attempt.

    Args:
        settings: where, and for how long.
    """

    def __init__(self, settings: "LedgerSettings") -> None:
        self._settings = settings
        self._begin()
        begin_anew(self)
        # At the end of the process what has not been written yet is; a client that nobody has is not kept for it.
        atexit.register(_flush, weakref.ref(self))

    def _begin(self) -> None:
        self._lock = threading.Lock()
        self._queue: SimpleQueue[tuple[LedgerRow | None, list[int]] | threading.Event] = SimpleQueue()
        self._ledger: SqliteLedger | None = None
        self._thread: threading.Thread | None = None
        self._told = False
        self._reserved: dict[int, list[int]] = {}

    def after_fork(self) -> None:
        """A child writes for itself, over a connection of its own."""
        self._begin()

    def before(self, attempt: AttemptDetails) -> Steps[None] | None:
        """Open the ledger before the first attempt.

        Raises:
            ConfigError: it cannot be opened.
        """
        self.store()
        return None

    def store(self) -> SqliteLedger:
        """The ledger, opened when it is first needed.

        Raises:
            ConfigError: it cannot be opened.
        """
        ledger = self._ledger
        if ledger is None:
            with self._lock:
                if self._ledger is None:
                    self._ledger = SqliteLedger(Path(self._settings.store))
                    self._thread = threading.Thread(target=self._write, name="agouti-ledger", daemon=True)
                    self._thread.start()
                ledger = self._ledger
        return ledger

    def settles(self, attempt: AttemptDetails, reservations: list[int]) -> None:
        """The row of an attempt will take the place of reservations."""
        self._reserved[id(attempt)] = reservations

    def release(self, attempt: AttemptDetails) -> None:
        """Give back the reservations of an attempt that has no row."""
        if reservations := self._reserved.pop(id(attempt), None):
            self._queue.put((None, reservations))

    def after(self, result: AttemptResult) -> None:
        """Hand the row over; nobody waits for it."""
        reservations = self._reserved.pop(id(result.attempt), [])
        self._queue.put((row_of(result, time.time(), prompts=self._settings.prompts), reservations))

    def flush(self, seconds: float = 5.0) -> None:
        """Wait until all that was handed over is written."""
        if self._thread is not None and self._thread.is_alive():
            done = threading.Event()
            self._queue.put(done)
            done.wait(seconds)

    def _write(self) -> None:
        queue, ledger = self._queue, self._ledger
        if ledger is None:
            return
        forgotten = 0.0
        while True:
            first = queue.get()
            time.sleep(0 if isinstance(first, threading.Event) else _BATCH)
            rows: list[LedgerRow] = []
            settled: list[int] = []
            waiting: list[threading.Event] = []
            for each in [first, *[queue.get() for _ in range(queue.qsize())]]:
                if isinstance(each, threading.Event):
                    waiting.append(each)
                    continue
                row, reservations = each
                rows += [row] if row is not None else []
                settled += reservations
            try:
                if rows or settled:
                    ledger.add(rows, settled)
                if self._settings.keep_days is not None and time.time() - forgotten > _DAY / 24:
                    forgotten = time.time()
                    ledger.forget(forgotten - self._settings.keep_days * _DAY)
            except sqlite3.Error as error:
                if not self._told:
                    self._told = True
                    log.warning("the ledger %s cannot be written: %s; calls go on without it", ledger.path, error)
            for event in waiting:
                event.set()


def _flush(hook: "weakref.ref[LedgerHook]") -> None:
    alive = hook()
    if alive is not None:
        alive.flush()
