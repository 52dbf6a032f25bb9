"""A limiter that several programs and machines share: the row and the windows are kept by a Redis server."""

from collections import deque
from collections.abc import Callable, Sequence
from functools import partial
from math import ceil
from typing import Any, Protocol

from msgspec import Struct

from ..core.settings.rate_limits import RateLimits
from ..engine.effects import OnAbandon, Settled, Signal, Steps, WaitFor
from .counting_delay import CountingDelay
from .local_schedule import LONGEST, USED_UP, TurnTooLate, describe
from .unsent_turns import UnsentTurns

LEASE = 5.0
"""A process that says nothing for so many seconds is gone, and what it holds is given back."""

# So much later than its turn a request goes out, and nothing has to be said of it.
_SOON_SECONDS = 0.03
# A turn whose word takes so much longer than the server usually takes is given back: it would fall into a second that
# others have been given. So many of them, one behind the other, and the call is refused.
_STALE = 0.5
_STALE_TURNS = 5
# A turn whose request has not gone out is dated anew so often: well within the shortest window.
_RENEWED = 0.3
_WINDOWS = (1.0, 60.0, 60.0)  # requests in a second and a minute, tokens in a minute


class StoreLost(Exception):
    """The server is out of reach."""


class Store(Protocol):
    """The server, and what this process waits for and holds there."""

    @property
    def address(self) -> str: ...
    def member(self) -> str: ...
    def ask(self, keys: Sequence[str], arguments: Sequence[Any]) -> tuple[str, str]: ...
    def later(self, keys: Sequence[str], arguments: Sequence[Any]) -> None: ...
    def expect(self, member: str, signal: Signal) -> None: ...
    def forget(self, member: str) -> None: ...
    def after_fork(self) -> None: ...
    def close(self) -> None: ...


class SharedTicket(Struct, eq=False):
    """A place in the rows.

    Attributes:
        member: its name there.
        days: the provider's day on which it counts, of each limiter.
        sent: whether it has gone out.
        is_lost: whether the call was given up.
        counts_from: when its turn was, or when it was told that it has gone out, by this process's clock.
        at: when it has gone out.
        delays: how much later than that it was said to be counted at the latest.
        schedule: where it was granted.
    """

    member: str
    days: list[str]
    sent: bool = False
    is_lost: bool = False
    counts_from: float = 0.0
    at: float = 0.0
    delays: tuple[float, ...] = ()
    schedule: "SharedSchedule | None" = None

    def renew(self) -> None:
        """It has not gone out yet: it counts as now."""
        if self.schedule is not None:
            self.schedule.renew(self)


_UNSENT = UnsentTurns()


