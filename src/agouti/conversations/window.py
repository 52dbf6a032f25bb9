"""The part of a conversation that is sent: what fits into the model's context window."""

from collections.abc import Callable, Iterable, Mapping
from functools import partial
from typing import TYPE_CHECKING, Any

from ..core.canonical.chat import Json, Message
from ..core.errors import ContextOverflow, RequestError
from ..core.messages.context_window import fitting
from ..core.messages.messages import messages_of
from ..core.messages.token_estimate import estimate_message
from ..engine.call import Call, request_for
from ..engine.effects import RunCallable, Steps
from ..engine.operations.chat import Chat, expressible
from ..engine.outgoing import OutgoingRequest, expected_of

if TYPE_CHECKING:
    from ..replies.reply import Reply

# Kept for an answer that has no cap of its own, at most: a quarter of the window.
_ANSWER = 1024
# When the window is full, so much of it is used again: providers keep what begins alike, until it changes once more.
_USED = 0.8


class ContextWindow:
    """What stands for the beginning of a conversation, once that does not fit any more.

    It holds for these very messages: where one of them has been changed, taken back or put in since, it is made anew.

    Attributes:
        limit: tokens that a request may have, where the provider refused one and the entry names no ``context``.
    """

    def __init__(
        self, instead: tuple[Message, ...] = (), of: tuple[Message, ...] = (), limit: int | None = None
    ) -> None:
        self._instead = instead
        self._of = of
        self.limit = limit

    def copy(self) -> "ContextWindow":
        """The same for another conversation with the same messages."""
        return ContextWindow(self._instead, self._of, self.limit)

    def history(self, messages: list[Message]) -> list[Message]:
        """The messages that are sent of a conversation."""
        if not self._still_fits(messages):
            self._instead, self._of = (), ()
        return [*self._instead, *messages[len(self._of) :]]

    def _still_fits(self, messages: list[Message]) -> bool:
        """Whether the conversation begins still with what the window stands for."""
        start = messages[: len(self._of)]
        return len(start) == len(self._of) and all(
            one is before or one == before for one, before in zip(start, self._of, strict=True)
        )

    def dropped(self, messages: list[Message]) -> list[Message]:
        """Those of the messages that are not sent."""
        if not self._still_fits(messages):
            return []
        kept_ids = {id(message) for message in self._instead}
        return [each for each, original in zip(messages, self._of, strict=False) if id(original) not in kept_ids]

    def fitted(
        self,
        history: list[Message],
        call: Call,
        fit: "str | Callable[[list[Message], int], Any]",
    ) -> Steps[list[Message]]:
        """As much of the history as goes with what is said now, the question of the call.

        Raises:
            ContextOverflow: it does not fit, and nothing is to be dropped; or what is said now is too long by itself.
        """
        target = call.targets[0]
        context, ratio = self._context(call), target.state.tokens
        if context is None:
            return history
        around = ratio.of(expected_of(request_for(call.question, target)))  # all but the history
        answer = _cap(call) or min(context // 4, _ANSWER)
        room = context - answer - around
        estimated = sum(ratio.of(estimate_message(message)) for message in history)
        if estimated <= room:
            return history
        if fit == "error" or around > context:
            raise ContextOverflow(
                f"{call.label}: the conversation has about {around + estimated} tokens and its answer up to {answer}; "
                f"the context window has {context}",
                hint='Pass on_overflow="drop_oldest" to go on without the oldest turns, or say less at once.'
                if fit == "error"
                else "Say less at once, or take a model with a larger context.",
                model=call.label,
                provider=target.provider.label,
            )
        if callable(fit):
            replaced = yield RunCallable(partial(_list_of, fit, list(history), max(room, 0)), call.left())
            kept_ids = _messages(replaced)
        else:
            kept_ids = fitting(history, ratio, int((context - answer) * _USED) - around)
        self._now(kept_ids, history)
        return kept_ids

    def _now(self, kept_ids: list[Message], history: list[Message]) -> None:
        """From now on these stand for the history that there is."""
        self._of = (*self._of, *history[len(self._instead) :])
        self._instead = tuple(kept_ids)

    def narrowed(self, history: list[Message], call: Call) -> bool:
        """The provider has refused a request as too long: allow the next one a fifth less, if there is less to send."""
        if not history:
            return False
        ratio = call.targets[0].state.tokens
        sent = sum(ratio.of(estimate_message(message)) for message in history)
        sent += ratio.of(expected_of(request_for(call.question, call.targets[0])))
        answer = _cap(call)
        context = self._context(call)
        if answer is None:
            answer = min((context or sent) // 4, _ANSWER)
        self.limit = int(min(sent + answer, context or sent + answer) * _USED)
        return True

    def _context(self, call: Call) -> int | None:
        contexts = [each for each in (self.limit, call.targets[0].model.context) if each is not None]
        return min(contexts) if contexts else None

    @staticmethod
    def learn(call: Call, reply: "Reply") -> None:
        """Compare the estimate of a request with the tokens that the provider has counted."""
        target, counted = call.targets[0], reply.usage.input_tokens
        if counted is not None and reply.attempts and reply.attempts[-1].model == target.model.name:
            target.state.tokens.learn(expected_of(request_for(call.question, target)), counted)


def _cap(call: Call) -> int | None:
    """The cap on the tokens of the answer, where the request that goes out has one."""
    target = call.targets[0]
    request = expressible(request_for(call.question, target), target)
    return OutgoingRequest(Chat(call.question), request, target).caps.output_tokens


def _messages(value: object) -> list[Message]:
    """What the application's own function gave, as messages.

    Raises:
        RequestError: it is something else.
    """
    if isinstance(value, (str, bytes, Mapping)) or not isinstance(value, Iterable):
        raise RequestError(
            f"on_overflow gave a {type(value).__name__}",
            hint="It gives a list of messages: what is to be sent of the history.",
        )
    return list(messages_of(list(value)))


def _list_of(
    fit: Callable[[list[Message], int], Iterable[Message | Mapping[str, Json]]], history: list[Message], room: int
) -> Any:
    """What the application's own function gives; a coroutine is awaited by whoever runs it."""
    return fit(history, room)
