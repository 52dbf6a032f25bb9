"""Structured output: a form filled by a model, by the strongest means it has, checked, and given back for repair."""

import re
from typing import Any, Protocol

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ...core.chat import Json, Message, Request
from ...core.errors import AgoutiError, NotFilled, ParameterUnsupported, RequestError, RequestRefused
from ...core.json_extract import json_in, without_thoughts
from ...core.messages import said, with_instruction
from ...core.schema import Style, fitted
from ...core.structured import FINAL, HINTS, Means, Problem
from ...filled import Filled, FilledAnswer
from ...forms import Misfit
from ...reply import Reply
from ..accumulate import ReplyAccumulator
from ..call import Call
from ..effects import Steps
from ..provider import Target
from .chat import ask
from .chat_streamed import stream

# What a provider says that lacks a means, beside naming the parameter.
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
_INSTRUCTION = "Answer with one JSON value that fits this JSON Schema, and with nothing else:\n"


class FormLike(Protocol):
    """A form: see `agouti.forms.Form`."""

    @property
    def name(self) -> str: ...
    @property
    def description(self) -> str: ...
    @property
    def schema(self) -> dict[str, Any]: ...
    def read(self, value: Json) -> Any: ...


class _Asked(Struct, frozen=True):
    """How the last target was asked: the reply is read in the same way."""

    means: Means
    target: Target


