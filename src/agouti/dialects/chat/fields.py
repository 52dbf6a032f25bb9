"""What replies and chunks of the OpenAI-compatible interface and its kin are made of."""

from base64 import b64decode, b64encode
from collections.abc import Iterable, Mapping
from typing import Any

import msgspec
from msgspec import Struct

from ...core.canonical.chat import (
    Citation,
    Json,
    MediaFile,
    ProviderTurn,
    SafetyNote,
    TokenLogprob,
    ToolCall,
    ToolFunction,
)
from ...core.canonical.usage import Usage
from ...core.errors import (
    ContentRefused,
    ContextOverflow,
    CredentialRefused,
    ModelUnknown,
    NoAccess,
    OutOfCredit,
    Overloaded,
    RateLimited,
)
from ...core.json.lenient import any_json, lenient
from ...core.messages.media_types import audio_type_of
from ...core.messages.messages import TURN_FIELD
from ...core.messages.parts import address_of
from ..shared.usage_fields import UsageFields, usage_of

_encode = msgspec.json.Encoder().encode

# Words of compatible servers that mean one of the vocabulary.
FINISH = {
    "function_call": "tool_calls",
    "tool_use": "tool_calls",
    "max_tokens": "length",
    "eos": "stop",
    "end_turn": "stop",
}


def finish_reason(reason: str | None) -> str | None:
    """The reason for the end, in the common vocabulary."""
    return FINISH.get(reason, reason) if reason is not None else None


CODES = {
    "invalid_api_key": CredentialRefused,
    "authentication_error": CredentialRefused,
    "token_expired": CredentialRefused,
    "insufficient_quota": OutOfCredit,
    "billing_hard_limit_reached": OutOfCredit,
    "rate_limit_exceeded": RateLimited,
    "model_not_found": ModelUnknown,
    "context_length_exceeded": ContextOverflow,
    "exceed_context_size_error": ContextOverflow,
    "content_filter": ContentRefused,
    "content_policy_violation": ContentRefused,
    "permission_error": NoAccess,
    "overloaded_error": Overloaded,
    "server_overloaded": Overloaded,
}


class FunctionFields(Struct, gc=False):
    """The function of a call: its arguments are text, or by mistake an object."""

    name: str | None = None
    arguments: str | dict[str, Any] | None = None


class CustomFields(Struct, gc=False):
    """A call whose input is a text, not arguments."""

    name: str | None = None
    input: str | None = None


class CallFields(Struct):
    """A call, or a piece of one."""

    index: int | None = None
    id: str | None = None
    type: str | None = None
    function: FunctionFields | None = None
    custom: CustomFields | None = None


class PartFields(Struct):
    """A part of a message in parts."""

    text: str | None = None
    thinking: Any = None


class AudioFields(Struct):
    """The audio of an answer, or a piece of it."""

    id: str | None = None
    data: str | None = None
    transcript: str | None = None


class _TopLogprob(Struct, gc=False):
    token: str | None = None
    logprob: float | None = None


class Logprob(Struct, gc=False):
    """The log probability of one token."""

    token: str | None = None
    logprob: float | None = None
    top_logprobs: list[_TopLogprob] | None = None


class LogprobFields(Struct, gc=False):
    """The log probabilities of an answer's tokens."""

    content: list[Logprob] | None = None


class _UrlCitation(Struct):
    url: str | None = None
    title: str | None = None
    content: str | None = None
    start_index: int | None = None
    end_index: int | None = None


class AnnotationFields(Struct):
    """A note on the answer: a source, where it is one."""

    url_citation: _UrlCitation | None = None


class MessageFields(Struct, gc=False):
    """The ``message`` of a reply and the ``delta`` of a chunk: the same fields."""

    content: str | list[PartFields] | None = None
    refusal: str | None = None
    reasoning_content: str | None = None
    reasoning: str | None = None
    reasoning_details: list[Any] | None = None
    extra_content: Any = None
    provider_turn: Any = None
    tool_calls: list[CallFields] | None = None
    function_call: FunctionFields | None = None
    annotations: list[AnnotationFields] | None = None
    images: list[Any] | None = None
    audio: AudioFields | None = None


def text_and_thoughts(content: str | list[PartFields] | None) -> tuple[str, str]:
    """The text of a content, and the thinking where it is among its parts."""
    if isinstance(content, str):
        return content, ""
    text, thoughts = "", ""
    for part in content or ():
        text += part.text or ""
        if part.thinking is not None:
            inner = part.thinking if isinstance(part.thinking, list) else [{"text": part.thinking}]
            thoughts += "".join([str(each.get("text") or "") for each in inner if isinstance(each, dict)])
    return text, thoughts


def turn_of(fields: Mapping[str, Json]) -> ProviderTurn | None:
    """The fields of an assistant message that go back with it; `None` where there are none."""
    present = {name: value for name, value in fields.items() if value}
    return ProviderTurn("chat", [present]) if present else None