class SharedSchedule:
    """The rows of those that wait for a model, a provider or both, in all programs.

    Args:
        limiters: what names each of them in the store, and what is allowed.
        clock: seconds, as ``time.monotonic``.
        now: seconds since the epoch, for days.
    """

    def __init__(
        self,
        store: Store,
        limiters: Sequence[tuple[str, RateLimits]],
        clock: Callable[[], float],
        now: Callable[[], float],
    ) -> None:
        self._store = store
        self._keys = [f"agouti:{{{key}}}" for key, _ in limiters]
        self._limits = [limits for _, limits in limiters]
        self._clock = clock
        self._now = now
        self._delay = CountingDelay()
        # Whether its transport says when a request goes out; one of somebody else's may not.
        self._is_announced = False
        self._answers: deque[float] = deque(maxlen=8)  # seconds that the server took for the latest ones

    def _is_stale(self, seconds: float) -> bool:
        """Whether the word of a turn took too long; a server that is always slow is no worse for that."""
        stale = seconds > min(self._answers, default=0.0) + _STALE
        self._answers.append(seconds)
        return stale

    def wait_for_turn(self, tokens: int, limit: float, ask: "Callable[[Callable[[], Any]], Steps[Any]]") -> Steps[Any]:
        """Wait for a turn; gives the `SharedTicket`.

        Args:
            tokens: of prompt and answer, estimated.
            limit: seconds that the call may wait.
            ask: how a question to the store is waited for.

        Raises:
            TurnTooLate: it would have to wait longer.
            StoreLost: the server is out of reach.
        """
        tickets = [SharedTicket(self._store.member(), [])]
        undo = OnAbandon(lambda: self.leave(tickets[0]))
        yield undo
        try:
            until, stale = self._clock() + limit, 0
            while True:
                ticket, signal = tickets[0], Signal()
                remaining = max(until - self._clock(), 0.0)
                kind, value = yield from ask(partial(self._try_start, ticket, signal, tokens, remaining))
                if kind == "go":
                    if not self._is_stale(self._clock() - ticket.counts_from):
                        break
                    # The server hung before its answer came: others have been given this time since.
                    stale += 1
                    if stale == _STALE_TURNS:
                        raise TurnTooLate(" and ".join(map(describe, self._limits)), None)
                    self.leave(ticket)
                    tickets[0] = SharedTicket(self._store.member(), [])
                    continue
                if kind == "late":
                    raise TurnTooLate(" and ".join(map(describe, self._limits)), float(value) if value else None)
                # A word comes when it is the first one, and when somebody has ended; not from those that were killed:
                # so it is seconds to its turn, or to the end of a lease.
                yield WaitFor(signal, min(float(value), remaining))
        except Exception:
            self.leave(tickets[0])
            yield Settled(undo)
            raise
        self._store.forget(ticket.member)
        yield Settled(undo)
        if self._is_announced:
            ticket.schedule = self
            _UNSENT.add(ticket)
        return ticket

    def _try_start(self, ticket: SharedTicket, signal: Signal, tokens: int, remaining: float) -> tuple[str, str]:
        ticket.delays = tuple([self._delay.latest(seconds) for seconds in _WINDOWS])
        self._store.expect(ticket.member, signal)
        arguments: list[Any] = ["take", ticket.member, round(LEASE * 1000), remaining, tokens]
        days = []
        for limits in self._limits:
            day, day_rest = limits.day_of(self._now())
            days.append(day)
            counts = (
                limits.requests_per_second,
                limits.requests_per_minute,
                limits.tokens_per_minute,
                limits.concurrency,
                limits.requests_per_day,
            )
            arguments += [*[each or 0 for each in counts], day, day_rest, *ticket.delays]
        ticket.days = days
        ticket.counts_from = self._clock()
        answer = self._store.ask(self._keys, arguments)
        if ticket.is_lost:  # the call was given up meanwhile
            self._store.forget(ticket.member)
            self._later("leave", ticket, *days)
        return answer

    def sent(self, ticket: SharedTicket) -> None:
        """The request goes out now."""
        ticket.sent = True
        ticket.at = self._clock()
        if ticket.at - ticket.counts_from > _SOON_SECONDS:  # its key, or its connection, took its time
            self._date_anew(ticket)

    def connected(self, ticket: SharedTicket) -> None:
        """Its first byte goes out."""
        self._is_announced = True
        _UNSENT.remove(ticket)
        self.sent(ticket)

    def renew(self, ticket: SharedTicket) -> None:
        """Its first byte has not gone out yet: others must not have its turn."""
        if self._clock() - ticket.counts_from > _RENEWED:
            self._date_anew(ticket)

    def _date_anew(self, ticket: SharedTicket) -> None:
        ticket.counts_from = self._clock()
        self._later("sent", ticket, *ticket.delays * len(self._keys))

    def leave(self, ticket: SharedTicket) -> None:
        """Give a place back: the request will not be sent."""
        ticket.is_lost = True
        _UNSENT.remove(ticket)
        self._store.forget(ticket.member)
        self._later("leave", ticket, *(ticket.days or [""] * len(self._keys)))

    def ended(
        self, ticket: SharedTicket, tokens: int | None, blocked: float | None = None, *, from_header: bool = False
    ) -> None:
        """The reply has come, or will not. Arguments as of `Schedule.ended`."""
        _UNSENT.remove(ticket)
        counted_at = self._delay.of(self._clock() - ticket.at) + ticket.at - ticket.counts_from
        sooner = [delay - min(counted_at, delay) for delay in ticket.delays]
        wait = min(blocked or 0.0, LONGEST)
        arguments: list[object] = []
        for limits in self._limits:
            counts = (limits.requests_per_second, limits.requests_per_minute)
            used_up = [ceil(USED_UP * limit) if from_header and limit is not None else 0 for limit in counts]
            arguments += ["" if tokens is None else tokens, wait, *sooner, *used_up]
        self._later("ended", ticket, *arguments)

    def _later(self, command: str, ticket: SharedTicket, *arguments: object) -> None:
        self._store.later(self._keys, [command, ticket.member, round(LEASE * 1000), *arguments])
