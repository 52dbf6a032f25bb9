"""The dialect marked by ``POST {base}/chat/completions``: the OpenAI-compatible interface.

It is nearly the canonical form itself, so a request is encoded as it stands. Replies come from
many kinds of server, hence the lenient reading: see `core.json_lenient`.
"""

from collections.abc import Mapping
from typing import Any

import msgspec
from msgspec import Struct

from ..core.address import Ending
from ..core.chat import Choice, Completion, Request, SafetyNote, ToolCall, ToolFunction
from ..core.errors import ReplyUnreadable
from ..core.json_lenient import UNDECODABLE
from ..core.messages import message_json
from ..core.structured import MEANS
from .base import Abilities, Fault, Outgoing, StreamDecoder, VectorAbility
from .chat_fields import (
    CODES,
    CallFields,
    MessageFields,
    UsageFields,
    arguments_text,
    citations_of,
    finish_reason,
    usage_of,
)
from .shared import ChatVectors, ModelListing
from .streams import read_reply


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


_decode_reply = msgspec.json.Decoder(_Reply).decode


class ChatDialect(ModelListing, ChatVectors):
    """See the module."""

    name = "chat"
    abilities = Abilities(
        means=MEANS,
        schema_style="closed",
        vectors=VectorAbility(max_texts=256, base64=True),
        canonical=True,
        endings=(
            Ending(r"/deployments/(?P<model>[^/]+)/chat/completions", keep=True),
            Ending(r"/deployments/(?P<model>[^/]+)/embeddings", "embeddings", keep=True),
            Ending("/chat/completions"),
            Ending("/embeddings", "embeddings"),
            Ending("/models", "models"),
        ),
    )

    def encode_chat(self, request: Request) -> Outgoing:
        messages = [message_json(message) for message in request.messages]
        body: dict[str, Any] = {"model": request.model, "messages": messages, **request.parameters}
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

    def verbatim_decoder(self) -> StreamDecoder:
        from .chat_stream import ChatStream

        return ChatStream(self.classify, verbatim=True)

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from .faults import classify  # only needed once something is wrong

        return classify(status, headers, body, CODES)


def _choice(choice: _Choice, addresses: list[str] | None) -> Choice:
    message = choice.message
    reason = finish_reason(choice.finish_reason)
    if message is None:
        return Choice(finish_reason=reason)
    content = message.content
    text = content if isinstance(content, str) else "".join([part.text or "" for part in content or ()])
    if message.refusal and reason == "stop":
        reason = "refusal"
    calls = message.tool_calls
    return Choice(
        text,
        reason,
        reasoning=message.reasoning_content or message.reasoning,
        refusal=message.refusal,
        tool_calls=tuple([_call(call) for call in calls]) if calls else (),
        citations=citations_of(message.annotations, addresses) if message.annotations or addresses else (),
        safety=_safety(choice.content_filter_results) if choice.content_filter_results else (),
    )


def _safety(results: Mapping[str, Any]) -> tuple[SafetyNote, ...]:
    return tuple(
        [
            SafetyNote(category, str(result.get("severity") or ""), result.get("filtered") is True)
            for category, result in results.items()
            if isinstance(result, dict)
        ]
    )


def _call(call: CallFields) -> ToolCall:
    function = call.function
    if function is None:
        return ToolCall(ToolFunction(None, ""), call.id)
    return ToolCall(ToolFunction(function.name, arguments_text(function.arguments)), call.id)
