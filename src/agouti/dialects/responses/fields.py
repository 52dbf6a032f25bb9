"""What replies and stream events of the dialect `responses` are made of, and what a turn of items means."""

from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ...core.canonical.chat import (
    Choice,
    Citation,
    Completion,
    Json,
    MediaFile,
    ProviderTurn,
    TokenLogprob,
    ToolCall,
    ToolFunction,
)
from ...core.canonical.usage import Usage
from ...core.json.lenient import lenient
from ..chat.fields import Logprob, LogprobFields, logprobs_of

_INCOMPLETE = {"max_output_tokens": "length", "max_tokens": "length", "content_filter": "content_filter"}
_SIMPLE_ITEMS = ("message", "function_call", None)


class Annotation(Struct):
    """A note on a text: a source."""

    type: str | None = None
    url: str | None = None
    title: str | None = None
    filename: str | None = None
    start_index: int | None = None
    end_index: int | None = None

    def citation(self) -> Citation:
        """The source in the library's own words."""
        return Citation(self.url or "", self.title or self.filename or "", "", self.start_index, self.end_index)


class _TextPart(Struct):
    type: str | None = None
    text: str | None = None
    refusal: str | None = None
    annotations: list[Annotation] | None = None
    logprobs: list[Logprob] | None = None


class ItemFields(Struct):
    """An item of the output."""

    type: str | None = None
    id: str | None = None
    content: list[_TextPart] | None = None
    summary: list[_TextPart] | None = None
    call_id: str | None = None
    name: str | None = None
    arguments: str | None = None
    input: str | None = None
    result: str | None = None
    output_format: str | None = None

    @property
    def is_call(self) -> bool:
        """Whether the caller is to answer it."""
        return self.type in ("function_call", "custom_tool_call")

    def call(self) -> ToolCall:
        """The call that it is; one of a custom tool has its input for its arguments."""
        if self.type == "custom_tool_call":
            text = self.input or ""
            extra = {"type": "custom", "custom": {"name": self.name, "input": text}}
            return ToolCall(ToolFunction(self.name, text), self.call_id, extra)
        return ToolCall(ToolFunction(self.name, self.arguments or ""), self.call_id)

    def thoughts(self) -> str:
        """The thinking that it shows, a blank line between the parts of a summary."""
        summary = "\n\n".join([part.text for part in self.summary or () if part.text])
        return summary + "".join([part.text or "" for part in self.content or ()])

    def file(self) -> MediaFile | None:
        """The image that it is."""
        if self.type != "image_generation_call" or not self.result:
            return None
        return MediaFile(f"image/{self.output_format or 'png'}", self.result)


class _InputDetails(Struct, gc=False):
    cached_tokens: int | None = None
    audio_tokens: int | None = None


class _OutputDetails(Struct, gc=False):
    reasoning_tokens: int | None = None
    audio_tokens: int | None = None


class UsageFields(Struct):
    """Token counts."""

    input_tokens: int | None = None
    output_tokens: int | None = None
    total_tokens: int | None = None
    input_tokens_details: _InputDetails | None = None
    output_tokens_details: _OutputDetails | None = None


class _Incomplete(Struct):
    reason: str | None = None


class ReplyFields(Struct):
    """A whole reply."""

    id: str | None = None
    model: str | None = None
    status: str | None = None
    incomplete_details: _Incomplete | None = None
    error: Any = None
    output: list[ItemFields] | None = None
    usage: UsageFields | None = None


def choice_of(items: Sequence[ItemFields]) -> Choice:
    """What a turn of items means, but for the reason of its end."""
    texts, refusals, thoughts, calls, citations, files = [], [], [], [], [], []
    logprobs: list[TokenLogprob] = []
    for item in items:
        if item.is_call:
            calls.append(item.call())
        elif item.type == "reasoning":
            thoughts.append(item.thoughts())
        elif (file := item.file()) is not None:
            files.append(file)
        elif item.type in _SIMPLE_ITEMS:
            for part in item.content or ():
                texts.append(part.text or "")
                refusals.append(part.refusal or "")
                citations += [each.citation() for each in part.annotations or ()]
                logprobs += logprobs_of(LogprobFields(part.logprobs)) if part.logprobs else ()
    return Choice(
        "".join(texts),
        reasoning="\n\n".join(filter(None, thoughts)) or None,
        refusal="".join(refusals) or None,
        tool_calls=tuple(calls),
        citations=tuple(citations),
        files=tuple(files),
        logprobs=tuple(logprobs),
    )


def meaning(items: list[Json]) -> Choice:
    """What the items of a kept turn mean."""
    return choice_of([lenient(item, ItemFields) for item in items if isinstance(item, Mapping)])


def turn_of_items(items: Sequence[Json]) -> ProviderTurn | None:
    """The turn to be kept; `None` where text and calls say all of it."""
    kinds = [item.get("type") for item in items if isinstance(item, dict)]
    if all(kind in _SIMPLE_ITEMS for kind in kinds):
        return None
    return ProviderTurn("responses", list(items))


def finish(reply: ReplyFields, *, called: bool, refused: bool) -> str | None:
    """The reason for the end."""
    if reply.status == "incomplete":
        reason = reply.incomplete_details.reason if reply.incomplete_details is not None else None
        return _INCOMPLETE.get(reason or "", reason or "length")
    if reply.status in ("failed", "cancelled"):
        return "error"
    if reply.status in (None, "queued", "in_progress"):
        return reply.status  # not at its end yet: asked for in the background
    if called:
        return "tool_calls"
    if any(item.type == "mcp_approval_request" for item in reply.output or ()):
        return "mcp_approval_request"  # no call, and no answer either
    return "refusal" if refused else "stop"


def usage_of(usage: UsageFields) -> Usage:
    """The counts in the library's own words."""
    cached, reasoning = usage.input_tokens_details, usage.output_tokens_details
    return Usage(
        usage.input_tokens,
        usage.output_tokens,
        usage.total_tokens,
        cached.cached_tokens if cached is not None else None,
        reasoning.reasoning_tokens if reasoning is not None else None,
        audio_input_tokens=(cached.audio_tokens if cached is not None else None) or None,
        audio_output_tokens=(reasoning.audio_tokens if reasoning is not None else None) or None,
    )


def completion_of(reply: ReplyFields, provider_turn: ProviderTurn | None) -> Completion:
    """What a whole reply means."""
    choice = choice_of(reply.output or ())
    reason = finish(reply, called=bool(choice.tool_calls), refused=choice.refusal is not None)
    choice = replace(choice, finish_reason=reason, provider_turn=provider_turn)
    return Completion((choice,), reply.model, reply.id, usage_of(reply.usage) if reply.usage is not None else None)
