"""Turns that a provider interrupts (its own tools take long): they are sent back as they stand until they end."""

from collections.abc import Callable

from msgspec.structs import replace

from ...core.canonical.chat import Completion, Message, Request, is_unfinished
from ...core.messages.joined_turns import joined
from ...core.messages.messages import said
from ..attempts.call_loop import Exchanged, exchange
from ..call import Call, Shape
from ..effects import Steps
from ..operation import Operation
from ..providers.provider import Target
from ..receiving.accumulate import ReplyAccumulator

# So many replies make a turn at most: a provider that never comes to an end is not asked for ever.
_MOST = 10


class _Further:
    """Makes more of a request: what the turn has said up to now."""

    def __init__(self, shape: Shape | None) -> None:
        self._shape = shape
        self.said: list[Message] = []

    def __call__(self, request: Request, target: Target) -> Request:
        if self._shape is not None:
            request = self._shape(request, target)
        return replace(request, messages=(*request.messages, *self.said))


def continued(
    call: Call,
    exchanged: Exchanged[Completion],
    shape: Shape | None,
    ask_for: Callable[[Shape], Operation[Request, Completion]],
    so_far: ReplyAccumulator | None = None,
) -> Steps[Exchanged[Completion]]:
    """Go on with a turn until it ends, at the model that began it; ends with all of it as one.

    Args:
        ask_for: makes the operation that asks for more, of what the turn has said up to now.
        so_far: its replies come as streams, and are put together here.
    """
    further = _Further(shape)
    # Nobody else can go on with it, and what is said already is paid for: to ask anew would pay it again.
    call = replace(call, targets=(exchanged.target,), waits=True)
    attempts, whole = exchanged.attempts, exchanged.answer.value
    latest = whole
    for _ in range(_MOST):
        further.said.append(said(latest.choices[0]))
        if so_far is not None:
            so_far.before = whole
        exchanged = yield from exchange(call, ask_for(further))
        latest = exchanged.answer.value
        attempts = (*attempts, *exchanged.attempts)
        whole = joined(whole, latest)
        if not is_unfinished(latest):
            break
    # Several bodies are no body: what they say together is in the value.
    answer = replace(exchanged.answer, value=whole, body=b"")
    return replace(exchanged, answer=answer, attempts=attempts)
