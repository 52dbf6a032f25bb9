"""Replies and streams of ``POST {base}/messages``: the blocks of a turn, whole or as they grow."""

from collections.abc import Callable
from typing import Any

from ...core.canonical.chat import UNFINISHED, Choice, Citation, Completion, Json, MediaFile
from ...core.canonical.events import Cited, Event, FileTold, Reasoning, Refusal, Started, Text, ToolCallPiece
from ...core.canonical.usage import NO_USAGE, Usage
from ...core.messages.messages import arguments_of, sendable
from ..server_base import ErrorTold, EventEncoder, ReplyHead, encode_json
from ..shared.packed_turns import packed

_NAME = "messages"
_REASONS = {
    "stop": "end_turn",
    "length": "max_tokens",
    "tool_calls": "tool_use",
    "refusal": "refusal",
    "content_filter": "refusal",
    UNFINISHED: "pause_turn",
}


def message_of_reply(completion: Completion, head: ReplyHead) -> dict[str, Json]:
    """A whole reply."""
    choice = completion.choices[0] if completion.choices else Choice()
    return {
        **_message(completion.id or head.identifier, completion.model or head.model),
        "content": _blocks(choice),
        "stop_reason": _reason(choice.finish_reason),
        "usage": _usage(completion.usage or NO_USAGE),
    }


def _message(identifier: str, model: str) -> dict[str, Json]:
    return {
        "id": identifier,
        "type": "message",
        "role": "assistant",
        "model": model,
        "content": [],
        "stop_reason": None,
        "stop_sequence": None,
    }


def _reason(reason: str | None) -> str:
    """The reason in this format's words; one that is not known stays as it is."""
    return _REASONS.get(reason or "stop", reason or "")


def _usage(usage: Usage) -> dict[str, Json]:
    """The counts; what came out of the cache, or went into it, is none of the input here."""
    cached, written = usage.cached_tokens or 0, usage.cache_write_tokens or 0
    return {
        "input_tokens": max((usage.input_tokens or 0) - cached - written, 0),
        "output_tokens": usage.output_tokens or 0,
        "cache_read_input_tokens": cached,
        "cache_creation_input_tokens": written,
    }


def _blocks(choice: Choice) -> list[Json]:
    provider_turn = choice.provider_turn
    if provider_turn is not None and provider_turn.dialect == _NAME:
        return provider_turn.blocks
    blocks: list[Json] = []
    if choice.reasoning:
        blocks.append({"type": "thinking", "thinking": choice.reasoning, "signature": packed(provider_turn)})
    elif provider_turn is not None:
        blocks.append({"type": "redacted_thinking", "data": packed(provider_turn)})
    text = choice.text + (choice.refusal or "")
    if text or not (choice.tool_calls or choice.files):
        sources = [_citation(each) for each in choice.citations]
        blocks.append({"type": "text", "text": text, **({"citations": sources} if sources else {})})
    blocks += [_file(each) for each in choice.files]
    for number, call in enumerate(choice.tool_calls):
        complete_call = sendable(number, call)
        custom = call.extra.get("type", "function") != "function"
        arguments = {"text": call.function.arguments} if custom else arguments_of(complete_call)
        blocks.append({"type": "tool_use", "id": complete_call.id, "name": call.function.name, "input": arguments})
    return blocks


def _citation(citation: Citation) -> dict[str, Json]:
    return {
        "type": "web_search_result_location",
        "url": citation.address,
        "title": citation.title,
        "cited_text": citation.quote,
        "encrypted_index": "",
    }


def _file(file: MediaFile) -> dict[str, Json]:
    if file.address:
        source: dict[str, Json] = {"type": "url", "url": file.address}
    else:
        source = {"type": "base64", "media_type": file.media_type, "data": file.data}
    return {"type": "image" if file.media_type.startswith("image/") else "document", "source": source}


