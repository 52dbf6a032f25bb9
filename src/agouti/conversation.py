"""A conversation: what has been said is kept, functions are run, and nothing is lost when a turn fails."""

from collections.abc import Callable, Generator, Iterable, Mapping
from typing import TYPE_CHECKING, Any, Unpack

from .core.chat import Json, Message, Usage
from .core.filled import total
from .core.parts import messages_of
from .core.prompt import Prompt, messages
from .core.reply import Reply
from .engine.calling import Rounds
from .engine.gather import Gathering
from .streams import AsyncStream, Stream

if TYPE_CHECKING:
    from .engine.drive import Run
    from .engine.drive_async import AsyncRun
    from .engine.effects import Steps
    from .options import AskOptions
    from .preparing import Preparing


class _Conversation:
    """What both kinds share: the history, and how a turn becomes a part of it."""

    def __init__(
        self, client: "Preparing", model: str, before: Iterable[Message | Mapping[str, Json]], options: "AskOptions"
    ) -> None:
        self._maker = client
        self._model = model
        self._options = options
        self.messages: list[Message] = messages_of(list(before))
        self.replies: list[Reply] = []

    @property
    def usage(self) -> Usage:
        """Token counts of all replies together, those that only called functions included."""
        return total([reply.usage for reply in self.replies])

    @property
    def cost(self) -> float | None:
        """What all replies together cost; `None` where that is not known."""
        costs = [reply.cost for reply in self.replies]
        return None if None in costs else sum(cost for cost in costs if cost is not None)

    def _turn(self, prompt: Prompt, options: "AskOptions", so_far: Gathering | None) -> Generator[Any, Any, Reply]:
        """Steps of one turn; the history has it when it is done, and not before."""
        given: Any = {**self._options, **options}
        asked = messages_of(messages(prompt, shown=_shown(given.pop("images", None))))
        rounds = self._maker._rounds(self._model, [*self.messages, *asked], given, so_far is not None)

        def steps() -> Generator[Any, Any, Reply]:
            done: Rounds = yield from rounds.steps() if so_far is None else rounds.streamed(so_far)
            self.messages += [*asked, *done.messages]
            self.replies += done.replies
            return done.reply

        return steps()

    def __repr__(self) -> str:
        return f"{type(self).__name__}({self._model!r}, {len(self.messages)} messages)"


def _shown(sources: Any) -> list[Any]:
    from .images import images

    return images(sources) if sources else []


class Conversation(_Conversation):
    """A conversation with a model; made by `Client.conversation`.

    Attributes:
        messages: what has been said: the user's words, the model's, its calls and what they gave. The system text is
            not among them. A list of `Message`; give it to another conversation to go on from there.
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
        client: "Preparing",
        start: "Callable[[Steps[Reply]], Run[Reply]]",
        model: str,
        before: Iterable[Message | Mapping[str, Json]],
        options: "AskOptions",
    ) -> None:
        super().__init__(client, model, before, options)
        self._start = start

    def say(self, prompt: Prompt, **options: "Unpack[AskOptions]") -> Reply:
        """Say something, and wait for the answer.

        Args:
            prompt: as for `Client.ask`.
            options: as for `Client.ask`; they hold for this turn only.

        Raises:
            AgoutiError: the turn failed; ``messages`` are as before it, so that it can be said again.
        """
        run = self._start(self._turn(prompt, options, None))
        run.advance()
        return run.result

    def stream(self, prompt: Prompt, **options: "Unpack[AskOptions]") -> Stream:
        """Say something, and get the answer as it comes; the text before a call of a function comes too."""
        so_far = Gathering()
        return Stream(self._start(self._turn(prompt, options, so_far)), so_far)


class AsyncConversation(_Conversation):
    """`Conversation` for asyncio; made by `AsyncClient.conversation`. Functions may be coroutines."""

    def __init__(
        self,
        client: "Preparing",
        start: "Callable[[Steps[Reply]], AsyncRun[Reply]]",
        model: str,
        before: Iterable[Message | Mapping[str, Json]],
        options: "AskOptions",
    ) -> None:
        super().__init__(client, model, before, options)
        self._start = start

    async def say(self, prompt: Prompt, **options: "Unpack[AskOptions]") -> Reply:
        """Say something, and wait for the answer; as `Conversation.say`."""
        run = self._start(self._turn(prompt, options, None))
        await run.advance()
        return run.result

    def stream(self, prompt: Prompt, **options: "Unpack[AskOptions]") -> AsyncStream:
        """Say something, and get the answer as it comes; as `Conversation.stream`."""
        so_far = Gathering()
        return AsyncStream(self._start(self._turn(prompt, options, so_far)), so_far)
