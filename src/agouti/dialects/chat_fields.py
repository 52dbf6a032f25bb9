"""What replies and chunks of the OpenAI-compatible interface and its kin are made of."""

from typing import Any

import msgspec
from msgspec import Struct

from ..core.chat import Citation
from ..core.errors import (
    ContentRefused,
    ContextOverflow,
    CredentialRefused,
    ModelUnknown,
    NoAccess,
    OutOfCredit,
    Overloaded,
    RateLimited,
)
from ..core.usage import Usage

_encode = msgspec.json.Encoder().encode

# Words of compatible servers that mean one of the vocabulary.
FINISH = {
    "function_call": "tool_calls",
    "tool_use": "tool_calls",
    "max_tokens": "length",
    "eos": "stop",
    "end_turn": "stop",
}


def finish_reason(word: str | None) -> str | None:
    """The reason for the end, in the common vocabulary."""
    return FINISH.get(word, word) if word is not None else None


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


class _CachedDetails(Struct, gc=False):
    cached_tokens: int | None = None


class _ReasoningDetails(Struct, gc=False):
    reasoning_tokens: int | None = None


class UsageFields(Struct):
    """The ``usage`` of this dialect and its kin."""

    prompt_tokens: int | None = None
    completion_tokens: int | None = None
    total_tokens: int | None = None
    prompt_tokens_details: _CachedDetails | None = None
    completion_tokens_details: _ReasoningDetails | None = None
    # Other names that compatible servers have for the same counts.
    input_tokens: int | None = None
    output_tokens: int | None = None
    cached_tokens: int | None = None
    prompt_cache_hit_tokens: int | None = None


class FunctionFields(Struct, gc=False):
    """The function of a call: its arguments are text, or by mistake an object."""

    name: str | None = None
    arguments: str | dict[str, Any] | None = None


class CallFields(Struct):
    """A call, or a piece of one."""

    index: int | None = None
    id: str | None = None
    function: FunctionFields | None = None


class PartFields(Struct):
    """A part of a message in parts."""

    text: str | None = None


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
    tool_calls: list[CallFields] | None = None
    annotations: list[AnnotationFields] | None = None


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


def usage_of(usage: UsageFields) -> Usage:
    """The counts in the library's own words."""
    inputs = usage.prompt_tokens if usage.prompt_tokens is not None else usage.input_tokens
    outputs = usage.completion_tokens if usage.completion_tokens is not None else usage.output_tokens
    cached, total = usage.prompt_tokens_details, usage.total_tokens
    hits = cached.cached_tokens if cached is not None else None
    if hits is None:
        hits = usage.cached_tokens if usage.cached_tokens is not None else usage.prompt_cache_hit_tokens
    details = usage.completion_tokens_details
    thoughts = details.reasoning_tokens if details is not None else None
    if outputs is not None and thoughts and (thoughts > outputs or total == (inputs or 0) + outputs + thoughts):
        outputs += thoughts  # some servers count them apart, and charge both
    if total is None and inputs is not None and outputs is not None:
        total = inputs + outputs
    return Usage(inputs, outputs, total, hits, thoughts)
