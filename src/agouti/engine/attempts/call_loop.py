"""The exchange: a call asked of its models in turn, each as often as it makes sense; one path for every operation.

What follows from an attempt is decided by `decide`, over the table of `error_policy`. Nothing here does I/O.
"""

import logging
from collections.abc import Mapping
from functools import cache
from os import urandom
from typing import TYPE_CHECKING, Any, Generic

from msgspec import Struct

from ...core.attempt import Attempt
from ...core.canonical.chat import Completion
from ...core.errors import AgoutiError, ConfigError, CredentialMissing, RequestError
from ...core.secrets.secret import SecretText
from ..call import Call
from ..effects import Sleep, Steps
from ..operation import Operation
from ..outcome import Answer, Answered, Failed, Request, Result
from ..providers.provider import Target
from .attempt import Attempted, attempt, circuit_open, learn
from .decide import Done, GiveUp, NextModel, Retry, Situation, decide
from .error_policy import lets_next, policy_of
from .time_limits import retries_of

if TYPE_CHECKING:
    from .hook_calls import CallWatch

log = logging.getLogger("agouti.exchange")


class Exchanged(Struct, Generic[Result], frozen=True, gc=False):
    """A call that was answered.

    Attributes:
        answer: what came, and by which model.
        attempts: what was tried, in order, the answering one last.
        elapsed: seconds from the beginning of the call.
    """

    answer: Answer[Result]
    target: Target
    attempts: tuple[Attempt, ...]
    elapsed: float


def exchange(call: Call, operation: Operation[Request, Result]) -> Steps[Exchanged[Result]]:
    """Ask the models of a call, until one of them has answered.

    Raises:
        AgoutiError: none has; it carries all attempts.
    """
    attempts: list[Attempt] = []
    watch = None
    if call.hooks:
        watch = _call_watch()(call, operation)
        yield from watch.begin()
    cause: AgoutiError | None = None
    for target in call.targets:
        before = len(attempts)
        decision = yield from _at_target(call, operation, target, attempts)
        if watch is not None:
            watch.attempts = len(attempts)
        if isinstance(decision, Done):
            if watch is not None:
                yield from watch.ended(None)
            answer = decision.answer
            if isinstance(answer.value, Completion):
                answer = _with_provider(answer, target)
            return Exchanged(answer, target, tuple(attempts), call.clocks.clock() - call.started)
        error = decision.error.with_context(
            provider=target.provider.label, model=target.model.label, attempts=tuple(attempts)
        )
        if cause is not None and isinstance(error, _NOT_ASKED) and not error.attempts[before:]:
            # That the next model could not even be asked must not hide why the one before could not answer.
            error = cause.with_context(
                attempts=tuple(attempts), hint=f"{cause.hint} {target.model.label} cannot take over: {error.message}."
            )
        if isinstance(decision, GiveUp):
            break
        cause = error
        log.info("%s: %s; the next model takes over", target.model.label, error.message)
    yield from operation.explain_failure(error, call, target)
    if watch is not None:
        yield from watch.ended(error)
    raise error


def _with_provider(answer: Any, target: Target) -> Any:
    """The answer with the mark of whoever made its turns, where there are some."""
    if all(each.provider_turn is None for each in answer.value.choices):
        return answer
    from msgspec.structs import replace

    from ..sealed import sealed

    return replace(answer, value=sealed(answer.value, target.provider))


@cache
def _call_watch() -> "type[CallWatch]":
    """What tells hooks of calls, loaded with the first that has some."""
    from .hook_calls import CallWatch

    return CallWatch


