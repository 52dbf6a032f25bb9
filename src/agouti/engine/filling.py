"""A form filled by a model: by the strongest means it has, checked, and given back for repair where it does not fit."""

import re
from typing import Any, Protocol

import msgspec
from msgspec import Struct

from ..core.chat import Json, Message, Request, ToolCall
from ..core.errors import AgoutiError, NotFilled, ParameterUnsupported, RequestError, RequestRefused
from ..core.filled import Filled, Filling
from ..core.found import json_in, without_thoughts
from ..core.parts import sendable
from ..core.reply import Reply
from ..core.schema import Style, fitted
from ..dialects.base import Means
from .effects import Steps
from .exchange import Call, ask, stream
from .gather import Gathering
from .target import Target

# What a provider says that does not know a means, beside naming the parameter.
_LACKS = re.compile(
    r"response_format|json_schema|structured|output_config|schema|grammar|tool|function|format\b|json mode",
    re.IGNORECASE,
)
# What each means needs; where the entry lets a provider do without it, the means is none.
_NEEDS: dict[Means, frozenset[str]] = {
    "schema": frozenset({"response_format"}),
    "tool": frozenset({"tools", "tool_choice"}),
    "json": frozenset({"response_format"}),
    "prompt": frozenset(),
}
_FINAL = frozenset({"truncated", "refusal"})
_HINTS = {
    "truncated": "The answer was cut off by a cap on tokens: raise max_tokens, or ask for less at a time.",
    "refusal": "The model refuses; see error.tries[-1].reply.",
    "several": "Say in the prompt that one is wanted, or take a list: fill(label, list[TYPE], ...).",
}
_INSTRUCTION = "Answer with one JSON value that fits this JSON Schema, and with nothing else:\n"


class Fits(Protocol):
    """A form: see `agouti.forms.Form`."""

    @property
    def name(self) -> str: ...
    @property
    def description(self) -> str: ...
    @property
    def schema(self) -> dict[str, Any]: ...
    def read(self, value: Json) -> Any: ...


class _Wanted(Struct):
    """What one target is asked with: kept, because the reply is read in the same way."""

    means: Means
    target: Target


