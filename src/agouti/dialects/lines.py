"""The dialect marked by ``POST {base}/api/chat`` or ``/api/generate``: JSON lines, streaming unless told otherwise."""

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..core.canonical.chat import (
    Choice,
    Completion,
    Json,
    Markers,
    Message,
    ProviderTurn,
    Request,
    TokenLogprob,
    ToolCall,
    ToolFunction,
)
from ..core.canonical.events import (
    Event,
    Finished,
    LogprobsTold,
    Reasoning,
    Started,
    Text,
    ToolCallPiece,
    TurnTold,
    UsageTold,
)
from ..core.canonical.usage import Usage
from ..core.canonical.vectors import Vectors, VectorsRequest
from ..core.errors import ParameterUnsupported, ReplyUnreadable, RequestError
from ..core.framing.json_lines import LineSplitter
from ..core.http.address import Ending
from ..core.messages.call_pairs import named_results
from ..core.messages.messages import arguments_of, system_and_rest, without_images
from ..core.messages.parts import ImagePart, TextPart, parts_of, text_file
from ..core.text.growing_text import TextPieces
from .base import (
    Abilities,
    Dialect,
    EntryOptions,
    Field,
    StreamDecoder,
    VectorAbility,
    Write,
    as_list,
    extra_table,
    in_common,
    joined_text,
    no_response_format,
    system_of,
)
from .chat.fields import Logprob, LogprobFields, logprobs_of
from .prompt.dialect import prompt_of
from .shared.stream_decoding import PayloadStream, read_reply, rows_of
from .wire import Fault, ListedModel, Outgoing

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
    logprobs: list[Logprob] | None = None
    error: Any = None


class _Listed(Struct):
    name: str | None = None


class _List(Struct):
    models: list[Json]


class _VectorsReply(Struct):
    embeddings: list[list[float]] | None = None
    model: str | None = None
    prompt_eval_count: int | None = None
    error: Any = None


_LINE = msgspec.json.Decoder(_Line)
_encode = msgspec.json.Encoder().encode


def _format(body: dict[str, Any], form: Mapping[str, Any], _: Mapping[str, Json]) -> None:
    kind = form.get("type")
    if kind == "json_schema":
        body["format"] = form.get("json_schema", {}).get("schema")
    elif kind == "json_object":
        body["format"] = "json"
    elif kind != "text":
        raise no_response_format("lines", kind)


def _tools(body: dict[str, Any], tools: list[Json], _: Mapping[str, Json]) -> None:
    if tools:
        body["tools"] = tools


_EFFORTS: dict[str, bool | str] = {
    "none": False,
    "minimal": "low",
    "low": "low",
    "medium": "medium",
    "high": "high",
    "adaptive": True,
}


def _effort(effort: str) -> bool | str:
    if effort not in _EFFORTS:
        raise ParameterUnsupported(
            f"dialect lines has no reasoning_effort {effort!r}",
            parameter="reasoning_effort",
            hint=f"It takes {', '.join(_EFFORTS)}.",
        )
    return _EFFORTS[effort]


_PARAMETERS: dict[str, Write] = {
    "temperature": Field("options/temperature"),
    "top_p": Field("options/top_p"),
    "max_tokens": Field("options/num_predict"),
    "stop": Field("options/stop", as_list),
    "seed": Field("options/seed"),
    "presence_penalty": Field("options/presence_penalty"),
    "frequency_penalty": Field("options/frequency_penalty"),
    "tools": _tools,
    "reasoning_effort": Field("think", _effort),
    "top_k": Field("options/top_k"),
    "min_p": Field("options/min_p"),
    "repetition_penalty": Field("options/repeat_penalty"),
    "context_size": Field("options/num_ctx"),
    "logprobs": Field("logprobs"),
    "top_logprobs": Field("top_logprobs"),
    "response_format": _format,
}
_GENERATE = "/api/generate"


