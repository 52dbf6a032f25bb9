"""The schedule of a limiter on a clock of the test's own: exact in every window, first come, first served."""

import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import agouti
from agouti.core.settings.rate_limits import RateLimits
from agouti.limits.day_counter import DayFile
from agouti.limits.local_schedule import Schedule, Ticket, TurnTooLate


class Simulation:
    """Requests that arrive, take their turn and take a while; events in the order of their time."""

    def __init__(self, **limits: Any) -> None:
        self.time = 0.0
        self.schedule = Schedule(RateLimits(**limits), lambda: self.time, lambda: self.time)
        self.sent: list[tuple[float, int]] = []
        self.order: list[int] = []

    def run(self, arrivals: list[tuple[float, int, float]], leave: "set[int] | frozenset[int]" = frozenset()) -> None:
        """Arrival, tokens and seconds of each; those in ``leave`` go away while they wait."""
        coming = sorted(enumerate(arrivals), key=lambda each: each[1][0])
        waiting: dict[int, Ticket] = {}
        ends: list[tuple[float, int, Ticket]] = []
        for _ in range(100_000):
            while coming and coming[0][1][0] <= self.time:
                number, (_, tokens, _) = coming.pop(0)
                waiting[number] = self.schedule.enter(tokens, 1e9)
                if number in leave:
                    self.schedule.leave(waiting.pop(number))
            for end in [end for end in ends if end[0] <= self.time]:
                ends.remove(end)
                self.schedule.ended(end[2], arrivals[end[1]][1])
            next_times = [coming[0][1][0]] if coming else []
            again = True
            while again:
                again = False
                for number, ticket in list(waiting.items()):
                    seconds = self.schedule.try_start(ticket)
                    if seconds == 0.0:
                        self.schedule.sent(ticket)
                        self.sent.append((self.time, arrivals[number][1]))
                        self.order.append(number)
                        del waiting[number]
                        ends.append((self.time + arrivals[number][2], number, ticket))
                        again = True
                        break
                    if seconds is not None:
                        next_times.append(self.time + seconds)
            next_times += [end[0] for end in ends]
            if not next_times:
                break
            self.time = max(min(next_times), self.time + 1e-9)
        assert not waiting


def most_in(sent: list[tuple[float, int]], seconds: float, *, tokens: bool) -> int:
    """The most that any window has, the end left out."""
    return max(
        sum(weight if tokens else 1 for at, weight in sent if begin <= at < begin + seconds) for begin, _ in sent
    )


@given(
    st.lists(st.tuples(st.floats(0, 30), st.integers(1, 40), st.floats(0, 5)), min_size=1, max_size=60),
    st.integers(1, 6),
    st.integers(6, 20),
    st.integers(40, 120),
    st.integers(1, 4),
    st.sets(st.integers(0, 59), max_size=5),
)
def test_no_window_ever_has_more(
    arrivals: list[tuple[float, int, float]], second: int, minute: int, tokens: int, at_once: int, leave: set[int]
) -> None:
    simulation = Simulation(
        requests_per_second=second, requests_per_minute=minute, tokens_per_minute=tokens, concurrency=at_once
    )
    simulation.run(arrivals, leave)
    if not simulation.sent:
        return
    assert most_in(simulation.sent, 1.0, tokens=False) <= second
    assert most_in(simulation.sent, 60.0, tokens=False) <= minute
    assert most_in(simulation.sent, 60.0, tokens=True) <= tokens
    arrived = sorted((each for each in range(len(arrivals)) if each not in leave), key=lambda each: arrivals[each][0])
    assert simulation.order == arrived
    assert simulation.schedule.waiting == 0


