"""The limiter as a hook: every request takes its turn at its model and at its provider."""

from collections.abc import Mapping
from hashlib import sha256
from threading import Lock
from typing import TYPE_CHECKING, Any, Protocol

from ..core.errors import LimitReached, RateLimited
from ..core.forks import begin_anew
from ..core.retry_after import asked_wait
from ..core.warn import warn
from ..engine.call import CLOCKS, Clocks
from ..engine.effects import OnAbandon, Settled, Steps, WaitFor
from ..engine.hooks import AttemptDetails, AttemptResult, SendingHook
from .schedule import Days, Schedule, TurnTooLate
from .shared import SharedSchedule, Store, StoreLost

if TYPE_CHECKING:
    from collections.abc import Callable

    from ..config.entries import Config

_PAIRS = (
    ("x-ratelimit-remaining-requests", "x-ratelimit-reset-requests"),
    ("x-ratelimit-remaining-tokens", "x-ratelimit-reset-tokens"),
    ("x-ratelimit-remaining", "x-ratelimit-reset"),
    ("ratelimit-remaining", "ratelimit-reset"),
)


# A store that is out of reach is left alone for so many seconds.
_AWAY = 5.0


class _Row(Protocol):
    """Where requests wait, in this process or among all."""

    def sent(self, ticket: Any) -> None: ...
    def leave(self, ticket: Any) -> None: ...
    def ended(self, ticket: Any, tokens: int | None, blocked: float | None = None, *, told: bool = False) -> None: ...


