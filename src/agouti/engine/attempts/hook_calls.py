"""Hooks told of attempts and calls: each that has let one through is told once how it ended."""

import logging
from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from ...core.canonical.chat import Choice, Completion
from ...core.canonical.usage import Usage
from ...core.errors import AgoutiError, ConnectionLost, DeadlineExceeded, ReplyUnreadable, RequestError, TimedOut
from ...core.messages.token_estimate import estimate_text
from ...replies.errors import StreamCut
from ..call import Call
from ..effects import OnAbandon, Settled, Steps
from ..hook_checks import is_own, sendable, steps_of
from ..hooks import AnsweringHook, AttemptDetails, AttemptResult, BrokenAnswer, CallResult, Hook, Outcome, SeeingHook
from ..operation import CachedContext, Operation
from ..outcome import Answered, AttemptOutcome, Failed
from ..outgoing import OutgoingRequest
from ..providers.provider import Target
from .credentials import credential_for, settings_for
from .time_limits import own_timeouts

if TYPE_CHECKING:
    from ...credentials.credential import Credential

log = logging.getLogger("agouti.hooks")
# What goes wrong in a hook never fails a call.
_BROKEN = "a hook failed"
_NO_HEADERS: Mapping[str, str] = {}


class Watch:
    """The hooks of one attempt.

    Attributes:
        outgoing: the request as it goes out.
    """

    def __init__(
        self,
        call: Call,
        operation: Operation[Any, Any],
        target: Target,
        number: int,
        started_at: float,
        request: object = None,
    ) -> None:
        self._call = call
        self._operation = operation
        self._target = target
        self._price = target.price
        self._credential: Credential | None = None
        self._started_at = started_at
        self._sent = False
        self._admitted: list[Hook] = []
        self._undo: OnAbandon | None = None
        # To ask a protocol for its instances takes ten times as long as to look at the classes.
        answering_hooks: list[Any] = [hook for hook in call.hooks if AnsweringHook in type(hook).__mro__]
        self._scripted: Any = next((each for each in answering_hooks if each.stands_in), None)
        self._answering_hooks = answering_hooks if self._scripted is None else []
        self.outgoing = OutgoingRequest(operation, request, target)
        question = call.question
        self._details = AttemptDetails(
            operation=operation.name,
            label=call.label,
            model=target.model.label,
            name=target.model.name,
            provider=target.provider.label,
            number=number,
            question=question if question.messages else None,
            request=request,
            outgoing=self.outgoing,
            tags=question.tags,
            left=call.left(),
            takes=_longest(call, target),
            call=id(call),
            cache=call.cache,
            fits=call.fits,
            group=call.group,
        )

    @property
    def identified(self) -> bool:
        """Whether a hook wants to know whose request it is."""
        return any(each.identifies(self._details) for each in self._answering_hooks) if self._answering_hooks else False

    def identify(self, attempt_headers: Mapping[str, str] | None) -> "Steps[Credential | None]":
        """Fetch what the fingerprint is made of; the key, which is the one that the request is sent with.

        Raises:
            CredentialError: it cannot be had.
        """
        call, target = self._call, self._target
        if target.provider.sources:
            yield from settings_for(call, target)
        credential = (yield from credential_for(call, target)) if self._operation.sends_key else None
        self.outgoing.identify(credential, attempt_headers)
        return credential

    def kept(self, context: CachedContext) -> Steps[AttemptOutcome[Any] | None]:
        """The answer that a hook has, as the operation receives it; those that want to know are told."""
        for hook in self._answering_hooks:
            value = yield from steps_of(hook, hook.kept(self._details), "kept")
            if value is None:
                continue
            if isinstance(value, AgoutiError):
                return Failed(value, status=value.status)
            self._check_cached(hook, value)
            answered: Answered[Any] = yield from self._operation.receive_cached(value, context)
            if hook.caches:
                self._notify_cached(answered.answer.value)
                return answered
            return Answered(replace(answered.answer, status=200, cached=False))
        return None

    def _check_cached(self, hook: Hook, value: object) -> None:
        if self._operation.name == "chat" and not isinstance(value, Completion):
            raise RequestError(
                f"kept of the hook {type(hook).__name__} gave a {type(value).__name__}",
                hint="It gives an agouti.core.canonical.chat.Completion, an AgoutiError, or None to ask the provider.",
            )

    def _notify_cached(self, value: object) -> None:
        seconds = self._call.clocks.clock() - self._started_at
        result = self._result("cached", Usage(0, 0, 0), seconds=seconds, answer=value)
        result = replace(result, exact_cost=Decimal(0), cost=0.0, sent=False)
        for hook in self._call.hooks:
            if isinstance(hook, SeeingHook):
                try:
                    hook.cached(result)
                except Exception:
                    log.exception(_BROKEN)

    def admit(self) -> Steps[None]:
        """Let every hook have its say; it may wait.

        Raises:
            AgoutiError: one of them refuses.
        """
        self._undo = undo = OnAbandon(self._abandoned)
        yield undo
        for hook in self._call.hooks:
            if self._scripted is not None and is_own(hook):
                continue  # a script counts in no ledger, no budget and no limit
            waits = hook.before(self._details)
            if waits is not None:
                yield from waits if is_own(hook) else steps_of(hook, waits)
            self._admitted.append(hook)

    @property
    def scripted(self) -> bool:
        """Whether a script stands for the provider: it answers where the request would go out."""
        return self._scripted is not None

    def says(self, context: CachedContext) -> Steps[AttemptOutcome[Any]]:
        """What the script says, once the application's own hooks have had their say."""
        self.sends(None)
        value: Any = yield from self._scripted.kept(self._details)
        if isinstance(value, AgoutiError):
            return Failed(value, status=value.status)
        if isinstance(value, BrokenAnswer):
            accumulator: Any = getattr(self._operation, "accumulator", None)
            if accumulator is not None:  # what came of a stream is the caller's
                yield from self._operation.receive_cached(value.answer, context)
                value.error.with_context(partial=accumulator.reply())
            return Failed(value.error, started=True)
        answered: Answered[Any] = yield from self._operation.receive_cached(value, context)
        return Answered(replace(answered.answer, status=200, cached=False))

    def sends(self, credential: "Credential | None") -> dict[str, str]:
        """The request goes out now, with this key; the headers that hooks add."""
        self._credential = credential
        self._sent, self._started_at = True, self._call.clocks.clock()
        headers: dict[str, str] = {}
        for hook in self._admitted:
            sending: Callable[[AttemptDetails], Mapping[str, str] | None] | None = getattr(hook, "sending", None)
            if sending is None:
                continue
            try:
                headers.update(sendable(sending(self._details) or {}))
            except Exception:
                log.exception(_BROKEN)
        return headers

    @property
    def connected(self) -> Callable[[], None] | None:
        """What is to be called when there is a connection; `None` where no hook wants to know."""
        observers = [each for hook in self._admitted if (each := getattr(hook, "connected", None)) is not None]
        if not observers:
            return None

        def connected() -> None:
            for each in observers:
                each(self._details)

        return connected

    def ended(self, outcome: AttemptOutcome[Any], seconds: float) -> Steps[None]:
        """Tell those that have let it through how it ended."""
        undo, self._undo = self._undo, None  # each holds the other: what is left over would wait for the collector
        if undo is not None:
            yield Settled(undo)
        if isinstance(outcome, Answered):
            answer = outcome.answer
            usage = self._operation.usage(answer.value)
            self._learn(usage)
            usage, estimated = self._final_usage(usage, answer.value)
            result = self._result(
                "answered",
                usage,
                seconds=seconds,
                status=answer.status,
                headers=answer.headers,
                estimated=estimated,
                answer=answer.value,
                body=answer.body,
            )
        else:
            status = outcome.status or outcome.error.status
            usage, estimated = self._partial_usage() if outcome.sent else (None, False)
            free = not outcome.sent or (usage is None and did_no_work(outcome.error, status))
            result = self._result(
                "failed",
                usage,
                seconds=seconds,
                status=status,
                headers=outcome.headers or _NO_HEADERS,
                error=outcome.error,
                estimated=estimated,
            )
            if free:
                result = replace(result, exact_cost=Decimal(0), cost=0.0)
        self._notify(result)

    def _learn(self, usage: Usage | None) -> None:
        """Compare what the provider has counted with what was expected."""
        state = self._target.state
        if usage is None or not self.outgoing.paid or not state.learns:
            return
        if usage.input_tokens:
            state.tokens.learn(self.outgoing.estimated, usage.input_tokens)
        if usage.output_tokens and self._operation.name == "chat" and self.outgoing.caps.output_tokens is None:
            state.answers.learn(usage.output_tokens // self.outgoing.caps.answers)

    def _final_usage(self, usage: Usage | None, value: object) -> tuple[Usage | None, bool]:
        """The tokens of a whole answer: as told, or estimated where the provider tells none."""
        if (usage is not None and usage.output_tokens is not None) or not isinstance(value, Completion):
            return usage, False
        input_tokens = (
            usage.input_tokens if usage is not None and usage.input_tokens is not None else self.outgoing.expected
        )
        out = sum(map(_tokens_of, value.choices))
        return Usage(input_tokens, out, input_tokens + out), True

    def _abandoned(self) -> None:
        usage, estimated = self._partial_usage() if self._sent else (Usage(0, 0, 0), False)
        seconds = self._call.clocks.clock() - self._started_at
        self._notify(self._result("abandoned", usage, seconds=seconds, estimated=estimated))

    def _partial_usage(self) -> tuple[Usage | None, bool]:
        """The tokens of a reply that did not come to its end: never fewer than what had come.

        Counts that were told in the middle are those of that moment, and some formats begin with a count of nothing.
        """
        observers, partial = self._operation.partial_usage(), self._operation.partial()
        out = 0 if partial is None else sum(map(_tokens_of, partial.choices))
        if not out:
            return (observers if observers is not None and observers.output_tokens else None), False
        if observers is not None and observers.output_tokens is not None and observers.output_tokens >= out:
            return observers, False
        input_tokens = (
            observers.input_tokens if observers is not None and observers.input_tokens else self.outgoing.expected
        )
        counted = Usage(input_tokens=input_tokens, output_tokens=out, total_tokens=input_tokens + out)
        if observers is not None:
            counted = replace(
                counted, cached_tokens=observers.cached_tokens, cache_write_tokens=observers.cache_write_tokens
            )
        return replace(counted, reasoning_tokens=_thought(partial)), True

    def _result(
        self,
        outcome: Outcome,
        usage: Usage | None,
        *,
        seconds: float,
        status: int | None = None,
        headers: Mapping[str, str] = _NO_HEADERS,
        error: AgoutiError | None = None,
        estimated: bool = False,
        answer: object = None,
        body: bytes = b"",
    ) -> AttemptResult:
        price = self._price
        exact = None
        if not self.outgoing.paid:
            exact = Decimal(0)
        elif price is not None and usage is not None:
            exact = price.exact(usage, images=self.outgoing.images if price.image else 0)
        return AttemptResult(
            attempt=self._details,
            outcome=outcome,
            error=error,
            status=status,
            headers=headers,
            usage=usage,
            sent=self._sent,
            cost=None if exact is None else float(exact),
            exact_cost=exact,
            currency="" if price is None else price.currency,
            estimated=estimated,
            key="" if self._credential is None else self._credential.fingerprint,
            seconds=seconds,
            first_token=self._operation.first_token(),
            answer=answer,
            body=body,
        )

    def _notify(self, result: AttemptResult) -> None:
        admitted, self._admitted = self._admitted, []
        for hook in reversed(admitted):
            try:
                hook.after(result)
            except Exception:
                log.exception(_BROKEN)


def _longest(call: Call, target: Target) -> float:
    """Seconds that an attempt may take: its own limit, and its turns in the limits of model and provider."""
    limits = (target.model.limits, target.provider.entry.limits)
    longest = own_timeouts(call, target).total
    for each in limits:
        if each is not None:
            longest += each.wait
    remaining = call.left()
    return longest if remaining is None else min(longest, max(remaining, 0.0))


# Statuses by which a server says that it gave up waiting for another one, which may be at work still.
_GATEWAY = frozenset({408, 499, 504, 522, 524})
_NO_WORD = (StreamCut, ReplyUnreadable, DeadlineExceeded, ConnectionLost)


def did_no_work(error: AgoutiError, status: int | None) -> bool:
    """Whether a failure says that the provider has done no work: it has refused, or said itself that it failed."""
    if isinstance(error, TimedOut):
        return error.phase == "connect"
    return not isinstance(error, _NO_WORD) and status not in _GATEWAY


def _tokens_of(choice: Choice) -> int:
    """The tokens of an answer, or of what came of it: text, thinking, refusal, arguments."""
    calls = sum(
        estimate_text(f"{call.function.name or ''}{call.function.arguments or ''}") for call in choice.tool_calls
    )
    return sum(map(estimate_text, (choice.text, choice.reasoning or "", choice.refusal or ""))) + calls


def _thought(partial: Completion | None) -> int | None:
    """The tokens of the thinking that came; `None` where none did."""
    thought = sum(estimate_text(each.reasoning or "") for each in partial.choices) if partial is not None else 0
    return thought or None


class CallWatch:
    """The hooks of one call."""

    def __init__(self, call: Call, operation: Operation[Any, Any]) -> None:
        self._call = call
        self._operation = operation
        self._undo: OnAbandon | None = None
        self.attempts = 0

    def begin(self) -> Steps[None]:
        """From here on the hooks will be told how the call ends."""
        self._undo = undo = OnAbandon(self._abandoned)
        yield undo

    def ended(self, error: AgoutiError | None) -> Steps[None]:
        """The call has ended."""
        undo, self._undo = self._undo, None
        if undo is not None:
            yield Settled(undo)
        self._notify(error, abandoned=False)

    def _abandoned(self) -> None:
        self._notify(None, abandoned=True)

    def _notify(self, error: AgoutiError | None, *, abandoned: bool) -> None:
        call = self._call
        result = CallResult(
            label=call.label,
            operation=self._operation.name,
            outcome="abandoned" if abandoned else "answered" if error is None else "failed",
            error=error,
            attempts=self.attempts,
            seconds=call.clocks.clock() - call.started,
            tags=call.question.tags,
            call=id(call),
        )
        for hook in call.hooks:
            try:
                hook.end(result)
            except Exception:
                log.exception(_BROKEN)