class MessagesEncoder(EventEncoder):
    """Named events from ``message_start`` to ``message_stop``; one block is open at a time."""

    def __init__(self, head: ReplyHead, error: Callable[[ErrorTold], dict[str, Json]]) -> None:
        super().__init__(head, error)
        self._started = False
        self._index = -1
        self._open: tuple[str, int] | None = None
        self._custom: list[str] | None = None

    def take(self, event: Event, out: list[bytes]) -> None:
        match event:
            case Started():
                self._begin(out, event)
            case Text() | Refusal():
                self._block(out, "text", {"type": "text", "text": ""})
                self._delta(out, {"type": "text_delta", "text": event.text})
            case Reasoning():
                self._block(out, "thinking", {"type": "thinking", "thinking": "", "signature": ""})
                self._delta(out, {"type": "thinking_delta", "thinking": event.text})
            case ToolCallPiece():
                self._call(out, event)
            case Cited():
                self._block(out, "text", {"type": "text", "text": ""})
                self._delta(out, {"type": "citations_delta", "citation": _citation(event.citation)})
            case FileTold():
                self._block(out, "file", _file(event.file))
                self._close(out)
            case _:
                pass  # no place for log probabilities and notes on safety

    def _call(self, out: list[bytes], event: ToolCallPiece) -> None:
        if self._open != ("call", event.index):
            start: dict[str, Json] = {
                "type": "tool_use",
                "id": event.id or f"call_{event.index}",
                "name": event.name,
                "input": {},
            }
            self._block(out, "call", start, event.index)
            # What a custom tool takes is a text, and here every input is an object: it is told once it is whole.
            self._custom = [] if event.extra.get("type", "function") != "function" else None
        if self._custom is not None:
            self._custom.append(event.arguments or _text_of(event))
        elif event.arguments:
            self._delta(out, {"type": "input_json_delta", "partial_json": event.arguments})

    def _begin(self, out: list[bytes], event: Started | None = None) -> None:
        if self._started:
            return
        self._started = True
        start = event or Started()
        message = _message(start.id or self.head.identifier, start.model or self.head.model)
        message["usage"] = _usage(self.usage or NO_USAGE)
        out.append(_event("message_start", message=message))

    def _block(self, out: list[bytes], kind: str, start: dict[str, Json], number: int = 0) -> None:
        if self._open == (kind, number):
            return
        self._begin(out)
        self._close(out)
        self._index += 1
        self._open = (kind, number)
        out.append(_event("content_block_start", index=self._index, content_block=start))

    def _delta(self, out: list[bytes], delta: dict[str, Json]) -> None:
        out.append(_event("content_block_delta", index=self._index, delta=delta))

    def _close(self, out: list[bytes]) -> None:
        if self._open is None:
            return
        if self._open[0] == "call" and self._custom is not None:
            text = encode_json({"text": "".join(self._custom)}).decode()
            self._delta(out, {"type": "input_json_delta", "partial_json": text})
        elif self._open[0] == "thinking":
            self._delta(out, {"type": "signature_delta", "signature": packed(None)})
        self._open = None
        out.append(_event("content_block_stop", index=self._index))

    def last(self) -> bytes:
        if self.verbatim:
            return self.last_passed()
        out: list[bytes] = []
        self._begin(out)
        self.rest(out)
        if self.turn is not None:
            self._block(out, "turn", {"type": "redacted_thinking", "data": packed(self.turn)})
        elif self._index < 0:
            self._block(out, "text", {"type": "text", "text": ""})
        self._close(out)
        delta = {"stop_reason": _reason(self.reason), "stop_sequence": None}
        out += [_event("message_delta", delta=delta, usage=_usage(self.usage or NO_USAGE)), _event("message_stop")]
        return b"".join(out)

    def failed(self, error: ErrorTold) -> bytes:
        body = self.error(error)
        return self.last_passed() + b"event: error\ndata: " + encode_json(body) + b"\n\n"


def _text_of(call_piece: ToolCallPiece) -> str:
    """The text in a piece of a custom call."""
    custom = call_piece.extra.get("custom")
    return str(custom.get("input") or "") if isinstance(custom, dict) else ""


def _event(kind: str, **fields: Any) -> bytes:
    return b"event: %b\ndata: %b\n\n" % (kind.encode(), encode_json({"type": kind, **fields}))
