"""A conversation: what has been said is kept, tools are run, and nothing is lost when a turn fails."""

from collections.abc import Callable, Iterable, Mapping
from threading import Lock
from typing import TYPE_CHECKING, Unpack, cast

from .arguments import limits_of, split_tools
from .core.chat import Json, Message
from .core.errors import AgoutiError, RequestError
from .core.messages import messages_of, with_parts
from .core.prompt import Prompt, prompt_messages
from .core.usage import Usage, total_cost, total_usage
from .engine.accumulate import ReplyAccumulator
from .engine.question import media_parts, question_of
from .reply import Reply
from .streams import AsyncStream, Stream

if TYPE_CHECKING:
    from .calls import Calls
    from .engine.drive import SyncDriver
    from .engine.drive_async import AsyncDriver
    from .engine.effects import Steps
    from .options import AskOptions


class _Conversation:
    """What both kinds share: the history, and how a turn becomes a part of it."""

    def __init__(
        self, calls: "Calls", model: str, before: Iterable[Message | Mapping[str, Json]], options: "AskOptions"
    ) -> None:
        # What is wrong with the options is said now, not at the first turn.
        plain = split_tools(options)[0]
        question_of("...", plain)
        limits_of(plain)
        self._calls = calls
        self._model = model
        self._options = options
        self.messages: list[Message] = list(messages_of(list(before)))
        self.replies: list[Reply] = []
        self._lock = Lock()
        self._left: tuple[list[Message], ReplyAccumulator] | None = None

    def keep(self) -> Reply | None:
        """Keep the turn of a stream that was stopped: the question, and what had come of the answer.

        Returns:
            The unfinished reply; `None` where the last turn came to its end, or failed before a first piece.
        """
        left, self._left = self._left, None
        if left is None:
            return None
        said, so_far = left
        reply = so_far.reply()
        if not reply.text:
            return None
        self.messages += [*said, Message("assistant", reply.text)]
        self.replies.append(reply)
        return reply

    @property
    def usage(self) -> Usage:
        """Token counts of all replies together, those that only called functions included."""
        return total_usage(reply.usage for reply in self.replies)

    @property
    def cost(self) -> float | None:
        """What all replies together cost; `None` where that is not known."""
        return total_cost(reply.cost for reply in self.replies)

    def _turn(self, prompt: "Prompt", options: "AskOptions", so_far: ReplyAccumulator | None) -> "Steps[Reply]":
        """Steps of one turn; the history has it when it is done, and not before."""
        merged = {**self._options, **options}
        said = prompt_messages(prompt)
        for name in ("images", "files"):
            if parts := media_parts(name, merged.pop(name, None)):
                said = with_parts(said, parts)
        messages = [*self.messages, *said]
        loop = self._calls.tool_loop(self._model, messages, cast("AskOptions", merged), stream=so_far is not None)

        def steps() -> "Steps[Reply]":
            if not self._lock.acquire(blocking=False):
                raise RequestError(
                    "this conversation is in the middle of a turn",
                    hint="Wait for its end, or close its stream; two talks at once are two conversations.",
                )
            try:
                self._left = (list(said), so_far) if so_far is not None else None
                done = yield from loop.steps(so_far)
            except AgoutiError:
                self.replies += loop.replies  # paid for, although nothing came of them
                raise
            finally:
                self._lock.release()
            self._left = None
            self.messages += [*said, *done.messages]
            self.replies += done.replies
            return done.reply

        return steps()

    def __repr__(self) -> str:
        return f"{type(self).__name__}({self._model!r}, {len(self.messages)} messages)"


class Conversation(_Conversation):
    """A conversation with a model; made by `Client.conversation`.

    Attributes:
        messages: what has been said: the user's words, the model's, its tool calls and their results. The system text
            is not among them. A list of `Message`; give it to another conversation to go on from there.
        replies: every reply, in order.

    Example:
        >>> import agouti, agouti.standins
        >>> def days_to_frost(place: str) -> int:
        ...     '''Days until the last frost.'''
        ...     return 17
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     talk = client.conversation("almanac", tools=[days_to_frost])
        ...     print(talk.say("How many days until the last frost at Marsh Lane?"))
        ...     [message.role for message in talk.messages]
        The answer is 17.
        ['user', 'assistant', 'tool', 'assistant']
    """

    def __init__(
        self,
        calls: "Calls",
        drive: "Callable[[Steps[Reply]], SyncDriver[Reply]]",
        model: str,
        before: Iterable[Message | Mapping[str, Json]],
        options: "AskOptions",
    ) -> None:
        super().__init__(calls, model, before, options)
        self._drive = drive

    def say(self, prompt: "Prompt", **options: "Unpack[AskOptions]") -> Reply:
        """Say something, and wait for the answer.

        Args:
            prompt: as for `Client.ask`.
            options: as for `Client.ask`; they hold for this turn only.

        Raises:
            AgoutiError: the turn failed; ``messages`` are as before it, so that it can be said again.
        """
        driver = self._drive(self._turn(prompt, options, None))
        driver.advance()
        return driver.result

    def stream(self, prompt: "Prompt", **options: "Unpack[AskOptions]") -> Stream:
        """Say something, and get the answer as it comes; the text before a call of a function comes too."""
        so_far = ReplyAccumulator()
        return Stream(self._drive(self._turn(prompt, options, so_far)), so_far)


class AsyncConversation(_Conversation):
    """`Conversation` for asyncio; made by `AsyncClient.conversation`. Functions may be coroutines."""

    def __init__(
        self,
        calls: "Calls",
        drive: "Callable[[Steps[Reply]], AsyncDriver[Reply]]",
        model: str,
        before: Iterable[Message | Mapping[str, Json]],
        options: "AskOptions",
    ) -> None:
        super().__init__(calls, model, before, options)
        self._drive = drive

    async def say(self, prompt: "Prompt", **options: "Unpack[AskOptions]") -> Reply:
        """Say something, and wait for the answer; as `Conversation.say`."""
        driver = self._drive(self._turn(prompt, options, None))
        await driver.advance()
        return driver.result

    def stream(self, prompt: "Prompt", **options: "Unpack[AskOptions]") -> AsyncStream:
        """Say something, and get the answer as it comes; as `Conversation.stream`."""
        so_far = ReplyAccumulator()
        return AsyncStream(self._drive(self._turn(prompt, options, so_far)), so_far)