@pytest.mark.parametrize(
    ("limits", "count", "takes", "ideal"),
    [
        ({"requests_per_minute": 100}, 500, 0.01, 240.0),
        ({"requests_per_second": 25}, 500, 0.2, 19.0),
        ({"concurrency": 4}, 100, 1.0, 24.0),
        ({"tokens_per_minute": 1000}, 50, 0.5, 240.0),  # 100 tokens each
    ],
)
def test_it_is_not_slower_than_it_must_be(limits: dict[str, int], count: int, takes: float, ideal: float) -> None:
    simulation = Simulation(**limits)
    simulation.run([(0.0, 100, takes)] * count)
    assert ideal <= simulation.sent[-1][0] <= ideal * 1.1


def test_what_a_request_really_took_counts_and_a_place_is_given_back() -> None:
    simulation = Simulation(tokens_per_minute=100, concurrency=1, wait=5)
    schedule = simulation.schedule
    one = schedule.enter(90, 5)
    assert schedule.try_start(one) == 0.0
    schedule.sent(one)
    two = schedule.enter(90, 100)
    assert schedule.try_start(two) is None  # one at a time
    schedule.ended(one, 5)
    assert two.signal.is_set
    assert schedule.try_start(two) == 0.0
    schedule.leave(two)  # it was not sent after all
    schedule.ended(schedule.enter(1, 0), None)


def test_waits_are_bounded_and_told() -> None:
    simulation = Simulation(requests_per_minute=2)
    schedule = simulation.schedule
    for _ in range(2):
        ticket = schedule.enter(1, 0)
        assert schedule.try_start(ticket) == 0.0
        schedule.sent(ticket)
        schedule.ended(ticket, None)
    for most in (0.0, 30.0):
        with pytest.raises(TurnTooLate) as reached:
            schedule.enter(1, most)
        assert reached.value.seconds == pytest.approx(60, abs=2)
    patient = schedule.enter(1, 70)
    assert schedule.try_start(patient) == pytest.approx(60, abs=2)
    simulation.time = 75
    assert schedule.try_start(patient) == 0.0
    with pytest.raises(agouti.RequestError, match="2000 tokens"):
        Simulation(tokens_per_minute=1000).schedule.enter(2000, 60)


def test_the_providers_own_word_counts() -> None:
    simulation = Simulation(requests_per_second=100)
    ticket = simulation.schedule.enter(1, 0)
    assert simulation.schedule.try_start(ticket) == 0.0
    simulation.schedule.ended(ticket, None, blocked=7.0)
    assert simulation.schedule.try_start(simulation.schedule.enter(1, 100)) == pytest.approx(7.0)


class Book:
    """Counts of days, as a file keeps them."""

    def __init__(self) -> None:
        self.days: dict[str, int] = {}

    def used(self, day: str) -> int:
        return self.days.get(day, 0)

    def count(self, day: str, limit: int) -> bool:
        if self.used(day) >= limit:
            return False
        self.days[day] = self.used(day) + 1
        return True

    def give_back(self, day: str) -> None:
        self.days[day] -= 1
        if not self.days[day]:
            del self.days[day]


def test_days_begin_at_the_providers_hour() -> None:
    time = [1_772_000_000.0]  # 06:13 UTC
    book = Book()
    limits = RateLimits(requests_per_day=2, reset="08:00 Europe/Dublin")
    schedule = Schedule(limits, lambda: time[0], lambda: time[0], book)
    for _ in range(2):
        ticket = schedule.enter(1, 0)
        assert schedule.try_start(ticket) == 0.0
        schedule.sent(ticket)
        schedule.ended(ticket, None)
    with pytest.raises(TurnTooLate) as reached:
        schedule.enter(1, 60)
    assert reached.value.seconds == pytest.approx(6400, abs=1)  # winter: Dublin is at UTC
    time[0] += 6401
    ticket = schedule.enter(1, 0)
    assert schedule.try_start(ticket) == 0.0
    schedule.sent(ticket)
    assert sorted(book.days.values()) == [1, 2]


