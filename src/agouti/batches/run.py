"""A run: every row asked once, results kept as they come, failures waited out, and an end where none would succeed."""

import itertools
from collections.abc import Callable, Iterator
from heapq import heappop, heappush
from threading import Lock
from typing import Any

import msgspec

from ..core.errors import (
    AgoutiError,
    CircuitOpen,
    ConnectionFailed,
    ConnectionLost,
    DeadlineExceeded,
    LimitReached,
    NotRunning,
    Overloaded,
    ProviderFault,
    RateLimited,
    RequestError,
    TimedOut,
)
from ..engine.attempts.error_policy import HOLDS_FOR_ALL
from ..engine.call import Clocks
from ..engine.effects import RunCallable, Sleep, Steps, Together, attempted
from ..tables.row_files import Row
from .concurrency import Pace
from .in_memory import Memory
from .prompts import NothingToAsk, RowPrompt
from .result_file import KEY, Results, Unwritable
from .row_requests import RowAsker, refusals_in
from .run_parts import Rate, Waiting, failure_facts, key_of, numbered, sampled, storable_value, too_many
from .same_failures import FailureCount
from .types import Progress, Settings, Source, Unit, Unusable

# Errors after which nothing was paid, so that the same row may be asked again.
_UNPAID = (RateLimited, Overloaded, ProviderFault, NotRunning, CircuitOpen, ConnectionFailed)
_MAYBE_PAID = (ConnectionLost, TimedOut)
# A row that only it fails with such an error is given up after so many tries.
_TRIES = 5
# So many rows that wait hold no place of others; where more do, it is the provider that is away.
_WAITING = 1000
# No row waits longer for its next try.
_LONGEST = 60.0
# Failures that are told with the result.
_SHOWN_FAILURES = 3
# Seconds between two times that what was written is put on the disk itself.
_SYNC = 5.0


