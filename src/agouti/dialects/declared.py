"""A dialect that a configuration declares: where things go in a request, and where they are in a reply.

Places are JSON Pointers (RFC 6901); there are no expressions and no code. See the guide to dialects.

    >>> board = DeclaredDialect(Declaration(label="board", path="/talk", prompt="/input/text", text="/output/0/text"))
    >>> from agouti.core.canonical.chat import Message, Request
    >>> board.encode_chat(Request("m", (Message("user", "Peas?"),))).body
    {'input': {'text': 'Peas?'}}
    >>> board.decode_chat(b'{"output": [{"text": "In March."}]}').choices[0].text
    'In March.'
"""

from collections.abc import Mapping, Sequence
from copy import deepcopy
from typing import Any

import msgspec

from ..core import errors
from ..core.canonical.chat import Choice, Completion, Json, Markers, Message, Request
from ..core.canonical.events import Event, Finished, Reasoning, Started, Text, UsageTold
from ..core.canonical.parameters import CAPS, NAMES
from ..core.canonical.usage import Usage
from ..core.errors import AgoutiError, ConfigError, ReplyUnreadable, RequestError
from ..core.framing.json_array import ArraySplitter
from ..core.framing.json_lines import LineSplitter
from ..core.framing.sse import SseDecoder
from ..core.json.lenient import UNDECODABLE, decode_json, first_value
from ..core.json.pointer import MISSING, read, steps, write
from ..core.messages.call_pairs import in_words
from ..core.messages.messages import system_and_rest
from ..core.messages.parts import words_of
from ..core.settings.declarations import Declaration, StreamDeclaration
from ..core.text.suggest import near_hint
from .base import Abilities, Dialect, StreamDecoder, Write
from .prompt.dialect import prompt_of
from .shared.error_mapping import classify
from .shared.stream_decoding import PayloadStream
from .wire import Fault, ListedModel, OperationName, Outgoing

_FRAMINGS: dict[str, type[SseDecoder | LineSplitter | ArraySplitter]] = {
    "sse": SseDecoder,
    "lines": LineSplitter,
    "array": ArraySplitter,
}
_ACCEPT = {"sse": "text/event-stream", "lines": "application/x-ndjson", "array": "application/json"}


def check(declaration: Declaration) -> None:
    """See that a declaration can work.

    Raises:
        ConfigError: a place is none, or something is missing or misspelt.
    """
    if not declaration.path.startswith("/"):
        raise ConfigError(f"path = {declaration.path!r} is no path", hint='Write path = "/...", as behind the address.')
    if bool(declaration.prompt) == bool(declaration.messages):
        raise ConfigError(
            "it says neither or both of prompt and messages", hint='Say where the conversation goes: prompt = "/..."'
        )
    if not declaration.text:
        raise ConfigError("it does not say where the answer is", hint='Add text = "/...", a place in the reply.')
    _check_names("parameter", declaration.parameters, NAMES)
    _check_names("count", declaration.usage, Usage.__struct_fields__)
    kinds = [name for name, each in vars(errors).items() if isinstance(each, type) and issubclass(each, AgoutiError)]
    _check_names("class of error", declaration.error_codes.values(), kinds)
    pointers = [
        declaration.model,
        declaration.prompt,
        declaration.messages,
        declaration.role,
        declaration.content,
        declaration.system,
        declaration.text,
    ]
    pointers += [
        declaration.reasoning,
        declaration.finish_reason,
        declaration.reported_model,
        declaration.error,
        declaration.error_code,
    ]
    pointers += [*declaration.parameters.values(), *declaration.fixed, *declaration.usage.values()]
    if declaration.stream is not None:
        stream = declaration.stream
        pointers += [stream.switch, stream.text, stream.reasoning, stream.finish_reason, stream.done]
    for pointer in pointers:
        steps(pointer)
    # What would be refused at the first call is refused now.
    try:
        DeclaredDialect(declaration).encode_chat(
            Request("m", (Message("user", "x"),), dict.fromkeys(declaration.parameters, 1))
        )
    except RequestError as error:
        raise ConfigError(error.message, hint=error.hint) from None


