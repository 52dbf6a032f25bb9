"""The ledger as a hook: rows are handed to a thread that writes them in batches, beside the calls."""

import atexit
import sys
import threading
import time
import weakref
from functools import partial
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from ..core.errors import ConfigError, LedgerUnavailable
from ..engine.effects import Steps, WaitFor
from ..engine.hooks import AttemptDetails, AttemptResult, SeeingHook
from ..engine.store_thread import StoreThread
from ..runtime.fork_reset import reset_after_fork
from .open import open_ledger
from .rows import row_of
from .store import Ledger, LedgerAway
from .writer import WRITERS, Entry, Writer

if TYPE_CHECKING:
    from ..config.tables import LedgerSettings

# So many seconds a first call waits for a ledger that does not answer, and the end of a program for the last rows.
_OPENS = 10.0
_ENDS = 10.0


class PendingReservation(Struct, frozen=True):
    """What the row of an attempt takes the place of.

    Attributes:
        reservations: their numbers, and when the period of each one's budget is over.
        highest: what was put aside of the cost, in picos.
        tokens: numbers of those that are counted in tokens.
    """

    reservations: dict[int, float]
    highest: int
    tokens: frozenset[int] = frozenset()


class LedgerHook(SeeingHook):
    """Keeps a row for every attempt.

    Args:
        settings: where, and for how long.
    """

    def __init__(self, settings: "LedgerSettings") -> None:
        self.settings = settings
        self._begin()
        reset_after_fork(self)

    def _begin(self) -> None:
        self._lock = threading.Lock()
        self._writer: Writer | None = None
        self._closed = False
        self._budgets: Ledger | None = None
        self._opening = threading.Lock()
        self._settles: dict[int, PendingReservation] = {}
        self.thread = StoreThread("agouti-budgets")

    def after_fork(self) -> None:
        """A child writes for itself, over connections of its own."""
        self._begin()

    def before(self, attempt: AttemptDetails) -> Steps[None] | None:
        """Open the ledger before the first attempt; one that is out of reach now keeps nobody.

        Raises:
            ConfigError: it is no ledger, or one of a newer Agouti.
        """
        writer = self._writer
        return None if writer is not None and writer.opened.is_set and writer.refused is None else self._wait(attempt)

    def _wait(self, attempt: AttemptDetails) -> Steps[None]:
        writer = self._writing()
        if not writer.opened.is_set and not writer.slow:
            remaining = attempt.left
            yield WaitFor(writer.opened, _OPENS if remaining is None else min(_OPENS, max(remaining, 0.0) / 2))
            writer.slow = not writer.opened.is_set
        if writer.refused is not None:
            with self._lock:  # the next call looks again
                self._writer = None if self._writer is writer else self._writer
            raise ConfigError(writer.refused.message, hint=writer.refused.hint)

    def budgets(self) -> Ledger:
        """The ledger, over a connection for budgets alone: rows that are being written keep nobody.

        Raises:
            LedgerUnavailable: it cannot be opened now.
            ConfigError: it is no ledger, or one of a newer Agouti.
        """
        with self._opening:
            if self._budgets is None:
                try:
                    self._budgets = open_ledger(self.settings)
                except LedgerAway as error:
                    raise LedgerUnavailable(
                        f"the budget cannot be kept: {error.message}",
                        hint="Nothing was sent. Try again, or see what is the matter with it.",
                    ) from None
            return self._budgets

    def _writing(self) -> Writer:
        with self._lock:
            if self._writer is None:
                self._closed = False
                self._writer = Writer(self.settings)
                # Once nobody has the client any more; at the end of the program others may have something to write yet.
                weakref.finalize(self, self._writer.stop).atexit = False
                _flush_in_worker()
            return self._writer

    def settles(
        self,
        attempt: AttemptDetails,
        reservations: dict[int, float],
        highest: int,
        tokens: frozenset[int] = frozenset(),
    ) -> None:
        """The row of an attempt will take the place of reservations."""
        before = self._settles.get(id(attempt))  # of other budgets
        if before is not None:
            reservations, tokens = {**before.reservations, **reservations}, before.tokens | tokens
            highest = max(highest, before.highest)
        self._settles[id(attempt)] = PendingReservation(reservations, highest, tokens)

    def release(self, attempt: AttemptDetails) -> None:
        """Give back the reservations of an attempt that has no row."""
        settled = self._settles.pop(id(attempt), None)
        if settled is not None:
            self.give_back(list(settled.reservations))

    def give_back(self, reservations: list[int]) -> None:
        """Take reservations out again."""
        if not self._closed:
            self._writing().add(Entry(None, reservations, []))
        elif reservations:  # nobody writes any more, and whoever gives them back may be about to be cancelled
            self.thread.submit(partial(_take_out, self.settings, reservations))
            self.thread.stop()

    def after(self, result: AttemptResult) -> None:
        """Hand the row over; nobody waits for it."""
        row = row_of(result, time.time(), prompts=self.settings.prompts)
        settled = self._settles.pop(id(result.attempt), None)
        if settled is None:
            self._add(Entry(row, [], []))
            return
        failed = row.outcome == "failed"
        if row.cost is None and not failed and settled.highest:
            # It has cost something, though nobody says how much: not more than was put aside.
            row = replace(row, cost=settled.highest, estimated=True)
        # What a request has taken that failed, or whose tokens nobody tells, nobody knows: what was put aside stays so
        # as long as the budget's period.
        unknown = {
            number: end
            for number, end in settled.reservations.items()
            if (row.cost is None and failed if number not in settled.tokens else row.sent and row.input_tokens is None)
            and not (failed and row.cost == 0)
        }
        self._add(Entry(row, [each for each in settled.reservations if each not in unknown], list(unknown.items())))

    def _add(self, entry: Entry) -> None:
        self._writing().add(entry)
        if _ENDING:  # the program is at its end: nobody would write it any more
            self.flush()

    def cached(self, result: AttemptResult) -> None:
        """An answer that was not asked has a row as well; it cost nothing."""
        self._add(Entry(row_of(result, time.time(), prompts=self.settings.prompts), [], []))

    def deferred(self, result: AttemptResult) -> None:
        """An answer of a deferred batch has a row when it is fetched."""
        self._add(Entry(row_of(result, time.time(), prompts=self.settings.prompts), [], []))

    @property
    def problem(self) -> str:
        """Why it cannot be written now; empty where it can, or where nobody has tried."""
        writer = self._writer
        return "" if writer is None else writer.problem

    def flush(self, seconds: float = _ENDS) -> bool:
        """Wait until all that was handed over is written; whether it is."""
        writer = self._writer
        return writer is None or writer.flush(seconds)

    def close(self) -> None:
        """Write all that was handed over, and let go of the file."""
        with self._lock:
            writer, self._writer, self._closed = self._writer, None, True
        written = writer is None or writer.flush(_ENDS)
        if writer is not None:
            writer.stop()
        with self._opening:
            budgets, self._budgets = self._budgets, None
        if budgets is not None and not budgets.close_now():
            self.thread.submit(budgets.close)  # somebody waits with it still
        self.thread.stop()
        if writer is not None and not written:
            writer.warn_of_rest()


def _take_out(settings: "LedgerSettings", reservations: list[int]) -> None:
    ledger = open_ledger(settings)
    try:
        ledger.add([], reservations)
    finally:
        ledger.close()


_ENDING: list[bool] = []


def _flush_all() -> None:
    """At the end of the process, what has not been written yet is."""
    _ENDING.append(True)
    for writer in list(WRITERS):
        writer.finish(_ENDS)


def _flush_in_worker() -> None:
    """Processes of `multiprocessing` end without the functions that are called at the end of a program."""
    processes = sys.modules.get("multiprocessing.process")
    if processes is None or processes.parent_process() is None or [processes.current_process().pid] == _IN_WORKER:
        return
    from multiprocessing.util import Finalize

    _IN_WORKER[:] = [processes.current_process().pid]
    Finalize(None, _flush_all, exitpriority=100)


_IN_WORKER: list[object] = []
atexit.register(_flush_all)
