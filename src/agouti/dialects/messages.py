"""The dialect marked by ``POST {base}/messages``: content in blocks, the system text apart, roles that alternate."""

from collections.abc import Mapping
from typing import Any
from urllib.parse import urlencode

import msgspec
from msgspec import Struct

from ..core.address import Ending
from ..core.chat import Choice, Citation, Completion, Json, Message, Request, ToolCall, ToolFunction
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
from ..core.framing_sse import SseDecoder
from ..core.messages import ImagePart, arguments_of, by_role, parts_of, system_and_rest
from ..core.usage import Usage
from .base import (
    Abilities,
    Fault,
    Field,
    Outgoing,
    StreamDecoder,
    Write,
    as_list,
    as_written,
    chosen_function,
    function_of,
    in_common,
    is_function,
    no_response_format,
)
from .shared import ModelListing
from .streams import PayloadStream, read_reply

# The format demands a cap. This one is said nowhere by the caller, so it is generous; a reply that
# meets it is marked as truncated like any other.
_USUAL_CAP = 4096
# Tokens of thinking; the format takes no fewer than 1024.
_THINKING = {"none": 0, "minimal": 1024, "low": 1024, "medium": 4096, "high": 16384}

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


class _Count(Struct):
    input_tokens: int | None = None
    error: Any = None


class _Page(Struct):
    has_more: bool | None = None
    last_id: str | None = None


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


_EVENT = msgspec.json.Decoder(_StreamEvent)
_encode = msgspec.json.Encoder().encode


def _temperature(body: dict[str, Any], value: float, _: Mapping[str, Json]) -> None:
    if value > 1:
        raise RequestError(
            f"temperature = {value} is out of range for dialect messages", hint="It takes a number from 0 to 1."
        )
    body["temperature"] = value


def _thinking(body: dict[str, Any], effort: str, _: Mapping[str, Json]) -> None:
    budget = _THINKING.get(effort)
    if budget is None:
        raise ParameterUnsupported(
            f"dialect messages has no reasoning_effort {effort!r}",
            parameter="reasoning_effort",
            hint=f"It takes {', '.join(_THINKING)}.",
        )
    if budget:
        body["thinking"] = {"type": "enabled", "budget_tokens": budget}
        body["max_tokens"] = max(body["max_tokens"], budget + 1024)


def _tools(body: dict[str, Any], tools: list[Mapping[str, Any]], parameters: Mapping[str, Json]) -> None:
    if not tools:
        return
    body["tools"] = [_tool(tool) for tool in tools]
    choice = _tool_choice(parameters)
    if choice is not None:
        body["tool_choice"] = choice


def _format(body: dict[str, Any], form: Mapping[str, Any], _: Mapping[str, Json]) -> None:
    kind = form.get("type")
    if kind == "json_schema":
        schema = form.get("json_schema", {}).get("schema")
        body["output_config"] = {"format": {"type": "json_schema", "schema": schema}}
    elif kind != "text":
        raise no_response_format("messages", kind, "Give a schema: type json_schema.")


_PARAMETERS: dict[str, Write] = {
    "max_tokens": Field("max_tokens"),
    "temperature": _temperature,
    "top_p": Field("top_p"),
    "stop": Field("stop_sequences", as_list),
    "user": Field("metadata/user_id"),
    "reasoning_effort": _thinking,
    "tools": _tools,
    "tool_choice": as_written,
    "parallel_tool_calls": as_written,
    "response_format": _format,
}


class MessagesDialect(ModelListing):
    """See the module."""

    name = "messages"
    abilities = Abilities(
        parameters=_PARAMETERS,
        means=("schema", "tool", "prompt"),
        schema_style="closed",
        open_schemas=False,
        counts_tokens=True,
        endings=(Ending("/messages"), Ending("/messages/count_tokens", "count"), Ending("/models", "models")),
    )

    def encode_chat(self, request: Request) -> Outgoing:
        system, rest = system_and_rest(request.messages)
        body: dict[str, Any] = {
            "model": request.model,
            "max_tokens": _USUAL_CAP,
            "messages": [{"role": role, "content": blocks} for role, blocks in by_role(rest, _blocks)],
        }
        if system:
            body["system"] = system
        self.abilities.write(body, request.parameters)
        if request.stream:
            body["stream"] = True
        body.update(request.extra)
        return Outgoing("chat", "/messages", body, accept="text/event-stream" if request.stream else "application/json")

    def encode_more_models(self, body: bytes) -> Outgoing | None:
        page = read_reply(body, _Page, "the list of models")
        if not page.has_more or not page.last_id:
            return None
        return Outgoing("models", "/models", method="GET", query=urlencode({"after_id": page.last_id}))

    def encode_count(self, request: Request) -> Outgoing:
        whole = self.encode_chat(request).body or {}
        counted = ("model", "messages", "system", "tools", "tool_choice", "thinking")
        return Outgoing("count", "/messages/count_tokens", {name: whole[name] for name in counted if name in whole})

    def decode_count(self, body: bytes) -> int | Fault:
        reply = read_reply(body, _Count, "the token count")
        if reply.input_tokens is None:
            if reply.error is not None:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but has no `input_tokens`")
        return reply.input_tokens

    def decode_chat(self, body: bytes) -> Completion | Fault:
        reply = read_reply(body, _Reply, "the reply")
        if reply.type == "error" or (reply.error is not None and reply.content is None):
            return self.classify(200, {}, body)
        if reply.content is None:
            raise ReplyUnreadable("the reply is JSON, but no message: it has no `content`")
        texts, thoughts, calls, citations = [], [], [], []
        for block in reply.content:
            if block.type == "tool_use":
                arguments = _encode(block.input if isinstance(block.input, dict) else {}).decode()
                calls.append(ToolCall(ToolFunction(block.name, arguments), block.id))
            else:
                texts.append(block.text or "")
                thoughts.append(block.thinking or "")
                citations += [_citation(each) for each in block.citations or ()]
        choice = Choice(
            "".join(texts),
            in_common(_FINISH, reply.stop_reason),
            reasoning="".join(thoughts) or None,
            tool_calls=tuple(calls),
            citations=tuple(citations),
        )
        return Completion((choice,), reply.model, reply.id, _usage(reply.usage) if reply.usage is not None else None)

    def stream_decoder(self) -> StreamDecoder:
        return _MessagesStream(self)

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from .faults import classify

        return classify(status, headers, body, _CODES)


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
    if not is_function(tool):
        return dict(tool)
    function = function_of(tool)
    body = {"name": function.get("name"), "input_schema": function.get("parameters") or {"type": "object"}}
    if function.get("description"):
        body["description"] = function["description"]
    return body


