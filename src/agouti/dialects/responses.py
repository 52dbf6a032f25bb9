"""The dialect marked by ``POST {base}/responses``: input and output as items, a stream of named events."""

from collections.abc import Mapping
from typing import Any

import msgspec
from msgspec import Struct

from ..core.address import Ending
from ..core.chat import Choice, Citation, Completion, Json, Message, Request, ToolCall, ToolFunction
from ..core.errors import ProviderFault, RateLimited, ReplyUnreadable
from ..core.events import Cited, Event, Finished, Reasoning, Refusal, Started, Text, ToolCallPiece, UsageTold
from ..core.framing_sse import SseDecoder
from ..core.messages import ImagePart, parts_of, system_and_rest, text_of
from ..core.structured import MEANS
from ..core.usage import Usage
from .base import (
    Abilities,
    Fault,
    Field,
    Outgoing,
    StreamDecoder,
    VectorAbility,
    Write,
    chosen_function,
    no_response_format,
    same_names,
)
from .call_numbers import CallNumbers
from .chat_fields import CODES
from .shared import ChatVectors, ModelListing
from .streams import PayloadStream, read_reply

_CODES = {**CODES, "server_error": ProviderFault, "rate_limit_error": RateLimited}
_INCOMPLETE = {"max_output_tokens": "length", "max_tokens": "length", "content_filter": "content_filter"}


class _Annotation(Struct):
    type: str | None = None
    url: str | None = None
    title: str | None = None
    filename: str | None = None
    start_index: int | None = None
    end_index: int | None = None


class _Piece(Struct):
    type: str | None = None
    text: str | None = None
    refusal: str | None = None
    annotations: list[_Annotation] | None = None


class _Item(Struct):
    type: str | None = None
    id: str | None = None
    content: list[_Piece] | None = None
    summary: list[_Piece] | None = None
    call_id: str | None = None
    name: str | None = None
    arguments: str | None = None


class _InputDetails(Struct, gc=False):
    cached_tokens: int | None = None


class _OutputDetails(Struct, gc=False):
    reasoning_tokens: int | None = None


class _Usage(Struct):
    input_tokens: int | None = None
    output_tokens: int | None = None
    total_tokens: int | None = None
    input_tokens_details: _InputDetails | None = None
    output_tokens_details: _OutputDetails | None = None


class _Incomplete(Struct):
    reason: str | None = None


class _Reply(Struct):
    id: str | None = None
    model: str | None = None
    status: str | None = None
    incomplete_details: _Incomplete | None = None
    error: Any = None
    output: list[_Item] | None = None
    usage: _Usage | None = None


class _StreamEvent(Struct):
    type: str | None = None
    delta: str | None = None
    output_index: int | None = None
    item_id: str | None = None
    text: str | None = None
    arguments: str | None = None
    item: _Item | None = None
    response: _Reply | None = None
    annotation: _Annotation | None = None


_EVENT = msgspec.json.Decoder(_StreamEvent)


def _tools(body: dict[str, Any], tools: list[Mapping[str, Any]], _: Mapping[str, Json]) -> None:
    if tools:
        body["tools"] = [_tool(tool) for tool in tools]


def _tool(tool: Mapping[str, Any]) -> dict[str, Json]:
    """The flat form of a tool."""
    function = tool.get("function")
    return {"type": "function", **function} if isinstance(function, Mapping) else dict(tool)


def _tool_choice(choice: Json) -> Json:
    name = chosen_function(choice)
    return {"type": "function", "name": name} if name else choice


def _format(form: Mapping[str, Any]) -> dict[str, Json]:
    kind = form.get("type")
    if kind in ("text", "json_object"):
        return {"type": kind}
    if kind == "json_schema":
        return {"type": "json_schema", "name": "answer", **form.get("json_schema", {})}
    raise no_response_format("responses", kind)


_PARAMETERS: dict[str, Write] = {
    **same_names("temperature", "top_p", "user", "parallel_tool_calls", "top_logprobs"),
    "max_tokens": Field("max_output_tokens"),
    "reasoning_effort": Field("reasoning", lambda effort: {"effort": effort, "summary": "auto"}),
    "response_format": Field("text/format", _format),
    "tools": _tools,
    "tool_choice": Field("tool_choice", _tool_choice),
}


