"""The dialect marked by ``POST {base}/api/chat`` or ``/api/generate``: JSON lines, streaming unless told otherwise."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, ClassVar

import msgspec
from msgspec import Struct

from ..core.chat import Choice, Completion, Json, Markers, Message, Request, ToolCall, ToolFunction, Usage
from ..core.errors import ParameterUnsupported, ReplyUnreadable, RequestError
from ..core.events import Event, Finished, Reasoning, Started, Text, ToolCallPiece, UsageTold
from ..core.jsonlines import LineSplitter
from ..core.parameters import renamed
from ..core.parts import ImagePart, arguments_of, messages_of, parts_of, system_and_rest, text_of
from ..core.vectors import Vectors, VectorsWanted
from .base import Fault, ListedModel, Means, Outgoing, StreamDecoder
from .prompt import prompt_of
from .streams import PayloadStream, read_reply

if TYPE_CHECKING:
    from ..core.schema import Style

# Parameters that go into `options`, some under another name.
_OPTIONS = {
    "temperature": "temperature",
    "top_p": "top_p",
    "max_tokens": "num_predict",
    "stop": "stop",
    "seed": "seed",
    "presence_penalty": "presence_penalty",
    "frequency_penalty": "frequency_penalty",
}
_FINISH = {"stop": "stop", "length": "length", "load": "stop", "unload": "stop"}


class _Function(Struct):
    name: str | None = None
    arguments: Any = None


class _Call(Struct):
    function: _Function | None = None
    id: str | None = None


class _Message(Struct):
    content: str | None = None
    thinking: str | None = None
    tool_calls: list[_Call] | None = None


class _Line(Struct):
    """A whole reply, and each line of a streamed one."""

    model: str | None = None
    message: _Message | None = None
    response: str | None = None
    thinking: str | None = None
    done: bool | None = None
    done_reason: str | None = None
    prompt_eval_count: int | None = None
    eval_count: int | None = None
    error: Any = None


class _Listed(Struct):
    name: str | None = None


class _List(Struct):
    models: list[_Listed]


class _VectorsReply(Struct):
    embeddings: list[list[float]] | None = None
    model: str | None = None
    prompt_eval_count: int | None = None
    error: Any = None


_LINE = msgspec.json.Decoder(_Line)
_encode = msgspec.json.Encoder().encode


class LinesDialect:
    """See the module.

    Args:
        generates: one prompt instead of messages: ``POST {base}/api/generate``.
    """

    name: ClassVar[str] = "lines"
    means: ClassVar[tuple[Means, ...]] = ("schema", "json", "prompt")
    style: ClassVar["Style"] = "inlined"
    takes: ClassVar[frozenset[str] | None] = frozenset({*_OPTIONS, "tools", "response_format", "reasoning_effort"})

    takes_addresses: ClassVar[bool] = False
    most_texts: ClassVar[int] = 100
    base64: ClassVar[bool] = False

    def __init__(self, *, generates: bool = False) -> None:
        self._generates = generates

    def encode_chat(self, request: Request) -> Outgoing:
        given = request.parameters
        messages = messages_of(request.messages)
        said = _prompt(messages, request.markers) if self._generates else {"messages": _messages(messages)}
        body: dict[str, Any] = {"model": request.model, **said, "stream": request.stream}
        options = renamed(given, _OPTIONS)
        if options:
            body["options"] = options
        if given.get("tools"):
            if self._generates:
                raise _lacks("tools", "dialect lines has no tools at /api/generate")
            body["tools"] = given["tools"]
        if "reasoning_effort" in given:
            body["think"] = given["reasoning_effort"] != "none"
        if "response_format" in given:
            wanted = given["response_format"]
            if wanted.get("type") == "json_schema":
                body["format"] = wanted.get("json_schema", {}).get("schema")
            elif wanted.get("type") == "json_object":
                body["format"] = "json"
            elif wanted.get("type") != "text":
                raise _lacks("response_format", f"dialect lines has no response_format {wanted.get('type')!r}")
        extra = dict(request.extra)
        if "options" in extra:
            body["options"] = {**options, **extra.pop("options")}
        body.update(extra)
        return Outgoing("chat", "/api/generate" if self._generates else "/api/chat", body)

    def decode_chat(self, body: bytes) -> Completion | Fault:
        reply = read_reply(body, _Line, "the reply")
        message = reply.message
        if message is None and reply.response is not None:
            message = _Message(reply.response, reply.thinking)
        if message is None:
            if reply.error is not None:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but not a chat reply: it has no `message`")
        calls = tuple([_call(place, call) for place, call in enumerate(message.tool_calls or ())])
        reason = _finish(reply, bool(calls))
        choice = Choice(message.content or "", reason, message.thinking or None, None, calls)
        return Completion((choice,), reply.model, None, _usage(reply))

    def stream_decoder(self) -> StreamDecoder:
        return _LinesStream(self)

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from .faults import classify

        return classify(status, headers, body, {})

    def encode_models(self) -> Outgoing:
        return Outgoing("models", "/api/tags", method="GET")

    def encode_vectors(self, wanted: VectorsWanted) -> Outgoing:
        body: dict[str, Any] = {"model": wanted.model, "input": wanted.texts}
        if wanted.dimensions is not None:
            body["dimensions"] = wanted.dimensions
        return Outgoing("embeddings", "/api/embed", {**body, **wanted.extra})

    def decode_vectors(self, body: bytes) -> Vectors | Fault:
        reply = read_reply(body, _VectorsReply, "the reply")
        if reply.embeddings is None:
            if reply.error is not None:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but not one with vectors: it has no `embeddings`")
        count = reply.prompt_eval_count
        return Vectors(list(reply.embeddings), reply.model, None if count is None else Usage(count, 0, count))

    def decode_models(self, body: bytes) -> tuple[ListedModel, ...]:
        listed = read_reply(body, _List, "the list of models").models
        return tuple([ListedModel(model.name) for model in listed if model.name])


def _lacks(parameter: str, what: str) -> ParameterUnsupported:
    error = ParameterUnsupported(what, hint=f"Leave {parameter} out.")
    error.parameter = parameter
    return error


def _prompt(messages: list[Message], markers: Markers) -> dict[str, Json]:
    """The conversation as one prompt, its system text and its pictures beside it."""
    system, rest = system_and_rest(messages)
    images = [part for message in rest for part in parts_of(message) if isinstance(part, ImagePart)]
    found: dict[str, Json] = {}
    if images:
        found["images"] = [_data(image) for image in images]
        rest = [Message(message.role, text_of(message), tool_calls=message.tool_calls) for message in rest]
    found["prompt"] = prompt_of(rest, markers)
    return {**found, "system": system} if system else found


def _data(image: ImagePart) -> str:
    if not image.data:
        raise RequestError(
            "dialect lines takes pictures only as data, not by their address",
            hint="Pass the picture itself (a path or its bytes), or allow that it is fetched: fetch_images=True.",
        )
    return image.data


def _messages(messages: list[Message]) -> list[dict[str, Json]]:
    names = {call.id: call.function.name for message in messages for call in message.tool_calls or ()}
    found = []
    for message in messages:
        texts, images = [], []
        for part in parts_of(message):
            if isinstance(part, ImagePart):
                images.append(_data(part))
            else:
                texts.append(part.text)
        role = "system" if message.role == "developer" else message.role
        item: dict[str, Json] = {"role": role, "content": "".join(texts)}
        if images:
            item["images"] = images
        if message.tool_calls:
            item["tool_calls"] = [
                {"function": {"name": call.function.name, "arguments": arguments_of(call)}}
                for call in message.tool_calls
            ]
        if message.role == "tool":
            item["tool_name"] = message.name or names.get(message.tool_call_id) or ""
        found.append(item)
    return found


def _call(place: int, call: _Call) -> ToolCall:
    function = call.function or _Function()
    arguments = function.arguments
    text = arguments if isinstance(arguments, str) else _encode(arguments if arguments is not None else {}).decode()
    # The format has no identifiers, and conversations need them.
    return ToolCall(ToolFunction(function.name, text), call.id or f"call_{place}")


def _finish(line: _Line, called: bool) -> str | None:
    if called:
        return "tool_calls"
    reason = line.done_reason or ("stop" if line.done else None)
    return _FINISH.get(reason, reason) if reason is not None else None


def _usage(line: _Line) -> Usage | None:
    inputs, outputs = line.prompt_eval_count, line.eval_count
    if inputs is None and outputs is None:
        return None
    # A prompt that is cached whole is not counted at all.
    return Usage(inputs or 0, outputs, (inputs or 0) + outputs if outputs is not None else None)


class _LinesStream(PayloadStream):
    """One JSON object to a line; the last one says ``done``."""

    def __init__(self, dialect: LinesDialect) -> None:
        super().__init__(LineSplitter())
        self._dialect = dialect
        self._started = False
        self._called = 0

    def take(self, name: str, payload: bytes, events: list[Event]) -> None:
        line = self.read(payload, _LINE, _Line)
        if line is None:
            return
        if line.error is not None:
            self.failure = self._dialect.classify(200, {}, payload)
            return
        if not self._started and line.model is not None:
            self._started = True
            events.append(Started(line.model))
        message = line.message
        if message is None and (line.response or line.thinking):
            message = _Message(line.response, line.thinking)
        if message is not None:
            if message.thinking:
                events.append(Reasoning(message.thinking))
            if message.content:
                events.append(Text(message.content))
            for call in message.tool_calls or ():
                made = _call(self._called, call)
                events.append(ToolCallPiece(self._called, made.id, made.function.name, made.function.arguments or ""))
                self._called += 1
        if line.done:
            self.done = True
            events.append(Finished(_finish(line, self._called > 0) or "stop"))
            if (usage := _usage(line)) is not None:
                events.append(UsageTold(usage))
