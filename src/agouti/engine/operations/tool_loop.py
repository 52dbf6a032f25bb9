"""Tool calling: a model asks for functions, they are run, it goes on with what they gave."""

import logging
from collections.abc import Callable, Mapping
from functools import partial
from inspect import iscoroutinefunction
from typing import Any, Literal, Protocol, TypeAlias

from msgspec import Struct
from msgspec.structs import replace

from ...core.canonical.chat import Completion, Json, Message, Request
from ...core.canonical.usage import total_usage
from ...core.errors import AgoutiError, DeadlineExceeded, ToolCallInvalid, TooManyRounds
from ...core.messages.messages import reply_message
from ...forms.build import Misfit
from ...forms.plain_values import with_items
from ...replies.reply import Reply, ToolUse
from ..call import Call
from ..effects import RunCallable, Steps, Together, attempted
from ..groups import Group
from ..providers.provider import Target
from ..receiving.accumulate import ReplyAccumulator
from .chat import ask
from .chat_streamed import stream

log = logging.getLogger("agouti.tools.tool")

Failures: TypeAlias = Literal["tell", "raise"]
"""What becomes of an exception in a function: the model is told, or it is raised."""

_CONCURRENT_CALLS = 16


class ToolLike(Protocol):
    """A function that a model may call: see `agouti.tools.tool.Tool`."""

    @property
    def name(self) -> str: ...
    @property
    def function(self) -> Callable[..., Any] | None: ...
    def read(self, arguments: Any) -> dict[str, Any]: ...


class ToolLoopResult(Struct, frozen=True, kw_only=True):
    """A question answered, and how.

    Attributes:
        reply: the last reply; its usage is that of all replies together.
        messages: what has been added to the conversation: calls, results and the answer.
        replies: all replies in order.
    """

    reply: Reply
    messages: list[Message]
    replies: list[Reply]


