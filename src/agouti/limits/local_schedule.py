"""The schedule of one limiter: who may send next, and when; first come, first served, exact in every window.

Nobody looks again and again: a caller has its place at once, the first in the row sleeps until its time, and whoever
leaves the row, begins or ends wakes the next one.
"""

from collections import deque
from collections.abc import Callable
from threading import Lock
from typing import Protocol

from msgspec import Struct

from ..core.errors import RequestError
from ..core.settings.rate_limits import RateLimits
from ..engine.effects import Signal
from .counting_delay import CountingDelay

Clock = Callable[[], float]

# A provider that asks for more than a day says something that it does not mean.
LONGEST = 86400.0
USED_UP = 0.95


class Days(Protocol):
    """Counts the requests of a provider's day, also those of other programs and earlier runs."""

    def used(self, day: str) -> int: ...
    def count(self, day: str, limit: int) -> bool: ...
    def give_back(self, day: str) -> None: ...


class Entry:
    """A request in a window.

    Attributes:
        weight: 1, or its tokens.
        counted: when the provider has counted it at the latest; `None`: it has not been sent yet.
        over: whether its window has gone by.
    """

    __slots__ = ("counted", "over", "weight")

    def __init__(self, weight: int) -> None:
        self.weight = weight
        self.counted: float | None = None
        self.over = False


class SlidingWindow:
    """At most so much in any stretch of so many seconds.

    Args:
        limit: requests or tokens.
        seconds: the stretch.
    """

    def __init__(self, limit: int, seconds: float) -> None:
        self.limit = limit
        self.seconds = seconds
        self._entries: deque[Entry] = deque()
        self._total = 0

    def free_at(self, weight: int, now: float) -> float | None:
        """When there is room for another one; `None`: not before one has been sent that waits elsewhere."""
        entries = self._entries
        while entries and (counted := entries[0].counted) is not None and counted + self.seconds <= now:
            removed = entries.popleft()
            removed.over = True
            self._total -= removed.weight
        total = self._total
        at = now
        for entry in entries:
            if total + weight <= self.limit:
                break
            if entry.counted is None:
                return None
            total -= entry.weight
            at = max(at, entry.counted + self.seconds)
        return at

    def free_behind(self, earlier: int, now: float) -> float:
        """When there is room for a request behind so many others, at the earliest; for windows of requests."""
        too_many = self._total + earlier + 1 - self.limit
        if too_many <= 0:
            return now
        # Each one that goes by makes room for one of them, and those for the next ones.
        rounds, index = divmod(too_many - 1, self.limit)
        counted = self._entries[index].counted if index < len(self._entries) else None
        return max((now if counted is None else counted + self.seconds) + rounds * self.seconds, now)

    @property
    def used(self) -> int:
        """How much of it is used."""
        return self._total

    def add(self, weight: int) -> Entry:
        """Put a request in."""
        entry = Entry(weight)
        self._entries.append(entry)
        self._total += weight
        return entry

    def weigh(self, entry: Entry, weight: int) -> None:
        """Another weight: of a request that has taken other than was thought, or that was not sent."""
        if entry.weight != weight and not entry.over:
            self._total += weight - entry.weight
            entry.weight = weight


class Ticket(Struct, eq=False):
    """A place in the row.

    Attributes:
        tokens: what the request is reckoned with.
        until: when waiting is given up.
        signal: set when the ticket should look again.
        entries: where it stands in the windows, once it is its turn.
        started, sent: whether it was its turn, and whether it has gone out.
        at: when it has gone out.
        day: of the provider, on which it counts.
    """

    tokens: int
    until: float
    signal: Signal
    entries: list[tuple[SlidingWindow, Entry, bool]] = []
    started: bool = False
    sent: bool = False
    at: float = 0.0
    day: str = ""


class TurnTooLate(Exception):
    """The turn would come too late.

    Attributes:
        seconds: how long it would be; `None`: that cannot be told.
    """

    def __init__(self, reason: str, seconds: float | None) -> None:
        super().__init__(reason)
        self.seconds = seconds


_NO_SIGNAL = Signal()