def _check_names(subject: str, value: Any, known: Any) -> None:
    for name in value:
        if name not in known:
            raise ConfigError(f"there is no {subject} {name!r}", hint=near_hint(name, list(known), subject))


def _at(pointer: str) -> Write:
    return lambda body, value, _: write(body, pointer, value)


class DeclaredDialect(Dialect):
    """A dialect made of a declaration."""

    def __init__(self, declaration: Declaration) -> None:
        stream = declaration.stream
        self._is = declaration
        self.name = declaration.label
        self.abilities = Abilities(
            parameters={name: _at(pointer) for name, pointer in declaration.parameters.items()},
            streams_json=stream is not None and stream.framing == "array",
            caps=tuple([declaration.parameters[name] for name in CAPS if name in declaration.parameters]),
            answers=tuple([declaration.parameters["n"]] if "n" in declaration.parameters else []),
        )
        self._codes = {code: getattr(errors, kind) for code, kind in declaration.error_codes.items()}

    def encode_chat(self, request: Request) -> Outgoing:
        declared = self._is
        body: dict[str, Any] = {}
        for pointer, value in declared.fixed.items():
            write(body, pointer, deepcopy(value))
        if declared.model:
            write(body, declared.model, request.model)
        self._write_conversation(body, request.messages, request.markers)
        self.abilities.write(body, request.parameters)
        path = declared.path
        accept = "application/json"
        if request.stream and declared.stream is not None:
            path = declared.stream.path or path
            accept = _ACCEPT[declared.stream.framing]
            if declared.stream.switch:
                write(body, declared.stream.switch, True)
        body.update(request.extra)
        operation: OperationName = "stream" if path != declared.path else "chat"
        return Outgoing(operation, path, body, accept=accept)

    def _write_conversation(self, body: dict[str, Any], messages: Sequence[Message], markers: Markers) -> None:
        declared = self._is
        messages = in_words(messages)
        if declared.system:
            system, messages = system_and_rest(messages)
            if system:
                write(body, declared.system, system)
        if declared.prompt:
            write(body, declared.prompt, prompt_of(messages, markers))
            return
        merged: list[Json] = []
        for message in messages:
            entry: dict[str, Any] = {}
            write(entry, declared.role, declared.roles.get(message.role, message.role))
            write(entry, declared.content, words_of(message, self.name))
            merged.append(entry)
        write(body, declared.messages, merged)

    def decode_chat(self, body: bytes) -> Completion | Fault:
        value = _json(body)
        if (fault := self.fault_in(value)) is not None:
            return fault
        declared = self._is
        text = read(value, declared.text)
        texts = text if isinstance(text, list) else [text]
        if text is MISSING or not texts:
            raise ReplyUnreadable(
                f"the reply has nothing at {declared.text}, where dialect {self.name} has its text",
                hint=f"Correct text in [dialects.{self.name}].",
            )
        finish = self.finish(read(value, declared.finish_reason)) if declared.finish_reason else None
        reasoning = _text(read(value, declared.reasoning)) if declared.reasoning else None
        choices = tuple([Choice(_text(each), finish, reasoning=reasoning or None) for each in texts])
        return Completion(choices, self.reported_model(value), None, self.usage(value))

    def fault_in(self, value: Json) -> Fault | None:
        """The error that a reply of good status holds."""
        if not self._is.error:
            return None
        error_text = read(value, self._is.error)
        if error_text is MISSING or not error_text:  # null, "", false, 0, {} or []: many say so that there is none
            return None
        return self._classified(200, {}, _text(error_text), value)

    def finish(self, reason: Json) -> str | None:
        """The reason of the end in the library's own words."""
        return self._is.finish_reasons.get(reason, reason) if isinstance(reason, str) else None

    def reported_model(self, value: Json) -> str | None:
        """The model that a reply names."""
        model = read(value, self._is.reported_model) if self._is.reported_model else MISSING
        return model if isinstance(model, str) else None

    def usage(self, value: Json) -> Usage | None:
        """The counts of a reply."""
        values = {name: read(value, pointer) for name, pointer in self._is.usage.items()}
        counts = {name: int(count) for name, count in values.items() if isinstance(count, (int, float))}
        if not counts:
            return None
        if "total_tokens" not in counts and {"input_tokens", "output_tokens"} <= counts.keys():
            counts["total_tokens"] = counts["input_tokens"] + counts["output_tokens"]
        return Usage(**counts)

    def stream_decoder(self) -> StreamDecoder | None:
        return _DeclaredStream(self, self._is, self._is.stream) if self._is.stream is not None else None

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        try:
            value = decode_json(body)
        except (*UNDECODABLE, RecursionError):
            return classify(status, headers, body, {})
        error_text = read(value, self._is.error) if self._is.error else MISSING
        if error_text is MISSING or error_text is None:
            return classify(status, headers, body, self._codes)
        return self._classified(status, headers, _text(error_text), value)

    def _classified(self, status: int, headers: Mapping[str, str], error_text: str, value: Json) -> Fault:
        code = read(value, self._is.error_code) if self._is.error_code else None
        declaration = {"error": {"message": error_text, "code": str(code) if isinstance(code, (str, int)) else None}}
        return classify(status, headers, msgspec.json.encode(declaration), self._codes)

    def encode_models(self) -> Outgoing | None:
        declared = self._is.models
        return Outgoing("models", declared.path, method="GET") if declared is not None else None

    def decode_models(self, body: bytes) -> tuple[ListedModel, ...]:
        declared = self._is.models
        listed = read(_json(body), declared.list) if declared is not None else None
        if declared is None or not isinstance(listed, list):
            raise ReplyUnreadable("there is no list of models in the reply")
        names = [each if isinstance(each, str) else read(each, declared.name) for each in listed]
        return tuple([ListedModel(name=name) for name in names if isinstance(name, str)])


