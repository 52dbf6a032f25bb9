"""The ledger as a hook: rows are handed to a thread that writes them in batches, beside the calls."""

import atexit
import logging
import threading
import time
import weakref
from queue import SimpleQueue
from typing import TYPE_CHECKING, TypeAlias

from msgspec import Struct
from msgspec.structs import replace

from ..core.forks import begin_anew
from ..engine.effects import RunCallable, Steps
from ..engine.hooks import AttemptDetails, AttemptResult, SeeingHook
from .rows import LedgerRow, row_of
from .store import Ledger, open_ledger

if TYPE_CHECKING:
    from ..config.singles import LedgerSettings

log = logging.getLogger("agouti.ledger")

# Rows that come within so many seconds are written together; a kill loses at most those.
_BATCH = 0.05
_DAY = 86400.0
# So many rows wait for a disk that is full.
_WAITING = 100_000


class PutAside(Struct, frozen=True):
    """What the row of an attempt takes the place of.

    Attributes:
        reservations: their numbers, and when the period of each one's budget is over.
        most: what was put aside, in picos.
    """

    reservations: dict[int, float]
    most: int


_Entry: TypeAlias = "tuple[LedgerRow | None, list[int], list[tuple[int, float]]] | threading.Event | None"


class LedgerHook(SeeingHook):
    """Keeps a row for every attempt.

    Args:
        settings: where, and for how long.
    """

    def __init__(self, settings: "LedgerSettings") -> None:
        self._settings = settings
        self._begin()
        begin_anew(self)
        _ALL.add(self)

    def _begin(self) -> None:
        self._lock = threading.Lock()
        self._writer: Writer | None = None
        self._settles: dict[int, PutAside] = {}

    def after_fork(self) -> None:
        """A child writes for itself, over a connection of its own."""
        self._begin()

    def before(self, attempt: AttemptDetails) -> Steps[None] | None:
        """Open the ledger before the first attempt.

        Raises:
            ConfigError: it cannot be opened.
        """
        return None if self._writer is not None else self._opened()

    def _opened(self) -> Steps[None]:
        yield RunCallable(self.store, None)  # it may wait for other programs

    def store(self) -> Ledger:
        """The ledger, opened when it is first needed.

        Raises:
            ConfigError: it cannot be opened.
        """
        return self._writing().ledger

    def _writing(self) -> "Writer":
        with self._lock:
            if self._writer is None:
                self._writer = Writer(open_ledger(self._settings), self._settings.keep_days)
                weakref.finalize(self, self._writer.stop)  # nobody has the client any more
            return self._writer

    def settles(self, attempt: AttemptDetails, reservations: dict[int, float], most: int) -> None:
        """The row of an attempt will take the place of reservations."""
        before = self._settles.get(id(attempt))  # of other budgets
        kept = {} if before is None else before.reservations
        self._settles[id(attempt)] = PutAside({**kept, **reservations}, most)

    def release(self, attempt: AttemptDetails) -> None:
        """Give back the reservations of an attempt that has no row."""
        settled = self._settles.pop(id(attempt), None)
        if settled is not None:
            self.give_back(list(settled.reservations))

    def give_back(self, reservations: list[int]) -> None:
        """Take reservations out again."""
        self._writing().queue.put((None, reservations, []))

    def after(self, result: AttemptResult) -> None:
        """Hand the row over; nobody waits for it."""
        row = row_of(result, time.time(), prompts=self._settings.prompts)
        settled = self._settles.pop(id(result.attempt), None)
        if settled is not None and row.cost is None and row.outcome != "failed":
            # It has cost something, though nobody says how much: not more than was put aside.
            row = replace(row, cost=settled.most, estimated=True)
        put_aside = {} if settled is None else settled.reservations
        # What a request that failed has cost nobody knows: what was put aside stays so as long as the budget's period.
        unknown = row.cost is None and row.outcome == "failed"
        numbers, kept = ([], list(put_aside.items())) if unknown else (list(put_aside), [])
        self._writing().queue.put((row, numbers, kept))

    def cached(self, result: AttemptResult) -> None:
        """An answer that was not asked has a row as well; it cost nothing."""
        self._writing().queue.put((row_of(result, time.time(), prompts=self._settings.prompts), [], []))

    def flush(self, seconds: float = 5.0) -> None:
        """Wait until all that was handed over is written."""
        writer = self._writer
        if writer is not None:
            writer.flush(seconds)

    def close(self) -> None:
        """Write all that was handed over, and let go of the file."""
        with self._lock:
            writer, self._writer = self._writer, None
        if writer is not None:
            writer.flush(5.0)
            writer.stop()


class Writer:
    """The thread that writes a ledger.

    Attributes:
        ledger: what it writes.
        queue: what is to be written; an event is set once all before it is; `None` ends the thread.
    """

    def __init__(self, ledger: Ledger, keep_days: int | None) -> None:
        self.ledger = ledger
        self.queue: SimpleQueue[_Entry] = SimpleQueue()
        self._keep_days = keep_days
        self._told = False
        self._forgotten = 0.0
        self._thread = threading.Thread(target=self._run, name="agouti-ledger", daemon=True)
        self._thread.start()

    def flush(self, seconds: float) -> None:
        """Wait until all before this is written."""
        if self._thread.is_alive():
            done = threading.Event()
            self.queue.put(done)
            done.wait(seconds)

    def stop(self) -> None:
        """End the thread once all before this is written."""
        self.queue.put(None)

    def _run(self) -> None:
        rows: list[LedgerRow] = []
        settled: list[int] = []
        kept: list[tuple[int, float]] = []
        ended = False
        while not ended:
            first = self.queue.get()
            time.sleep(_BATCH if isinstance(first, tuple) else 0)
            waiting: list[threading.Event] = []
            for each in [first, *[self.queue.get() for _ in range(self.queue.qsize())]]:
                if isinstance(each, tuple):
                    rows += [each[0]] if each[0] is not None else []
                    settled += each[1]
                    kept += each[2]
                elif each is None:
                    ended = True
                else:
                    waiting.append(each)
            try:
                self.ledger.add(rows, settled, kept)
                rows, settled, kept = [], [], []
                self._forget()
            except self.ledger.later as error:  # with the next ones
                self._tell(error)
                del rows[:-_WAITING]
            except Exception as error:
                self._tell(error)
                rows, settled, kept = [], [], []
            for event in waiting:
                event.set()
        self.ledger.close()

    def _forget(self) -> None:
        if self._keep_days is not None and time.time() - self._forgotten > _DAY / 24:
            self._forgotten = time.time()
            self.ledger.forget(self._forgotten - self._keep_days * _DAY)

    def _tell(self, error: Exception) -> None:
        if not self._told:
            self._told = True
            log.warning("the ledger %s cannot be written: %s; calls go on without it", self.ledger.place, error)


_ALL: "weakref.WeakSet[LedgerHook]" = weakref.WeakSet()


def _flush_all() -> None:
    """At the end of the process, what has not been written yet is."""
    for hook in list(_ALL):
        hook.flush()


atexit.register(_flush_all)
