"""What replies of the dialect `converse` are made of, and what a turn of blocks means."""

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec
from msgspec import Struct

from ...core.canonical.chat import Choice, Citation, Json, MediaFile, ProviderTurn, ToolCall, ToolFunction
from ...core.canonical.usage import Usage
from ...core.json.lenient import lenient

ERROR_TYPE = "x-amzn-errortype"
"""The header that names the error."""

FINISH = {
    "end_turn": "stop",
    "stop_sequence": "stop",
    "max_tokens": "length",
    "model_context_window_exceeded": "length",
    "tool_use": "tool_calls",
    "guardrail_intervened": "content_filter",
    "content_filtered": "content_filter",
    "malformed_model_output": "error",
    "malformed_tool_use": "error",
}
_encode = msgspec.json.Encoder().encode


class ToolUseFields(Struct, rename="camel"):
    """A call."""

    tool_use_id: str | None = None
    name: str | None = None
    input: Any = None
    type: str | None = None

    def call(self) -> ToolCall:
        """The call in the canonical form."""
        arguments = _encode(self.input if isinstance(self.input, dict) else {}).decode()
        return ToolCall(ToolFunction(self.name, arguments), self.tool_use_id)

    @property
    def is_ours(self) -> bool:
        """Whether the caller is to answer it; the provider's own tools are no calls of ours."""
        return self.type != "server_tool_use"


class _ReasoningText(Struct):
    text: str | None = None
    signature: str | None = None


class ReasoningFields(Struct, rename="camel"):
    """Thinking; in a stream its pieces."""

    reasoning_text: _ReasoningText | None = None
    text: str | None = None
    signature: str | None = None
    redacted_content: str | None = None


class _SourceText(Struct):
    text: str | None = None


class _Web(Struct):
    url: str | None = None


class _Location(Struct):
    web: _Web | None = None


class CitationFields(Struct, rename="camel"):
    """A source."""

    title: str | None = None
    source: str | None = None
    source_content: list[_SourceText] | None = None
    location: _Location | None = None

    def citation(self) -> Citation:
        """The source in the library's own words."""
        quote = "".join([part.text or "" for part in self.source_content or ()])
        web = self.location.web if self.location is not None else None
        return Citation((web.url if web is not None else None) or self.source or "", self.title or "", quote)


class _Citations(Struct):
    content: list[_SourceText] | None = None
    citations: list[CitationFields] | None = None


class _Bytes(Struct):
    bytes: str | None = None


class _Image(Struct):
    format: str | None = None
    source: _Bytes | None = None


class BlockFields(Struct, rename="camel"):
    """A block of a turn."""

    text: str | None = None
    tool_use: ToolUseFields | None = None
    reasoning_content: ReasoningFields | None = None
    citations_content: _Citations | None = None
    image: _Image | None = None
    tool_result: Any = None

    @property
    def is_plain(self) -> bool:
        """Whether text and calls say all of it."""
        if self.tool_use is not None:
            return self.tool_use.is_ours
        return self.text is not None

    def file(self) -> MediaFile | None:
        """The image that it is."""
        if self.image is None or self.image.source is None or not self.image.source.bytes:
            return None
        return MediaFile(f"image/{self.image.format or 'png'}", self.image.source.bytes)


class UsageFields(Struct, rename="camel", gc=False):
    """Token counts; those of the cache are not in ``inputTokens``."""

    input_tokens: int | None = None
    output_tokens: int | None = None
    total_tokens: int | None = None
    cache_read_input_tokens: int | None = None
    cache_write_input_tokens: int | None = None

    def usage(self) -> Usage:
        """The counts in the library's own words."""
        cached, written, fresh = self.cache_read_input_tokens, self.cache_write_input_tokens, self.input_tokens
        inputs = None if fresh is None else fresh + (cached or 0) + (written or 0)
        return Usage(inputs, self.output_tokens, self.total_tokens, cached, cache_write_tokens=written)


def choice_of(blocks: Sequence[BlockFields]) -> Choice:
    """What a turn of blocks means."""
    texts, thoughts, calls, citations, files = [], [], [], [], []
    for block in blocks:
        texts.append(block.text or "")
        if block.tool_use is not None and block.tool_use.is_ours:
            calls.append(block.tool_use.call())
        if block.reasoning_content is not None:
            inner = block.reasoning_content.reasoning_text
            thoughts.append((inner.text if inner is not None else None) or "")
        if block.citations_content is not None:
            texts += [part.text or "" for part in block.citations_content.content or ()]
            citations += [each.citation() for each in block.citations_content.citations or ()]
        if (file := block.file()) is not None:
            files.append(file)
    return Choice(
        "".join(texts),
        reasoning="".join(thoughts) or None,
        tool_calls=tuple(calls),
        citations=tuple(citations),
        files=tuple(files),
    )


def meaning(blocks: list[Json]) -> Choice:
    """What the blocks of a kept turn mean."""
    return choice_of([lenient(block, BlockFields) for block in blocks if isinstance(block, Mapping)])


def turn_of(blocks: list[Json]) -> ProviderTurn:
    """A turn to be kept."""
    return ProviderTurn("converse", blocks)
