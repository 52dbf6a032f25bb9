"""The limiter as a hook: every request takes its turn at its model and at its provider."""

from collections.abc import Mapping, Sequence
from functools import partial
from hashlib import sha256
from threading import Lock
from typing import TYPE_CHECKING, Any, Protocol

from ..core.errors import LimitReached, RateLimited
from ..core.http.retry_after import asked_wait
from ..core.warn import warn
from ..engine.call import CLOCKS, Clocks
from ..engine.effects import OnAbandon, RunCallable, Settled, Steps, WaitFor
from ..engine.hooks import AttemptDetails, AttemptResult, SendingHook
from ..engine.store_thread import StoreThread, in_a_task, wait_for_job
from ..runtime.fork_reset import reset_after_fork
from .local_schedule import Days, Schedule, TurnTooLate
from .shared_schedule import SharedSchedule, Store, StoreLost

if TYPE_CHECKING:
    from collections.abc import Callable

    from ..config.entries import Config

_PAIRS = (
    ("x-ratelimit-remaining-requests", "x-ratelimit-reset-requests"),
    ("x-ratelimit-remaining-tokens", "x-ratelimit-reset-tokens"),
    ("x-ratelimit-remaining", "x-ratelimit-reset"),
    ("ratelimit-remaining", "ratelimit-reset"),
    ("x-ratelimit-requests-remaining", "x-ratelimit-requests-reset"),
    ("x-ratelimit-tokens-remaining", "x-ratelimit-tokens-reset"),
    ("ratelimit-requests-remaining", "ratelimit-requests-reset"),
)


# A store that is out of reach is left alone for so many seconds.
_AWAY = 5.0
# A store that does not answer for so many seconds is out of reach.
_PATIENCE = 4.0
# Where a call has less time than that, it says nothing of the store.
_SURE = 0.25


