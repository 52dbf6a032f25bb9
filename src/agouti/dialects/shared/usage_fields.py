"""Fields of token counts that several formats have."""

from msgspec import Struct
from msgspec.structs import replace

from ...core.canonical.usage import Usage


class _CachedDetails(Struct, gc=False):
    cached_tokens: int | None = None
    cache_write_tokens: int | None = None
    audio_tokens: int | None = None


class _ReasoningDetails(Struct, gc=False):
    reasoning_tokens: int | None = None
    audio_tokens: int | None = None


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
    cache_creation_input_tokens: int | None = None
    cache_read_input_tokens: int | None = None
    # What some of them say that it costs.
    cost: float | None = None
    total_cost: float | None = None


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
    written = cached.cache_write_tokens if cached is not None else None
    if written is None:
        written = usage.cache_creation_input_tokens
    if hits is None:
        hits = usage.cache_read_input_tokens
    cached_tokens = (hits or 0) + (written or 0)
    if (
        inputs is not None
        and cached_tokens
        and (cached_tokens > inputs or total == inputs + (outputs or 0) + cached_tokens)
    ):
        inputs += cached_tokens  # some servers count what the cache has given and taken beside the prompt
    if total is None and inputs is not None and outputs is not None:
        total = inputs + outputs
    if outputs is None and inputs is not None and total is not None and total >= inputs:
        outputs = total - inputs  # some leave out what is nothing
    result = Usage(inputs, outputs, total, hits, thoughts, written)
    cost = usage.cost if usage.cost is not None else usage.total_cost
    audio_tokens = details.audio_tokens if details is not None else None
    heard = cached.audio_tokens if cached is not None else None
    if cost is None and not audio_tokens and not heard:
        return result
    return replace(result, cost=cost, audio_input_tokens=heard, audio_output_tokens=audio_tokens)
