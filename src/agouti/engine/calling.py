"""Rounds of calls: a model asks for functions, they are run, it goes on with what they gave."""

import logging
from collections.abc import Callable, Mapping
from functools import partial
from typing import Any, Literal, Protocol, TypeAlias

import msgspec
from msgspec import Struct

from ..core.chat import Message, Request
from ..core.errors import AgoutiError, ToolCallInvalid, TooManyRounds
from ..core.parts import sendable
from ..core.reply import Reply, ToolUse
from .effects import Perform, Steps
from .exchange import Call, ask, stream
from .gather import Gathering
from .target import Target

log = logging.getLogger("agouti.tools")

Failures: TypeAlias = Literal["tell", "raise"]
"""What becomes of an exception in a function: the model is told, or it is raised."""


class Runs(Protocol):
    """A function that a model may call: see `agouti.tools.Tool`."""

    @property
    def name(self) -> str: ...
    @property
    def function(self) -> Callable[..., Any] | None: ...
    def read(self, arguments: Any) -> dict[str, Any]: ...


class Rounds(Struct, frozen=True):
    """A question answered, and how.

    Attributes:
        reply: the last reply; its usage is its own.
        messages: what has been added to the conversation: calls, results and the answer.
        replies: all replies in order.
    """

    reply: Reply
    messages: list[Message]
    replies: list[Reply]


class ToolRounds:
    """One question, with functions.

    Args:
        call: asks it.
        tools: the functions by name.
        misfit: the error that `Runs.read` raises.
        text: makes the text of what a function gave.
        most: rounds of calls at most.
        failures: ``tell`` or ``raise``.
    """

    def __init__(
        self,
        call: Call,
        tools: Mapping[str, Runs],
        *,
        misfit: type[Exception],
        text: Callable[[Any], str],
        most: int,
        failures: Failures,
    ) -> None:
        self._call = call
        self._tools = tools
        self._misfit = misfit
        self._text = text
        self._most = most
        self._failures = failures
        self._more: list[Message] = []
        self._corrected = False

    def steps(self) -> Steps[Rounds]:
        """Ask and run until there is an answer."""
        return self._rounds(None)

    def streamed(self, so_far: Gathering) -> Steps[Rounds]:
        """As `steps`, every reply as a stream."""
        return self._rounds(so_far)

    def _rounds(self, so_far: Gathering | None) -> Steps[Rounds]:
        replies: list[Reply] = []
        started = self._call.clock()
        for _ in range(self._most + 1):
            call = msgspec.structs.replace(self._call, build=self._build, deadline=self._left(started))
            if so_far is None:
                reply = yield from ask(call)
            else:
                so_far.again()
                reply = yield from stream(call, so_far)
            replies.append(reply)
            calls = reply.calls
            self._more.append(_said(reply))
            known = [self._tools.get(each.name) for each in calls]
            if not calls or any(tool is not None and tool.function is None for tool in known):
                # An answer; or calls that whoever asked has to run.
                return Rounds(reply, self._more, replies)
            if len(replies) > self._most:
                break
            yield from self._run(calls, reply)
        raise TooManyRounds(
            f"{replies[-1].provider}: {replies[-1].label} still asks for functions after {self._most} rounds of them",
            hint="Raise max_rounds, or see why in error.partial and the log agouti.tools.",
            provider=replies[-1].provider,
            model=replies[-1].label,
            attempts=replies[-1].attempts,
            partial=replies[-1],
        )

    def _left(self, started: float) -> float | None:
        deadline = self._call.deadline
        return None if deadline is None else max(deadline - (self._call.clock() - started), 0.0)

    def _build(self, target: Target) -> Request:
        request = self._call.build(target)
        if not self._more:
            return request
        parameters = dict(request.parameters)
        if parameters.get("tool_choice") not in (None, "auto", "none"):
            # A call that is forced is forced once: the answer would never come.
            del parameters["tool_choice"]
        return msgspec.structs.replace(request, messages=[*request.messages, *self._more], parameters=parameters)

    def _run(self, calls: tuple[ToolUse, ...], reply: Reply) -> Steps[None]:
        """Run what was asked for, side by side, and put what it gave into the conversation."""
        work: list[Callable[[], Any]] = []
        wrong: list[str] = []
        for each in calls:
            tool = self._tools.get(each.name)
            if tool is None or tool.function is None:
                wrong.append(f"There is no function {each.name!r}; there are {', '.join(self._tools) or 'none'}.")
                work.append(partial(_give, wrong[-1]))
                continue
            try:
                arguments = tool.read(each.arguments)
            except Exception as error:
                if not isinstance(error, self._misfit):
                    raise
                why = each.problem or "; ".join(getattr(error, "errors", ()))
                wrong.append(f"The arguments of {each.name} do not fit: {why}. Correct them and call it again.")
                work.append(partial(_give, wrong[-1]))
                continue
            work.append(partial(tool.function, **arguments))
        if wrong and self._corrected:
            raise ToolCallInvalid(
                f"{reply.provider}: a call cannot be run, also after a correction: {wrong[0]}"[:500],
                provider=reply.provider,
                model=reply.label,
                attempts=reply.attempts,
                partial=reply,
            )
        self._corrected = bool(wrong)
        results = yield Perform(tuple(work))
        for each, result in zip(calls, results, strict=True):
            log.debug("%s(%s) -> %r", each.name, each.arguments_text, result)
            self._more.append(Message("tool", self._told(each, result), each.name, None, each.id))

    def _told(self, call: ToolUse, result: Any) -> str:
        if not isinstance(result, BaseException):
            return self._text(result)
        if self._failures == "raise" or isinstance(result, AgoutiError) or not isinstance(result, Exception):
            result.add_note(f"raised by the function {call.name}, which a model had called with {call.arguments_text}")
            raise result
        log.info("%s raised %s: the model is told", call.name, type(result).__name__)
        return f"Error: {type(result).__name__}: {result}"


def _give(value: Any) -> Any:
    return value


def _said(reply: Reply) -> Message:
    """A reply as a message of the conversation."""
    first = reply.completion.choices[0] if reply.completion.choices else None
    calls = [sendable(place, call) for place, call in enumerate(first.tool_calls)] if first is not None else []
    return Message("assistant", reply.text or (None if calls else ""), None, calls or None)
