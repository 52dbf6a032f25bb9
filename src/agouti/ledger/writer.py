"""The thread that writes a ledger: it opens it, and keeps what cannot be written now until it can be."""

import threading
import time
from queue import Empty, SimpleQueue
from typing import TYPE_CHECKING, TypeAlias

from msgspec import Struct

from ..core.errors import ConfigError
from ..core.warn import warn
from ..engine.effects import Signal
from ..runtime.fork_reset import reset_after_fork
from .open import open_ledger
from .rows import LedgerRow
from .store import Ledger, LedgerAway
from .tables import USES, log

if TYPE_CHECKING:
    from ..config.tables import LedgerSettings

# Rows that come within so many seconds are written together; a kill loses at most those.
_BATCH = 0.05
# A ledger that is out of reach is looked for so often.
_RETRY_SECONDS = 1.0
_DAY = 86400.0
# So many rows wait for a disk that is full.
_WAITING = 100_000


class Entry(Struct, frozen=True, gc=False):
    """What is written at one moment, or not at all.

    Attributes:
        row: of an attempt.
        settled: reservations that it takes the place of.
        renewed: reservations that stay, and until when they count.
    """

    row: LedgerRow | None
    settled: list[int]
    renewed: list[tuple[int, float]]


_Item: TypeAlias = "Entry | threading.Event | None"


WRITERS: "set[Writer]" = set()
"""Those that may have something to write."""


