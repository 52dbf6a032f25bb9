"""Turns that a provider interrupts (its own tools take long): they are sent back as they stand until they end."""

from msgspec.structs import replace

from ...core.chat import Completion, Message, Request
from ...core.messages import said
from ...core.turns import joined
from ..accumulate import ReplyAccumulator
from ..call import Call
from ..effects import Steps
from ..exchange import Exchanged, exchange
from ..provider import Target
from .chat import Chat, Shape, is_unfinished
from .chat_streamed import ChatStreamed

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
    so_far: ReplyAccumulator | None = None,
    *,
    verbatim: str = "",
) -> Steps[Exchanged[Completion]]:
    """Go on with a turn until it ends, at the model that began it; ends with all of it as one.

    Args:
        so_far: its replies come as streams, and are put together here.
    """
    further = _Further(shape)
    # Nobody else can go on with it, and what is said already is paid for: to ask anew would pay it again.
    call = replace(call, targets=(exchanged.target,), waits=True)
    attempts, whole = exchanged.attempts, exchanged.answer.value
    latest = whole
    for _ in range(_MOST):
        further.said.append(said(latest.choices[0]))
        if so_far is None:
            exchanged = yield from exchange(call, Chat(call.question, further))
        else:
            so_far.before = whole
            exchanged = yield from exchange(call, ChatStreamed(call.question, so_far, further, verbatim=verbatim))
        latest = exchanged.answer.value
        attempts = (*attempts, *exchanged.attempts)
        whole = joined(whole, latest)
        if not is_unfinished(latest):
            break
    # Several bodies are no body: what they say together is in the value.
    answer = replace(exchanged.answer, value=whole, body=b"")
    return replace(exchanged, answer=answer, attempts=attempts)
