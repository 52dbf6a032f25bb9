"""The pace of a run, in simulated time: rows that fail, wait, or are alone left, beside many that do not."""

import heapq
import itertools
from collections import Counter
from contextlib import suppress
from typing import Any

import pytest

import agouti
from agouti.batches.concurrency import Pace
from agouti.batches.in_memory import Memory
from agouti.batches.prompts import RowPrompt
from agouti.batches.run import Work
from agouti.batches.types import Settings, Source
from agouti.engine.call import Clocks
from agouti.engine.effects import Sleep, WaitFor
from agouti.tables.row_files import Row


class Provider:
    """Takes a tenth of a second for each row; some fail each time."""

    def __init__(self, failing: dict[str, agouti.AgoutiError]) -> None:
        self.failing = failing
        self.asked: Counter[str] = Counter()

    def prompt(self, row: Row) -> RowPrompt:
        return RowPrompt(row.columns["text"])

    def asked_row(self, prompt: RowPrompt) -> Any:
        self.asked[prompt.text] += 1
        yield Sleep(0.1)
        if (error := self.failing.get(prompt.text)) is not None:
            raise type(error)(error.message, wait=error.wait)
        return {"answer": "ok"}


def run(failing: dict[str, agouti.AgoutiError], rows: list[str], **settings: Any) -> tuple[Provider, Work, float]:
    """A run; how long it took by a clock that only its own waits move."""
    provider, now = Provider(failing), [0.0]
    return provider, run_with(provider, now, rows, **settings), now[0]


def run_with(provider: Provider, now: list[float], rows: list[str], **settings: Any) -> Work:
    clocks = Clocks(clock=lambda: now[0], now=lambda: now[0], chance=lambda: 0.5)
    source = Source(lambda: [Row(at, {"text": text}) for at, text in enumerate(rows, 1)], len(rows))

    class Asks:
        prompt, answer_of = staticmethod(provider.prompt), staticmethod(provider.asked_row)

    pace = Pace(None, 64, clocks.clock)
    work = Work(source, Asks(), Memory(), pace, Settings(**{"stop_after": 0, **settings}), clocks, limit=64)  # type: ignore[arg-type]
    drive(work.steps(), now)
    return work


def drive(steps: Any, now: list[float]) -> None:
    """The pieces of a run side by side, each waiting for its time or its turn."""
    together = steps.send(None)
    pieces, number = iter(together.steps), itertools.count()
    sleeping: list[Any] = []
    parked: list[Any] = []

    def advance(piece: Any, answer: Any = None) -> None:
        with suppress(StopIteration):
            while True:
                effect = piece.send(answer)
                if isinstance(effect, Sleep):
                    heapq.heappush(sleeping, (now[0] + effect.seconds, next(number), piece))
                    return
                if isinstance(effect, WaitFor) and not effect.signal.is_set:
                    parked.append((effect.signal, piece))
                    return
                answer = True if isinstance(effect, WaitFor) else None

    while True:
        while len(sleeping) + len(parked) < together.concurrency and (piece := next(pieces, None)) is not None:
            advance(piece)
        while ready := [each for each in parked if each[0].is_set]:
            parked = [each for each in parked if not each[0].is_set]
            for _, piece in ready:
                advance(piece, True)
        if not sleeping:
            break
        now[0], _, piece = heapq.heappop(sleeping)
        advance(piece)
    with suppress(StopIteration):
        steps.send([])


FAILURES = [agouti.ProviderFault("broken"), agouti.Overloaded("busy"), agouti.Overloaded("busy", wait=3600.0)]


@pytest.mark.parametrize("failure", FAILURES, ids=["broken", "busy", "an hour"])
def test_rows_that_always_fail_cost_the_others_next_to_nothing(failure: agouti.AgoutiError) -> None:
    """One in a hundred: they get their error, and the rest takes what it takes without them."""
    rows = [f"r{number}" for number in range(3000)]
    _, good, took = run({}, rows)
    provider, work, longer = run(dict.fromkeys(rows[50::100], failure), rows)
    assert (good.done, work.done, work.failed) == (3000, 2970, 30)
    assert longer < 1.05 * took + (63 if failure.wait is None else 1)
    assert max(provider.asked.values()) <= 7