class Writer:
    """The thread that writes a ledger.

    Attributes:
        opened: set once it is open, or cannot be used.
        refused: why it cannot be used.
        slow: whether somebody has waited for it in vain.
    """

    def __init__(self, settings: "LedgerSettings") -> None:
        self._settings = settings
        self.opened = Signal()
        self.refused: ConfigError | None = None
        self.slow = False
        self._queue: SimpleQueue[_Item] = SimpleQueue()
        self._ledger: Ledger | None = None
        self._entries: list[Entry] = []  # that are not written yet
        self._lock = threading.Lock()
        self._queued = 0  # rows, and those of them that are written
        self._written = 0
        self._lost = 0
        self._lost_why = ""
        self._failure = ""
        self._written_at = 0.0
        self._forgotten = 0.0
        self._thread = threading.Thread(target=self._run, name="agouti-ledger", daemon=True)
        WRITERS.add(self)  # also when nobody has its client any more
        reset_after_fork(self)
        self._inline = False
        try:
            self._thread.start()
        except RuntimeError:  # the program is at its end, and takes no new threads: each row is written as it comes
            self._inline = True
            self._open()

    def after_fork(self) -> None:
        """A child has no thread of it: what waits is the parent's."""
        WRITERS.discard(self)

    def add(self, entry: Entry) -> None:
        """Write this soon."""
        if _paid(entry):
            with self._lock:
                self._queued += 1
        if not self._inline:
            self._queue.put(entry)
            return
        with self._lock:
            self._entries.append(entry)
            if self._ledger is None:
                self._open()
            if self._ledger is not None:
                self._write(self._ledger)

    def flush(self, seconds: float) -> bool:
        """Wait until all before this is written, or cannot be; whether it is."""
        if self._inline:
            return not self._entries and not self._lost
        until = time.monotonic() + seconds
        done = threading.Event()
        self._queue.put(done)
        while not done.wait(min(0.1, max(until - time.monotonic(), 0.0))):
            if time.monotonic() >= until or not self._thread.is_alive():
                break
        return done.is_set() and not self._entries and not self._lost

    def warn_of_rest(self) -> None:
        """Say how many rows are not written."""
        count = self._queued - self._written
        if count > 0:
            reason = self._failure or self._lost_why or "it is being written by another program"
            self._lost, self._written = 0, self._queued
            warn(f"{count} rows of the ledger {self.address} are not written: {reason}")

    @property
    def problem(self) -> str:
        """Why it cannot be written now; empty where it can."""
        return self.refused.message if self.refused is not None else self._failure

    @property
    def address(self) -> str:
        """Where the ledger is, for messages."""
        if self._ledger is not None:
            return self._ledger.address
        from ..config.tables import shown_store

        return shown_store(self._settings.store) if self._settings.path is None else str(self._settings.path)

    def stop(self) -> None:
        """End the thread once all before this is written."""
        self._queue.put(None)
        if self._inline:
            WRITERS.discard(self)
            if self._ledger is not None:
                self._ledger.close()

    def finish(self, seconds: float) -> None:
        """Wait for the last rows, and warn of those that cannot be written."""
        if not self.flush(seconds):
            self.warn_of_rest()

    def _run(self) -> None:
        try:
            self._work()
        finally:
            if not self._entries:
                WRITERS.discard(self)

    def _work(self) -> None:
        ended = False
        while not ended:
            if self._ledger is None and not self._open():
                return
            waits = bool(self._entries) or self._ledger is None
            try:
                first = self._queue.get(timeout=_RETRY_SECONDS if waits else None)
            except Empty:
                first = Entry(None, [], [])
            if isinstance(first, Entry) and time.monotonic() - self._written_at < _BATCH:
                time.sleep(_BATCH)  # others come with it
            flushes: list[threading.Event] = []
            for each in [first, *[self._queue.get() for _ in range(self._queue.qsize())]]:
                if isinstance(each, Entry):
                    if each.row is not None or each.settled or each.renewed:
                        self._entries.append(each)
                elif each is None:
                    ended = True
                else:
                    flushes.append(each)
            if self._ledger is not None:
                self._write(self._ledger)
            for event in flushes:
                event.set()
        if self._ledger is not None:
            self._ledger.close()

    def _open(self) -> bool:
        """Open the ledger; whether it can be used, now or later."""
        try:
            self._ledger = open_ledger(self._settings)
        except LedgerAway as error:
            self._failed(error.message)
        except ConfigError as error:
            self.refused = error
            self.opened.set()
            return False
        self.opened.set()
        return True

    def _write(self, ledger: Ledger) -> None:
        entries, self._written_at = self._entries, time.monotonic()
        try:
            self._written += _add(ledger, entries)
            self._entries = []
            if self._failure:
                self._failure = ""
                log.warning("the ledger %s is written again", ledger.address)
        except Exception as error:
            if ledger.may_retry(error) or ledger.is_damaged(error):  # with the next ones
                self._failed(ledger.redacted(error))
            else:
                self._each_alone(ledger, entries)
        self._written_at = time.monotonic()
        if not self._entries:
            self._forget(ledger)

    def _each_alone(self, ledger: Ledger, entries: list[Entry]) -> None:
        """One of them cannot be written: the others are, and what it has put aside is given back."""
        while entries:
            try:
                self._written += _add(ledger, entries[:1])
            except Exception as error:
                if ledger.may_retry(error) or ledger.is_damaged(error):
                    break
                self._failed(ledger.redacted(error))
                if entries[0].row is not None:
                    self._lost += _paid(entries[0])
                    self._lost_why = self._failure
                    entries[0] = Entry(None, entries[0].settled, entries[0].renewed)
                    continue
            entries = entries[1:]
        self._entries = entries

    def _failed(self, reason: str) -> None:
        if not self._failure:
            log.warning("the ledger %s cannot be written: %s; calls go on without it", self.address, reason)
        self._failure = reason
        if (excess := len(self._entries) - _WAITING) > 0:
            self._lost += excess
            del self._entries[:excess]

    def _forget(self, ledger: Ledger) -> None:
        days = self._settings.keep_days
        if days is not None and time.time() - self._forgotten > _DAY / 24:
            self._forgotten = time.time()
            try:
                ledger.forget(self._forgotten - days * _DAY)
            except ConfigError as error:
                log.warning("%s", error.message)


def _add(ledger: Ledger, entries: list[Entry]) -> int:
    """Write entries, all or none; how many rows there are among them."""
    rows = [each.row for each in entries if each.row is not None]
    ledger.add(
        rows,
        [number for each in entries for number in each.settled],
        [pair for each in entries for pair in each.renewed],
    )
    return sum(map(_paid, entries))


def _paid(entry: Entry) -> bool:
    """Whether it is a row that somebody pays for: nobody misses those of lists."""
    return entry.row is not None and entry.row.operation in USES
