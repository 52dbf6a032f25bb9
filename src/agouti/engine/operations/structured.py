"""Structured output: a form filled by a model, by the strongest means it has, checked, and given back for repair."""

import re
from contextlib import suppress
from typing import Any, Protocol

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ...core.canonical.chat import Completion, Json, Message, Request
from ...core.canonical.structured import FINAL, HINTS, Means, Problem
from ...core.errors import (
    AgoutiError,
    ContentRefused,
    ContextOverflow,
    ParameterUnsupported,
    RequestError,
    RequestRefused,
)
from ...core.json.extract import Found, json_in, without_thoughts
from ...core.messages.messages import reply_message, with_instruction
from ...core.schemas.fit import Style, fitted
from ...forms.form import Defect, Misfit
from ...replies.errors import NotFilled
from ...replies.filled import Filled, FilledAnswer
from ...replies.reply import Reply
from ..call import Call, request_for
from ..effects import Steps
from ..groups import Group
from ..providers.provider import Target
from ..receiving.accumulate import ReplyAccumulator
from .chat import ask
from .chat_streamed import stream

# What a provider says that lacks a means, beside naming the parameter.
_UNSUPPORTED_SIGNS = re.compile(
    r"response_format|json_schema|structured output|output_config|schema|grammar|\btools?\b|\bfunctions?\b|json mode",
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
    """A form: see `agouti.forms.build.Form`."""

    @property
    def name(self) -> str: ...
    @property
    def description(self) -> str: ...
    @property
    def schema(self) -> dict[str, Any]: ...
    @property
    def wrapped(self) -> bool: ...
    def read(self, value: Json) -> Any: ...
    def read_leniently(self, value: Json) -> tuple[Any, str]: ...
    def unwrapped(self, value: Json) -> Json: ...


class _OutputRequest(Struct, frozen=True):
    """How the last target was asked: the reply is read in the same way."""

    means: Means
    target: Target


class _Read(Struct, frozen=True):
    """An answer as it was read."""

    problem: Problem = ""
    errors: tuple[str, ...] = ()
    value: Any = None
    mended: tuple[str, ...] = ()


class FormCall:
    """One form to be filled.

    Args:
        call: asks for it without any form.
        method: the only ones to be tried; by default those that each model has.
        repairs: how many more answers are asked for when one does not fit.

    Raises:
        RequestError: the call has parameters that the means need themselves.
    """

    def __init__(self, call: Call, form: FormLike, *, method: Means | None, repairs: int) -> None:
        question = call.question
        asked_for = {**call.targets[0].parameters, **question.parameters}
        if question.tools:
            asked_for["tools"] = question.tools
        for name in ("response_format", "tools", "tool_choice"):
            if asked_for.get(name) is not None:
                raise RequestError(f"fill sets {name} itself", hint=f"Leave {name} out, or use ask.")
        self._call = call
        self._form = form
        self._method = method
        self._repairs = repairs
        self._further_messages: tuple[Message, ...] = ()
        self._request: _OutputRequest | None = None
        self._in_words = False
        self._defect: Defect | None = None
        self._schemas: dict[Style, tuple[dict[str, Any], bool]] = {}
        # What was refused in this call: that it was the means that the provider lacks is known once a weaker one works.
        self._stepped_down: list[tuple[Target, Means, int]] = []

    @property
    def call(self) -> Call:
        """What asks for it."""
        return self._call

    def steps(self, accumulator: ReplyAccumulator | None = None) -> Steps[Filled[Any]]:
        """Ask until an answer fits.

        Args:
            accumulator: the first answer comes as a stream, and is put together here.
        """
        call = self._call
        with Group(call, "fill", self._form.name) as group:
            # made here: a call is in no cycle of references
            return (yield from self._filling(replace(call, fits=self._fits, group=group.number), accumulator))

    def _filling(self, call: Call, accumulator: ReplyAccumulator | None) -> Steps[Filled[Any]]:
        answers: list[FilledAnswer] = []
        while True:
            try:
                if accumulator is not None and not answers:
                    reply = yield from stream(call, accumulator, shape=self._shaped)
                else:
                    reply = yield from ask(_with_usage(call), shape=self._shaped)
            except (RequestRefused, ParameterUnsupported) as error:
                if not self._steps_down(error):
                    raise self._with_answers(error, answers) from None
                continue
            except AgoutiError as error:
                raise self._with_answers(error, answers) from None
            self._learned()
            answer, value = self._read(reply)
            answers.append(answer)
            if not answer.problem:
                return Filled(value, reply, tuple(answers))
            if answer.problem in FINAL or len(answers) > self._repairs:
                raise _not_filled(answers, self._form.name) from (self._defect and self._defect.__cause__)
            call = replace(call, waits=True)  # the answers up to here are paid for: whoever asks anew pays them again
            if answer.problem == "blanks":
                # There is nothing to correct: it has to be told what is wanted.
                self._in_words = True
            else:
                self._further_messages += self._corrections(answer)

    def _with_answers(self, error: AgoutiError, answers: list[FilledAnswer]) -> AgoutiError:
        """The same error; answers that had been paid before it are in it."""
        if answers and error.partial is None:
            error.with_context(partial=answers[-1].reply)
            error.answers = tuple(answers)
        return error

    def _learned(self) -> None:
        """A weaker means has worked: what was refused before it is what the model lacks."""
        for target, method, form in self._stepped_down:
            target.state.refuse(method, form)
        self._stepped_down.clear()

    # Deferred: what is asked now is answered later, by somebody else.

    def request(self, target: Target) -> Request:
        """What is asked first, for a target."""
        return self._shaped(request_for(self._call.question, target), target)

    def filled(self, reply: Reply) -> Filled[Any]:
        """The value in the answer to it.

        Raises:
            NotFilled: there is none.
        """
        answer, value = self._read(reply)
        if answer.problem:
            raise _not_filled([answer], self._form.name) from (self._defect and self._defect.__cause__)
        return Filled(value, reply, (answer,))

    # What is asked.

    def _shaped(self, request: Request, target: Target) -> Request:
        """The request, with what holds the model to the form."""
        method = self._chosen(target)
        self._request = _OutputRequest(method, target)
        abilities = target.provider.dialect.abilities
        parameters = dict(request.parameters)
        messages = (*request.messages, *self._further_messages)
        schema, closed = self._schema(abilities.schema_style)
        name, description = self._form.name, self._form.description
        if method == "schema":
            form: dict[str, Any] = {"name": name, "schema": schema}
            if closed and abilities.schema_style == "closed":
                form["strict"] = True
            parameters["response_format"] = {"type": "json_schema", "json_schema": form}
        elif method == "tool":
            function: dict[str, Any] = {"name": name, "parameters": self._schema(abilities.tool_schema_style)[0]}
            if description:
                function["description"] = description
            parameters["tools"] = [{"type": "function", "function": function}]
            parameters["tool_choice"] = {"type": "function", "function": {"name": name}}
        elif method == "json":
            parameters["response_format"] = {"type": "json_object"}
        if method in ("json", "prompt") or self._in_words:
            schema = self._schema("inlined")[0]
            messages = with_instruction(messages, _INSTRUCTION + msgspec.json.encode(schema).decode())
        return replace(request, messages=messages, parameters=parameters)

    def _schema(self, style: Style) -> tuple[dict[str, Any], bool]:
        schema = self._schemas.get(style)
        if schema is None:
            schema = self._schemas[style] = fitted(self._form.schema, style)
        return schema

    def _form_key(self, method: Means, target: Target) -> int:
        """Tells the form from others: what a provider refuses may be a keyword of this one alone."""
        style = target.provider.dialect.abilities.schema_style
        return hash(msgspec.json.encode(self._schema(style)[0])) if method in ("schema", "tool") else 0

    def _chosen(self, target: Target) -> Means:
        offered = self._offered(target)
        return offered[0] if offered else "prompt"

    def _offered(self, target: Target) -> list[Means]:
        """The means that a model has, the strongest first."""
        if self._method is not None:
            return [self._method]
        abilities, state = target.provider.dialect.abilities, target.state
        offered = [
            method
            for method in target.model.output_methods or abilities.means
            if not state.refuses(method, self._form_key(method, target))
            and not _NEEDS[method] & state.refused_parameters
            and not any(each is target and tried == method for each, tried, _ in self._stepped_down)
        ]
        if not abilities.open_schemas and not self._schema(abilities.schema_style)[1]:
            offered = [method for method in offered if method != "schema"]
        return offered

    def _steps_down(self, error: RequestRefused | ParameterUnsupported) -> bool:
        """Whether the provider refused the means, and there is a weaker one; it is remembered."""
        request = self._request
        if request is None or self._method is not None or request.means == "prompt":
            return False
        if isinstance(error, (ContextOverflow, ContentRefused)):
            return False  # whatever words they use
        if not _UNSUPPORTED_SIGNS.search(f"{error.parameter or ''} {error.provider_message or error.message}"):
            return False
        self._stepped_down.append((request.target, request.means, self._form_key(request.means, request.target)))
        return bool(self._offered(request.target))

    # What comes back.

    def _fits(self, answer: object) -> bool:
        """Whether a cache may keep an answer."""
        if not isinstance(answer, Completion):
            return False
        reply = Reply.of(answer, label="", provider="", price=None, elapsed=0.0, attempts=(), body=b"")
        return not self._read(reply)[0].problem

    def _read(self, reply: Reply) -> tuple[FilledAnswer, Any]:
        method: Means = self._request.means if self._request is not None else "prompt"
        read = self._value(reply, method)
        answer = FilledAnswer(
            output_method=method,
            reply=reply,
            problem=read.problem,
            errors=read.errors,
            repairs_applied=read.mended,
        )
        return answer, read.value

    def _value(self, reply: Reply, method: Means) -> "_Read":
        """What is wrong with an answer, in words, and the value where nothing is."""
        if reply.refusal or reply.finish_reason in ("refusal", "content_filter"):
            return _Read("refusal", (reply.refusal or f"the answer ended with {reply.finish_reason}",))
        text = reply.text
        calls = reply.first.tool_calls
        if method == "tool" and calls:
            form_calls = [call for call in calls if call.function.name == self._form.name]
            if not form_calls:
                return _Read("no call", (f"{calls[0].function.name!r} was called, not {self._form.name!r}",))
            text = "\n".join(dict.fromkeys(call.function.arguments or "" for call in form_calls))
        extracted = json_in(text)
        fitting, errors, self._defect = self._fitting(extracted.values)
        if self._defect is not None:
            return _Read("validator failed", self._defect.errors)
        if len(fitting) == 1 and not (extracted.problem and reply.truncated):
            return _Read(value=fitting[0], mended=extracted.repairs)
        if not reply.truncated and (alternative := self._read_leniently(extracted, text, fitting)) is not None:
            return alternative
        if reply.truncated and _mostly_blank(text):
            return _Read("blanks", ("the answer is nothing but blanks, up to the cap on tokens",))
        if reply.truncated:
            return _Read("truncated", ("the answer was cut off by a cap on tokens",))
        if len(fitting) > 1:
            return _Read("several", (f"{len(fitting)} values fit, one is wanted",))
        if errors:
            return _Read("invalid", errors[0])
        if not extracted.problem or extracted.problem == "empty":
            return _Read("empty", ("the answer is empty",))
        if method == "tool" and extracted.problem == "no json":
            return _Read("no call", (f"{self._form.name} was not called",))
        reason = f": {extracted.reason}" if extracted.reason else ""
        return _Read(extracted.problem, (f"there is {extracted.problem} in the answer{reason}",))

    def _read_leniently(self, extracted: Found, text: str, fitting: list[Any]) -> "_Read | None":
        """The value of another reading of the answer: cheaper than asking again, where there is one only."""
        values = extracted.values
        if len(values) > 1:
            # JSON Lines, or a call for each item, where a list is asked.
            for candidate in (list(values), self._joined(values)):
                with suppress(Misfit):
                    return _Read(value=self._form.read(candidate), mended=(*extracted.repairs, "several for a list"))
        if fitting:
            return None
        found: list[tuple[Any, str]] = []
        for value in values or ((text.strip(),) if self._form.wrapped and extracted.problem == "no json" else ()):
            with suppress(Misfit):
                found.append(self._form.read_leniently(value) if values else self._unquoted(value))
        if len(found) != 1:
            return None
        value, note = found[0]
        return _Read(value=value, mended=(*extracted.repairs, note))

    def _joined(self, values: tuple[Json, ...]) -> Json:
        """The items of several lists as one."""
        lists = [self._form.unwrapped(each) if isinstance(each, dict) else each for each in values]
        return [item for each in lists for item in each] if all(isinstance(each, list) for each in lists) else None

    def _unquoted(self, value: Json) -> tuple[Any, str]:
        """The value of a bare word, where one of a few is asked, or a date or the like; prose fits any text."""
        if isinstance(value, str) and (len(value) > 200 or self._takes_any_text()):
            raise Misfit(("it is no JSON",))
        try:
            return self._form.read(value), "a bare word"
        except Misfit:
            return self._form.read_leniently(value)

    def _takes_any_text(self) -> bool:
        """Whether the form takes whatever is written: then prose is no answer to it."""
        try:
            self._form.read("~ any text ~")
        except Misfit:
            return False
        return True

    def _fitting(self, values: tuple[Json, ...]) -> tuple[list[Any], list[tuple[str, ...]], Defect | None]:
        """The values that fit, as the application's own; why the others do not; and where a validator failed."""
        fitting: list[Any] = []
        errors: list[tuple[str, ...]] = []
        defect = None
        for value in values:
            try:
                fitting.append(self._form.read(value))
            except Misfit as misfit:
                if isinstance(misfit, Defect):
                    defect = misfit
                errors.append(misfit.errors)
        return fitting, errors, defect

    def _corrections(self, answer: FilledAnswer) -> tuple[Message, ...]:
        """The answer, and what is wrong with it, for the model to mend."""
        errors = "\n".join(f"- {error[:300]}" for error in answer.errors[:20])
        correction = f"That does not fit:\n{errors}\nAnswer again, with all of it, so that it fits."
        reply = answer.reply
        if not reply.first.tool_calls:
            return Message("assistant", without_thoughts(reply.text) or "(nothing)"), Message("user", correction)
        message = reply_message(reply.first)
        results = [
            Message("tool", correction, name=call.function.name, tool_call_id=call.id) for call in message.tool_calls
        ]
        return message, *results


def _with_usage(call: Call) -> Call:
    """The same call, its reply not streamed."""
    return replace(call, question=replace(call.question, stream=False)) if call.question.stream else call


def _mostly_blank(text: str) -> bool:
    """Whether an answer is little but blanks: a grammar allows them, and some models never stop writing them."""
    return text.count(" ") + text.count("\t") + text.count("\n") > len(text) / 2


def _not_filled(answers: list[FilledAnswer], name: str) -> AgoutiError:
    last = answers[-1]
    count = f" in {len(answers)} answers" if len(answers) > 1 else ""
    because = "; ".join(last.errors[:3])
    if last.problem in ("no json", "broken json", "several"):
        reason = last.errors[0].partition(": ")[2] if last.errors else ""
        because = f"{reason}; " if reason else ""
        because += f"it says {' '.join(last.reply.text.split())[:80]!r}"
    return NotFilled(
        f"{last.reply.provider}: {name} was not filled{count}: {last.problem} ({because})"[:600],
        problem=last.problem,
        answers=tuple(answers),
        hint=HINTS.get(last.problem, ""),
        provider=last.reply.provider,
        model=last.reply.label,
        attempts=last.reply.attempts,
        partial=last.reply,
    )