class LimitHook(SendingHook):
    """Keeps the limits of a configuration's entries; one for all threads and tasks of a client.

    Args:
        days: makes what counts the requests of a day, of what is limited.
        store: where the limits are kept that other programs share.
    """

    def __init__(
        self,
        config: "Config",
        days: "Callable[[str], Days | None]" = lambda _: None,
        store: Store | None = None,
        clocks: Clocks = CLOCKS,
    ) -> None:
        self._config = config
        self._days = days
        self._store = store
        self._clocks = clocks
        self._lost_until = 0.0
        self._begin()
        begin_anew(self)

    def _begin(self) -> None:
        self._lock = Lock()
        self._schedules: dict[tuple[str, str], Schedule | None] = {}
        self._shared: dict[tuple[str, str], SharedSchedule] = {}
        self._held: dict[int, list[tuple[_Row, Any]]] = {}

    def after_fork(self) -> None:
        """A child begins with nobody waiting."""
        self._begin()
        if self._store is not None:
            self._store.after_fork()

    def close(self) -> None:
        """Let go of the store."""
        if self._store is not None:
            self._store.close()

    def before(self, attempt: AttemptDetails) -> Steps[None] | None:
        """Make the attempt wait for its turn.

        Raises:
            LimitReached: it would wait longer than it may.
        """
        schedules = {
            key: schedule
            for key in (("models", attempt.model), ("providers", attempt.provider))
            if (schedule := self._schedule(*key)) is not None
        }
        if not schedules:
            return None
        if self._store is not None and self._clocks.clock() >= self._lost_until:
            return self._turn_in(self._store, attempt, schedules)
        if self._at_once(attempt, list(schedules.values())):
            return None
        return self._turn(attempt, list(schedules.values()))

    def _at_once(self, attempt: AttemptDetails, schedules: list[Schedule]) -> bool:
        """Whether there is room everywhere and nobody waits: then nothing is to be done but to count."""
        tokens = _tokens(attempt, schedules)
        held: list[tuple[_Row, Any]] = []
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
                days = self._days(self._identity(kind, label)) if limits.requests_per_day is not None else None
                made = Schedule(limits, self._clocks.clock, self._clocks.now, days)
            with self._lock:
                self._schedules.setdefault(key, made)
        return self._schedules[key]

    def _identity(self, kind: str, label: str) -> str:
        """What is limited, whatever its label is in another program: an account of a provider, or a model of it."""
        model = self._config.models.get(label) if kind == "models" else None
        provider = self._config.provider(label if model is None else model.provider)
        key = "" if provider.key is None else provider.key.describe()
        return repr((provider.address, key, model and model.name))

    def _turn_in(
        self, store: Store, attempt: AttemptDetails, schedules: dict[tuple[str, str], Schedule]
    ) -> Steps[None]:
        """Take a turn among all programs."""
        held: list[tuple[_Row, Any]] = []
        waits_elsewhere: list[Steps[None]] = []

        def give_back() -> None:
            for row, ticket in held:
                row.leave(ticket)

        undo = OnAbandon(give_back)
        yield undo
        began = self._clocks.clock()
        tokens = _tokens(attempt, list(schedules.values()))
        try:
            for key, schedule in schedules.items():
                row = self._row_in(store, key, schedule)
                most = self._most(attempt, schedule) - (self._clocks.clock() - began)
                ticket = yield from row.place(tokens, max(most, 0.0), unsent=len(schedules) > 1)
                held.append((row, ticket))
                waits_elsewhere.append(row.counts(ticket))
            for counts in waits_elsewhere if len(held) > 1 else ():
                yield from counts
        except Exception as error:
            give_back()
            yield Settled(undo)
            if isinstance(error, TurnTooLate):
                raise self._error(attempt, schedule, error) from None
            if not isinstance(error, StoreLost):
                raise
            self._lost(store, attempt, error)
            yield from self._turn(attempt, list(schedules.values()))
            return
        self._held[id(attempt)] = held
        yield Settled(undo)

    def _row_in(self, store: Store, key: tuple[str, str], schedule: Schedule) -> SharedSchedule:
        if key not in self._shared:
            name = sha256(self._identity(*key).encode()).hexdigest()[:24]
            self._shared[key] = SharedSchedule(store, name, schedule.limits, self._clocks.clock, self._clocks.now)
        return self._shared[key]

    def _lost(self, store: Store, attempt: AttemptDetails, why: Exception) -> None:
        """The store is out of reach: every program for itself for a while, or nobody.

        Raises:
            LimitReached: so it was wanted.
        """
        settings = self._config.limit_store
        if settings is not None and settings.lost == "fail":
            raise LimitReached(
                f"the limits of {attempt.provider} are kept in {store.place}, which is out of reach ({why})",
                hint='See that it runs, or write lost = "local" into [limits].',
                provider=attempt.provider,
                model=attempt.model,
            )
        first = not self._lost_until
        self._lost_until = self._clocks.clock() + _AWAY
        if first:
            warn(f"limits are not shared: {store.place} is out of reach ({why}); this program keeps them for itself")

    @staticmethod
    def _most(attempt: AttemptDetails, schedule: Schedule) -> float:
        """Seconds that a call may wait for its turn."""
        most = schedule.limits.wait
        return most if attempt.left is None else min(most, attempt.left)

    def _turn(self, attempt: AttemptDetails, schedules: list[Schedule]) -> Steps[None]:
        clock = self._clocks.clock
        held: list[tuple[_Row, Any]] = []

        def give_back() -> None:
            for row, ticket in held:
                row.leave(ticket)

        undo = OnAbandon(give_back)
        yield undo
        tokens = _tokens(attempt, schedules)
        began = clock()
        try:
            for schedule in schedules:
                ticket = schedule.enter(tokens, max(self._most(attempt, schedule) - (clock() - began), 0.0))
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
        refused = result.error.wait if isinstance(result.error, RateLimited) else None
        told = _blocked(result.headers) if refused is None else None
        usage = result.usage
        tokens = None if usage is None else usage.total_tokens
        if tokens is None and usage is not None and usage.input_tokens is not None and usage.output_tokens is not None:
            tokens = usage.input_tokens + usage.output_tokens
        for schedule, ticket in held:
            if ticket.sent:
                schedule.ended(ticket, tokens, refused if told is None else told, told=told is not None)
            else:  # no key, or another hook has refused it
                schedule.leave(ticket)


def _tokens(attempt: AttemptDetails, schedules: list[Schedule]) -> int:
    """The tokens that a request is reckoned with, where a limit is on tokens."""
    most = min([each.limits.tokens_per_minute for each in schedules if each.limits.tokens_per_minute], default=None)
    outgoing = attempt.outgoing
    if most is None or not outgoing.paid:
        return 0
    answer = outgoing.answer_expected
    if outgoing.caps.output_tokens is None:
        # A guess refuses no request for its size, and before anything is known not much is guessed.
        answer = min(answer, max(most - outgoing.expected, 1) if outgoing.target.state.answers.known else most // 4)
    return outgoing.expected + answer


def _blocked(headers: Mapping[str, str]) -> float | None:
    """Seconds until the provider takes more requests, where a good reply says that none are left."""
    if not any("ratelimit" in name for name in headers):
        return None
    for left, reset in _PAIRS:
        if headers.get(left, "").strip() == "0" and reset in headers:
            return asked_wait({name: headers[name] for name in (left, reset, "date") if name in headers})
    return None