def test_a_day_counts_what_is_sent_and_nothing_else() -> None:
    book = Book()
    schedule = Schedule(RateLimits(requests_per_day=1), lambda: 0.0, lambda: 0.0, book)
    for _ in range(3):  # another limit has no room: each gives its place back
        ticket = schedule.enter_at_once(1)
        assert ticket is not None
        assert schedule.enter_at_once(1) is None  # there is one place, and it is taken
        schedule.leave(ticket)
    assert book.days == {}


def through(schedule: Schedule, clock: list[float], takes: float = 0.0) -> Ticket:
    """A request that goes out now, and is answered after so many seconds."""
    ticket = schedule.enter(1, 1e9)
    assert schedule.try_start(ticket) == 0.0
    schedule.sent(ticket)
    clock[0] += takes
    schedule.ended(ticket, None)
    return ticket


@pytest.mark.parametrize(
    ("limits", "takes", "replies", "free"),
    [
        # What a provider counts late is allowed for: a fiftieth of the window, and at least a quarter of a second until
        # eight replies have shown how late it is, then 60 ms.
        ({"requests_per_minute": 1}, None, 0, 60 + 60 / 50),
        ({"requests_per_second": 1}, None, 0, 1 + 0.25),
        ({"requests_per_second": 1}, None, 2, 1 + 0.25),
        ({"requests_per_second": 1}, None, 7, 1 + 0.25),
        ({"requests_per_second": 1}, None, 8, 1 + 0.06),
        # A reply has shown it: as late as it came, but no later than that; among many, by how much it was slower.
        ({"requests_per_second": 1}, 0.1, 0, 1 + 0.1),
        ({"requests_per_second": 1}, 0.1, 8, 1 + 0.015),
        ({"requests_per_second": 1}, 5.0, 8, 1 + 0.06),
    ],
)
def test_how_late_a_provider_may_count(limits: dict[str, Any], takes: float | None, replies: int, free: float) -> None:
    clock = [0.0]
    schedule = Schedule(RateLimits(**limits), lambda: clock[0], lambda: clock[0])
    for _ in range(replies):
        through(schedule, clock, 0.1)
        clock[0] += 100
    ticket = schedule.enter(1, 1e9)
    assert schedule.try_start(ticket) == 0.0
    schedule.sent(ticket)
    began = clock[0]
    if takes is not None:
        clock[0] += takes
        schedule.ended(ticket, None)
    wait = schedule.try_start(schedule.enter(1, 1e9))
    assert wait is not None
    assert clock[0] + wait - began == pytest.approx(max(free, takes or 0), abs=1e-6)


def test_waits_end_with_the_time_that_a_call_has() -> None:
    clock = [0.0]
    schedule = Schedule(RateLimits(requests_per_minute=1), lambda: clock[0], lambda: clock[0])
    through(schedule, clock)
    clock[0] += 120
    under_way = schedule.enter(1, 0)
    assert schedule.try_start(under_way) == 0.0
    schedule.sent(under_way)
    waiting = schedule.enter(1, 70.0)
    schedule.ended(under_way, None, blocked=100.0)
    with pytest.raises(TurnTooLate) as late:  # a provider's own word came meanwhile
        schedule.try_start(waiting)
    assert late.value.seconds == pytest.approx(100.0)
    schedule.leave(waiting)
    one_at_a_time = Schedule(RateLimits(concurrency=1), lambda: clock[0], lambda: clock[0])
    held = one_at_a_time.enter(1, 0)
    assert one_at_a_time.try_start(held) == 0.0
    patient = one_at_a_time.enter(1, 5.0)
    assert one_at_a_time.try_start(patient) is None
    with pytest.raises(TurnTooLate):  # it is not known how long, and it may not wait at all
        one_at_a_time.enter(1, 0.0)
    clock[0] += 5.0
    with pytest.raises(TurnTooLate):
        one_at_a_time.try_start(patient)