class LinesDialect(Dialect):
    """See the module.

    Args:
        generates: one prompt instead of messages: ``POST {base}/api/generate``.
    """

    name = "lines"
    abilities = Abilities(
        inputs=("text", "image"),
        parameters=_PARAMETERS,
        means=("schema", "json", "prompt"),
        schema_style="inlined",
        image_addresses=False,
        vectors=VectorAbility(max_texts=100),
        endings=(Ending(_GENERATE, keep=True), Ending("/api/(?:chat|tags|embed|show|version)")),
    )

    def __init__(self, *, generates: bool = False) -> None:
        self._generates = generates
        if generates:
            parameters = {name: write for name, write in _PARAMETERS.items() if name != "tools"}
            self.abilities = replace(LinesDialect.abilities, parameters=parameters)

    def configured(self, options: EntryOptions) -> "LinesDialect":
        return LinesDialect(generates=options.chat_path.endswith(_GENERATE))

    def encode_chat(self, request: Request) -> Outgoing:
        messages = request.messages
        prompt_fields = _prompt(messages, request.markers) if self._generates else {"messages": _messages(messages)}
        body: dict[str, Any] = {"model": request.model, **prompt_fields, "stream": request.stream}
        self.abilities.write(body, request.parameters)
        extra = dict(request.extra)
        if "options" in extra:
            body["options"] = {**body.get("options", {}), **extra_table(extra, "options")}
        body.update(extra)
        return Outgoing("chat", _GENERATE if self._generates else "/api/chat", body)

    def decode_chat(self, body: bytes) -> Completion | Fault:
        reply = read_reply(body, _Line, "the reply")
        message = reply.message
        if message is None and reply.response is not None:
            message = _Message(reply.response, reply.thinking)
        if message is None:
            if reply.error:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but not a chat reply: it has no `message`")
        calls = tuple([_call(number, call) for number, call in enumerate(message.tool_calls or ())])
        reason = _finish(reply, bool(calls))
        choice = Choice(
            message.content or "",
            reason,
            reasoning=message.thinking or None,
            tool_calls=calls,
            logprobs=_logprobs(reply),
            provider_turn=_turn_of(message.thinking),
        )
        return Completion((choice,), reply.model, None, _usage(reply))

    def stream_decoder(self) -> StreamDecoder:
        return _LinesStream(self)

    def pasted_system(self, body: dict[str, Any]) -> str:
        return joined_text(body.get("system")) or system_of(body.get("messages"))

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from .shared.error_mapping import classify

        return classify(status, headers, body, {})

    def encode_models(self) -> Outgoing:
        return Outgoing("models", "/api/tags", method="GET")

    def encode_vectors(self, request: VectorsRequest) -> Outgoing:
        body: dict[str, Any] = {"model": request.model, "input": request.texts}
        if request.dimensions is not None:
            body["dimensions"] = request.dimensions
        return Outgoing("embeddings", "/api/embed", {**body, **request.extra})

    def decode_vectors(self, body: bytes) -> Vectors | Fault:
        reply = read_reply(body, _VectorsReply, "the reply")
        if reply.embeddings is None:
            if reply.error is not None:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but not one with vectors: it has no `embeddings`")
        count = reply.prompt_eval_count
        return Vectors(list(reply.embeddings), reply.model, None if count is None else Usage(count, 0, count))

    def decode_models(self, body: bytes) -> tuple[ListedModel, ...]:
        listed = rows_of(read_reply(body, _List, "the list of models").models, _Listed)
        return tuple([ListedModel(name=model.name) for model in listed if model.name])


def _prompt(messages: Sequence[Message], markers: Markers) -> dict[str, Json]:
    """The conversation as one prompt, its system text and its images beside it."""
    system, remaining = system_and_rest(messages)
    images = [part for message in remaining for part in parts_of(message) if isinstance(part, ImagePart)]
    body: dict[str, Json] = {}
    if images:
        body["images"] = [_data(image) for image in images]
        remaining = without_images(remaining, "lines")
    body["prompt"] = prompt_of(remaining, markers)
    return {**body, "system": system} if system else body


def _data(image: ImagePart) -> str:
    if not image.data:
        raise RequestError(
            "dialect lines takes images only as data, not by their address",
            hint="Pass the image itself (a path or its bytes), or allow that it is fetched: fetch_images=True.",
        )
    return image.data


def _messages(messages: Sequence[Message]) -> list[dict[str, Json]]:
    items = []
    for message in named_results(messages):
        texts, images = [], []
        for part in parts_of(message):
            if isinstance(part, ImagePart):
                images.append(_data(part))
            elif isinstance(part, TextPart):
                texts.append(part.text)
            else:
                texts.append(text_file(part, "lines"))
        role = "system" if message.role == "developer" else message.role
        item: dict[str, Json] = {"role": role, "content": "".join(texts)}
        if images:
            item["images"] = images
        if message.tool_calls:
            item["tool_calls"] = [
                {"function": {"name": call.function.name, "arguments": arguments_of(call)}}
                for call in message.tool_calls
            ]
        if (provider_turn := message.provider_turn) is not None and provider_turn.dialect == "lines":
            item.update(provider_turn.blocks[0] if provider_turn.blocks else {})
        if message.role == "tool":
            item["tool_name"] = message.name or ""
        items.append(item)
    return items


def _call(number: int, call: _Call) -> ToolCall:
    function = call.function or _Function()
    arguments = function.arguments
    text = arguments if isinstance(arguments, str) else _encode(arguments if arguments is not None else {}).decode()
    # The format has no identifiers, and conversations need them.
    return ToolCall(ToolFunction(function.name, text), call.id or f"call_{number}")


def _turn_of(thinking: str | None) -> ProviderTurn | None:
    """What goes back with the answer: its thinking."""
    return ProviderTurn("lines", [{"thinking": thinking}]) if thinking else None


def _logprobs(line: _Line) -> tuple[TokenLogprob, ...]:
    return logprobs_of(LogprobFields(line.logprobs)) if line.logprobs else ()


def _finish(line: _Line, called: bool) -> str | None:
    reason = in_common(_FINISH, line.done_reason or ("stop" if line.done else None))
    return "tool_calls" if called and reason in ("stop", None) else reason


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
        self._thinking = TextPieces()

    def take(self, name: str, payload: bytes, events: list[Event]) -> None:
        line = self.read(payload, _LINE, _Line)
        if line is None:
            return
        if line.error:
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
                self._thinking.add(message.thinking)
                self._thinking.compact()
            if message.content:
                events.append(Text(message.content))
            for call in message.tool_calls or ():
                read = _call(self._called, call)
                events.append(ToolCallPiece(self._called, read.id, read.function.name, read.function.arguments or ""))
                self._called += 1
        if line.logprobs:
            events.append(LogprobsTold(_logprobs(line)))
        if line.done:
            self.done = True
            if (provider_turn := _turn_of(str(self._thinking))) is not None:
                events.append(TurnTold(provider_turn))
            events.append(Finished(_finish(line, self._called > 0) or "stop"))
            if (usage := _usage(line)) is not None:
                events.append(UsageTold(usage))