def turn_of_message(message: MessageFields) -> ProviderTurn | None:
    """What of an answer goes back with it: its thinking as it came, and the name of its audio."""
    if (
        message.reasoning_content is None
        and message.reasoning is None
        and message.reasoning_details is None
        and message.extra_content is None
        and message.provider_turn is None
        and message.audio is None
    ):
        return None  # nearly every answer
    return turn_of(
        {
            "reasoning_content": message.reasoning_content,
            "reasoning": message.reasoning,
            "reasoning_details": message.reasoning_details,
            "extra_content": message.extra_content,
            TURN_FIELD: message.provider_turn,
            "audio": {"id": message.audio.id} if message.audio is not None and message.audio.id else None,
        }
    )


def call_extra(call: Mapping[str, Json]) -> dict[str, Json]:
    """The fields of a call beyond the usual ones, which go back with it."""
    known_fields = ("id", "index", "function", "type", "custom")
    return {name: value for name, value in call.items() if name not in known_fields and value is not None}


def call_of(call: CallFields, raw: Json) -> ToolCall:
    """A call; one of a custom tool has its input for its arguments.

    Args:
        raw: the same call, as it came.
    """
    extra = call_extra(raw) if isinstance(raw, dict) else {}
    if call.type == "custom" and call.custom is not None:
        custom = {"type": "custom", "custom": {"name": call.custom.name, "input": call.custom.input or ""}}
        return ToolCall(ToolFunction(call.custom.name, call.custom.input or ""), call.id, {**extra, **custom})
    function = call.function or FunctionFields()
    return ToolCall(ToolFunction(function.name, arguments_text(function.arguments)), call.id, extra)


def images_of(images: Iterable[Json] | None) -> list[MediaFile]:
    """The images of an answer."""
    addresses = [address_of(image) for image in images or () if isinstance(image, dict)]
    return [media_file(address) for address in addresses if address]


def media_file(address: str) -> MediaFile:
    """A file from its address, or from the ``data:`` address that holds it.

    >>> media_file("data:image/png;base64,AAAA")
    MediaFile(media_type='image/png', data='AAAA', address='')
    """
    if address[:5].lower() == "data:" and "," in address:
        head, _, data = address[5:].partition(",")
        return MediaFile(head.partition(";")[0].lower(), data)
    return MediaFile(address=address)


def audio_file(chunks: Iterable[str]) -> MediaFile:
    """The audio of an answer from its pieces, each of which may be padded."""
    data = b""
    for chunk in chunks:
        try:
            data += b64decode(chunk)
        except ValueError:
            continue  # a piece that is no base64 cannot be heard anyway
    return MediaFile(audio_type_of(data) or "audio/pcm", b64encode(data).decode())


def logprobs_of(logprobs: LogprobFields | None) -> tuple[TokenLogprob, ...]:
    """Log probabilities in the library's own words."""
    if logprobs is None or not logprobs.content:
        return ()
    return tuple(
        [
            TokenLogprob(
                each.token or "",
                each.logprob,
                tuple([TokenLogprob(top.token or "", top.logprob) for top in each.top_logprobs or ()]),
            )
            for each in logprobs.content
        ]
    )


def safety_of(results: Mapping[str, Json]) -> tuple[SafetyNote, ...]:
    """The notes of the provider's safety system."""
    return tuple(
        [
            SafetyNote(category, str(result.get("severity") or ""), result.get("filtered") is True)
            for category, result in results.items()
            if isinstance(result, dict)
        ]
    )


def usage_outside(body: bytes) -> Usage | None:
    """Token counts that a server puts into an answer, or into a member of its own (``x_...``)."""
    if b'"usage"' not in body:
        return None
    try:
        value = any_json(body)
    except msgspec.DecodeError:
        return None
    if not isinstance(value, dict):
        return None
    choices = value.get("choices")
    candidates = [choices[0] if isinstance(choices, list) and choices else None]
    candidates += [inner for name, inner in value.items() if name.startswith("x_")]
    for candidate in candidates:
        if isinstance(candidate, dict) and isinstance(candidate.get("usage"), dict):
            return usage_of(lenient(candidate["usage"], UsageFields))
    return None


def citations_of(annotations: list[AnnotationFields] | None, addresses: list[str] | None) -> tuple[Citation, ...]:
    """The sources that annotations name, and those of a plain list of addresses."""
    citations = [
        Citation(cited.url or "", cited.title or "", cited.content or "", cited.start_index, cited.end_index)
        for annotation in annotations or ()
        if (cited := annotation.url_citation) is not None
    ]
    known = {citation.address for citation in citations}
    return tuple(citations + [Citation(address) for address in addresses or () if address not in known])


def arguments_text(arguments: str | dict[str, Any] | None) -> str:
    """The arguments of a call as text, which is what they are meant to be."""
    return _encode(arguments).decode() if isinstance(arguments, dict) else arguments or ""


def with_counts(options: Json) -> dict[str, Json]:
    """Options of a stream that asks for its counts of tokens: without them nobody knows what it has cost.

    >>> with_counts({"include_usage": False, "more": 1})
    {'include_usage': True, 'more': 1}
    """
    return {**(options if isinstance(options, dict) else {}), "include_usage": True}