class ResponsesDialect(ModelListing, ChatVectors):
    """See the module."""

    name = "responses"
    abilities = Abilities(
        parameters=_PARAMETERS,
        means=MEANS,
        schema_style="closed",
        vectors=VectorAbility(max_texts=256, base64=True),
        endings=(Ending("/responses"), Ending("/embeddings", "embeddings"), Ending("/models", "models")),
    )

    def encode_chat(self, request: Request) -> Outgoing:
        system, rest = system_and_rest(request.messages)
        body: dict[str, Any] = {"model": request.model, "input": [item for each in rest for item in _items(each)]}
        if system:
            body["instructions"] = system
        self.abilities.write(body, request.parameters)
        if request.stream:
            body["stream"] = True
        body.update(request.extra)
        accept = "text/event-stream" if request.stream else "application/json"
        return Outgoing("chat", "/responses", body, accept=accept)

    def decode_chat(self, body: bytes) -> Completion | Fault:
        reply = read_reply(body, _Reply, "the reply")
        if reply.error is not None and (reply.status in (None, "failed") or reply.output is None):
            return self.classify(200, {}, body)
        if reply.output is None:
            raise ReplyUnreadable("the reply is JSON, but has no `output`")
        return _completion(reply)

    def stream_decoder(self) -> StreamDecoder:
        return _ResponsesStream(self)

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from .faults import classify

        return classify(status, headers, body, _CODES)


def _items(message: Message) -> list[dict[str, Json]]:
    if message.role == "tool":
        output: Json = text_of(message)
        if any(isinstance(part, ImagePart) for part in parts_of(message)):
            output = _content(message, "input_text")
        return [{"type": "function_call_output", "call_id": message.tool_call_id or "", "output": output}]
    kind = "output_text" if message.role == "assistant" else "input_text"
    content = _content(message, kind)
    # Some servers tell items apart by their type alone, although a message may go without.
    said: dict[str, Json] = {"type": "message", "role": message.role, "content": content}
    items: list[dict[str, Json]] = [said] if content else []
    return items + [
        {
            "type": "function_call",
            "call_id": call.id or "",
            "name": call.function.name,
            "arguments": call.function.arguments or "{}",
        }
        for call in message.tool_calls or ()
    ]


def _content(message: Message, kind: str) -> list[dict[str, Json]]:
    content: list[dict[str, Json]] = []
    for part in parts_of(message):
        if isinstance(part, ImagePart):
            url = part.address or f"data:{part.media_type};base64,{part.data}"
            content.append({"type": "input_image", "image_url": url})
        else:
            content.append({"type": kind, "text": part.text})
    return content


def _completion(reply: _Reply) -> Completion:
    texts, refusals, thoughts, calls, citations = [], [], [], [], []
    for item in reply.output or ():
        if item.type == "function_call":
            calls.append(ToolCall(ToolFunction(item.name, item.arguments or ""), item.call_id))
        elif item.type == "reasoning":
            thoughts += [piece.text or "" for piece in (*(item.summary or ()), *(item.content or ()))]
        else:
            texts += [piece.text or "" for piece in item.content or ()]
            refusals += [piece.refusal or "" for piece in item.content or ()]
            citations += [_citation(each) for piece in item.content or () for each in piece.annotations or ()]
    refusal = "".join(refusals) or None
    choice = Choice(
        "".join(texts),
        _finish(reply, bool(calls), refusal is not None),
        reasoning="".join(thoughts) or None,
        refusal=refusal,
        tool_calls=tuple(calls),
        citations=tuple(citations),
    )
    return Completion((choice,), reply.model, reply.id, _usage(reply.usage) if reply.usage is not None else None)


def _citation(annotation: _Annotation) -> Citation:
    title = annotation.title or annotation.filename or ""
    return Citation(annotation.url or "", title, "", annotation.start_index, annotation.end_index)


def _finish(reply: _Reply, called: bool, refused: bool) -> str | None:
    if reply.status == "incomplete":
        why = reply.incomplete_details.reason if reply.incomplete_details is not None else None
        return _INCOMPLETE.get(why or "", why or "length")
    if reply.status in ("failed", "cancelled"):
        return "error"
    if reply.status is None:
        return None
    return "tool_calls" if called else "refusal" if refused else "stop"


def _usage(usage: _Usage) -> Usage:
    cached, reasoning = usage.input_tokens_details, usage.output_tokens_details
    return Usage(
        usage.input_tokens,
        usage.output_tokens,
        usage.total_tokens,
        cached.cached_tokens if cached is not None else None,
        reasoning.reasoning_tokens if reasoning is not None else None,
    )


