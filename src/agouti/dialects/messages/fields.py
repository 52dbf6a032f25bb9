"""What replies and stream events of the dialect `messages` are made of, and what a turn of blocks means."""

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec
from msgspec import Struct

from ...core.canonical.chat import UNFINISHED, Choice, Citation, Json, ProviderTurn, ToolCall, ToolFunction
from ...core.canonical.usage import Usage
from ...core.json.lenient import lenient
from ..base import in_common

FINISH = {
    "end_turn": "stop",
    "stop_sequence": "stop",
    "pause_turn": UNFINISHED,
    "max_tokens": "length",
    "model_context_window_exceeded": "length",
    "tool_use": "tool_calls",
    "refusal": "refusal",
}
_SIMPLE_BLOCKS = ("text", "tool_use", None)
_encode = msgspec.json.Encoder().encode


class _CacheCreation(Struct, gc=False):
    ephemeral_1h_input_tokens: int | None = None


class UsageFields(Struct, gc=False):
    """Token counts; those of the cache are not in ``input_tokens``."""

    input_tokens: int | None = None
    output_tokens: int | None = None
    cache_creation_input_tokens: int | None = None
    cache_read_input_tokens: int | None = None
    cache_creation: _CacheCreation | None = None


class CitationFields(Struct):
    """A source of a block of text."""

    url: str | None = None
    title: str | None = None
    document_title: str | None = None
    cited_text: str | None = None

    def citation(self) -> Citation:
        """The source in the library's own words."""
        return Citation(self.url or "", self.title or self.document_title or "", self.cited_text or "")


class BlockFields(Struct):
    """A block of a turn."""

    type: str | None = None
    text: str | None = None
    thinking: str | None = None
    id: str | None = None
    name: str | None = None
    input: Any = None
    citations: list[CitationFields] | None = None

    @property
    def is_plain(self) -> bool:
        """Whether text and calls say all of it."""
        return self.type in _SIMPLE_BLOCKS and not self.citations


class ReplyFields(Struct):
    """A whole reply."""

    type: str | None = None
    id: str | None = None
    model: str | None = None
    content: list[BlockFields] | None = None
    stop_reason: str | None = None
    usage: UsageFields | None = None
    error: Any = None


def choice_of(blocks: Sequence[BlockFields], stop_reason: str | None = None) -> Choice:
    """What a turn of blocks means."""
    texts, thoughts, calls, citations = [], [], [], []
    for block in blocks:
        if block.type == "tool_use":
            arguments = _encode(block.input if isinstance(block.input, dict) else {}).decode()
            calls.append(ToolCall(ToolFunction(block.name, arguments), block.id))
        else:
            texts.append(block.text or "")
            thoughts.append(block.thinking or "")
            citations += [each.citation() for each in block.citations or ()]
    return Choice(
        "".join(texts),
        in_common(FINISH, stop_reason),
        reasoning="".join(thoughts) or None,
        tool_calls=tuple(calls),
        citations=tuple(citations),
    )


def meaning(blocks: list[Json]) -> Choice:
    """What the blocks of a kept turn mean."""
    return choice_of([lenient(block, BlockFields) for block in blocks if isinstance(block, Mapping)])


def turn_of(blocks: list[Json]) -> ProviderTurn:
    """A turn to be kept."""
    return ProviderTurn("messages", blocks)


def usage_of(usage: UsageFields) -> Usage:
    """The counts in the library's own words."""
    cached, written, fresh = (
        usage.cache_read_input_tokens,
        usage.cache_creation_input_tokens,
        usage.input_tokens,
    )
    inputs = None if fresh is None else fresh + (cached or 0) + (written or 0)
    total = None if inputs is None or usage.output_tokens is None else inputs + usage.output_tokens
    one_hour = usage.cache_creation.ephemeral_1h_input_tokens if usage.cache_creation is not None else None
    return Usage(
        inputs, usage.output_tokens, total, cached, cache_write_tokens=written, long_cache_write_tokens=one_hour or None
    )
