"""A conversation: what has been said is kept, tools are run, and nothing is lost when a turn fails."""

import os
from collections.abc import Awaitable, Callable, Iterable, Mapping
from threading import Lock
from typing import TYPE_CHECKING, Any, Literal, TypeAlias, Unpack, cast

from ..calls.arguments import limits_of, split_tools
from ..calls.streams import AsyncStream, Stream
from ..core.canonical.chat import Json, Message
from ..core.canonical.usage import Usage, total_cost, total_usage
from ..core.errors import AgoutiError, ContextOverflow, RequestError
from ..core.messages.context_window import last_turn, whole_turns
from ..core.messages.messages import messages_of, with_parts
from ..core.messages.prompt import Prompt, prompt_messages
from ..core.warn import warn
from ..engine.question import Question, media_parts, question_of
from ..engine.receiving.accumulate import ReplyAccumulator
from ..replies.reply import Reply
from .window import ContextWindow

if TYPE_CHECKING:
    from ..calls.calls import Calls, FilePath
    from ..calls.options import AskOptions
    from ..engine.drivers.async_driver import AsyncDriver
    from ..engine.drivers.sync_driver import SyncDriver
    from ..engine.effects import Steps
    from ..engine.operations.tool_loop import ToolLoop, ToolLoopResult


Messages: TypeAlias = Iterable[Message | Mapping[str, Json]]
Fit: TypeAlias = Literal["error", "drop_oldest"] | Callable[[list[Message], int], Messages | Awaitable[Messages]]
"""What is done about a context window that is full: see `Client.conversation`."""


class _LeftTurn:
    """A turn under way: what was said, and who asks; whoever stops it may want to keep what has come."""

    __slots__ = ("accumulator", "tool_loop", "user_messages")

    def __init__(self, user_messages: tuple[Message, ...], accumulator: ReplyAccumulator | None) -> None:
        self.user_messages = user_messages
        self.accumulator = accumulator
        self.tool_loop: ToolLoop | None = None