class _ResponsesStream(PayloadStream):
    """Named events, from ``response.created`` to ``response.completed`` or its kin."""

    def __init__(self, dialect: ResponsesDialect) -> None:
        super().__init__(SseDecoder())
        self._dialect = dialect
        self._calls = CallNumbers()
        self._complete: set[int] = set()  # calls whose arguments have come
        self._spoken = self._thought = False
        self._refused = False
        self._named = False

    def take(self, name: str, payload: bytes, events: list[Event]) -> None:
        if payload == b"[DONE]":
            return  # some compatible servers send it here too
        event = self.read(payload, _EVENT, _StreamEvent)
        if event is None:
            return
        match event.type or name:
            case "response.output_text.delta":
                if event.delta:
                    self._spoken = True
                    events.append(Text(event.delta))
            case "response.output_text.done":
                self._rest(event.text, events)
            case "response.refusal.delta":
                self._refused = True
                events.append(Refusal(event.delta or ""))
            case "response.reasoning_summary_text.delta" | "response.reasoning_text.delta":
                self._thought = True
                events.append(Reasoning(event.delta or ""))
            case "response.function_call_arguments.delta":
                number = self._calls.at(event.item_id, event.output_index)
                self._complete.add(number)
                events.append(ToolCallPiece(number, arguments=event.delta or ""))
            case "response.function_call_arguments.done":
                self._arguments(self._calls.at(event.item_id, event.output_index), event.arguments, events)
            case "response.output_item.added":
                if event.item is not None and event.item.type == "function_call":
                    self._open(event.item, event.output_index, events)
            case "response.output_item.done":
                if event.item is not None and event.item.type == "function_call":
                    self._item(event.item, event.output_index, events)
            case "response.output_text.annotation.added":
                if event.annotation is not None:
                    events.append(Cited(_citation(event.annotation)))
            case "response.created":
                if event.response is not None:
                    self._named = event.response.model is not None
                    events.append(Started(event.response.model, event.response.id))
            case "response.completed" | "response.incomplete":
                self.done = True
                reply = event.response or _Reply(status="completed")
                if not self._named and reply.model is not None:
                    events.append(Started(reply.model, reply.id))  # some servers name it only here
                self._last(reply, events)
                events.append(Finished(_finish(reply, self._calls.count > 0, self._refused) or "stop"))
                if reply.usage is not None:
                    events.append(UsageTold(_usage(reply.usage)))
            case "response.failed":
                error = event.response.error if event.response is not None else None
                self.failure = self._dialect.classify(200, {}, msgspec.json.encode({"error": error}))
            case "error":
                self.failure = self._dialect.classify(200, {}, payload)
            case _:
                pass

    def _open(self, item: _Item, place: int | None, events: list[Event]) -> int:
        number = self._calls.opened(item.id or None, item.call_id or None, place)
        events.append(ToolCallPiece(number, item.call_id, item.name))
        return number

    def _item(self, item: _Item, place: int | None, events: list[Event]) -> None:
        """A call that is complete; some servers send nothing of it before."""
        known = next((each for each in (item.id, item.call_id) if each and self._calls.known(each)), None)
        number = self._calls.at(known) if known else self._open(item, place, events)
        self._arguments(number, item.arguments, events)

    def _arguments(self, number: int, arguments: str | None, events: list[Event]) -> None:
        if arguments and number not in self._complete:
            self._complete.add(number)
            events.append(ToolCallPiece(number, arguments=arguments))

    def _rest(self, text: str | None, events: list[Event]) -> None:
        """Text that has not come in pieces."""
        if text and not self._spoken:
            events.append(Text(text))
        self._spoken = bool(self._spoken or text)

    def _last(self, reply: _Reply, events: list[Event]) -> None:
        """The last event holds the whole reply: what of it has not been said before."""
        choice = _completion(reply).choices[0]
        self._rest(choice.text, events)
        if choice.refusal and not self._refused:
            self._refused = True
            events.append(Refusal(choice.refusal))
        if choice.reasoning and not self._thought:
            events.append(Reasoning(choice.reasoning))
        if not self._calls.count:
            for item in reply.output or ():
                if item.type == "function_call":
                    self._item(item, None, events)
