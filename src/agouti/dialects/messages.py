"""The dialect marked by ``POST {base}/messages``: content in blocks, the system text apart, roles that alternate."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, ClassVar

import msgspec
from msgspec import Struct

from ..core.chat import Choice, Citation, Completion, Json, Message, Request, ToolCall, ToolFunction, Usage
from ..core.errors import (
    ContentRefused,
    ContextOverflow,
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
from ..core.events import Cited, Event, Finished, Reasoning, Started, Text, ToolCallPiece, UsageTold
from ..core.parameters import renamed
from ..core.parts import ImagePart, arguments_of, by_role, messages_of, parts_of, system_and_rest
from ..core.sse import SseDecoder
from .base import Fault, ListedModel, Means, Outgoing, StreamDecoder
from .streams import PayloadStream, read_reply

if TYPE_CHECKING:
    from ..core.schema import Style

# The format demands a cap. This one is said nowhere by the caller, so it is generous; a reply that
# meets it is marked as truncated like any other.
_USUAL_CAP = 4096
_THINKING = {"minimal": 1024, "low": 1024, "medium": 4096, "high": 16384}

_FINISH = {
    "end_turn": "stop",
    "stop_sequence": "stop",
    "pause_turn": "stop",
    "max_tokens": "length",
    "model_context_window_exceeded": "length",
    "tool_use": "tool_calls",
    "refusal": "refusal",
}
_CODES = {
    "authentication_error": CredentialRefused,
    "permission_error": NoAccess,
    "not_found_error": ModelUnknown,
    "request_too_large": ContextOverflow,
    "rate_limit_error": RateLimited,
    "overloaded_error": Overloaded,
    "api_error": ProviderFault,
    "content_policy_violation": ContentRefused,
}


class _Usage(Struct, gc=False):
    input_tokens: int | None = None
    output_tokens: int | None = None
    cache_creation_input_tokens: int | None = None
    cache_read_input_tokens: int | None = None


class _Citation(Struct):
    url: str | None = None
    title: str | None = None
    document_title: str | None = None
    cited_text: str | None = None


class _Block(Struct):
    type: str | None = None
    text: str | None = None
    thinking: str | None = None
    id: str | None = None
    name: str | None = None
    input: Any = None
    citations: list[_Citation] | None = None


class _Reply(Struct):
    type: str | None = None
    id: str | None = None
    model: str | None = None
    content: list[_Block] | None = None
    stop_reason: str | None = None
    usage: _Usage | None = None
    error: Any = None


class _Delta(Struct, gc=False):
    type: str | None = None
    text: str | None = None
    thinking: str | None = None
    partial_json: str | None = None
    citation: _Citation | None = None
    stop_reason: str | None = None


class _StreamEvent(Struct):
    type: str | None = None
    index: int | None = None
    delta: _Delta | None = None
    message: _Reply | None = None
    content_block: _Block | None = None
    usage: _Usage | None = None


class _Listed(Struct):
    id: str | None = None


class _List(Struct):
    data: list[_Listed]


_EVENT = msgspec.json.Decoder(_StreamEvent)
_encode = msgspec.json.Encoder().encode


class MessagesDialect:
    """See the module."""

    name: ClassVar[str] = "messages"
    means: ClassVar[tuple[Means, ...]] = ("schema", "tool", "prompt")
    style: ClassVar["Style"] = "closed"
    takes: ClassVar[frozenset[str] | None] = frozenset(
        (
            "temperature",
            "top_p",
            "max_tokens",
            "stop",
            "user",
            "tools",
            "tool_choice",
            "parallel_tool_calls",
            "reasoning_effort",
            "response_format",
        )
    )

    def encode_chat(self, request: Request) -> Outgoing:
        system, rest = system_and_rest(messages_of(request.messages))
        given = request.parameters
        body: dict[str, Any] = {
            "model": request.model,
            "max_tokens": given.get("max_tokens", _USUAL_CAP),
            "messages": [{"role": role, "content": blocks} for role, blocks in by_role(rest, _blocks)],
        }
        if system:
            body["system"] = system
        if "temperature" in given:
            if given["temperature"] > 1:
                raise RequestError(
                    f"temperature = {given['temperature']} is out of range for dialect messages",
                    hint="It takes a number from 0 to 1.",
                )
            body["temperature"] = given["temperature"]
        if "top_p" in given:
            body["top_p"] = given["top_p"]
        body |= renamed(given, {"stop": "stop_sequences"})
        if "user" in given:
            body["metadata"] = {"user_id": given["user"]}
        if "reasoning_effort" in given and (budget := _THINKING.get(given["reasoning_effort"])):
            body["thinking"] = {"type": "enabled", "budget_tokens": budget}
            body["max_tokens"] = max(body["max_tokens"], budget + 1024)
        if given.get("tools"):
            body["tools"] = [_tool(tool) for tool in given["tools"]]
            choice = _tool_choice(given)
            if choice is not None:
                body["tool_choice"] = choice
        if "response_format" in given:
            body |= _format(given["response_format"])
        if request.stream:
            body["stream"] = True
        body.update(request.extra)
        return Outgoing("chat", "/messages", body, accept="text/event-stream" if request.stream else "application/json")

    def decode_chat(self, body: bytes) -> Completion | Fault:
        reply = read_reply(body, _Reply, "the reply")
        if reply.type == "error" or (reply.error is not None and reply.content is None):
            return self.classify(200, {}, body)
        if reply.content is None:
            raise ReplyUnreadable("the reply is JSON, but no message: it has no `content`")
        texts, thoughts, calls, cited = [], [], [], []
        for block in reply.content:
            if block.type == "tool_use":
                arguments = _encode(block.input if isinstance(block.input, dict) else {}).decode()
                calls.append(ToolCall(ToolFunction(block.name, arguments), block.id))
            else:
                texts.append(block.text or "")
                thoughts.append(block.thinking or "")
                cited += [_citation(each) for each in block.citations or ()]
        reason = _finish(reply.stop_reason)
        choice = Choice("".join(texts), reason, "".join(thoughts) or None, None, tuple(calls), tuple(cited))
        return Completion((choice,), reply.model, reply.id, _usage(reply.usage) if reply.usage is not None else None)

    def stream_decoder(self) -> StreamDecoder:
        return _MessagesStream(self)

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from .faults import classify

        return classify(status, headers, body, _CODES)

    def encode_models(self) -> Outgoing:
        return Outgoing("models", "/models", method="GET")

    def decode_models(self, body: bytes) -> tuple[ListedModel, ...]:
        listed = read_reply(body, _List, "the list of models").data
        return tuple([ListedModel(model.id) for model in listed if model.id])


def _blocks(message: Message) -> list[dict[str, Json]]:
    blocks: list[dict[str, Json]] = []
    for part in parts_of(message):
        if isinstance(part, ImagePart):
            source = (
                {"type": "url", "url": part.address}
                if part.address
                else {"type": "base64", "media_type": part.media_type, "data": part.data}
            )
            blocks.append({"type": "image", "source": source})
        else:
            blocks.append({"type": "text", "text": part.text})
    if message.role == "tool":
        return [{"type": "tool_result", "tool_use_id": message.tool_call_id or "", "content": blocks}]
    return blocks + [
        {"type": "tool_use", "id": call.id or "", "name": call.function.name, "input": arguments_of(call)}
        for call in message.tool_calls or ()
    ]


def _tool(tool: Mapping[str, Any]) -> dict[str, Json]:
    function = tool.get("function", tool)
    found = {"name": function.get("name"), "input_schema": function.get("parameters") or {"type": "object"}}
    if function.get("description"):
        found["description"] = function["description"]
    return found


def _tool_choice(given: Mapping[str, Any]) -> dict[str, Json] | None:
    choice = given.get("tool_choice")
    parallel = given.get("parallel_tool_calls")
    if choice is None and parallel is None:
        return None
    if isinstance(choice, dict):
        found: dict[str, Json] = {"type": "tool", "name": choice.get("function", choice).get("name")}
    else:
        found = {"type": {"required": "any", "none": "none"}.get(choice or "auto", "auto")}
    if parallel is False and found["type"] != "none":
        found["disable_parallel_tool_use"] = True
    return found


def _format(wanted: Mapping[str, Any]) -> dict[str, Json]:
    kind = wanted.get("type")
    if kind == "json_schema":
        schema = wanted.get("json_schema", {}).get("schema")
        return {"output_config": {"format": {"type": "json_schema", "schema": schema}}}
    if kind == "text":
        return {}
    error = ParameterUnsupported(
        f"dialect messages has no response_format of type {kind!r}", hint="Give a schema: type json_schema."
    )
    error.parameter = "response_format"
    raise error


def _citation(cited: _Citation) -> Citation:
    return Citation(cited.url or "", cited.title or cited.document_title or "", cited.cited_text or "")


def _finish(reason: str | None) -> str | None:
    return _FINISH.get(reason, reason) if reason is not None else None


def _usage(usage: _Usage) -> Usage:
    # The cached ones are not in input_tokens.
    cached = usage.cache_read_input_tokens
    told = usage.input_tokens
    inputs = None if told is None else told + (cached or 0) + (usage.cache_creation_input_tokens or 0)
    total = None if inputs is None or usage.output_tokens is None else inputs + usage.output_tokens
    return Usage(inputs, usage.output_tokens, total, cached)


class _MessagesStream(PayloadStream):
    """Named events from ``message_start`` to ``message_stop``."""

    def __init__(self, dialect: MessagesDialect) -> None:
        super().__init__(SseDecoder())
        self._dialect = dialect
        self._calls: dict[int, int] = {}
        self._usage = _Usage()

    def take(self, name: str, payload: bytes, events: list[Event]) -> None:
        event = self.read(payload, _EVENT, _StreamEvent)
        if event is None:
            return
        match event.type or name:
            case "content_block_delta":
                self._delta(event, events)
            case "message_start":
                message = event.message or _Reply()
                events.append(Started(message.model, message.id))
                if message.usage is not None:
                    self._count(message.usage, events)
            case "content_block_start":
                block = event.content_block or _Block()
                if block.type == "tool_use":
                    place = self._calls.setdefault(event.index or 0, len(self._calls))
                    events.append(ToolCallPiece(place, block.id, block.name))
                elif block.text:
                    events.append(Text(block.text))
            case "message_delta":
                if event.usage is not None:
                    self._count(event.usage, events)
                if event.delta is not None and event.delta.stop_reason is not None:
                    events.append(Finished(_FINISH.get(event.delta.stop_reason, event.delta.stop_reason)))
            case "message_stop":
                self.done = True
            case "error":
                self.failure = self._dialect.classify(200, {}, payload)
            case _:
                pass  # ping, content_block_stop, and what may be added one day

    def _delta(self, event: _StreamEvent, events: list[Event]) -> None:
        delta = event.delta
        if delta is None:
            return
        if delta.text:
            events.append(Text(delta.text))
        elif delta.thinking:
            events.append(Reasoning(delta.thinking))
        elif delta.partial_json:
            place = self._calls.setdefault(event.index or 0, len(self._calls))
            events.append(ToolCallPiece(place, arguments=delta.partial_json))
        elif delta.citation is not None:
            events.append(Cited(_citation(delta.citation)))

    def _count(self, usage: _Usage, events: list[Event]) -> None:
        """Counts are cumulative; a later event may tell only some of them."""
        for name in usage.__struct_fields__:
            if (value := getattr(usage, name)) is not None:
                setattr(self._usage, name, value)
        events.append(UsageTold(_usage(self._usage)))