class Work:
    """One run over all rows.

    Args:
        ask: what is asked of each.
        results: where what comes is kept.
        limit: pieces of work that may be under way.
        report: told after each row.
        together: asks rows in portions of ``portion``, instead of one by one.
        with_columns: whether results have the columns of their rows.
    """

    def __init__(
        self,
        source: Source,
        ask: RowAsker,
        results: Results | Memory,
        pace: Pace,
        settings: Settings,
        clocks: Clocks,
        *,
        limit: int,
        report: Callable[[Progress], None] | None = None,
        together: "Callable[[list[Unit]], Steps[list[dict[str, Any] | Exception]]] | None" = None,
        portion: int = 128,
        with_columns: bool = True,
    ) -> None:
        self._source = source
        self._ask = ask
        self._results = results
        self._pace = pace
        self._settings = settings
        self._clock = clocks.clock
        self._now = clocks.now
        self._maximum = limit
        self.report = report
        self._together = together
        self._portion = portion if together is not None else 1
        self._with_columns = with_columns
        self._lock = Lock()
        self._started_at = self._clock()
        self._last_success = self._started_at
        self._rate = Rate()
        self._failures_in_a_row = FailureCount(settings.stop_after)
        self._later: list[Waiting] = []
        self._numbers = itertools.count()
        self._drained, self._synced = False, self._started_at
        self._unwritten: list[bytes] = []
        self._failed_in_all: int | None = None
        self.kinds: dict[str, int] = {}
        self._sample: list[tuple[int, Row]] | None = None
        self._is_given_up = False
        self.stop: AgoutiError | None = None
        self.read_all = False
        self.rows_seen = self.found = self.done = self.failed = 0
        self.costs: dict[str, float] = {}
        self.failures: list[tuple[int, str]] = []
        self.names: dict[str, None] = {}

    def steps(self) -> Steps[None]:
        """Ask all that has no result yet.

        Raises:
            AgoutiError: it was stopped; what came is kept.
        """
        if self._settings.sample is not None:
            self._sample = yield RunCallable(lambda: sampled(numbered(self._source), self._settings.sample or 0))
        yield Together(self._units(), self._maximum, keep=False, stopped=self._given_up)
        if self.stop is not None:
            raise self.stop

    def _given_up(self) -> None:
        """Nobody wants the rest: nothing more is asked, and what is broken off is no failure of its row."""
        self._is_given_up = True
        self.end(RequestError("the run was given up", hint="The same call goes on."))
        self._pace.open()

    @property
    def is_over(self) -> bool:
        """Whether the time has come until which rows are asked."""
        return self._settings.until is not None and self._now() >= self._settings.until

    @property
    def remaining(self) -> int:
        """Rows that are wanted, and have no result."""
        total = self.progress().total if self.is_over or self.stop is not None else None
        return max((self.rows_seen if total is None else total) - self.found - self.done - self.failed, 0)

    @property
    def saw_all(self) -> bool:
        """Whether every row of the source was met."""
        return self.read_all and self._settings.limit is None and self._settings.sample is None

    @property
    def failed_in_all(self) -> int:
        """Rows that have an error, whenever it came."""
        return self._failed_in_all if self._failed_in_all is not None else self.failed

    def count(self) -> None:
        """The run has ended: count what failed in all."""
        if self.saw_all:
            self._results.move_missing_rows_last()
        self._failed_in_all = self._results.counts()[1]
        self.kinds = self._results.kinds()

    def _chosen(self) -> Iterator[tuple[int, Row]]:
        """The rows that are wanted, with their numbers."""
        sample = self._settings.sample
        rows = numbered(self._source) if sample is None else self._sample or sampled(numbered(self._source), sample)
        return itertools.islice(rows, self._settings.limit)

    def _units(self) -> Iterator[Steps[None]]:
        """The pieces of work, made as there is room for them."""
        units: list[Unit] = []
        for position, row in self._chosen():
            if self.stop is not None or self.is_over:
                return
            yield from self._due()
            unit = self._request_of(position, row)
            if unit is None:
                continue
            if isinstance(unit, Unusable):
                self.keep(unit.unit, {"error": unit.reason})
                continue
            units.append(unit)
            if len(units) >= self._portion:
                yield self._run_group(units)
                units = []
        if units:
            yield self._run_group(units)
        self.read_all = self.stop is None
        while self.stop is None and not self.is_over and (waiting := self._next_waiting()) is not None:
            yield self._run_group(waiting.units, waiting)

    def _due(self) -> Iterator[Steps[None]]:
        """Rows that have waited long enough: they come before those that were not asked yet."""
        while self._later and self._later[0].at <= self._clock():
            with self._lock:
                waiting = heappop(self._later)
            yield self._run_group(waiting.units, waiting)

    def _next_waiting(self) -> "Waiting | None":
        """The next one that waits; where none does any more, those that are under way wait where they are."""
        with self._lock:
            if not self._later:
                self._drained = True
                return None
            return heappop(self._later)

    def units(self) -> "Iterator[Unit]":
        """The rows that have no result yet; those that cannot be asked get theirs."""
        for position, row in self._chosen():
            unit = self._request_of(position, row)
            if self.stop is not None:
                raise self.stop
            if isinstance(unit, Unusable):
                self.keep(unit.unit, {"error": unit.reason})
            elif unit is not None:
                yield unit
        self.read_all = True

    def digests(self) -> "Iterator[bytes]":
        """What stands for the key of each row that is wanted, whether it has a result or not."""
        for position, row in self._chosen():
            yield self._results.named(key_of(self._settings.key, position, row))[1]

    def report_progress(self, done: int) -> None:
        """Tell how far it is, with so many rows that are done elsewhere."""
        if self.report is not None:
            progress = self.progress()
            self.report(msgspec.structs.replace(progress, done=progress.done + done))

    def requests(self) -> "Iterator[Unit | None]":
        """The rows that are to be asked; `None` for one that cannot be. For a plan: nothing is asked or kept."""
        for position, row in self._chosen():
            unit = self._request_of(position, row)
            if self.stop is not None:
                raise self.stop
            if unit is not None:
                yield None if isinstance(unit, Unusable) else unit

    def _request_of(self, position: int, row: Row) -> "Unit | Unusable | None":
        """A row as it is to be asked; `None` where it has its result."""
        self.rows_seen += 1
        if self._with_columns:
            self.names.update(dict.fromkeys(row.columns))
        key = self._settings.key
        prompt, error = RowPrompt(""), row.error
        if not error and key is not None and row.columns.get(key) in (None, ""):
            error = f"it has no column {key!r} for its key" if key not in row.columns else f"its key {key!r} is empty"
        if not error and row.is_empty:
            error = "it is empty"
        if not error:
            try:
                prompt = self._ask.prompt(row)
            except NothingToAsk as problem:
                error = problem.message
        name, digest = self._results.named(key_of(key, position, row))
        try:
            state = self._results.state(name, digest, position, row, prompt.digest)
        except RequestError as wrong_row:
            self.end(wrong_row)
            return None
        if state == "done" or (state == "failed" and not self._settings.retry_failed):
            self.found += 1
            return None
        unit = Unit(name, digest, row, prompt, state == "again")
        return Unusable(unit, error) if error else unit

    def _run_group(self, units: list[Unit], waited: "Waiting | None" = None) -> Steps[None]:
        waiting = waited
        while True:
            if waiting is not None and (wait := waiting.at - self._clock()) > 0:
                yield Sleep(wait)  # nobody else's place is held meanwhile
            if self.stop is not None or self.is_over:
                return
            tries, since = (0, None) if waiting is None else (waiting.tries, waiting.since)
            permit = yield from self._pace.enter()
            self.begin(units)
            try:
                if self._together is not None:
                    unfinished = yield from self._asked_together(units, self._together, tries, since)
                else:
                    unfinished = yield from self._ask_one(units[0], tries, since)
            finally:
                self._pace.leave(permit)
            if unfinished is None or self.stop is not None:
                break
            with self._lock:
                self._failures_in_a_row.waits([each.digest for each in unfinished.units])
                if not self._drained and len(self._later) < _WAITING:
                    heappush(self._later, unfinished)
                    break
            waiting, units = unfinished, unfinished.units
        now = self._clock()
        if isinstance(self._results, Results) and now - self._synced > _SYNC:
            self._synced = now
            yield RunCallable(self._results.sync, None)

    def begin(self, units: list[Unit]) -> None:
        """These rows are asked now."""
        with self._lock:
            self._failures_in_a_row.start([unit.digest for unit in units])

    def _ask_one(self, unit: Unit, tries: int, since: float | None) -> Steps["Waiting | None"]:
        """Ask a row once; it waits for another time where it is to be asked again."""
        started_at = self._clock()
        outcome = yield from attempted(self._ask.answer_of(unit.prompt), Exception)
        wait = self.on_result(unit, outcome, started_at, tries, since)
        return None if wait is None else self._waits([unit], wait, tries, since, outcome)

    def _asked_together(
        self,
        units: list[Unit],
        ask: "Callable[[list[Unit]], Steps[list[dict[str, Any] | Exception]]]",
        tries: int,
        since: float | None,
    ) -> Steps["Waiting | None"]:
        started_at = self._clock()
        outcome = yield from ask(units)
        waits = [
            self.on_result(unit, each, started_at, tries, since) for unit, each in zip(units, outcome, strict=True)
        ]
        unfinished = [unit for unit, wait in zip(units, waits, strict=True) if wait is not None]
        if not unfinished:
            return None
        return self._waits(unfinished, max(wait for wait in waits if wait is not None), tries, since, None)

    def _waits(self, units: list[Unit], wait: float, tries: int, since: float | None, outcome: Any) -> "Waiting":
        now = self._clock()
        if isinstance(outcome, LimitReached):  # a limit of the entry says nothing of the row
            return Waiting(now + wait, next(self._numbers), units, tries, since)
        return Waiting(now + wait, next(self._numbers), units, tries + 1, now if since is None else since)

    def on_result(
        self,
        unit: Unit,
        outcome: "dict[str, Any] | Exception",
        started_at: float,
        tries: int,
        since: float | None = None,
    ) -> float | None:
        """Keep what came of a row; seconds to wait where it is to be asked again.

        Args:
            tries: how often it has failed in a way that passes.
            since: when it did so first.
        """
        if not isinstance(outcome, Exception):
            attempts = outcome.pop("attempts", ())
            if refusals_in(attempts) and not tries:
                self._pace.refused(started_at)
            self.keep(unit, outcome)
            self._pace.done()
            return None
        # What a row is told again and again is about that row.
        if not tries and (
            isinstance(outcome, (RateLimited, Overloaded)) or refusals_in(getattr(outcome, "attempts", ()))
        ):
            self._pace.refused(started_at)
        if isinstance(outcome, HOLDS_FOR_ALL):
            self.end(outcome)
            return None
        if isinstance(outcome, _UNPAID) and not isinstance(outcome, _MAYBE_PAID) and outcome.retryable:
            # The provider knows best how long it wants to be left alone; one that says 0 is not asked without a pause.
            wait = 2.0 ** min(tries, 5) if outcome.wait is None else max(outcome.wait, 0.1 * 2.0 ** min(tries, 6))
            return self._wait_out(unit, outcome, tries, wait, since)
        unsent = isinstance(outcome, DeadlineExceeded) and not outcome.attempts
        if isinstance(outcome, LimitReached) or unsent:
            # A limit of the entry's own is waited for, however long.
            self._last_success = max(self._last_success, started_at)
            requested_wait = getattr(outcome, "wait", None)
            return min(max(1.0 if requested_wait is None else requested_wait, 0.1), _LONGEST)
        self.keep(unit, failure_facts(outcome))
        return None

    def _wait_out(self, unit: Unit, error: AgoutiError, tries: int, wait: float, since: float | None) -> float | None:
        """Seconds until a row is asked again, after an error that passes; `None` where it does not."""
        now, patience = self._clock(), self._settings.patience
        idle = now - self._last_success
        # Where nobody takes connections, no row is to blame.
        others_succeed = self.done > 0 and not isinstance(error, ConnectionFailed)
        last = others_succeed and self._drained
        others_succeed = last or (others_succeed and since is not None and self._last_success > since)
        if (tries >= _TRIES and others_succeed) or (wait > patience and self.done > 0):
            # The others get on, or are done: it is about this row, and says nothing of them.
            with self._lock:
                self._failures_in_a_row.waits([unit.digest])
            self.keep(unit, failure_facts(error))
            return None
        if idle + min(wait, _LONGEST) > patience:
            if last:
                self.keep(unit, failure_facts(error))
                return None
            hint = f"{error.hint} Nothing succeeded for {idle:.0f} s; the same command goes on later.".lstrip()
            self.end(error.with_context(hint=hint))
            return None
        return min(max(wait, 0.1), _LONGEST)

    def end(self, error: AgoutiError) -> None:
        """Stop: nothing more is asked."""
        with self._lock:
            if self.stop is None:
                self.stop = error

    def keep(self, unit: Unit, outcome: dict[str, Any]) -> None:
        """Write a result down."""
        result = self.head(unit)
        failed, lonely_failures = "error" in outcome, 0
        if failed and self._is_given_up:
            return
        with self._lock:
            if failed:
                self.failed += 1
                if len(self.failures) < _SHOWN_FAILURES:
                    self.failures.append((unit.row.line, outcome["error"]))
                lonely_failures = self._failures_in_a_row.failed(unit.digest, outcome["error"].partition(":")[0])
            else:
                self.done += 1
                self._failures_in_a_row.answered(unit.digest)
                self._last_success = self._clock()
            self._rate.add(self._clock())
            if (cost := outcome.get("cost")) is not None and (currency := outcome.get("currency")):
                self.costs[currency] = self.costs.get(currency, 0.0) + cost
        try:
            # The answer that a row has stays where asking again failed.
            if not (failed and unit.retried) or self._results.accepts(unit.digest, b"", failed=True):
                self._results.add(unit.digest, {**result, **outcome}, failed=failed)
            else:
                self._results.add_cost(outcome.get("cost"), outcome.get("currency"))
        except Unwritable as full:
            self._full(full)
        share = self._settings.stop_at_share
        if failed and share is not None and (error := too_many(self.failed, self.done, share, outcome["error"])):
            self.end(error)
        if failed and lonely_failures:
            self.end(
                RequestError(
                    f"the last {lonely_failures} rows failed, all in the same way: {outcome['error']}",
                    hint="Mend it and say --retry-failed (retry_failed=True); max_same_failures=0 never stops.",
                )
            )
        if self.report is not None:
            self.report(self.progress())

    def store_submitted(self, head: dict[str, Any], digest: bytes, content: bytes, outcome: dict[str, Any]) -> None:
        """Write down what came of a row that was handed over, whether this run has met it or not.

        Args:
            head: how its result begins.
            content: what it was asked.
        """
        failed = "error" in outcome
        if not self._results.accepts(digest, content, failed=failed):
            return
        with self._lock:
            self.failed += failed
            self.done += not failed
            if failed and len(self.failures) < _SHOWN_FAILURES:
                self.failures.append((head.get("line", 0), outcome["error"]))
            if (cost := outcome.get("cost")) is not None and (currency := outcome.get("currency")):
                self.costs[currency] = self.costs.get(currency, 0.0) + cost
        try:
            if isinstance(self._results, Results):
                self._results.add(digest, {**head, **outcome}, failed=failed, content=content)
        except Unwritable as full:
            self._full(full)

    def head(self, unit: Unit) -> dict[str, Any]:
        """How the result of a row begins: its key, its line, its columns."""
        head: dict[str, Any] = {KEY: unit.key}
        if self._source.has_lines:
            head["line"] = unit.row.line
        if unit.row.columns and self._with_columns:
            head["row"] = {name: storable_value(value) for name, value in unit.row.columns.items()}
        return head

    def _full(self, error: Unwritable) -> None:
        """A result stands nowhere: it is told with the error, and nothing more is asked."""
        with self._lock:
            self._unwritten += error.lines
            error.lines = tuple(self._unwritten)
            if isinstance(self.stop, Unwritable):
                self.stop.lines = error.lines
        self.end(error)

    def progress(self) -> Progress:
        """How far it is."""
        total = self._source.total
        for limit in (self._settings.sample, self._settings.limit):
            if limit is not None:
                total = limit if total is None else min(total, limit)
        rate = self._rate.at(self._clock())
        remaining = None if total is None else max(total - self.found - self.done - self.failed, 0)
        return Progress(
            total=total,
            already_done=self.found,
            done=self.done,
            failed=self.failed,
            costs=dict(self.costs),
            rate=rate,
            seconds_left=remaining / rate if remaining is not None and rate > 0 else None,
            at_once=self._pace.under_way,
        )