def _at_target(
    call: Call, operation: Operation[Request, Result], target: Target, attempts: list[Attempt]
) -> Steps[Done[Result] | NextModel | GiveUp]:
    """Ask one model, as often as it makes sense."""
    circuit, clock = target.state.circuit, call.clocks.clock
    next_model = target is not call.targets[-1]
    waits = call.waits or next_model  # another one can take over at once
    if waits and (closed_for := circuit.closed_for(clock())) is not None:
        return _decided(circuit_open(target, closed_for), next_model)
    try:
        request = yield from operation.prepare(call, target)
    except AgoutiError as error:
        return _decided(error, next_model)
    tried = _Tried()
    further_keys = further_headers(call, target)
    while True:
        attempted = yield from attempt(call, operation, target, request, attempts, further_keys)
        outcome = attempted.outcome
        _note(attempts, target, attempted, tried.waited)
        other_key = learn(attempted, target, call.clocks.now())
        decision = decide(
            outcome,
            _situation(call, operation, target, request, outcome, tried, attempted.seconds, other_key, next_model),
        )
        if not isinstance(decision, Retry):
            if isinstance(outcome, Failed) and outcome.sent and policy_of(type(outcome.error)).opens_circuit:
                if waits:
                    circuit.failed(clock())
            elif outcome.sent if isinstance(outcome, Failed) else not outcome.answer.cached:
                circuit.succeeded()
            return decision
        if decision.wait:
            log.info("%s: waiting %.1f s before another attempt", target.model.label, decision.wait)
            yield Sleep(decision.wait)
        if decision.request is not request:
            # Another request: a provider that knows the first one must not take them for one.
            further_keys = further_headers(call, target)
        request = decision.request
        tried.note_retry(decision)


_NOT_ASKED = (RequestError, ConfigError, CredentialMissing)


def further_headers(call: Call, target: Target) -> Mapping[str, str] | None:
    """Headers of this call alone: its own, and the one by which the provider knows a repeated request again."""
    name, call_headers = target.provider.entry.idempotency_header, call.headers
    if not name and not call_headers:
        return None
    headers = dict(call_headers or {})
    if target.provider is not call.targets[0].provider:
        # A secret that was meant for the first provider is not for the next.
        headers = {name: value for name, value in headers.items() if not isinstance(value, SecretText)}
    if name:
        headers.setdefault(name.lower(), urandom(16).hex())
    return headers


class _Tried:
    """What has been tried at one model."""

    def __init__(self) -> None:
        self.repeats = 0
        self.other_keys = 0
        self.was_reused = False
        self.waited = 0.0

    def note_retry(self, decision: Retry[Request]) -> None:
        self.waited = decision.wait
        self.repeats += decision.why == "policy"
        self.other_keys += decision.why == "other key"
        self.was_reused = self.was_reused or decision.why == "kept connection"


def _situation(
    call: Call,
    operation: Operation[Request, Result],
    target: Target,
    request: Request,
    outcome: "Answered[Result] | Failed",
    tried: _Tried,
    seconds: float,
    other_key: bool,
    next_model: bool,
) -> Situation[Request]:
    if isinstance(outcome, Answered):
        return _ANSWERED
    provider = target.provider
    return Situation(
        request=request,
        repeats=tried.repeats,
        retries=retries_of(call, target),
        was_reused=provider.answered and not tried.was_reused,
        seconds=seconds,
        other_key=other_key and tried.other_keys < provider.keys.count,
        reduced=operation.reduced(outcome.error, request, target) if outcome.sent else None,
        next_model=next_model,
        waits=call.waits or next_model,
        chance=call.clocks.chance(),
        left=call.left(),
    )


_ANSWERED: Situation[Any] = Situation(request=None)


def _decided(error: AgoutiError, next_model: bool) -> NextModel | GiveUp:
    """What follows from an error before any attempt."""
    return NextModel(error) if next_model and lets_next(error) else GiveUp(error)


def _note(attempts: list[Attempt], target: Target, attempted: Attempted[Result], waited: float) -> None:
    """Write down an attempt, if a request went out."""
    outcome = attempted.outcome
    if isinstance(outcome, Answered):
        error, status = None, outcome.answer.status
        if outcome.answer.cached:
            attempts.append(Attempt(provider=target.provider.label, model=target.model.name, outcome="cached"))
            return
    elif outcome.sent:
        error, status = outcome.error, outcome.error.status or 0
    else:
        return
    attempts.append(
        Attempt(
            provider=target.provider.label,
            model=target.model.name,
            outcome="answered" if error is None else type(error).__name__,
            status=status or None,
            seconds=attempted.seconds,
            waited=waited + attempted.waited,
            why="" if error is None else error.message,
        )
    )