class _Conversation:
    """What both kinds share: the history, and how a turn becomes a part of it."""

    def __init__(
        self,
        calls: "Calls",
        model: str,
        before: "Iterable[Message | Mapping[str, Json]] | FilePath",
        fit: Fit | None,
        options: "AskOptions",
    ) -> None:
        self._calls = calls
        self._model = model
        self.warnings: tuple[str, ...] = ()
        self._unknown: dict[str, Json] = {}
        if isinstance(before, (str, os.PathLike)):
            before, options = self._from_file(before, options)
        # What is wrong with the options is said now, not at the first turn.
        chat_options = split_tools(options)[0]
        question_of("...", chat_options)
        limits_of(chat_options)
        if not (fit is None or callable(fit) or fit in ("error", "drop_oldest")):
            raise RequestError(f"on_overflow = {fit!r} is unknown", hint='Take "drop_oldest", "error" or a function.')
        self._options = options
        self._fit = fit
        self.messages: list[Message] = list(messages_of(list(before)))
        self.replies: list[Reply] = []
        self._lock = Lock()
        self._interrupted: _LeftTurn | None = None
        self._window = ContextWindow()

    def _from_file(self, path: "FilePath", options: "AskOptions") -> "tuple[list[Message], AskOptions]":
        from .files import read_conversation

        file_content = read_conversation(path)
        settings, remarks, self._unknown = file_content.settings, file_content.remarks, file_content.unknown
        try:
            question_of("...", settings)
        except RequestError as error:
            settings, remarks = (
                {},
                [*remarks, f"the settings of {path} cannot be used and are left out ({error.message})"],
            )
        self.warnings = tuple(remarks)
        for remark in remarks:
            warn(remark)
        return file_content.messages, cast("AskOptions", {**settings, **options})

    @property
    def model(self) -> str:
        """The label that is asked."""
        return self._model

    @property
    def dropped(self) -> list[Message]:
        """Messages that are not sent any more, because the context window is full; they are in ``messages`` still."""
        return self._window.dropped(self.messages)

    def save(self, path: "FilePath") -> None:
        """Keep what has been said in a file: JSON Lines of OpenAI-compatible messages, below a header line.

        The header has the label and the settings of the turns: system text, blanks, examples and parameters; no
        headers, functions or keys. ``client.conversation(label, messages=path)`` goes on from there.

        Raises:
            RequestError: it cannot be written, or the file has lines that would be lost; what was there is there still.
        """
        from .files import settings_to_keep, write_conversation

        settings = settings_to_keep(self._options)
        write_conversation(path, self._model, settings, self.messages, unknown=self._unknown)

    def undo(self) -> list[Message]:
        """Take the last turn back: the last words of the user and all that followed. What it cost stays counted.

        Returns:
            The messages that were taken back, in order; none where nothing has been said.

        Raises:
            RequestError: the conversation is in the middle of a turn.
        """
        if not self._lock.acquire(blocking=False):
            raise _in_a_turn()
        try:
            start = last_turn(self.messages)
            removed, self.messages[start:] = self.messages[start:], []
            self._interrupted = None
            return removed
        finally:
            self._lock.release()

    def keep_partial(self) -> Reply | None:
        """Keep a turn that was stopped, or failed: the question, functions that ran, and what had come of the answer.

        Rounds of functions are kept whole, the call with its result; a function that had not ended is not in them.

        Returns:
            The unfinished reply; `None` where the last turn came to its end, or failed before anything had come.

        Raises:
            RequestError: the conversation is in the middle of a turn.
        """
        if not self._lock.acquire(blocking=False):
            raise _in_a_turn()
        try:
            interrupted, self._interrupted = self._interrupted, None
            return None if interrupted is None else self._partial_of(interrupted)
        finally:
            self._lock.release()

    def _partial_of(self, interrupted: "_LeftTurn") -> Reply | None:
        added = interrupted.tool_loop.added if interrupted.tool_loop is not None else []
        replies = list(interrupted.tool_loop.replies) if interrupted.tool_loop is not None else []
        rounds = whole_turns(added)[0]
        text = ""
        if len(rounds) < len(added):  # it was stopped while a function ran: that reply is there, and its call goes
            text = replies[-1].text
        elif interrupted.accumulator is not None and (text := (reply := interrupted.accumulator.reply()).text):
            replies.append(reply)
        if not text and not rounds:
            return None
        self.messages += [*interrupted.user_messages, *rounds, *([Message("assistant", text)] if text else [])]
        known = {id(each) for each in self.replies}  # those of a turn that failed are counted already
        self.replies += [each for each in replies if id(each) not in known]
        return replies[-1]

    @property
    def usage(self) -> Usage:
        """Token counts of all replies together, those that only called functions included."""
        return total_usage(reply.usage for reply in self.replies)

    @property
    def cost(self) -> float | None:
        """What all replies together cost; `None` where that is not known."""
        return total_cost(reply.cost for reply in self.replies)

    def _run_turn(
        self, prompt: "Prompt", options: "AskOptions", accumulator: ReplyAccumulator | None
    ) -> "Steps[Reply]":
        """Steps of one turn; the history has it when it is done, and not before."""
        merged = {**self._options, **options}
        if isinstance(prompt, Question):  # what it asks with holds for this turn
            user_messages, merged = prompt.messages, {**self._options, **prompt.options, **options}
        else:
            user_messages = prompt_messages(prompt)
        for name in ("images", "files"):
            if parts := media_parts(name, merged.pop(name, None)):
                user_messages = with_parts(user_messages, parts)
        loop = self._calls.tool_loop(
            self._model, list(user_messages), cast("AskOptions", merged), stream=accumulator is not None
        )

        def steps() -> "Steps[Reply]":
            if not self._lock.acquire(blocking=False):
                raise _in_a_turn()
            try:
                self._interrupted = _LeftTurn(user_messages, accumulator)
                done = yield from self._ask_model(loop, user_messages, accumulator)
                self._interrupted = None
                self.messages += [*user_messages, *done.messages]
                self.replies += done.replies
            finally:
                self._lock.release()
            return done.reply

        return steps()

    def _ask_model(
        self, loop: "ToolLoop", user_messages: tuple[Message, ...], accumulator: ReplyAccumulator | None
    ) -> "Steps[ToolLoopResult]":
        """Ask with as much of the history as fits."""
        fit, window, tries = self._fit, self._window, 0
        while True:
            history = window.history(list(messages_of(self.messages)))
            if fit is not None:
                history = yield from window.fitted(history, loop.call, fit)
            messages = loop.continued_by((*history, *user_messages))
            if self._interrupted is not None:
                self._interrupted.tool_loop = messages
            try:
                done = yield from messages.steps(accumulator)
            except ContextOverflow as error:
                self.replies += messages.replies  # paid for, although nothing came of them
                nothing_yet = not messages.replies and (accumulator is None or not accumulator.reply().text)
                tries += 1
                retry = nothing_yet and fit not in (None, "error") and tries < _TRIES
                if not retry or not window.narrowed(history, loop.call):
                    raise error
                continue
            except AgoutiError:
                self.replies += messages.replies
                raise
            if fit is not None:
                window.learn(messages.call, done.replies[0])
            return done

    def __repr__(self) -> str:
        return f"{type(self).__name__}({self._model!r}, {len(self.messages)} messages)"

    if not TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            from .._former import attribute

            return attribute(self, name)