class FormCall:
    """One form to be filled.

    Args:
        call: asks for it without any form.
        misfit: the error that `Fits.read` raises; its ``errors`` say what does not fit.
        means: the only ones to be tried; by default those that each model has.
        repairs: how many more answers are asked for when one does not fit.

    Raises:
        RequestError: the call has parameters that the means need themselves.
    """

    def __init__(self, call: Call, form: Fits, misfit: type[Exception], *, means: Means | None, repairs: int) -> None:
        self._call = call
        self._form = form
        self._misfit = misfit
        self._means = means
        self._repairs = repairs
        self._more: list[Message | dict[str, Any]] = []
        self._wanted: _Wanted | None = None
        self._in_words = False
        self._schemas: dict[Style, tuple[dict[str, Any], bool]] = {}
        first = call.build(call.targets[0])
        for name in ("response_format", "tools", "tool_choice"):
            if name in first.parameters:
                raise RequestError(f"fill sets {name} itself", hint=f"Leave {name} out, or use ask.")

    def steps(self) -> Steps[Filled[Any]]:
        """Ask until an answer fits."""
        return self._filled(None)

    def streamed(self, so_far: Gathering) -> Steps[Filled[Any]]:
        """As `steps`, the first answer as a stream."""
        return self._filled(so_far)

    def _filled(self, so_far: Gathering | None) -> Steps[Filled[Any]]:
        tries: list[Filling] = []
        started = self._call.clock()
        while True:
            call = msgspec.structs.replace(self._call, build=self._build, deadline=self._left(started))
            try:
                if so_far is not None and not tries:
                    reply = yield from stream(call, so_far)
                else:
                    reply = yield from ask(msgspec.structs.replace(call, build=self._whole))
            except (RequestRefused, ParameterUnsupported) as error:
                if not self._steps_down(error):
                    raise
                continue
            filling, value = self._read(reply)
            tries.append(filling)
            if not filling.problem:
                return Filled(value, reply, tuple(tries))
            if filling.problem in _FINAL or len(tries) > self._repairs:
                raise _not_filled(tries, self._form.name)
            if filling.problem == "blanks":
                # There is nothing to correct: it has to be told what is wanted.
                self._in_words = True
            else:
                self._more += self._corrections(filling)

    def _left(self, started: float) -> float | None:
        deadline = self._call.deadline
        return None if deadline is None else max(deadline - (self._call.clock() - started), 0.0)

    # What is asked.

    def _whole(self, target: Target) -> Request:
        return msgspec.structs.replace(self._build(target), stream=False)

    def _build(self, target: Target) -> Request:
        request = self._call.build(target)
        means = self._chosen(target)
        self._wanted = _Wanted(means, target)
        parameters = dict(request.parameters)
        messages = [*request.messages]
        schema, closed = self._schema(_style(target))
        name, description = self._form.name, self._form.description
        if means == "schema":
            form: dict[str, Any] = {"name": name, "schema": schema}
            if closed and _style(target) == "closed":
                form["strict"] = True
            parameters["response_format"] = {"type": "json_schema", "json_schema": form}
        elif means == "tool":
            # Providers that demand closed schemas of answers take open ones of tools.
            function: dict[str, Any] = {"name": name, "parameters": self._schema(_tool_style(target))[0]}
            if description:
                function["description"] = description
            parameters["tools"] = [{"type": "function", "function": function}]
            parameters["tool_choice"] = {"type": "function", "function": {"name": name}}
        elif means == "json":
            parameters["response_format"] = {"type": "json_object"}
        if means in ("json", "prompt") or self._in_words:
            schema = self._schema("inlined")[0]
            messages = _instructed(messages, _INSTRUCTION + msgspec.json.encode(schema).decode())
        return msgspec.structs.replace(request, messages=messages + self._more, parameters=parameters)

    def _schema(self, style: Style) -> tuple[dict[str, Any], bool]:
        found = self._schemas.get(style)
        if found is None:
            found = self._schemas[style] = fitted(self._form.schema, style)
        return found

    def _chosen(self, target: Target) -> Means:
        offered = self._offered(target)
        return offered[0] if offered else "prompt"

    def _offered(self, target: Target) -> list[Means]:
        if self._means is not None:
            return [self._means]
        dialect = target.endpoint.dialect
        has: tuple[Means, ...] = target.model.means or getattr(dialect, "means", ("prompt",))
        refused = target.endpoint.refused_means.get(target.model.name, frozenset())
        dropped = target.endpoint.refused_parameters
        found = [means for means in has if means not in refused and not _NEEDS[means] & dropped]
        if dialect.name == "messages" and not self._schema("closed")[1]:
            # It has no looser form of a schema.
            found = [means for means in found if means != "schema"]
        return found

    def _steps_down(self, error: AgoutiError) -> bool:
        """Whether the provider refused the means, and there is a weaker one; it is remembered."""
        wanted = self._wanted
        if wanted is None or self._means is not None or wanted.means == "prompt":
            return False
        parameter = getattr(error, "parameter", None) or ""
        if not _LACKS.search(f"{parameter} {error.message or error.what}"):
            return False
        endpoint, name = wanted.target.endpoint, wanted.target.model.name
        endpoint.refused_means[name] = endpoint.refused_means.get(name, frozenset()) | {wanted.means}
        return bool(self._offered(wanted.target))

    # What comes back.

    def _read(self, reply: Reply) -> tuple[Filling, Any]:
        means: Means = self._wanted.means if self._wanted is not None else "prompt"
        problem, errors, value = self._value(reply, means)
        return Filling(means, reply, problem, errors), value

    def _value(self, reply: Reply, means: Means) -> tuple[str, tuple[str, ...], Any]:
        if reply.refusal or reply.finish_reason in ("refusal", "content_filter"):
            return "refusal", (reply.refusal or f"the answer ended with {reply.finish_reason}",), None
        text = reply.text
        if means == "tool":
            calls = [call for call in _calls(reply) if call.function.name == self._form.name]
            if calls:
                text = "\n".join(dict.fromkeys(call.function.arguments or "" for call in calls))
            elif _calls(reply):
                return "no call", (f"{_calls(reply)[0].function.name!r} was called, not {self._form.name!r}",), None
        found = json_in(text)
        fitting, errors = [], []
        for value in found.values:
            try:
                fitting.append(self._form.read(value))
            except Exception as error:
                if not isinstance(error, self._misfit):
                    raise
                errors.append(getattr(error, "errors", ()))
        if len(fitting) == 1 and not (found.problem and reply.truncated):
            return "", (), fitting[0]
        if reply.truncated and text.count(" ") + text.count("\t") + text.count("\n") > len(text) / 2:
            # A grammar allows blanks between the parts of a document, and some models never stop writing them.
            return "blanks", ("the answer is nothing but blanks, up to the cap on tokens",), None
        if reply.truncated:
            return "truncated", ("the answer was cut off by a cap on tokens",), None
        if len(fitting) > 1:
            return "several", (f"{len(fitting)} values fit, one is wanted",), None
        if errors:
            return "invalid", errors[0], None
        if not found.problem or found.problem == "empty":
            return "empty", ("the answer is empty",), None
        if means == "tool" and found.problem == "no json":
            return "no call", (f"{self._form.name} was not called",), None
        return found.problem, (f"there is {found.problem} in the answer",), None

    def _corrections(self, filling: Filling) -> list[Message | dict[str, Any]]:
        """The answer, and what is wrong with it, for the model to mend."""
        said = "\n".join(f"- {error}" for error in filling.errors[:20])
        wish = f"That does not fit:\n{said}\nAnswer again, with all of it, so that it fits."
        calls = list(_calls(filling.reply))
        if not calls:
            return [Message("assistant", without_thoughts(filling.reply.text) or "(nothing)"), Message("user", wish)]
        usable = [sendable(place, call) for place, call in enumerate(calls)]
        results: list[Message | dict[str, Any]] = [
            Message("tool", wish, call.function.name, None, call.id) for call in usable
        ]
        return [Message("assistant", filling.reply.text or None, None, usable), *results]


