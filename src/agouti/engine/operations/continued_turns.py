"""Turns that a provider interrupts (its own tools take long): they are sent back as they stand until they end."""

from collections.abc import Callable

from msgspec.structs import replace

from ...core.canonical.chat import Completion, Message, Request, is_unfinished
from ...core.messages.joined_turns import joined
from ...core.messages.messages import reply_message
from ..attempts.call_loop import Exchanged, exchange
from ..call import Call, Shape
from ..effects import Steps
from ..operation import Operation
from ..providers.provider import Target
from ..receiving.accumulate import ReplyAccumulator

# So many replies make a turn at most: a provider that never comes to an end is not asked for ever.
_MAX_TURNS = 10


class _Continuation:
    """Makes more of a request: what the turn has said up to now."""

    def __init__(self, shape: Shape | None) -> None:
        self._shape = shape
        self.history: list[Message] = []

    def __call__(self, request: Request, target: Target) -> Request:
        if self._shape is not None:
            request = self._shape(request, target)
        return replace(request, messages=(*request.messages, *self.history))


def continued(
    call: Call,
    exchanged: Exchanged[Completion],
    shape: Shape | None,
    ask_for: Callable[[Shape], Operation[Request, Completion]],
    accumulator: ReplyAccumulator | None = None,
) -> Steps[Exchanged[Completion]]:
    """Go on with a turn until it ends, at the model that began it; ends with all of it as one.

    Args:
        ask_for: makes the operation that asks for more, of what the turn has said up to now.
        accumulator: its replies come as streams, and are put together here.
    """
    continuation = _Continuation(shape)
    # Nobody else can go on with it, and what is said already is paid for: to ask anew would pay it again.
    call = replace(call, targets=(exchanged.target,), waits=True)
    attempts, joined_completion = exchanged.attempts, exchanged.answer.value
    latest = joined_completion
    for _ in range(_MAX_TURNS):
        continuation.history.append(reply_message(latest.choices[0]))
        if accumulator is not None:
            accumulator.before = joined_completion
        exchanged = yield from exchange(call, ask_for(continuation))
        latest = exchanged.answer.value
        attempts = (*attempts, *exchanged.attempts)
        joined_completion = joined(joined_completion, latest)
        if not is_unfinished(latest):
            break
    # Several bodies are no body: what they say together is in the value.
    answer = replace(exchanged.answer, value=joined_completion, body=b"")
    return replace(exchanged, answer=answer, attempts=attempts)
