"""Hooks told of attempts and calls: each that has let one through is told once how it ended."""

import logging
from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from ..core.errors import AgoutiError
from ..core.estimate import estimate_text, expected_tokens
from ..core.usage import Usage
from .call import Call
from .effects import OnAbandon, Settled, Steps
from .hooks import AnsweringHook, AttemptDetails, AttemptResult, CallResult, Hook, Outcome, SeeingHook
from .operation import Operation
from .outcome import Answered, AttemptOutcome, Failed
from .provider import Target
from .receive import Kept

if TYPE_CHECKING:
    from ..credentials.credential import Credential

log = logging.getLogger("agouti.hooks")
# What goes wrong in a hook never fails a call.
_BROKEN = "a hook failed"
_NO_HEADERS: Mapping[str, str] = {}


class Watch:
    """The hooks of one attempt."""

    def __init__(
        self,
        call: Call,
        operation: Operation[Any, Any],
        target: Target,
        number: int,
        began: float,
        request: object = None,
    ) -> None:
        self._call = call
        self._operation = operation
        self._price = price = target.model.price_now
        self._images = 0
        self._credential: Credential | None = None
        if price is not None and price.image:
            from .operations.chat import images_of

            self._images = images_of(call.question)
        self._began = began
        self._admitted: list[Hook] = []
        self._undo = OnAbandon(self._abandoned)
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
            tags=question.tags,
            left=call.left(),
            call=id(call),
            cache=call.cache,
        )

    def kept(self, this: Kept) -> Steps[AttemptOutcome[Any] | None]:
        """The answer that a hook has, as the operation receives it; those that want to know are told."""
        for hook in self._call.hooks:
            if not isinstance(hook, AnsweringHook):
                continue
            value = yield from hook.kept(self._details)
            if value is None:
                continue
            if isinstance(value, AgoutiError):
                return Failed(value, status=value.status)
            answered: Answered[Any] = yield from self._operation.receive_kept(value, this)
            if hook.caches:
                self._tell_kept(answered.answer.value)
                return answered
            return Answered(replace(answered.answer, status=200, cached=False))
        return None

    def _tell_kept(self, value: object) -> None:
        seconds = self._call.clocks.clock() - self._began
        result = self._result("cached", Usage(0, 0, 0), seconds=seconds, answer=value)
        result = replace(result, exact_cost=Decimal(0), cost=0.0)
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
        yield self._undo
        for hook in self._call.hooks:
            waits = hook.before(self._details)
            if waits is not None:
                yield from waits
            self._admitted.append(hook)

    def sends(self, credential: "Credential | None") -> dict[str, str]:
        """The request goes out now, with this key; the headers that hooks add."""
        self._credential = credential
        headers: dict[str, str] = {}
        for hook in self._admitted:
            sending: Callable[[AttemptDetails], Mapping[str, str] | None] | None = getattr(hook, "sending", None)
            if sending is None:
                continue
            try:
                headers.update(sending(self._details) or {})
            except Exception:
                log.exception(_BROKEN)
        return headers

    def ended(self, outcome: AttemptOutcome[Any], seconds: float) -> Steps[None]:
        """Tell those that have let it through how it ended."""
        yield Settled(self._undo)
        if isinstance(outcome, Answered):
            answer = outcome.answer
            result = self._result(
                "answered",
                self._operation.usage(answer.value),
                seconds=seconds,
                status=answer.status,
                headers=answer.headers,
                answer=answer.value,
            )
        else:
            status = outcome.status or outcome.error.status
            usage, estimated = self._so_far() if outcome.sent else (None, False)
            result = self._result(
                "failed", usage, seconds=seconds, status=status, error=outcome.error, estimated=estimated
            )
        self._tell(result)

    def _abandoned(self) -> None:
        usage, estimated = self._so_far()
        seconds = self._call.clocks.clock() - self._began
        self._tell(self._result("abandoned", usage, seconds=seconds, estimated=estimated))

    def _so_far(self) -> tuple[Usage | None, bool]:
        """The tokens of a reply that did not come to its end: as told, or else estimated of what had come."""
        usage, text = self._operation.partial_usage(), self._operation.partial_text()
        if not text or (usage is not None and usage.input_tokens and usage.output_tokens):
            return usage, False
        known = None if usage is None else usage.input_tokens
        into = known if known else expected_tokens(self._details.request)[0]
        out = estimate_text(text)
        return Usage(into, out, into + out), True

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
    ) -> AttemptResult:
        price = self._price
        exact = None if price is None or usage is None else price.exact(usage, images=self._images)
        return AttemptResult(
            attempt=self._details,
            outcome=outcome,
            error=error,
            status=status,
            headers=headers,
            usage=usage,
            cost=None if exact is None else float(exact),
            exact_cost=exact,
            currency="" if price is None else price.currency,
            estimated=estimated,
            key="" if self._credential is None else self._credential.fingerprint,
            seconds=seconds,
            first_token=self._operation.first_token(),
            answer=answer,
        )

    def _tell(self, result: AttemptResult) -> None:
        admitted, self._admitted = self._admitted, []
        for hook in reversed(admitted):
            try:
                hook.after(result)
            except Exception:
                log.exception(_BROKEN)


class CallWatch:
    """The hooks of one call."""

    def __init__(self, call: Call, operation: Operation[Any, Any]) -> None:
        self._call = call
        self._operation = operation
        self._undo = OnAbandon(self._abandoned)
        self.attempts = 0

    def begin(self) -> Steps[None]:
        """From here on the hooks will be told how the call ends."""
        yield self._undo

    def ended(self, error: AgoutiError | None) -> Steps[None]:
        """The call has ended."""
        yield Settled(self._undo)
        self._tell(error, abandoned=False)

    def _abandoned(self) -> None:
        self._tell(None, abandoned=True)

    def _tell(self, error: AgoutiError | None, *, abandoned: bool) -> None:
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