class ToolLoop:
    """One question, with functions.

    Args:
        call: asks it.
        tools: the functions by name.
        text: makes the text of what a function gave.
        max_rounds: rounds of calls at most.
        failures: ``tell`` or ``raise``.
        run: whether the functions are run at all; otherwise the first calls end the loop.
    """

    def __init__(
        self,
        call: Call,
        tools: Mapping[str, ToolLike],
        *,
        text: "Callable[[Any], str | list[Json]]",
        max_rounds: int,
        failures: Failures = "tell",
        run: bool = True,
    ) -> None:
        self._call = call
        self._tools = tools
        self._text = text
        self._max_rounds = max_rounds
        self._failures = failures
        self._runs = run
        self._results: list[Message] = []
        self._corrected = False
        self.replies: list[Reply] = []

    @property
    def call(self) -> Call:
        """What asks the question."""
        return self._call

    @property
    def added(self) -> list[Message]:
        """What has been added to the conversation so far: calls and results; of a call that is run, no result yet."""
        return list(self._results)

    def continued_by(self, messages: tuple[Message, ...]) -> "ToolLoop":
        """The same, but with other messages in the question, and from the beginning."""
        question = replace(self._call.question, messages=messages)
        return ToolLoop(
            replace(self._call, question=question),
            self._tools,
            text=self._text,
            max_rounds=self._max_rounds,
            failures=self._failures,
            run=self._runs,
        )

    def steps(self, accumulator: ReplyAccumulator | None = None) -> Steps[ToolLoopResult]:
        """Ask and run until there is an answer.

        Args:
            accumulator: every reply comes as a stream, and is put together here.
        """
        call = self._call
        if not self._tools:
            return (yield from self._rounds(replace(call, fits=self._fits), accumulator))
        with Group(call, "tools") as group:
            # made here: a call is in no cycle of references
            return (yield from self._rounds(replace(call, fits=self._fits, group=group.number), accumulator))

    def _rounds(self, call: Call, accumulator: ReplyAccumulator | None) -> Steps[ToolLoopResult]:
        replies = self.replies
        for _ in range(self._max_rounds + 1):
            if accumulator is None:
                reply = yield from ask(call, shape=self._shaped)
            else:
                reply = yield from stream(call, accumulator, shape=self._shaped)
            replies.append(reply)
            calls = reply.calls
            self._results.append(reply_message(reply.first))
            if not calls or not self._runnable(reply):
                # An answer; or calls that whoever asked has to run.
                return ToolLoopResult(reply=self._of_all(reply), messages=self._results, replies=replies)
            if len(replies) > self._max_rounds:
                break
            yield from self._run(calls, reply, call)
        raise TooManyRounds(
            f"{reply.provider}: {reply.label} still asks for functions after {self._max_rounds} rounds of them",
            hint="Raise max_rounds, or see why in error.partial and the log agouti.tools.tool.",
            provider=reply.provider,
            model=reply.label,
            attempts=reply.attempts,
            partial=self._of_all(reply),
        )

    def _of_all(self, reply: Reply) -> Reply:
        """The last reply, with the tokens of all of them: they are what the question has cost."""
        if len(self.replies) < 2:
            return reply
        usage = total_usage(each.usage for each in self.replies)
        return replace(reply, usage=usage, requests=len(self.replies), images=sum(each.images for each in self.replies))

    def _fits(self, answer: object) -> bool:
        """Whether a cache may keep an answer: one whose calls cannot be run would come again and again."""
        if not isinstance(answer, Completion):
            return False
        reply = Reply.of(answer, label="", provider="", price=None, elapsed=0.0, attempts=(), body=b"")
        return not self._runnable(reply) or not any(isinstance(self._callable(call), str) for call in reply.calls)

    def _runnable(self, reply: Reply) -> bool:
        known = [self._tools.get(call.name) for call in reply.calls]
        # A custom tool takes a text: whoever asked for it knows what to do with that.
        custom = any(call.extra.get("type", "function") != "function" for call in reply.first.tool_calls)
        return self._runs and not custom and not any(tool is not None and tool.function is None for tool in known)

    def _shaped(self, request: Request, target: Target) -> Request:
        """The request, with what has been said meanwhile."""
        if not self._results:
            return request
        parameters = dict(request.parameters)
        if parameters.get("tool_choice") not in (None, "auto", "none"):
            # A call that is forced is forced once: the answer would never come.
            del parameters["tool_choice"]
        return replace(request, messages=(*request.messages, *self._results), parameters=parameters)

    def _run(self, calls: tuple[ToolUse, ...], reply: Reply, within: Call) -> Steps[None]:
        """Run what was asked for, side by side, and put what it gave into the conversation."""
        work: list[Callable[[], Any]] = []
        problems: list[str] = []
        for call in calls:
            callable_or_error = self._callable(call)
            if isinstance(callable_or_error, str):
                problems.append(callable_or_error)
                work.append(partial(_give, callable_or_error))
            else:
                work.append(callable_or_error)
        if problems and self._corrected:
            raise ToolCallInvalid(
                f"{reply.provider}: a call cannot be run, also after a correction: {problems[0]}"[:500],
                provider=reply.provider,
                model=reply.label,
                attempts=reply.attempts,
                partial=self._of_all(reply),
            )
        self._corrected = bool(problems)
        steps = [attempted(_called(each, within, call.name), Exception) for call, each in zip(calls, work, strict=True)]
        results = yield Together(steps, _CONCURRENT_CALLS)
        for call, result in zip(calls, results, strict=True):
            log.debug("%s(%s) -> %r", call.name, call.arguments_text, result)
            failed = isinstance(result, BaseException) or any(result is each for each in problems)
            text = self._result(call, result)
            self._results.append(Message("tool", text, name=call.name, tool_call_id=call.id, is_error=failed))

    def _callable(self, call: ToolUse) -> Callable[[], Any] | str:
        """What runs a call; or what is wrong with it, in words for the model."""
        tool = self._tools.get(call.name)
        if tool is None or tool.function is None:
            return f"There is no function {call.name!r}; there are {', '.join(self._tools) or 'none'}."
        try:
            function = partial(tool.function, **tool.read(call.arguments))
            return function if iscoroutinefunction(tool.function) else partial(_with_items, function)
        except Misfit as misfit:
            problem = call.problem or "; ".join(misfit.errors)
            return f"The arguments of {call.name} do not fit: {problem}. Correct them and call it again."

    def _over(self) -> bool:
        """Whether the time of the whole turn is over."""
        remaining = self._call.left()
        return remaining is not None and remaining <= 0

    def _result(self, call: ToolUse, result: Any) -> "str | list[Json]":
        """What the model is told of a call."""
        if not isinstance(result, BaseException):
            return self._text(result)
        # The deadline of the turn itself is nothing that the model could do anything about.
        over = isinstance(result, DeadlineExceeded) and self._over()
        if self._failures == "raise" or over:
            result.add_note(f"raised by the function {call.name}, which a model had called with {call.arguments_text}")
            raise result
        log.info("%s raised %s: the model is told", call.name, type(result).__name__)
        # The hint of an error of ours is for the developer.
        content = result.message if isinstance(result, AgoutiError) else result
        return f"Error: {type(result).__name__}: {content}"[:2000]


def _called(function: Callable[[], Any], call: Call, name: str) -> Steps[Any]:
    remaining = call.left()
    try:
        with Group(call, "execute_tool", name) as group:
            return (yield RunCallable(group.around(function), remaining))
    except TimeoutError:
        call.check_time()  # the function's own time, or that of the call
        raise


def _with_items(function: Callable[[], Any]) -> Any:
    return with_items(function())


def _give(value: Any) -> Any:
    return value
