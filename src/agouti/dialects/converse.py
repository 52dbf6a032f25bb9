"""The dialect marked by ``POST {base}/model/{model}/converse``: blocks without types, streams of binary frames."""

from collections.abc import Mapping
from typing import Any

import msgspec
from msgspec import Struct

from ..core.address import Ending
from ..core.chat import Choice, Citation, Completion, Json, Message, Request, ToolCall, ToolFunction
from ..core.errors import (
    AgoutiError,
    CredentialRefused,
    ModelUnknown,
    NoAccess,
    Overloaded,
    ParameterUnsupported,
    ProviderFault,
    RateLimited,
    ReplyUnreadable,
    RequestError,
)
from ..core.events import Cited, Event, Finished, Reasoning, Text, ToolCallPiece, UsageTold
from ..core.framing_binary import FrameDecoder
from ..core.framing_sse import ServerEvent
from ..core.messages import ImagePart, arguments_of, by_role, parts_of, system_and_rest
from ..core.usage import Usage
from ..core.vectors import Vectors, VectorsRequest
from .base import (
    Abilities,
    Dialect,
    Fault,
    Field,
    Outgoing,
    StreamDecoder,
    VectorAbility,
    Write,
    as_list,
    as_written,
    chosen_function,
    function_of,
    in_common,
    is_function,
)
from .call_numbers import CallNumbers
from .faults import classify
from .streams import PayloadStream, read_reply

_CONFIG = "inferenceConfig"
_FORMATS = {"image/png": "png", "image/jpeg": "jpeg", "image/gif": "gif", "image/webp": "webp"}
_FINISH = {
    "end_turn": "stop",
    "stop_sequence": "stop",
    "max_tokens": "length",
    "tool_use": "tool_calls",
    "guardrail_intervened": "content_filter",
    "content_filtered": "content_filter",
}
_ERROR_TYPE = "x-amzn-errortype"
_CODES: dict[str, type[AgoutiError]] = {
    "AccessDeniedException": NoAccess,
    "ResourceNotFoundException": ModelUnknown,
    "ThrottlingException": RateLimited,
    "ServiceQuotaExceededException": RateLimited,
    "ModelNotReadyException": Overloaded,
    "ServiceUnavailableException": Overloaded,
    "ModelTimeoutException": ProviderFault,
    "ModelErrorException": ProviderFault,
    "ModelStreamErrorException": ProviderFault,
    "InternalServerException": ProviderFault,
    "UnrecognizedClientException": CredentialRefused,
    "InvalidSignatureException": CredentialRefused,
    "MissingAuthenticationTokenException": CredentialRefused,
    "ExpiredTokenException": CredentialRefused,
}


class _ToolUse(Struct, rename="camel"):
    tool_use_id: str | None = None
    name: str | None = None
    input: Any = None


class _ReasoningText(Struct):
    text: str | None = None


class _Reasoning(Struct, rename="camel"):
    reasoning_text: _ReasoningText | None = None
    text: str | None = None


class _SourceText(Struct):
    text: str | None = None


class _Citation(Struct, rename="camel"):
    title: str | None = None
    source: str | None = None
    source_content: list[_SourceText] | None = None


class _Citations(Struct):
    content: list[_SourceText] | None = None
    citations: list[_Citation] | None = None


class _Block(Struct, rename="camel"):
    text: str | None = None
    tool_use: _ToolUse | None = None
    reasoning_content: _Reasoning | None = None
    citations_content: _Citations | None = None


class _Message(Struct):
    content: list[_Block] | None = None


class _Output(Struct):
    message: _Message | None = None


class _Usage(Struct, rename="camel", gc=False):
    input_tokens: int | None = None
    output_tokens: int | None = None
    total_tokens: int | None = None
    cache_read_input_tokens: int | None = None
    cache_write_input_tokens: int | None = None


class _Reply(Struct, rename="camel"):
    output: _Output | None = None
    stop_reason: str | None = None
    usage: _Usage | None = None


class _Delta(Struct, rename="camel", gc=False):
    text: str | None = None
    tool_use: _ToolUse | None = None
    reasoning_content: _Reasoning | None = None
    citation: _Citation | None = None


class _Start(Struct, rename="camel"):
    tool_use: _ToolUse | None = None


class _StreamEvent(Struct, rename="camel"):
    content_block_index: int | None = None
    delta: _Delta | None = None
    start: _Start | None = None
    stop_reason: str | None = None
    usage: _Usage | None = None


class _Embedding(Struct, rename="camel"):
    embedding: list[float] | None = None
    input_text_token_count: int | None = None


_EVENT = msgspec.json.Decoder(_StreamEvent)
_encode = msgspec.json.Encoder().encode