def _calls(reply: Reply) -> tuple[ToolCall, ...]:
    return reply.completion.choices[0].tool_calls if reply.completion.choices else ()


def _style(target: Target) -> Style:
    return getattr(target.endpoint.dialect, "style", "open")


def _tool_style(target: Target) -> Style:
    style = _style(target)
    return "open" if style == "closed" else style


def _instructed(messages: list[Message | dict[str, Any]], instruction: str) -> list[Message | dict[str, Any]]:
    """The messages with an instruction behind the user's last words."""
    for place in range(len(messages) - 1, -1, -1):
        message = messages[place]
        role = message.role if isinstance(message, Message) else message.get("role")
        if role != "user":
            continue
        content = message.content if isinstance(message, Message) else message.get("content")
        if isinstance(content, list):
            content = [*content, {"type": "text", "text": instruction}]
        else:
            content = f"{content or ''}\n\n{instruction}"
        if isinstance(message, Message):
            changed: Message | dict[str, Any] = msgspec.structs.replace(message, content=content)
        else:
            changed = {**message, "content": content}
        return [*messages[:place], changed, *messages[place + 1 :]]
    return [*messages, Message("user", instruction)]


def _not_filled(tries: list[Filling], name: str) -> NotFilled:
    last = tries[-1]
    count = f" in {len(tries)} answers" if len(tries) > 1 else ""
    why = "; ".join(last.errors[:3])
    if last.problem in ("no json", "broken json", "several"):
        why = f"it says {' '.join(last.reply.text.split())[:80]!r}"
    error = NotFilled(
        f"{last.reply.provider}: {name} was not filled{count}: {last.problem} ({why})"[:600],
        hint=_HINTS.get(last.problem, ""),
        provider=last.reply.provider,
        model=last.reply.label,
        attempts=last.reply.attempts,
        partial=last.reply,
    )
    error.problem = last.problem
    error.tries = tuple(tries)
    return error
