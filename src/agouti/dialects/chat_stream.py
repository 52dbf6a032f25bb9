"""The stream of the dialect `chat`: chunks in server-sent events. The hottest path of all, hence its shape."""

from collections.abc import Callable, Mapping
from typing import Any

import msgspec
from msgspec import Struct

from ..core.errors import ReplyUnreadable
from ..core.events import Cited, Event, Finished, Passed, Reasoning, Refusal, Started, Text, ToolCallPiece, UsageTold
from ..core.framing_sse import SseDecoder
from ..core.json_lenient import UNDECODABLE, decode_json, lenient
from .base import Fault
from .call_numbers import CallNumbers
from .chat_fields import FINISH, FunctionFields, MessageFields, UsageFields, arguments_text, citations_of, usage_of


class _ChunkChoice(Struct, gc=False):
    index: int | None = None
    delta: MessageFields | None = None
    finish_reason: str | None = None


class _LaterChunk(Struct, gc=False):
    """A chunk after the first: identifier and model have been told, decoding them again costs and tells nothing."""

    choices: list[_ChunkChoice] | None = None
    usage: UsageFields | None = None
    error: Any = None


class _Chunk(_LaterChunk, gc=False):
    id: str | None = None
    model: str | None = None


_decode_chunk: Callable[[bytes], _LaterChunk] = msgspec.json.Decoder(_Chunk).decode
_decode_later_chunk = msgspec.json.Decoder(_LaterChunk).decode


class ChatStream:
    """Chunks, each the data of one server-sent event, until ``[DONE]``."""

    __slots__ = (
        "_calls",
        "_classify",
        "_events",
        "_finished",
        "_refused",
        "_sse",
        "_started",
        "done",
        "failure",
        "verbatim",
    )

    def __init__(self, classify: Callable[[int, Mapping[str, str], bytes], Fault], *, verbatim: bool = False) -> None:
        self._classify = classify
        self._sse = SseDecoder()
        self._events: list[Event] = []
        self._started = False
        self._finished = False
        self._refused = False
        self._calls: dict[int, CallNumbers] = {}
        self.done = False
        self.failure: Fault | None = None
        self.verbatim = verbatim

    def feed(self, data: bytes) -> list[Event]:
        events: list[Event] = []
        self._events = events
        if self.done or self.failure is not None:
            return events  # some servers send more after the end mark: not part of the reply
        try:
            decoded = self._sse.feed(data)
        except ReplyUnreadable as error:
            self.failure = Fault(type(error), error.what)
            return events
        add = events.append
        started = self._started
        decode = _decode_later_chunk if started else _decode_chunk
        for item in decoded:
            name, payload = ("", item) if isinstance(item, bytes) else item
            try:
                chunk = decode(payload)
            except UNDECODABLE as error:
                if payload == b"[DONE]":
                    self.done = True
                elif name == "error":
                    self._fail(payload)
                elif (mended := self._mended(payload, error)) is not None:
                    if self.verbatim and mended.error is None:
                        add(Passed(payload))
                    self._chunk(mended, payload)
            else:
                choices = chunk.choices
                if self.verbatim and chunk.error is None and name != "error":
                    add(Passed(payload))
                if choices and started and len(choices) == 1 and chunk.usage is None and chunk.error is None:
                    # Nearly every chunk of a stream, one piece of the first answer's text and nothing
                    # else: worth a way of its own.
                    choice = choices[0]
                    delta = choice.delta
                    if delta is not None and choice.finish_reason is None and not choice.index:
                        text = delta.content
                        if (
                            type(text) is str
                            and text
                            and delta.tool_calls is None
                            and delta.reasoning_content is None
                            and delta.reasoning is None
                            and delta.refusal is None
                            and delta.annotations is None
                        ):
                            add(Text(text))
                            continue
                if name == "error":
                    self._fail(payload)
                else:
                    self._chunk(chunk, payload)
                    if self._started and not started:
                        started, decode = True, _decode_later_chunk
            if self.done or self.failure is not None:
                break
        return events

    def last(self) -> list[Event]:
        return self.feed(b"\n\n")

    def end(self) -> bool:
        # Some servers just close after the last chunk: complete all the same once a finish reason has come.
        return self.done or self._finished

    def _fail(self, payload: bytes) -> None:
        self.failure = self._classify(200, {}, payload)

    def _chunk(self, chunk: _LaterChunk, payload: bytes) -> None:
        if chunk.error is not None:
            self._fail(payload)
            return
        events = self._events
        if not self._started and isinstance(chunk, _Chunk) and (chunk.model is not None or chunk.id is not None):
            self._started = True
            events.append(Started(chunk.model, chunk.id))
        for choice in chunk.choices or ():
            index = choice.index or 0
            if choice.delta is not None:
                self._delta(choice.delta, index)
            reason = choice.finish_reason
            if reason:  # some servers say "" where there is none yet
                self._finished = True
                reason = FINISH.get(reason, reason)
                events.append(Finished("refusal" if self._refused and reason == "stop" else reason, index))
        if chunk.usage is not None:
            events.append(UsageTold(usage_of(chunk.usage)))

    def _mended(self, payload: bytes, error: Exception) -> "_Chunk | None":
        """A chunk with fields of other types than promised; none for what is only filler or is garbage."""
        if payload.strip() in (b"", b"null"):
            return None
        try:
            return lenient(decode_json(payload), _Chunk)
        except msgspec.MsgspecError as again:
            error = again
        self.failure = Fault(ReplyUnreadable, f"a chunk of the stream cannot be read ({error})")
        return None

    def _delta(self, delta: MessageFields, index: int) -> None:
        events = self._events
        thought = delta.reasoning_content or delta.reasoning
        if thought:
            events.append(Reasoning(thought, index))
        content = delta.content
        if content:
            if not isinstance(content, str):
                content = "".join([part.text or "" for part in content])
            events.append(Text(content, index))
        if delta.refusal:
            self._refused = True
            events.append(Refusal(delta.refusal, index))
        if delta.annotations:
            events += [Cited(citation, index) for citation in citations_of(delta.annotations, None)]
        calls = delta.tool_calls
        if calls:
            numbers = self._calls.setdefault(index, CallNumbers())
            for position, call in enumerate(calls):
                function = call.function or FunctionFields()
                # Without an index, several pieces of one chunk are told apart by their order.
                place = ("at", position) if call.index is None and len(calls) > 1 else call.index
                number = numbers.piece(place, call.id, function.name)
                events.append(ToolCallPiece(number, call.id, function.name, arguments_text(function.arguments), index))