def _tools(body: dict[str, Any], tools: list[Mapping[str, Any]], parameters: Mapping[str, Json]) -> None:
    choice = parameters.get("tool_choice")
    if not tools or (choice == "none" and not _called(body["messages"])):
        return
    if choice == "none":
        raise ParameterUnsupported(
            "dialect converse cannot forbid tools in a conversation that has called some",
            parameter="tool_choice",
            hint='Leave tool_choice = "none" out and say it in the prompt.',
        )
    config: dict[str, Json] = {"tools": [_tool(tool) for tool in tools]}
    if isinstance(choice, Mapping):
        config["toolChoice"] = {"tool": {"name": chosen_function(choice)}}
    elif choice is not None:
        config["toolChoice"] = {"any": {}} if choice == "required" else {"auto": {}}
    body["toolConfig"] = config


def _called(turns: list[dict[str, Any]]) -> bool:
    return any("toolUse" in block or "toolResult" in block for turn in turns for block in turn["content"])


def _tool(tool: Mapping[str, Any]) -> dict[str, Json]:
    if not is_function(tool):
        return dict(tool)
    function = function_of(tool)
    spec: dict[str, Json] = {
        "name": function.get("name"),
        "inputSchema": {"json": function.get("parameters") or {"type": "object"}},
    }
    if function.get("description"):
        spec["description"] = function["description"]
    return {"toolSpec": spec}


_PARAMETERS: dict[str, Write] = {
    "max_tokens": Field(f"{_CONFIG}/maxTokens"),
    "temperature": Field(f"{_CONFIG}/temperature"),
    "top_p": Field(f"{_CONFIG}/topP"),
    "stop": Field(f"{_CONFIG}/stopSequences", as_list),
    "tools": _tools,
    "tool_choice": as_written,
}


class ConverseDialect(Dialect):
    """See the module."""

    name = "converse"
    abilities = Abilities(
        parameters=_PARAMETERS,
        means=("tool", "prompt"),
        schema_style="inlined",
        image_addresses=False,
        vectors=VectorAbility(max_texts=1),
        endings=(Ending(r"/model/(?P<model>[^/]+)/(?:converse|converse-stream|invoke)"),),
    )

    def encode_chat(self, request: Request) -> Outgoing:
        system, rest = system_and_rest(request.messages)
        body: dict[str, Any] = {
            "messages": [{"role": role, "content": blocks} for role, blocks in by_role(rest, _blocks)]
        }
        if system:
            body["system"] = [{"text": system}]
        self.abilities.write(body, request.parameters)
        extra = dict(request.extra)
        if _CONFIG in extra:
            body[_CONFIG] = {**body.get(_CONFIG, {}), **extra.pop(_CONFIG)}
        body.update(extra)
        if request.stream:
            return Outgoing(
                "stream", "/model/{model}/converse-stream", body, accept="application/vnd.amazon.eventstream"
            )
        return Outgoing("chat", "/model/{model}/converse", body)

    def decode_chat(self, body: bytes) -> Completion | Fault:
        reply = read_reply(body, _Reply, "the reply")
        if reply.output is None:
            raise ReplyUnreadable("the reply is JSON, but has no `output`")
        blocks = (reply.output.message.content if reply.output.message is not None else None) or []
        texts, thoughts, calls, citations = [], [], [], []
        for block in blocks:
            texts.append(block.text or "")
            if block.tool_use is not None:
                calls.append(_call(block.tool_use))
            if block.reasoning_content is not None:
                inner = block.reasoning_content.reasoning_text
                thoughts.append((inner.text if inner is not None else None) or "")
            if block.citations_content is not None:
                texts += [piece.text or "" for piece in block.citations_content.content or ()]
                citations += [_citation(each) for each in block.citations_content.citations or ()]
        choice = Choice(
            "".join(texts),
            in_common(_FINISH, reply.stop_reason),
            reasoning="".join(thoughts) or None,
            tool_calls=tuple(calls),
            citations=tuple(citations),
        )
        return Completion((choice,), None, None, _usage(reply.usage) if reply.usage is not None else None)

    def stream_decoder(self) -> StreamDecoder:
        return _ConverseStream(self)

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        fault = classify(status, headers, body, _CODES)
        kind = _CODES.get(headers.get(_ERROR_TYPE, "").partition(":")[0])
        return fault if kind is None else msgspec.structs.replace(fault, kind=kind, parameter=None)

    def encode_vectors(self, request: VectorsRequest) -> Outgoing:
        body: dict[str, Any] = {"inputText": request.texts[0]}
        if request.dimensions is not None:
            body["dimensions"] = request.dimensions
        return Outgoing("embeddings", "/model/{model}/invoke", {**body, **request.extra})

    def decode_vectors(self, body: bytes) -> Vectors | Fault:
        reply = read_reply(body, _Embedding, "the reply")
        if reply.embedding is None:
            raise ReplyUnreadable("the reply is JSON, but has no `embedding`")
        count = reply.input_text_token_count
        return Vectors([reply.embedding], None, None if count is None else Usage(count, 0, count))