@pytest.mark.parametrize(
    ("at", "rest"),
    [
        ("2026-03-28T12:00:00+00:00", 12 * 3600),  # the clock goes forward in the night that follows: a day of 23 hours
        ("2026-03-29T12:00:00+01:00", 12 * 3600),
        ("2026-03-28T23:30:00+00:00", 1800),
        ("2026-03-29T00:30:00+00:00", 22.5 * 3600),
        ("2026-10-25T00:30:00+01:00", 24.5 * 3600),  # back: a day of 25
    ],
)
def test_a_day_on_which_the_clocks_change_is_shorter_or_longer(at: str, rest: float) -> None:
    now = datetime.fromisoformat(at).timestamp()
    day, seconds = RateLimits(requests_per_day=1, reset="00:00 Europe/Dublin").day_of(now)
    assert (day, seconds) == (at[:10], rest)


@pytest.mark.parametrize(
    ("limits", "what"),
    [
        ({"requests_per_minute": 0}, "requests_per_minute = 0"),
        ({"tokens_per_minute": -5}, "tokens_per_minute = -5"),
        ({"concurrency": -1}, "concurrency = -1"),
        ({"wait": -1}, "wait = -1"),
        ({"requests_per_minute": 30, "requests_per_day": 20}, "mixed up|more than"),
        ({"requests_per_second": 3, "requests_per_minute": 2}, "more than"),
        ({"reset": "25:00 UTC"}, "reset"),
        ({"reset": "08:00 Nowhere/Land"}, "names no time zone"),
        ({"requests_per_hour": 3}, "unknown key 'requests_per_hour'"),
        ({"concurrency": "many"}, "concurrency"),
    ],
)
def test_limits_that_cannot_be(tmp_path: Any, limits: dict[str, Any], what: str) -> None:
    text = ", ".join(
        f'{name} = "{value}"' if isinstance(value, str) else f"{name} = {value}" for name, value in limits.items()
    )
    (tmp_path / "agouti.toml").write_text(
        f'[providers.shed]\naddress = "http://localhost:1/v1"\nlimits = {{ {text} }}\n'
    )
    with pytest.raises(agouti.ConfigError, match=what) as caught:
        agouti.load_config(tmp_path / "agouti.toml")
    assert caught.value.line == 3
    assert caught.value.hint


def test_no_day_begins_twice_where_clocks_are_put_back() -> None:
    limits = RateLimits(reset="01:30 Europe/Dublin")
    first = datetime(2026, 10, 25, 0, 25, tzinfo=UTC).timestamp()
    told = [limits.day_of(first + minutes * 60) for minutes in range(0, 120, 5)]
    days = [day for day, _ in told]
    assert days == sorted(days)
    assert [round(rest) for _, rest in told if rest <= 0] == []
    assert told[1][1] == pytest.approx(25 * 3600)  # it begins at 00:30 UTC, and has an hour more


TAKER = """
import sys
from pathlib import Path
from agouti.limits.day_counter import DayFile
file = DayFile(Path(sys.argv[1]), "shed")
print(sum(file.count("2026-12-01", 90) for _ in range(40)))
"""


def test_programs_count_the_requests_of_a_day_together(tmp_path: Path) -> None:
    command = [sys.executable, "-c", TAKER, str(tmp_path)]
    programs = [subprocess.Popen(command, stdout=subprocess.PIPE, text=True) for _ in range(4)]
    assert sum(int(program.communicate(timeout=60)[0]) for program in programs) == 90
    file = DayFile(tmp_path, "shed")
    file.give_back("2026-12-01")
    assert (file.used("2026-12-01"), file.count("2026-12-01", 90), file.count("2026-12-01", 90)) == (89, True, False)


def test_a_request_counts_from_its_first_byte() -> None:
    time = [100.0]
    schedule = Schedule(RateLimits(requests_per_second=1), lambda: time[0], lambda: time[0])
    ticket = schedule.enter_at_once(1)
    assert ticket is not None
    schedule.sent(ticket)
    time[0] += 0.8  # its connection takes so long
    schedule.connected(ticket)
    time[0] += 0.5
    assert schedule.enter_at_once(1) is None
    time[0] += 1.0
    assert schedule.enter_at_once(1) is not None