# How often a provider may find a turn too long that was made to fit by the estimate.
_TRIES = 6


def _in_a_turn() -> RequestError:
    return RequestError(
        "this conversation is in the middle of a turn",
        hint="Wait for its end, or close its stream; two talks at once are two conversations.",
    )


class Conversation(_Conversation):
    """A conversation with a model; made by `Client.conversation`.

    Attributes:
        messages: what has been said: the user's words, the model's, its tool calls and their results. The system text
            is not among them. A list of `Message`; give it to another conversation to go on from there.
        replies: every reply, in order.
        warnings: what of a file could not be read and was left out.

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
        before: "Iterable[Message | Mapping[str, Json]] | FilePath",
        fit: Fit | None,
        options: "AskOptions",
    ) -> None:
        super().__init__(calls, model, before, fit, options)
        self._drive = drive

    def fork(self) -> "Conversation":
        """Another conversation that goes on from here; what either says from now on, the other does not know.

        Its ``replies``, and with them ``usage`` and ``cost``, begin anew.
        """
        copy = Conversation(self._calls, self._drive, self._model, self.messages, self._fit, self._options)
        copy._window = self._window.copy()
        return copy

    def say(self, prompt: "Prompt", **options: "Unpack[AskOptions]") -> Reply:
        """Say something, and wait for the answer.

        Args:
            prompt: as for `Client.ask`.
            options: as for `Client.ask`; they hold for this turn only.

        Raises:
            AgoutiError: the turn failed; ``messages`` are as before it, so that it can be said again.
        """
        driver = self._drive(self._run_turn(prompt, options, None))
        driver.advance()
        return driver.result

    def stream(self, prompt: "Prompt", **options: "Unpack[AskOptions]") -> Stream:
        """Say something, and get the answer as it comes; the text before a call of a function comes too."""
        accumulator = ReplyAccumulator()
        return Stream(self._drive(self._run_turn(prompt, options, accumulator)), accumulator)


class AsyncConversation(_Conversation):
    """`Conversation` for asyncio; made by `AsyncClient.conversation`. Functions may be coroutines."""

    def __init__(
        self,
        calls: "Calls",
        drive: "Callable[[Steps[Reply]], AsyncDriver[Reply]]",
        model: str,
        before: "Iterable[Message | Mapping[str, Json]] | FilePath",
        fit: Fit | None,
        options: "AskOptions",
    ) -> None:
        super().__init__(calls, model, before, fit, options)
        self._drive = drive

    def fork(self) -> "AsyncConversation":
        """Another conversation that goes on from here; what either says from now on, the other does not know.

        Its ``replies``, and with them ``usage`` and ``cost``, begin anew.
        """
        copy = AsyncConversation(self._calls, self._drive, self._model, self.messages, self._fit, self._options)
        copy._window = self._window.copy()
        return copy

    async def say(self, prompt: "Prompt", **options: "Unpack[AskOptions]") -> Reply:
        """Say something, and wait for the answer; as `Conversation.say`."""
        driver = self._drive(self._run_turn(prompt, options, None))
        await driver.advance()
        return driver.result

    def stream(self, prompt: "Prompt", **options: "Unpack[AskOptions]") -> AsyncStream:
        """Say something, and get the answer as it comes; as `Conversation.stream`."""
        accumulator = ReplyAccumulator()
        return AsyncStream(self._drive(self._run_turn(prompt, options, accumulator)), accumulator)
