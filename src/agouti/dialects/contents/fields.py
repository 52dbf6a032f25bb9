"""What replies of the dialect `contents` are made of, and what a turn of parts means."""

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec
from msgspec import Struct

from ...core.canonical.chat import (
    Choice,
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
from ...core.json.lenient import lenient
from ..base import in_common

_FINISH = {
    "STOP": "stop",
    "MAX_TOKENS": "length",
    "SAFETY": "content_filter",
    "RECITATION": "content_filter",
    "BLOCKLIST": "content_filter",
    "PROHIBITED_CONTENT": "content_filter",
    "SPII": "content_filter",
    "IMAGE_SAFETY": "content_filter",
    "LANGUAGE": "content_filter",
    "MALFORMED_FUNCTION_CALL": "error",
    "UNEXPECTED_TOOL_CALL": "error",
    "OTHER": "error",
}
_NO_REASON = (None, "", "FINISH_REASON_UNSPECIFIED")
_encode = msgspec.json.Encoder().encode


class FunctionCallFields(Struct):
    """A call."""

    id: str | None = None
    name: str | None = None
    args: Any = None

    def call(self, number: int) -> ToolCall:
        """The call in the canonical form; many models leave the identifier out, and conversations need one."""
        arguments = _encode(self.args if isinstance(self.args, dict) else {}).decode()
        return ToolCall(ToolFunction(self.name, arguments), self.id or f"call_{number}")


class _Data(Struct, rename="camel"):
    mime_type: str | None = None
    data: str | None = None
    file_uri: str | None = None


class PartFields(Struct, rename="camel"):
    """A part of a turn."""

    text: str | None = None
    thought: bool | None = None
    thought_signature: str | None = None
    function_call: FunctionCallFields | None = None
    inline_data: _Data | None = None
    file_data: _Data | None = None
    executable_code: Any = None
    code_execution_result: Any = None

    @property
    def is_plain(self) -> bool:
        """Whether text and calls say all of it."""
        return (
            not self.thought
            and (self.function_call is None or self.function_call.id is None)
            and self.thought_signature is None
            and self.inline_data is None
            and self.file_data is None
            and self.executable_code is None
            and self.code_execution_result is None
        )

    def file(self) -> MediaFile | None:
        """The file that it is."""
        data = self.inline_data or self.file_data
        if data is None or not (data.data or data.file_uri):
            return None
        return MediaFile(data.mime_type or "", data.data or "", data.file_uri or "")


class _Content(Struct):
    parts: list[PartFields] | None = None


class _Source(Struct, rename="camel"):
    uri: str | None = None
    title: str | None = None
    start_index: int | None = None
    end_index: int | None = None


class _Sources(Struct, rename="camel"):
    citation_sources: list[_Source] | None = None
    citations: list[_Source] | None = None


class _Ground(Struct, rename="camel"):
    web: _Source | None = None
    retrieved_context: _Source | None = None


class _Segment(Struct, rename="camel"):
    start_index: int | None = None
    end_index: int | None = None


class _Support(Struct, rename="camel"):
    segment: _Segment | None = None
    grounding_chunk_indices: list[int] | None = None


class _Grounding(Struct, rename="camel"):
    grounding_chunks: list[_Ground] | None = None
    grounding_supports: list[_Support] | None = None


class _Rating(Struct):
    category: str | None = None
    probability: str | None = None
    blocked: bool | None = None


class _Logprob(Struct, rename="camel", gc=False):
    token: str | None = None
    log_probability: float | None = None

    def logprob(self, top: tuple[TokenLogprob, ...] = ()) -> TokenLogprob:
        return TokenLogprob(self.token or "", self.log_probability, top)


class _Tops(Struct):
    candidates: list[_Logprob] | None = None


class _Logprobs(Struct, rename="camel"):
    chosen_candidates: list[_Logprob] | None = None
    top_candidates: list[_Tops] | None = None


class CandidateFields(Struct, rename="camel"):
    """One answer, or a piece of one."""

    content: _Content | None = None
    finish_reason: str | None = None
    index: int | None = None
    citation_metadata: _Sources | None = None
    grounding_metadata: _Grounding | None = None
    safety_ratings: list[_Rating] | None = None
    logprobs_result: _Logprobs | None = None

    @property
    def parts(self) -> Sequence[PartFields]:
        """The parts of its content."""
        return (self.content.parts if self.content is not None else None) or ()

    def finish(self, *, called: bool) -> str | None:
        """The reason for its end; `None` where it has not come to it."""
        if self.finish_reason in _NO_REASON:
            return None
        common = in_common(_FINISH, self.finish_reason)
        return "tool_calls" if called and common == "stop" else common

    def citations(self) -> tuple[Citation, ...]:
        """The sources that it names, and those that a search has given it."""
        metadata = self.citation_metadata
        sources = (metadata.citation_sources or metadata.citations or ()) if metadata is not None else ()
        named = [Citation(each.uri or "", each.title or "", "", each.start_index, each.end_index) for each in sources]
        return (*named, *_grounds(self.grounding_metadata)) if self.grounding_metadata is not None else tuple(named)

    def safety(self) -> tuple[SafetyNote, ...]:
        """The notes of the provider's safety system."""
        ratings = self.safety_ratings or ()
        return tuple([SafetyNote(each.category or "", each.probability or "", bool(each.blocked)) for each in ratings])

    def logprobs(self) -> tuple[TokenLogprob, ...]:
        """The log probabilities of its tokens."""
        if self.logprobs_result is None:
            return ()
        tops = self.logprobs_result.top_candidates or []
        return tuple(
            [
                each.logprob(
                    tuple([top.logprob() for top in tops[number].candidates or ()]) if number < len(tops) else ()
                )
                for number, each in enumerate(self.logprobs_result.chosen_candidates or ())
            ]
        )


def _grounds(grounding: _Grounding) -> list[Citation]:
    sources = [each.web or each.retrieved_context or _Source() for each in grounding.grounding_chunks or ()]
    supported: list[Citation] = []
    for support in grounding.grounding_supports or ():
        segment = support.segment or _Segment()
        for number in support.grounding_chunk_indices or ():
            if 0 <= number < len(sources):
                source = sources[number]
                start, end = segment.start_index, segment.end_index
                supported.append(Citation(source.uri or "", source.title or "", "", start, end))
    return supported or [Citation(source.uri or "", source.title or "") for source in sources]


class UsageFields(Struct, rename="camel", gc=False):
    """Token counts."""

    prompt_token_count: int | None = None
    candidates_token_count: int | None = None
    thoughts_token_count: int | None = None
    cached_content_token_count: int | None = None
    tool_use_prompt_token_count: int | None = None
    total_token_count: int | None = None

    def usage(self) -> Usage:
        """The counts in the library's own words."""
        inputs, outputs, thoughts = self.prompt_token_count, self.candidates_token_count, self.thoughts_token_count
        inputs = (inputs or 0) + tools if (tools := self.tool_use_prompt_token_count) else inputs
        if thoughts is not None:
            outputs = (outputs or 0) + thoughts
        total = self.total_token_count
        if outputs is None and inputs is not None and total is not None and total >= inputs:
            outputs = total - inputs  # what is nothing is left out
        return Usage(inputs, outputs, total, self.cached_content_token_count, thoughts)


class FeedbackFields(Struct, rename="camel"):
    """What the provider says of the prompt."""

    block_reason: str | None = None


class ReplyFields(Struct, rename="camel"):
    """A whole reply, and each part of a streamed one."""

    candidates: list[CandidateFields] | None = None
    prompt_feedback: FeedbackFields | None = None
    usage_metadata: UsageFields | None = None
    model_version: str | None = None
    response_id: str | None = None
    error: Any = None

    @property
    def block_reason(self) -> str | None:
        """Why the prompt was refused; `None` where it was not."""
        return self.prompt_feedback.block_reason if self.prompt_feedback is not None and not self.candidates else None

    @property
    def is_plain(self) -> bool:
        """Whether text and calls say all of it."""
        return all(part.is_plain for candidate in self.candidates or () for part in candidate.parts)


def texts_of(parts: Sequence[PartFields]) -> Choice:
    """What the parts of a turn mean."""
    functions = [part.function_call for part in parts if part.function_call is not None]
    files = [part.file() for part in parts]
    return Choice(
        "".join([part.text or "" for part in parts if not part.thought]),
        reasoning="".join([part.text or "" for part in parts if part.thought]) or None,
        tool_calls=tuple([function.call(number) for number, function in enumerate(functions)]),
        files=tuple([file for file in files if file is not None]),
    )


def meaning(parts: list[Json]) -> Choice:
    """What the parts of a kept turn mean; identifiers that we made up are no part of it."""
    fields = [lenient(part, PartFields) for part in parts if isinstance(part, Mapping)]
    choice = texts_of(fields)
    identifiers = [part.function_call.id for part in fields if part.function_call is not None]
    calls = [
        ToolCall(call.function, identifier) for call, identifier in zip(choice.tool_calls, identifiers, strict=True)
    ]
    return msgspec.structs.replace(choice, tool_calls=tuple(calls))


def turn_of(parts: list[Json]) -> ProviderTurn:
    """A turn to be kept."""
    return ProviderTurn("contents", parts)
