"""Chat, streamed: a question asked of a model, its answer in pieces as they come."""

from ...core.canonical.chat import Completion, Request, is_unfinished
from ...core.canonical.events import Event
from ...core.canonical.usage import Usage
from ...dialects.registry import DEFAULT
from ...replies.reply import Reply
from ..attempts.call_loop import exchange
from ..call import Call, Shape
from ..effects import Emit, Steps
from ..operation import CachedContext, Try
from ..outcome import Answer, Answered, AttemptOutcome
from ..providers.provider import Target
from ..question import Question
from ..receiving.accumulate import ReplyAccumulator, as_events
from ..receiving.stream import receive_stream
from .chat import Chat, reply_of

CANONICAL = DEFAULT
"""What `ChatStreamed` calls the canonical form, for callers who want it as it came."""


class ChatStreamed(Chat):
    """A question, answered in pieces.

    Args:
        accumulator: the reply as far as it has come; the caller can look at it at any moment.
        verbatim: what comes in this format comes as it is, too.

    Attributes:
        pending: events of an answer that has not begun yet.
    """

    def __init__(
        self, question: Question, accumulator: ReplyAccumulator, shape: Shape | None = None, *, verbatim: str = ""
    ) -> None:
        super().__init__(question, shape)
        self.accumulator = accumulator
        self.verbatim = verbatim
        self.pending: list[Event] = []

    def let_go(self) -> list[Event]:
        """The events that were held back; none is any more."""
        pending, self.pending = self.pending, []
        return pending

    def passes(self, target: Target) -> bool:
        """Whether what a model's provider sends goes through as it came, for a caller who speaks its format."""
        dialect = target.provider.dialect
        form = CANONICAL if dialect.abilities.canonical else dialect.name
        # What is taken apart does not go through.
        return self.verbatim == form and not target.model.reasoning_tag

    def receive(self, context: Try[Request, Completion]) -> Steps[AttemptOutcome[Completion]]:
        self.accumulator.begin(context.target, context.call.started, context.attempts)
        self.pending = []
        return receive_stream(context, self)

    def receive_cached(self, value: Completion, context: CachedContext) -> Steps[Answered[Completion]]:
        self.accumulator.begin(context.target, context.call.started, context.attempts)
        events = as_events(value)
        self.accumulator.add(events, context.call.clocks.clock)
        yield Emit(events)
        return Answered(Answer(self.accumulator.completion(), 0, {}, cached=True))

    def first_token(self) -> float | None:
        return self.accumulator.first_token

    def partial(self) -> Completion | None:
        return self.accumulator.completion()

    def partial_usage(self) -> Usage | None:
        return self.accumulator.usage


def stream(
    call: Call, accumulator: ReplyAccumulator, shape: Shape | None = None, *, verbatim: str = ""
) -> Steps[Reply]:
    """Emit the events of the reply as they come; ends with the whole reply."""
    accumulator.before = None
    operation = ChatStreamed(call.question, accumulator, shape, verbatim=verbatim)
    exchanged = yield from exchange(call, operation)
    # Who gets the provider's own bytes sees that the turn goes on, and sends it back.
    if is_unfinished(exchanged.answer.value) and not operation.passes(exchanged.target):
        from .continued_turns import continued

        def ask_for(shape: Shape) -> ChatStreamed:
            return ChatStreamed(call.question, accumulator, shape, verbatim=verbatim)

        exchanged = yield from continued(call, exchanged, shape, ask_for, accumulator)
        accumulator.before = None
    return reply_of(call, exchanged, accumulator.first_token)
