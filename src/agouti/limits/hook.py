"""The limiter as a hook: every request takes its turn at its model and at its provider."""

from collections.abc import Mapping
from threading import Lock
from typing import TYPE_CHECKING

from ..core.errors import LimitReached, RateLimited
from ..core.estimate import expected_tokens
from ..core.forks import begin_anew
from ..core.retry_after import asked_wait
from ..engine.call import CLOCKS, Clocks
from ..engine.effects import OnAbandon, Settled, Steps, WaitFor
from ..engine.hooks import AttemptDetails, AttemptResult, SendingHook
from .schedule import Days, Schedule, Ticket, TurnTooLate

if TYPE_CHECKING:
    from collections.abc import Callable

    from ..config.entries import Config

_PAIRS = (
    ("x-ratelimit-remaining-requests", "x-ratelimit-reset-requests"),
    ("x-ratelimit-remaining-tokens", "x-ratelimit-reset-tokens"),
    ("x-ratelimit-remaining", "x-ratelimit-reset"),
    ("ratelimit-remaining", "ratelimit-reset"),
)


class LimitHook(SendingHook):
    """Keeps the limits of a configuration's entries; one for all threads and tasks of a client.

    Args:
        days: makes what counts the requests of a day, of what is limited.
    """

    def __init__(
        self, config: "Config", days: "Callable[[str], Days | None]" = lambda _: None, clocks: Clocks = CLOCKS
    ) -> None:
        self._config = config
        self._days = days
        self._clocks = clocks
        self._lock = Lock()
        self._schedules: dict[tuple[str, str], Schedule | None] = {}
        self._held: dict[int, list[tuple[Schedule, Ticket]]] = {}
        begin_anew(self)

    def after_fork(self) -> None:
        """A child begins with nobody waiting."""
        self._lock = Lock()
        self._schedules, self._held = {}, {}

    def before(self, attempt: AttemptDetails) -> Steps[None] | None:
        """Make the attempt wait for its turn.

        Raises:
            LimitReached: it would wait longer than it may.
        """
        schedules = [
            schedule
            for kind, label in (("models", attempt.model), ("providers", attempt.provider))
            if (schedule := self._schedule(kind, label)) is not None
        ]
        if not schedules or self._at_once(attempt, schedules):
            return None
        return self._turn(attempt, schedules)

    def _at_once(self, attempt: AttemptDetails, schedules: list[Schedule]) -> bool:
        """Whether there is room everywhere and nobody waits: then nothing is to be done but to count."""
        tokens = _tokens(attempt, schedules)
        held: list[tuple[Schedule, Ticket]] = []
        for schedule in schedules:
            ticket = schedule.enter_at_once(tokens)
            if ticket is None:
                for other, each in held:
                    other.leave(each)
                return False
            held.append((schedule, ticket))
        self._held[id(attempt)] = held
        return True

    def _schedule(self, kind: str, label: str) -> Schedule | None:
        key = (kind, label)
        if key not in self._schedules:
            entries: Mapping[str, object] = getattr(self._config, kind)
            entry = entries.get(label)
            limits = getattr(entry, "limits", None)
            made = None
            if limits is not None:
                days = self._days(f"{kind}.{label}") if limits.requests_per_day is not None else None
                made = Schedule(limits, self._clocks.clock, self._clocks.now, days)
            with self._lock:
                self._schedules.setdefault(key, made)
        return self._schedules[key]

    def _turn(self, attempt: AttemptDetails, schedules: list[Schedule]) -> Steps[None]:
        clock = self._clocks.clock
        held: list[tuple[Schedule, Ticket]] = []

        def give_back() -> None:
            for schedule, ticket in held:
                schedule.leave(ticket)

        undo = OnAbandon(give_back)
        yield undo
        tokens = _tokens(attempt, schedules)
        began = clock()
        try:
            for schedule in schedules:
                most = schedule.limits.wait
                if attempt.left is not None:
                    most = min(most, attempt.left)
                ticket = schedule.enter(tokens, max(most - (clock() - began), 0.0))
                held.append((schedule, ticket))
                while (seconds := schedule.turn(ticket)) != 0.0:
                    rest = max(ticket.until - clock(), 0.0)
                    yield WaitFor(ticket.signal, rest if seconds is None else min(seconds, rest))
        except TurnTooLate as reached:
            give_back()
            yield Settled(undo)
            raise self._error(attempt, schedule, reached) from None
        except Exception:
            give_back()
            yield Settled(undo)
            raise
        self._held[id(attempt)] = held
        yield Settled(undo)

    def _error(self, attempt: AttemptDetails, schedule: Schedule, reached: TurnTooLate) -> LimitReached:
        whose = (
            "model " + attempt.model if self._schedules.get(("models", attempt.model)) is schedule else attempt.provider
        )
        when = (
            "it is not known when the turn would come"
            if reached.seconds is None
            else (f"the turn would come in {reached.seconds:.1f} s")
        )
        return LimitReached(
            f"the limit of {whose} is reached ({reached}): {when}, and it may wait {schedule.limits.wait:g} s",
            provider=attempt.provider,
            model=attempt.model,
            wait=reached.seconds,
        )

    def sending(self, attempt: AttemptDetails) -> None:
        """The request goes out: from now on it counts."""
        for schedule, ticket in self._held.get(id(attempt), ()):
            schedule.sent(ticket)

    def after(self, result: AttemptResult) -> None:
        """The attempt has ended: what it took counts, and what the provider says of its own limits."""
        held = self._held.pop(id(result.attempt), ())
        blocked = result.error.wait if isinstance(result.error, RateLimited) else _blocked(result.headers)
        usage = result.usage
        tokens = None if usage is None else usage.total_tokens
        if tokens is None and usage is not None and usage.input_tokens is not None and usage.output_tokens is not None:
            tokens = usage.input_tokens + usage.output_tokens
        for schedule, ticket in held:
            if ticket.sent:
                schedule.ended(ticket, tokens, blocked)
            else:  # no key, or another hook has refused it
                schedule.leave(ticket)


def _tokens(attempt: AttemptDetails, schedules: list[Schedule]) -> int:
    """The tokens that a request is reckoned with, where a limit is on tokens."""
    if all(schedule.limits.tokens_per_minute is None for schedule in schedules):
        return 0
    return sum(expected_tokens(attempt.request))


def _blocked(headers: Mapping[str, str]) -> float | None:
    """Seconds until the provider takes more requests, where a good reply says that none are left."""
    for left, reset in _PAIRS:
        if headers.get(left, "").strip() == "0" and reset in headers:
            return asked_wait({name: headers[name] for name in (left, reset, "date") if name in headers})
    return None
