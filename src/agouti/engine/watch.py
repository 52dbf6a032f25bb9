"""Hooks told of attempts and calls: each that has let one through is told once how it ended."""

import logging
from collections.abc import Callable
from functools import partial
from typing import Any

from ..core.errors import AgoutiError
from ..core.usage import Usage
from .call import Call
from .effects import OnAbandon, Settled, Steps
from .hooks import AttemptDetails, AttemptResult, CallResult, Hook
from .operation import Operation
from .outcome import Answered, AttemptOutcome
from .provider import Target

log = logging.getLogger("agouti.hooks")


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
        )

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

    def ended(self, outcome: AttemptOutcome[Any], seconds: float) -> Steps[None]:
        """Tell those that have let it through how it ended."""
        yield Settled(self._undo)
        if isinstance(outcome, Answered):
            answer = outcome.answer
            usage = self._operation.usage(answer.value)
            result = AttemptResult(
                attempt=self._details,
                outcome="answered",
                status=answer.status,
                headers=answer.headers,
                usage=usage,
                cost=self._cost(usage),
                seconds=seconds,
                first_token=self._operation.first_token(),
            )
        else:
            result = self._unfinished(
                error=outcome.error, seconds=seconds, status=outcome.status or outcome.error.status
            )
        self._tell(result)

    def _abandoned(self) -> None:
        self._tell(self._unfinished(seconds=self._call.clocks.clock() - self._began))

    def _unfinished(
        self, *, seconds: float, error: AgoutiError | None = None, status: int | None = None
    ) -> AttemptResult:
        usage = self._operation.partial_usage()
        return AttemptResult(
            attempt=self._details,
            outcome="abandoned" if error is None else "failed",
            error=error,
            status=status,
            usage=usage,
            cost=self._cost(usage),
            seconds=seconds,
            first_token=self._operation.first_token(),
        )

    def _cost(self, usage: Usage | None) -> float | None:
        return None if self._price is None or usage is None else self._price.cost(usage, images=self._images)

    def _tell(self, result: AttemptResult) -> None:
        admitted, self._admitted = self._admitted, []
        for hook in reversed(admitted):
            _quietly(partial(hook.after, result))


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
        )
        for hook in call.hooks:
            _quietly(partial(hook.end, result))


def _quietly(tell: Callable[[], None]) -> None:
    """Tell a hook something; what goes wrong in it never fails a call."""
    try:
        tell()
    except Exception:
        log.exception("a hook failed")