def _blocks(message: Message) -> list[dict[str, Json]]:
    if message.role == "tool":
        content = _content(message) or [{"text": ""}]
        result = {"toolUseId": message.tool_call_id or "", "content": content, "status": "success"}
        return [{"toolResult": result}]
    return _content(message) + [
        {"toolUse": {"toolUseId": call.id or "", "name": call.function.name, "input": arguments_of(call)}}
        for call in message.tool_calls
    ]


def _content(message: Message) -> list[dict[str, Json]]:
    blocks: list[dict[str, Json]] = []
    for part in parts_of(message):
        if not isinstance(part, ImagePart):
            blocks.append({"text": part.text})
        elif not part.data:
            raise RequestError(
                "dialect converse takes images only as data, not by their address",
                hint="Pass the image itself (a path or its bytes), or allow that it is fetched: fetch_images=True.",
            )
        elif part.media_type not in _FORMATS:
            raise RequestError(
                f"dialect converse takes no images of type {part.media_type}",
                hint=f"It takes {', '.join(_FORMATS)}.",
            )
        else:
            blocks.append({"image": {"format": _FORMATS[part.media_type], "source": {"bytes": part.data}}})
    return blocks


def _call(use: _ToolUse) -> ToolCall:
    arguments = _encode(use.input if isinstance(use.input, dict) else {}).decode()
    return ToolCall(ToolFunction(use.name, arguments), use.tool_use_id)


def _citation(cited: _Citation) -> Citation:
    quote = "".join([piece.text or "" for piece in cited.source_content or ()])
    return Citation(cited.source or "", cited.title or "", quote)


def _usage(usage: _Usage) -> Usage:
    # As with its kin, the cached ones are not in inputTokens.
    cached = usage.cache_read_input_tokens
    inputs = (
        None
        if usage.input_tokens is None
        else usage.input_tokens + (cached or 0) + (usage.cache_write_input_tokens or 0)
    )
    return Usage(inputs, usage.output_tokens, usage.total_tokens, cached)


class _Frames:
    """The frames of a stream as named payloads; an exception gets a name with a mark before it."""

    def __init__(self) -> None:
        self._decoder = FrameDecoder()

    def feed(self, data: bytes) -> list[ServerEvent]:
        payloads: list[ServerEvent] = []
        for frame in self._decoder.feed(data):
            headers = frame.headers
            if headers.get(":message-type") == "exception":
                payloads.append(("!" + headers.get(":exception-type", ""), frame.payload or b"{}"))
            elif headers.get(":message-type") == "error":
                error = {"message": headers.get(":error-message", "")}
                payloads.append(("!" + headers.get(":error-code", ""), _encode(error)))
            else:
                payloads.append((headers.get(":event-type", ""), frame.payload or b"{}"))
        return payloads


class _ConverseStream(PayloadStream):
    """Frames from ``messageStart`` to ``metadata``, which comes behind ``messageStop``."""

    terminator = b""

    def __init__(self, dialect: ConverseDialect) -> None:
        super().__init__(_Frames())
        self._dialect = dialect
        self._calls = CallNumbers()
        self._stopped = False

    def end(self) -> bool:
        return self._stopped

    def take(self, name: str, payload: bytes, events: list[Event]) -> None:
        if name.startswith("!"):
            kind = name[1:2].upper() + name[2:]
            self.failure = self._dialect.classify(200, {_ERROR_TYPE: kind}, payload)
            return
        event = self.read(payload, _EVENT, _StreamEvent)
        if event is None:
            return
        match name:
            case "contentBlockDelta":
                self._delta(event, events)
            case "contentBlockStart":
                if event.start is not None and event.start.tool_use is not None:
                    use = event.start.tool_use
                    number = self._calls.opened(event.content_block_index)
                    events.append(ToolCallPiece(number, use.tool_use_id, use.name))
            case "messageStop":
                self._stopped = True
                events.append(Finished(in_common(_FINISH, event.stop_reason) or "stop"))
            case "metadata":
                if event.usage is not None:
                    events.append(UsageTold(_usage(event.usage)))
                self.done = self._stopped
            case _:
                pass

    def _delta(self, event: _StreamEvent, events: list[Event]) -> None:
        delta = event.delta
        if delta is None:
            return
        if delta.text:
            events.append(Text(delta.text))
        elif delta.tool_use is not None and isinstance(delta.tool_use.input, str):
            number = self._calls.at(event.content_block_index)
            events.append(ToolCallPiece(number, arguments=delta.tool_use.input))
        elif delta.reasoning_content is not None and delta.reasoning_content.text:
            events.append(Reasoning(delta.reasoning_content.text))
        elif delta.citation is not None:
            events.append(Cited(_citation(delta.citation)))