def _json(body: bytes) -> Json:
    try:
        return decode_json(body)
    except (*UNDECODABLE, RecursionError) as error:
        try:
            return first_value(body)
        except (ValueError, RecursionError):
            raise ReplyUnreadable(f"the reply is not JSON ({error})") from None


def _text(value: Json) -> str:
    if value is MISSING or value is None:
        return ""
    return value if isinstance(value, str) else msgspec.json.encode(value).decode()


class _DeclaredStream(PayloadStream):
    """Pieces of a declared dialect."""

    def __init__(self, dialect: DeclaredDialect, declaration: Declaration, stream: StreamDeclaration) -> None:
        super().__init__(_FRAMINGS[stream.framing]())
        self._dialect = dialect
        self._declaration = declaration
        self._stream = stream
        self._end = stream.end.encode()
        self._finished = False
        self._has_error = False
        self._started = False

    def end(self) -> bool:
        has_end_mark = (
            self._stream.end or self._stream.done or self._stream.finish_reason or self._declaration.finish_reason
        )
        # Where nothing tells the end, the end of the connection does.
        return self.done or self._finished or (not has_end_mark and self._has_error)

    def take(self, name: str, payload: bytes, events: list[Event]) -> None:
        if self._end and payload.strip() == self._end:
            self.done = True
            return
        try:
            value = decode_json(payload)
        except (*UNDECODABLE, RecursionError) as error:
            self.failure = Fault(ReplyUnreadable, f"a part of the stream cannot be read ({error})")
            return
        if (fault := self._dialect.fault_in(value)) is not None:
            self.failure = fault
            return
        self._has_error = True
        declaration, stream = self._declaration, self._stream
        model = self._dialect.reported_model(value)
        if model is not None and not self._started:
            self._started = True
            events.append(Started(model))
        if (pointer := stream.reasoning or declaration.reasoning) and (thought := _text(read(value, pointer))):
            events.append(Reasoning(thought))
        found = read(value, stream.text or declaration.text)
        if text := "".join(map(_text, found)) if isinstance(found, list) else _text(found):
            events.append(Text(text))
        pointer = stream.finish_reason or declaration.finish_reason
        if pointer and (reason := self._dialect.finish(read(value, pointer))) is not None:
            self._finished = True
            events.append(Finished(reason))
        if (usage := self._dialect.usage(value)) is not None:
            events.append(UsageTold(usage))
        if stream.done and read(value, stream.done) is True:
            self.done = True