class _Queue(Protocol):
    """Where requests wait, in this process or among all."""

    def sent(self, ticket: Any) -> None: ...
    def connected(self, ticket: Any) -> None: ...
    def leave(self, ticket: Any) -> None: ...
    def ended(
        self, ticket: Any, tokens: int | None, blocked: float | None = None, *, from_header: bool = False
    ) -> None: ...


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
        reset_after_fork(self)

    def _begin(self) -> None:
        self._lock = Lock()
        self._schedules: dict[tuple[str, str], Schedule | None] = {}
        self._shared: dict[tuple[tuple[str, str], ...], SharedSchedule] = {}
        self._thread = StoreThread("agouti-limits-questions")
        self._reservations: dict[int, list[tuple[_Queue, Any]]] = {}

    def after_fork(self) -> None:
        """A child begins with nobody waiting."""
        self._begin()
        if self._store is not None:
            self._store.after_fork()

    def close(self) -> None:
        """Let go of the store."""
        self._thread.stop()
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
        found = list(schedules.values())
        # Everybody counts what he sends himself, whatever a store says: it may hang, be emptied, or be another one.
        concurrency = self._fits_now(attempt, found)
        if self._store is None:
            return None if concurrency else self._wait_for_turns(attempt, found)
        return self._turn_in(self._store, attempt, schedules, waits=not concurrency)

    def _fits_now(self, attempt: AttemptDetails, schedules: list[Schedule]) -> bool:
        """Whether there is room everywhere and nobody waits: then nothing is to be done but to count."""
        tokens = _tokens(attempt, schedules)
        reservations: list[tuple[_Queue, Any]] = []
        for schedule in schedules:
            ticket = schedule.enter_at_once(tokens)
            if ticket is None:
                for second, each in reservations:
                    second.leave(each)
                return False
            reservations.append((schedule, ticket))
        self._reservations[id(attempt)] = reservations
        return True

    def _schedule(self, kind: str, label: str) -> Schedule | None:
        key = (kind, label)
        if key not in self._schedules:
            entries: Mapping[str, object] = getattr(self._config, kind)
            entry = entries.get(label)
            limits = getattr(entry, "limits", None)
            schedule = None
            if limits is not None:
                days = self._days(self._identity(kind, label)) if limits.requests_per_day is not None else None
                schedule = Schedule(limits, self._clocks.clock, self._clocks.now, days)
            with self._lock:
                self._schedules.setdefault(key, schedule)
        return self._schedules[key]

    def _identity(self, kind: str, label: str) -> str:
        """What is limited, whatever its label is in another program: an account of a provider, or a model of it."""
        model = self._config.models.get(label) if kind == "models" else None
        provider = self._config.provider(label if model is None else model.provider)
        key = "" if provider.key is None else provider.key.describe()
        return repr((provider.address, key, model and model.name))

    def _turn_in(
        self, store: Store, attempt: AttemptDetails, schedules: dict[tuple[str, str], Schedule], *, waits: bool
    ) -> Steps[None]:
        """Take a turn among all programs, after that of this one."""
        started_at = self._clocks.clock()
        found = list(schedules.values())
        undo = OnAbandon(partial(self._give_back, attempt))
        yield undo
        try:
            if waits:
                yield from self._wait_for_turns(attempt, found)
            if self._clocks.clock() < self._lost_until:
                if self._fails:
                    raise self._out_of_reach(store, attempt, "a moment ago")
            else:
                queue = self._row_in(store, schedules)
                limit = min([self._max_wait(attempt, each) for each in found]) - (self._clocks.clock() - started_at)
                ask = partial(self._ask_store, attempt)
                try:
                    ticket = yield from queue.wait_for_turn(_tokens(attempt, found), max(limit, 0.0), ask)
                    self._reservations[id(attempt)].append((queue, ticket))
                except TurnTooLate as reached:
                    raise self._error(attempt, found[0] if len(found) == 1 else None, reached, found) from None
                except StoreLost as error:
                    self._lost(store, attempt, error)
        except Exception:
            self._give_back(attempt)
            yield Settled(undo)
            raise
        yield Settled(undo)

    def _give_back(self, attempt: AttemptDetails) -> None:
        for queue, ticket in self._reservations.pop(id(attempt), ()):
            queue.leave(ticket)

    def _ask_store(self, attempt: AttemptDetails, question: "Callable[[], Any]") -> Steps[Any]:
        """Ask the store; a task, or a call with a deadline, waits beside it, and no longer than it may."""
        if attempt.left is None and not in_a_task():
            return (yield RunCallable(question, None))
        # How long it may wait for its turn is another matter; half of its time is left for the request itself.
        seconds = _PATIENCE if attempt.left is None else min(_PATIENCE, max(attempt.left, 0.0) / 2)
        try:
            return (yield from wait_for_job(self._thread.submit(question), seconds))
        except TimeoutError:
            if seconds < _SURE:  # that this call has no time says nothing of the store
                raise TurnTooLate("the store of the limits has not answered yet", None) from None
            raise StoreLost("it does not answer") from None

    def _row_in(self, store: Store, schedules: dict[tuple[str, str], Schedule]) -> SharedSchedule:
        keys = tuple(schedules)
        queue = self._shared.get(keys)
        if queue is None:
            limiters = [
                (sha256(self._identity(*key).encode()).hexdigest()[:24], schedule.limits)
                for key, schedule in schedules.items()
            ]
            queue = self._shared[keys] = SharedSchedule(store, limiters, self._clocks.clock, self._clocks.now)
        return queue

    @property
    def _fails(self) -> bool:
        settings = self._config.limit_store
        return settings is not None and settings.lost == "fail"

    @staticmethod
    def _out_of_reach(store: Store, attempt: AttemptDetails, reason: object) -> LimitReached:
        return LimitReached(
            f"the limits of {attempt.provider} are kept in {store.address}, which is out of reach ({reason})",
            hint='See that it runs, or write lost = "local" into [limits].',
            provider=attempt.provider,
            model=attempt.model,
        )

    def _lost(self, store: Store, attempt: AttemptDetails, reason: Exception) -> None:
        """The store is out of reach: every program for itself for a while, or nobody.

        Raises:
            LimitReached: so it was wanted.
        """
        first = not self._lost_until
        self._lost_until = self._clocks.clock() + _AWAY
        if self._fails:
            raise self._out_of_reach(store, attempt, reason)
        if first:
            warn(
                f"limits are not shared: {store.address} is out of reach ({reason}); this program keeps them for itself"
            )

    @staticmethod
    def _max_wait(attempt: AttemptDetails, schedule: Schedule) -> float:
        """Seconds that a call may wait for its turn."""
        limit = schedule.limits.wait
        return limit if attempt.left is None else min(limit, attempt.left)

    def _wait_for_turns(self, attempt: AttemptDetails, schedules: list[Schedule]) -> Steps[None]:
        clock = self._clocks.clock
        reservations: list[tuple[_Queue, Any]] = []

        def give_back() -> None:
            for queue, ticket in reservations:
                queue.leave(ticket)

        undo = OnAbandon(give_back)
        yield undo
        tokens = _tokens(attempt, schedules)
        started_at = clock()
        try:
            for schedule in schedules:
                ticket = schedule.enter(tokens, max(self._max_wait(attempt, schedule) - (clock() - started_at), 0.0))
                reservations.append((schedule, ticket))
                while (seconds := schedule.try_start(ticket)) != 0.0:
                    remaining = max(ticket.until - clock(), 0.0)
                    yield WaitFor(ticket.signal, remaining if seconds is None else min(seconds, remaining))
        except TurnTooLate as reached:
            give_back()
            yield Settled(undo)
            raise self._error(attempt, schedule, reached) from None
        except Exception:
            give_back()
            yield Settled(undo)
            raise
        self._reservations[id(attempt)] = reservations
        yield Settled(undo)

    def _error(
        self, attempt: AttemptDetails, schedule: Schedule | None, reached: TurnTooLate, all_of: Sequence[Schedule] = ()
    ) -> LimitReached:
        owner = attempt.provider
        if schedule is None:
            owner = f"model {attempt.model} or of {attempt.provider}"
        elif self._schedules.get(("models", attempt.model)) is schedule:
            owner = f"model {attempt.model}"
        wait = min([each.limits.wait for each in ([schedule] if schedule is not None else all_of)])
        when = (
            "it is not known when the turn would come"
            if reached.seconds is None
            else (f"the turn would come in {reached.seconds:.1f} s")
        )
        return LimitReached(
            f"the limit of {owner} is reached ({reached}): {when}, and it may wait {wait:g} s",
            provider=attempt.provider,
            model=attempt.model,
            wait=reached.seconds,
        )

    def sending(self, attempt: AttemptDetails) -> None:
        """The request goes out: from now on it counts."""
        for schedule, ticket in self._reservations.get(id(attempt), ()):
            schedule.sent(ticket)

    def connected(self, attempt: AttemptDetails) -> None:
        """Its first byte goes out: it counts from now, not from when the connection was begun."""
        for schedule, ticket in self._reservations.get(id(attempt), ()):
            schedule.connected(ticket)

    def after(self, result: AttemptResult) -> None:
        """The attempt has ended: what it took counts, and what the provider says of its own limits."""
        reservations = self._reservations.pop(id(result.attempt), ())
        refused = result.error.wait if isinstance(result.error, RateLimited) else None
        from_header = _blocked(result.headers) if refused is None else None
        if refused is not None and result.attempt.outgoing.target.provider.keys.free(self._clocks.now()) > 1:
            refused = None  # another key is free: the call goes on with it
        usage = result.usage
        tokens = None if usage is None else usage.total_tokens
        # A count below nothing would make room for others.
        tokens = None if tokens is None else max(tokens, 0)
        if tokens is None and usage is not None and usage.input_tokens is not None and usage.output_tokens is not None:
            tokens = usage.input_tokens + usage.output_tokens
        for schedule, ticket in reservations:
            if ticket.sent:
                schedule.ended(
                    ticket, tokens, refused if from_header is None else from_header, from_header=from_header is not None
                )
            else:  # no key, or another hook has refused it
                schedule.leave(ticket)


def _tokens(attempt: AttemptDetails, schedules: list[Schedule]) -> int:
    """The tokens that a request is reckoned with, where a limit is on tokens."""
    limit = min([each.limits.tokens_per_minute for each in schedules if each.limits.tokens_per_minute], default=None)
    outgoing = attempt.outgoing
    if limit is None or not outgoing.paid:
        return 0
    answer = outgoing.answer_expected
    if outgoing.caps.output_tokens is None:
        # A guess refuses no request for its size, and before anything is known not much is guessed.
        answer = min(answer, max(limit - outgoing.expected, 1) if outgoing.target.state.answers.known else limit // 4)
    return outgoing.expected + answer


def _blocked(headers: Mapping[str, str]) -> float | None:
    """Seconds until the provider takes more requests, where a good reply says that none are left."""
    if not any("ratelimit" in name for name in headers):
        return None
    if "ratelimit" in headers and (wait := asked_wait({"ratelimit": headers["ratelimit"]})) is not None:
        return wait
    for remaining_header, reset in _PAIRS:
        if headers.get(remaining_header, "").strip() == "0" and reset in headers:
            return asked_wait({name: headers[name] for name in (remaining_header, reset, "date") if name in headers})
    return None