class FormCall:
    """One form to be filled.

    Args:
        call: asks for it without any form.
        means: the only ones to be tried; by default those that each model has.
        repairs: how many more answers are asked for when one does not fit.

    Raises:
        RequestError: the call has parameters that the means need themselves.
    """

    def __init__(self, call: Call, form: FormLike, *, means: Means | None, repairs: int) -> None:
        question = call.question
        asked_for = {**call.targets[0].parameters, **question.parameters}
        if question.tools:
            asked_for["tools"] = question.tools
        for name in ("response_format", "tools", "tool_choice"):
            if asked_for.get(name) is not None:
                raise RequestError(f"fill sets {name} itself", hint=f"Leave {name} out, or use ask.")
        self._call = call
        self._form = form
        self._means = means
        self._repairs = repairs
        self._more: tuple[Message, ...] = ()
        self._asked: _Asked | None = None
        self._in_words = False
        self._schemas: dict[Style, tuple[dict[str, Any], bool]] = {}

    def steps(self, so_far: ReplyAccumulator | None = None) -> Steps[Filled[Any]]:
        """Ask until an answer fits.

        Args:
            so_far: the first answer comes as a stream, and is put together here.
        """
        answers: list[FilledAnswer] = []
        call = self._call
        while True:
            try:
                if so_far is not None and not answers:
                    reply = yield from stream(call, so_far, shape=self._shaped)
                else:
                    reply = yield from ask(_whole(call), shape=self._shaped)
            except (RequestRefused, ParameterUnsupported) as error:
                if not self._steps_down(error):
                    raise
                continue
            answer, value = self._read(reply)
            answers.append(answer)
            if not answer.problem:
                return Filled(value, reply, tuple(answers))
            if answer.problem in FINAL or len(answers) > self._repairs:
                raise _not_filled(answers, self._form.name)
            if answer.problem == "blanks":
                # There is nothing to correct: it has to be told what is wanted.
                self._in_words = True
            else:
                self._more += self._corrections(answer)

    # What is asked.

    def _shaped(self, request: Request, target: Target) -> Request:
        """The request, with what holds the model to the form."""
        means = self._chosen(target)
        self._asked = _Asked(means, target)
        abilities = target.provider.dialect.abilities
        parameters = dict(request.parameters)
        messages = (*request.messages, *self._more)
        schema, closed = self._schema(abilities.schema_style)
        name, description = self._form.name, self._form.description
        if means == "schema":
            form: dict[str, Any] = {"name": name, "schema": schema}
            if closed and abilities.schema_style == "closed":
                form["strict"] = True
            parameters["response_format"] = {"type": "json_schema", "json_schema": form}
        elif means == "tool":
            function: dict[str, Any] = {"name": name, "parameters": self._schema(abilities.tool_schema_style)[0]}
            if description:
                function["description"] = description
            parameters["tools"] = [{"type": "function", "function": function}]
            parameters["tool_choice"] = {"type": "function", "function": {"name": name}}
        elif means == "json":
            parameters["response_format"] = {"type": "json_object"}
        if means in ("json", "prompt") or self._in_words:
            schema = self._schema("inlined")[0]
            messages = with_instruction(messages, _INSTRUCTION + msgspec.json.encode(schema).decode())
        return replace(request, messages=messages, parameters=parameters)

    def _schema(self, style: Style) -> tuple[dict[str, Any], bool]:
        schema = self._schemas.get(style)
        if schema is None:
            schema = self._schemas[style] = fitted(self._form.schema, style)
        return schema

    def _form_key(self, means: Means, target: Target) -> int:
        """Tells the form from others: what a provider refuses may be a keyword of this one alone."""
        style = target.provider.dialect.abilities.schema_style
        return hash(msgspec.json.encode(self._schema(style)[0])) if means in ("schema", "tool") else 0

    def _chosen(self, target: Target) -> Means:
        offered = self._offered(target)
        return offered[0] if offered else "prompt"

    def _offered(self, target: Target) -> list[Means]:
        """The means that a model has, the strongest first."""
        if self._means is not None:
            return [self._means]
        abilities, state = target.provider.dialect.abilities, target.state
        offered = [
            means
            for means in target.model.means or abilities.means
            if not state.refuses(means, self._form_key(means, target)) and not _NEEDS[means] & state.refused_parameters
        ]
        if not abilities.open_schemas and not self._schema(abilities.schema_style)[1]:
            offered = [means for means in offered if means != "schema"]
        return offered

    def _steps_down(self, error: RequestRefused | ParameterUnsupported) -> bool:
        """Whether the provider refused the means, and there is a weaker one; it is remembered."""
        asked = self._asked
        if asked is None or self._means is not None or asked.means == "prompt":
            return False
        if not _LACKS.search(f"{error.parameter or ''} {error.message or error.what}"):
            return False
        asked.target.state.refuse(asked.means, self._form_key(asked.means, asked.target))
        return bool(self._offered(asked.target))

    # What comes back.

    def _read(self, reply: Reply) -> tuple[FilledAnswer, Any]:
        means: Means = self._asked.means if self._asked is not None else "prompt"
        problem, errors, value = self._value(reply, means)
        return FilledAnswer(means=means, reply=reply, problem=problem, errors=errors), value

    def _value(self, reply: Reply, means: Means) -> tuple[Problem, tuple[str, ...], Any]:
        """What is wrong with an answer, in words, and the value where nothing is."""
        if reply.refusal or reply.finish_reason in ("refusal", "content_filter"):
            return "refusal", (reply.refusal or f"the answer ended with {reply.finish_reason}",), None
        text = reply.text
        calls = reply.first.tool_calls
        if means == "tool" and calls:
            ours = [call for call in calls if call.function.name == self._form.name]
            if not ours:
                return "no call", (f"{calls[0].function.name!r} was called, not {self._form.name!r}",), None
            text = "\n".join(dict.fromkeys(call.function.arguments or "" for call in ours))
        extracted = json_in(text)
        fitting, errors = self._fitting(extracted.values)
        if len(fitting) == 1 and not (extracted.problem and reply.truncated):
            return "", (), fitting[0]
        if reply.truncated and _mostly_blank(text):
            return "blanks", ("the answer is nothing but blanks, up to the cap on tokens",), None
        if reply.truncated:
            return "truncated", ("the answer was cut off by a cap on tokens",), None
        if len(fitting) > 1:
            return "several", (f"{len(fitting)} values fit, one is wanted",), None
        if errors:
            return "invalid", errors[0], None
        if not extracted.problem or extracted.problem == "empty":
            return "empty", ("the answer is empty",), None
        if means == "tool" and extracted.problem == "no json":
            return "no call", (f"{self._form.name} was not called",), None
        return extracted.problem, (f"there is {extracted.problem} in the answer",), None

    def _fitting(self, values: tuple[Json, ...]) -> tuple[list[Any], list[tuple[str, ...]]]:
        """The values that fit, as the application's own; and why the others do not."""
        fitting, errors = [], []
        for value in values:
            try:
                fitting.append(self._form.read(value))
            except Misfit as misfit:
                errors.append(misfit.errors)
        return fitting, errors

    def _corrections(self, answer: FilledAnswer) -> tuple[Message, ...]:
        """The answer, and what is wrong with it, for the model to mend."""
        errors = "\n".join(f"- {error}" for error in answer.errors[:20])
        wish = f"That does not fit:\n{errors}\nAnswer again, with all of it, so that it fits."
        reply = answer.reply
        if not reply.first.tool_calls:
            return Message("assistant", without_thoughts(reply.text) or "(nothing)"), Message("user", wish)
        message = said(reply.first)
        results = [Message("tool", wish, name=call.function.name, tool_call_id=call.id) for call in message.tool_calls]
        return message, *results


def _whole(call: Call) -> Call:
    """The same call, its reply not streamed."""
    return replace(call, question=replace(call.question, stream=False)) if call.question.stream else call


def _mostly_blank(text: str) -> bool:
    """Whether an answer is little but blanks: a grammar allows them, and some models never stop writing them."""
    return text.count(" ") + text.count("\t") + text.count("\n") > len(text) / 2


def _not_filled(answers: list[FilledAnswer], name: str) -> AgoutiError:
    last = answers[-1]
    count = f" in {len(answers)} answers" if len(answers) > 1 else ""
    why = "; ".join(last.errors[:3])
    if last.problem in ("no json", "broken json", "several"):
        why = f"it says {' '.join(last.reply.text.split())[:80]!r}"
    return NotFilled(
        f"{last.reply.provider}: {name} was not filled{count}: {last.problem} ({why})"[:600],
        problem=last.problem,
        answers=tuple(answers),
        hint=HINTS.get(last.problem, ""),
        provider=last.reply.provider,
        model=last.reply.label,
        attempts=last.reply.attempts,
        partial=last.reply,
    )
