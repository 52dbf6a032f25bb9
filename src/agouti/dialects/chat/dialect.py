"""The dialect marked by ``POST {base}/chat/completions``: the OpenAI-compatible interface.

It is nearly the canonical form itself, so a request is encoded as it stands. Replies come from
many kinds of server, hence the lenient reading: see `core.json_lenient`.
"""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import msgspec
from msgspec import Struct

from ...core.canonical.chat import Choice, Completion, Request, ToolCall, ToolFunction
from ...core.canonical.structured import MEANS
from ...core.errors import ReplyUnreadable
from ...core.http.address import Ending
from ...core.json.lenient import UNDECODABLE, any_json
from ...core.messages.messages import message_json
from ..base import Abilities, StreamDecoder, VectorAbility
from ..shared.model_listing import ChatVectors, ModelListing
from ..shared.stream_decoding import read_reply
from ..shared.usage_fields import UsageFields, usage_of
from ..wire import Fault, Outgoing
from .fields import (
    CODES,
    LogprobFields,
    MessageFields,
    arguments_text,
    audio_file,
    call_of,
    citations_of,
    finish_reason,
    images_of,
    logprobs_of,
    safety_of,
    text_and_thoughts,
    turn_of_message,
    usage_outside,
    with_counts,
)

if TYPE_CHECKING:
    from ..base import DeferredBatches


class _Choice(Struct, gc=False):
    index: int | None = None
    message: MessageFields | None = None
    finish_reason: str | None = None
    content_filter_results: dict[str, Any] | None = None
    logprobs: LogprobFields | None = None
    error: Any = None


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
        lacks=frozenset({"reasoning_budget", "context_size", "previous_response_id"}),
        adds=frozenset({"stream_options"}),
        means=MEANS,
        schema_style="closed",
        inputs=("text", "image", "file", "audio"),
        vectors=VectorAbility(max_texts=256, base64=True, compatible=True),
        canonical=True,
        payloads=True,
        endings=(
            Ending(r"/deployments/(?P<model>[^/]+)/chat/completions", keep=True),
            Ending(r"/deployments/(?P<model>[^/]+)/embeddings", "embeddings", keep=True),
            Ending("/chat/completions"),
            Ending("/embeddings", "embeddings"),
            Ending("/models", "models"),
        ),
    )

    def encode_chat(self, request: Request) -> Outgoing:
        messages = [message_json(message, dialect="chat") for message in request.messages]
        body: dict[str, Any] = {"model": request.model, "messages": messages, **request.parameters}
        if "tools" in body and not body["tools"]:
            del body["tools"]  # an empty list is refused
        if request.stream:
            body["stream"] = True
            if "stream_options" not in request.refused:
                body["stream_options"] = with_counts(body.get("stream_options"))
        elif "stream_options" in body:
            del body["stream_options"]
        if request.extra:
            body.update(request.extra)
        return Outgoing("chat", "/chat/completions", body, accept="text/event-stream" if request.stream else "")

    def decode_chat(self, body: bytes) -> Completion | Fault:
        try:
            reply = _decode_reply(body)
        except UNDECODABLE:
            reply = read_reply(body, _Reply, "the reply")
        choices = reply.choices
        if not choices:
            if reply.error:
                return self.classify(200, {}, body)
            if choices is None:
                raise ReplyUnreadable("the reply is JSON, but not a chat reply: it has no `choices`")
        if choices and (error := choices[0].error):
            return self.classify(200, {}, msgspec.json.encode({"error": error}))
        # What of a message has no place in our own words goes back as it came: see `call_extra`.
        raw = any_json(body)["choices"] if any(each.message and each.message.tool_calls for each in choices) else []
        answers = [
            (each, _choice(each, raw[number : number + 1], reply.citations)) for number, each in enumerate(choices)
        ]
        if len(answers) > 1 and all(each.index is not None for each in choices):
            answers.sort(key=lambda pair: pair[0].index or 0)
        usage = usage_of(reply.usage) if reply.usage is not None else usage_outside(body)
        return Completion(tuple([answer for _, answer in answers]), reply.model, reply.id, usage)

    def stream_decoder(self) -> StreamDecoder:
        from .stream import ChatStream

        return ChatStream(self.classify)

    def verbatim_decoder(self) -> StreamDecoder:
        from .stream import ChatStream

        return ChatStream(self.classify, verbatim=True)

    def deferred_batches(self) -> "DeferredBatches":
        from ..shared.provider_batches import FilesAndBatches

        return FilesAndBatches()

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from ..shared.error_mapping import classify  # only needed once something is wrong

        return classify(status, headers, body, CODES)


def _choice(choice: _Choice, raw: list[Any], addresses: list[str] | None) -> Choice:
    message = choice.message
    reason = finish_reason(choice.finish_reason)
    if message is None:
        return Choice(finish_reason=reason)
    text, thoughts = text_and_thoughts(message.content)
    files = images_of(message.images)
    if (audio := message.audio) is not None:
        text = text or audio.transcript or ""
        files += [audio_file([audio.data])] if audio.data else []
    if message.refusal and reason == "stop":
        reason = "refusal"
    return Choice(
        text,
        reason,
        reasoning=message.reasoning_content or message.reasoning or thoughts or None,
        refusal=message.refusal,
        tool_calls=_calls(message, raw),
        citations=citations_of(message.annotations, addresses) if message.annotations or addresses else (),
        safety=safety_of(choice.content_filter_results) if choice.content_filter_results else (),
        files=tuple(files),
        logprobs=logprobs_of(choice.logprobs),
        provider_turn=turn_of_message(message),
    )


def _calls(message: MessageFields, raw: list[Any]) -> tuple[ToolCall, ...]:
    if message.tool_calls:
        as_they_came = raw[0]["message"]["tool_calls"] if raw else []
        return tuple([call_of(call, each) for call, each in zip(message.tool_calls, as_they_came, strict=False)])
    if (function := message.function_call) is not None:  # the older form, of one call
        return (ToolCall(ToolFunction(function.name, arguments_text(function.arguments))),)
    return ()