class Schedule:
    """The row of those that wait for one provider or model.

    Args:
        limits: what is allowed.
        clock: seconds, as ``time.monotonic``.
        now: seconds since the epoch, for days.
        days: counts the requests of a day.
    """

    def __init__(self, limits: RateLimits, clock: Clock, now: Clock, days: Days | None = None) -> None:
        self.limits = limits
        self._clock = clock
        self._now = now
        self._days = days
        self._lock = Lock()
        self._queue: deque[Ticket] = deque()
        self._under_way = 0
        self._blocked = 0.0
        self._delay = CountingDelay()
        counts = ((limits.requests_per_second, 1.0), (limits.requests_per_minute, 60.0))
        self._requests = [SlidingWindow(limit, seconds) for limit, seconds in counts if limit is not None]
        self._tokens = SlidingWindow(limits.tokens_per_minute, 60.0) if limits.tokens_per_minute is not None else None
        self._windows = [*self._requests, *([self._tokens] if self._tokens is not None else [])]

    @property
    def waiting(self) -> int:
        """How many wait."""
        return len(self._queue)

    def enter(self, tokens: int, limit: float) -> Ticket:
        """A place at the end of the row.

        Args:
            tokens: of prompt and answer, estimated.
            limit: seconds that the call may wait.

        Raises:
            TurnTooLate: it would have to wait longer.
            RequestError: it is larger than the limit by itself.
        """
        if self._tokens is not None and tokens > self._tokens.limit:
            raise too_large(tokens, self._tokens.limit)
        with self._lock:
            now = self._clock()
            seconds = self._expected(tokens, now)
            if seconds is not None and seconds > limit:
                raise TurnTooLate(describe(self.limits), seconds)
            if seconds is None and limit <= 0:
                raise TurnTooLate(describe(self.limits), None)
            ticket = Ticket(tokens, now + limit, Signal())
            self._queue.append(ticket)
            return ticket

    def enter_at_once(self, tokens: int) -> Ticket | None:
        """A place whose turn it is; `None` where it would have to wait."""
        with self._lock:
            now = self._clock()
            if self._queue or (self._tokens is not None and tokens > self._tokens.limit):
                return None
            at = self._free_at(tokens, now)
            if at is None or at > now:
                return None
            ticket = Ticket(tokens, now, _NO_SIGNAL)
            if not self._of_the_day(ticket):
                return None
            self._queue.append(ticket)
            self._begin(ticket)
            return ticket

    def try_start(self, ticket: Ticket) -> float | None:
        """Whether it is a ticket's turn: 0, and it counts from now on; seconds to wait; `None`: until it is told.

        Raises:
            TurnTooLate: it has waited as long as it may, or would have to.
        """
        with self._lock:
            now = self._clock()
            ticket.signal = Signal()
            at = self._free_at(ticket.tokens, now) if self._queue[0] is ticket else None
            if at is not None and at <= now and not self._of_the_day(ticket):  # another program was faster
                at = now + self.limits.day_of(self._now())[1]
            if at is not None and at <= now:
                self._begin(ticket)
                wake = self._next()
            elif now >= ticket.until or (at is not None and at > ticket.until):
                raise TurnTooLate(describe(self.limits), None if at is None else at - now)
            else:
                return None if at is None else at - now
        _set(wake)
        return 0.0

    def leave(self, ticket: Ticket) -> None:
        """Give a place back: the request will not be sent."""
        with self._lock:
            if ticket.started:
                self._under_way -= 1
                ticket.started = False
                if ticket.day and self._days is not None:
                    self._days.give_back(ticket.day)
                for window, entry, _ in ticket.entries:
                    window.weigh(entry, 0)
                    entry.counted = entry.counted or self._clock()
            elif ticket in self._queue:
                self._queue.remove(ticket)
            wake = self._next()
        _set(wake)

    def sent(self, ticket: Ticket) -> None:
        """The request goes out now."""
        with self._lock:
            now = self._clock()
            ticket.sent = True
            ticket.at = now
            for window, entry, _ in ticket.entries:
                entry.counted = now + self._delay.latest(window.seconds)
            wake = self._next()
        _set(wake)

    def connected(self, ticket: Ticket) -> None:
        """Its first byte goes out: the connection took its time."""
        with self._lock:
            now = self._clock()
            if ticket.started and ticket.sent and now > ticket.at:
                ticket.at = now
                for window, entry, _ in ticket.entries:
                    entry.counted = now + self._delay.latest(window.seconds)

    def ended(
        self, ticket: Ticket, tokens: int | None, blocked: float | None = None, *, from_header: bool = False
    ) -> None:
        """The reply has come, or will not.

        Args:
            tokens: what it has really taken; `None` where that is not known.
            blocked: seconds for which the provider wants no more requests.
            from_header: a good reply says so. That tells when all is there again, which is later than the next place:
                it counts where somebody else must have used what is left.
        """
        with self._lock:
            now = self._clock()
            if ticket.started:
                self._under_way -= 1
                ticket.started = False
            delay = self._delay.of(now - ticket.at)
            for window, entry, of_tokens in ticket.entries:
                entry.counted = ticket.at + min(delay, self._delay.latest(window.seconds))
                if of_tokens and tokens is not None:
                    window.weigh(entry, tokens)
            used_up = from_header and any(window.used >= USED_UP * window.limit for window in self._requests)
            if blocked is not None and not used_up:
                self._blocked = max(self._blocked, now + min(blocked, LONGEST))
            wake = self._next()
        _set(wake)

    def _begin(self, ticket: Ticket) -> None:
        self._queue.popleft()
        ticket.started = True
        self._under_way += 1
        ticket.entries = [(window, window.add(1), False) for window in self._requests]
        if self._tokens is not None:
            ticket.entries.append((self._tokens, self._tokens.add(ticket.tokens), True))

    def _next(self) -> Signal | None:
        return self._queue[0].signal if self._queue else None

    def _free_at(self, tokens: int, now: float) -> float | None:
        limits = self.limits
        if limits.concurrency is not None and self._under_way >= limits.concurrency:
            return None
        at = max(now, self._blocked)
        for window in self._windows:
            free = window.free_at(tokens if window is self._tokens else 1, now)
            if free is None:
                return None
            if free > at:
                at = free
        if self._days is not None and limits.requests_per_day is not None:
            day, day_rest = limits.day_of(self._now())
            if self._days.used(day) >= limits.requests_per_day:
                at = max(at, now + day_rest)
        return at

    def _of_the_day(self, ticket: Ticket) -> bool:
        """Count it among the requests of the day; whether there was room for it."""
        limit = self.limits.requests_per_day
        if self._days is None or limit is None:
            return True
        day = self.limits.day_of(self._now())[0]
        if not self._days.count(day, limit):
            return False
        ticket.day = day
        return True

    def _expected(self, tokens: int, now: float) -> float | None:
        """How long a new ticket would wait, at least; `None`: that cannot be told."""
        limits = self.limits
        if limits.concurrency is not None and self._under_way + len(self._queue) >= limits.concurrency:
            return None
        at = self._free_at(tokens, now)
        if at is None:
            return None
        for window in self._requests:
            at = max(at, window.free_behind(len(self._queue), now))
        return at - now


def describe(limits: RateLimits) -> str:
    """Limits in words."""
    texts = [
        f"{getattr(limits, name)} {name.replace('_', ' ')}"
        for name in ("requests_per_second", "requests_per_minute", "requests_per_day", "tokens_per_minute")
        if getattr(limits, name) is not None
    ]
    if limits.concurrency is not None:
        texts.append(f"{limits.concurrency} at a time")
    return ", ".join(texts)


def too_large(tokens: int, limit: int) -> RequestError:
    """What is wrong with a request that is larger than a limit by itself."""
    return RequestError(
        f"the request has about {tokens} tokens, and the limit is {limit} a minute",
        hint="Ask for less at once, lower max_tokens, or raise tokens_per_minute in the entry.",
    )


def _set(signal: Signal | None) -> None:
    if signal is not None:
        signal.set()