def test_a_row_that_alone_is_left_gets_its_error() -> None:
    provider, work, took = run({"r7": FAILURES[0]}, [f"r{at}" for at in range(8)])
    assert (work.done, work.failed) == (7, 1)
    assert took < 70
    assert provider.asked["r7"] <= 7


def test_limits_of_the_entry_are_waited_for_however_long() -> None:
    limit = agouti.LimitReached("three a day", wait=40_000.0)
    provider = Provider({"r1": limit})
    asked: list[float] = []
    now = [0.0]

    def later(prompt: RowPrompt) -> Any:
        if prompt.text == "r1":
            asked.append(now[0])
            if now[0] > 40_000:
                provider.failing.clear()
        return (yield from Provider.asked_row(provider, prompt))

    clocks = Clocks(clock=lambda: now[0], now=lambda: now[0], chance=lambda: 0.5)
    source = Source(lambda: [Row(at, {"text": f"r{at}"}) for at in range(3)], 3)

    class Asks:
        prompt, answer_of = staticmethod(provider.prompt), staticmethod(later)

    work = Work(source, Asks(), Memory(), Pace(None, 8, clocks.clock), Settings(patience=20), clocks, limit=8)  # type: ignore[arg-type]
    drive(work.steps(), now)
    assert (work.done, work.failed, work.stop) == (3, 0, None)
    assert asked[-1] > 40_000


def test_an_outage_is_waited_out_and_ends_the_run_where_it_lasts() -> None:
    everything = {f"r{at}": FAILURES[1] for at in range(5)}
    with pytest.raises(agouti.Overloaded, match="busy"):
        run(everything, list(everything), patience=300.0)


@pytest.mark.parametrize("failure", [FAILURES[0], agouti.NotRunning("nothing listens")], ids=["broken", "nobody"])
def test_an_outage_draws_in_no_rows_without_end(failure: agouti.AgoutiError, monkeypatch: pytest.MonkeyPatch) -> None:
    """What waits is held in memory: while nothing succeeds, no more than so many rows are begun."""
    monkeypatch.setattr("agouti.batches.run._WAITING", 50)
    rows = [f"r{number}" for number in range(20_000)]
    provider, now = Provider(dict.fromkeys(rows, failure)), [0.0]
    with pytest.raises(type(failure)):
        run_with(provider, now, rows, patience=200.0)
    assert 50 <= len(provider.asked) <= 50 + 64


def test_where_nobody_takes_connections_the_last_rows_are_not_to_blame() -> None:
    rows = [f"r{number}" for number in range(40)]
    provider, now = Provider(dict.fromkeys(rows[30:], agouti.NotRunning("nothing listens"))), [0.0]
    with pytest.raises(agouti.NotRunning):
        run_with(provider, now, rows, patience=200.0)
    assert now[0] > 150
    provider = Provider(dict.fromkeys(rows[30:], agouti.NotRunning("nothing listens")))
    work = run_with(provider, [0.0], rows, until=100.0)  # and whoever comes back is asked
    assert (work.done, work.failed) == (30, 0)


def test_rows_that_fail_at_last_side_by_side_say_nothing_of_the_others() -> None:
    """A limit lets nobody go for a while: then the last tries of all that wait come one after the other."""
    rows = [f"r{number}" for number in range(2000)]
    provider, now = Provider(dict.fromkeys(rows[::2], FAILURES[0])), [0.0]
    asked = Provider.asked_row

    def held_up(prompt: RowPrompt) -> Any:
        if 20 < now[0] < 90:
            raise agouti.LimitReached("so many a minute", wait=90 - now[0])
        return (yield from asked(provider, prompt))

    provider.asked_row = held_up  # type: ignore[method-assign]
    work = run_with(provider, now, rows, stop_after=5)
    assert (work.done, work.failed, work.stop) == (1000, 1000, None)