def _tool_choice(parameters: Mapping[str, Json]) -> dict[str, Json] | None:
    choice = parameters.get("tool_choice")
    parallel = parameters.get("parallel_tool_calls")
    if choice is None and parallel is None:
        return None
    if isinstance(choice, dict):
        body: dict[str, Json] = {"type": "tool", "name": chosen_function(choice)}
    else:
        body = {"type": {"required": "any", "none": "none"}.get(choice or "auto", "auto")}
    if parallel is False and body["type"] != "none":
        body["disable_parallel_tool_use"] = True
    return body


def _citation(cited: _Citation) -> Citation:
    return Citation(cited.url or "", cited.title or cited.document_title or "", cited.cited_text or "")


def _usage(usage: _Usage) -> Usage:
    # The cached ones are not in input_tokens.
    cached = usage.cache_read_input_tokens
    fresh = usage.input_tokens
    inputs = None if fresh is None else fresh + (cached or 0) + (usage.cache_creation_input_tokens or 0)
    total = None if inputs is None or usage.output_tokens is None else inputs + usage.output_tokens
    return Usage(inputs, usage.output_tokens, total, cached)


class _MessagesStream(PayloadStream):
    """Named events from ``message_start`` to ``message_stop``."""

    def __init__(self, dialect: MessagesDialect) -> None:
        super().__init__(SseDecoder())
        self._dialect = dialect
        self._called = 0
        # The call that each block is; None for blocks that are none. Without indices there is one block at a time.
        self._blocks: dict[int | None, int | None] = {}
        self._whole: dict[int | None, str] = {}
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
                self._block(event.content_block or _Block(), event.index, events)
            case "content_block_stop":
                self._close(event.index, events)
            case "message_delta":
                for index in list(self._whole):  # some servers do not say where a block ends
                    self._close(index, events)
                if event.usage is not None:
                    self._count(event.usage, events)
                if event.delta is not None and event.delta.stop_reason is not None:
                    events.append(Finished(_FINISH.get(event.delta.stop_reason, event.delta.stop_reason)))
            case "message_stop":
                self.done = True
            case "error":
                self.failure = self._dialect.classify(200, {}, payload)
            case _:
                pass  # ping, and what may be added one day

    def _block(self, block: _Block, index: int | None, events: list[Event]) -> None:
        self._close(index, events)
        self._blocks[index] = None
        if block.type == "tool_use":
            self._blocks[index] = self._called
            events.append(ToolCallPiece(self._called, block.id, block.name))
            self._called += 1
            if block.input:
                self._whole[index] = _encode(block.input).decode()
        elif block.text:
            events.append(Text(block.text))

    def _close(self, index: int | None, events: list[Event]) -> None:
        """A block ends; its arguments may have come whole with its beginning, and in no pieces."""
        number, arguments = self._blocks.pop(index, None), self._whole.pop(index, None)
        if number is not None and arguments:
            events.append(ToolCallPiece(number, arguments=arguments))

    def _delta(self, event: _StreamEvent, events: list[Event]) -> None:
        delta = event.delta
        if delta is None:
            return
        if delta.text:
            events.append(Text(delta.text))
        elif delta.thinking:
            events.append(Reasoning(delta.thinking))
        elif delta.partial_json:
            # Blocks of the provider's own tools have such pieces too: those are no calls of ours.
            number = self._blocks.get(event.index)
            if number is not None:
                self._whole.pop(event.index, None)
                events.append(ToolCallPiece(number, arguments=delta.partial_json))
        elif delta.citation is not None:
            events.append(Cited(_citation(delta.citation)))

    def _count(self, usage: _Usage, events: list[Event]) -> None:
        """Counts are cumulative; a later event may tell only some of them."""
        for name in usage.__struct_fields__:
            if (value := getattr(usage, name)) is not None:
                setattr(self._usage, name, value)
        events.append(UsageTold(_usage(self._usage)))
