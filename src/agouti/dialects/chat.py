"""The dialect marked by ``POST {base}/chat/completions``: the OpenAI-compatible interface.

It is nearly the canonical form itself, so a request is encoded as it stands. Replies come from
many kinds of server, hence the lenient reading: see `core.lenient`.
"""

from collections.abc import Mapping
from functools import cache
from typing import TYPE_CHECKING, Any, ClassVar

import msgspec
from msgspec import Struct

from ..core.chat import Choice, Completion, Request, SafetyNote, ToolCall, ToolFunction
from ..core.errors import (
    ReplyUnreadable,
)
from ..core.lenient import UNDECODABLE
from .base import Fault, ListedModel, Means, Outgoing, StreamDecoder
from .chat_fields import CODES, FINISH, CallFields, MessageFields, UsageFields, arguments_text, citations_of, usage_of
from .streams import read_reply

if TYPE_CHECKING:
    from ..core.schema import Style
    from ..core.vectors import Vectors, VectorsWanted


class _Choice(Struct, gc=False):
    index: int | None = None
    message: MessageFields | None = None
    finish_reason: str | None = None
    content_filter_results: dict[str, Any] | None = None


class _Reply(Struct):
    id: str | None = None
    model: str | None = None
    choices: list[_Choice] | None = None
    usage: UsageFields | None = None
    citations: list[str] | None = None
    error: Any = None


class _Vector(Struct, gc=False):
    index: int | None = None
    embedding: list[float] | bytes | None = None


class _VectorsReply(Struct):
    data: list[_Vector] | None = None
    model: str | None = None
    usage: UsageFields | None = None
    error: Any = None


@cache
def _vectors_decoder() -> "msgspec.json.Decoder[_VectorsReply]":
    return msgspec.json.Decoder(_VectorsReply)


_decode_reply = msgspec.json.Decoder(_Reply).decode


class _Pricing(Struct, gc=False):
    prompt: str | float | None = None
    completion: str | float | None = None


class _Architecture(Struct):
    input_modalities: list[str] | None = None


class _Listed(Struct):
    id: str | None = None
    context_length: int | None = None
    context_window: int | None = None
    max_model_len: int | None = None
    pricing: _Pricing | None = None
    architecture: _Architecture | None = None


class _List(Struct):
    data: list[_Listed]


class ChatDialect:
    """See the module."""

    name: ClassVar[str] = "chat"
    means: ClassVar[tuple[Means, ...]] = ("schema", "tool", "json", "prompt")
    style: ClassVar["Style"] = "closed"
    takes: ClassVar[frozenset[str] | None] = None
    most_texts: ClassVar[int] = 256
    base64: ClassVar[bool] = True

    def encode_chat(self, request: Request) -> Outgoing:
        body: dict[str, Any] = {"model": request.model, "messages": request.messages, **request.parameters}
        if request.stream:
            body["stream"] = True
            body.setdefault("stream_options", {"include_usage": True})
        if request.extra:
            body.update(request.extra)
        return Outgoing("chat", "/chat/completions", body, accept="text/event-stream" if request.stream else "")

    def decode_chat(self, body: bytes) -> Completion | Fault:
        try:
            reply = _decode_reply(body)
        except UNDECODABLE:
            reply = read_reply(body, _Reply, "the reply")
        if reply.choices is None:
            if reply.error is not None:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but not a chat reply: it has no `choices`")
        return Completion(
            tuple([_choice(choice, reply.citations) for choice in reply.choices]),
            reply.model,
            reply.id,
            usage_of(reply.usage) if reply.usage is not None else None,
        )

    def stream_decoder(self) -> StreamDecoder:
        from .chat_stream import ChatStream

        return ChatStream(self.classify)

    def encode_models(self) -> Outgoing:
        return Outgoing("models", "/models", method="GET")

    def encode_vectors(self, wanted: "VectorsWanted") -> Outgoing:
        body: dict[str, Any] = {"model": wanted.model, "input": wanted.texts}
        if wanted.dimensions is not None:
            body["dimensions"] = wanted.dimensions
        if wanted.base64:
            body["encoding_format"] = "base64"
        body.update(wanted.extra)
        return Outgoing("embeddings", "/embeddings", body)

    def decode_vectors(self, body: bytes) -> "Vectors | Fault":
        from ..core.vectors import Vectors

        try:
            reply = _vectors_decoder().decode(body)
        except UNDECODABLE:
            reply = read_reply(body, _VectorsReply, "the reply")
        if reply.data is None:
            if reply.error is not None:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but not one with vectors: it has no `data`")
        if any(each.embedding is None for each in reply.data):
            raise ReplyUnreadable("a vector is missing in the reply")
        data = reply.data
        if all(each.index is not None for each in data):
            data = sorted(data, key=lambda each: each.index or 0)
        usage = usage_of(reply.usage) if reply.usage is not None else None
        return Vectors([each.embedding for each in data if each.embedding is not None], reply.model, usage)

    def decode_models(self, body: bytes) -> tuple[ListedModel, ...]:
        if body.lstrip()[:1] == b"[":
            body = b'{"data": %s}' % body  # some servers leave the object around it out
        listed = read_reply(body, _List, "the list of models").data
        return tuple([_listed(model.id, model) for model in listed if model.id])

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from .faults import classify  # only needed once something is wrong

        return classify(status, headers, body, CODES)


def _listed(name: str, model: _Listed) -> ListedModel:
    pricing = model.pricing or _Pricing()
    modalities = model.architecture.input_modalities if model.architecture is not None else None
    return ListedModel(
        name,
        model.context_length or model.context_window or model.max_model_len,
        _per_million(pricing.prompt),
        _per_million(pricing.completion),
        "image" in modalities if modalities is not None else None,
    )


def _per_million(per_token: str | float | None) -> float | None:
    try:
        return None if per_token is None else round(float(per_token) * 1e6, 6)
    except ValueError:
        return None


def _choice(choice: _Choice, cited: list[str] | None) -> Choice:
    message = choice.message
    reason = choice.finish_reason
    reason = FINISH.get(reason, reason) if reason is not None else None
    if message is None:
        return Choice("", reason)
    content = message.content
    text = content if isinstance(content, str) else "".join([part.text or "" for part in content or ()])
    if message.refusal and reason == "stop":
        reason = "refusal"
    calls = message.tool_calls
    return Choice(
        text,
        reason,
        message.reasoning_content or message.reasoning,
        message.refusal,
        tuple([_call(call) for call in calls]) if calls else (),
        citations_of(message.annotations, cited) if message.annotations or cited else (),
        _safety(choice.content_filter_results) if choice.content_filter_results else (),
    )


def _safety(results: Mapping[str, Any]) -> tuple[SafetyNote, ...]:
    return tuple(
        [
            SafetyNote(category, str(told.get("severity") or ""), told.get("filtered") is True)
            for category, told in results.items()
            if isinstance(told, dict)
        ]
    )


def _call(call: CallFields) -> ToolCall:
    function = call.function
    if function is None:
        return ToolCall(ToolFunction(), call.id)
    return ToolCall(ToolFunction(function.name, arguments_text(function.arguments)), call.id)
