"""The stream of the dialect `converse`: binary frames from ``messageStart`` to ``metadata``."""

from collections.abc import Callable, Mapping
from typing import Any

import msgspec
from msgspec import Struct

from ...core.canonical.chat import Json
from ...core.canonical.events import (
    Cited,
    Event,
    FileTold,
    Finished,
    Reasoning,
    Text,
    ToolCallPiece,
    TurnTold,
    UsageTold,
)
from ...core.framing.binary import FrameDecoder
from ...core.framing.sse import ServerEvent
from ...core.json.lenient import UNDECODABLE, decode_json
from ...core.text.growing_text import TextPieces
from ..base import in_common
from ..shared.stream_decoding import PayloadStream
from ..wire import Fault
from .fields import (
    ERROR_TYPE,
    FINISH,
    BlockFields,
    CitationFields,
    ReasoningFields,
    ToolUseFields,
    UsageFields,
    turn_of,
)

_encode = msgspec.json.Encoder().encode


class _Delta(Struct, rename="camel", gc=False):
    text: str | None = None
    tool_use: ToolUseFields | None = None
    reasoning_content: ReasoningFields | None = None
    citation: CitationFields | None = None
    image: Any = None


class _Start(Struct, rename="camel"):
    tool_use: ToolUseFields | None = None


class _StreamEvent(Struct, rename="camel"):
    content_block_index: int | None = None
    delta: _Delta | None = None
    start: _Start | None = None
    stop_reason: str | None = None
    usage: UsageFields | None = None


_EVENT = msgspec.json.Decoder(_StreamEvent)


class _Frames:
    """The frames of a stream as named payloads; an exception gets a name with a mark before it."""

    def __init__(self) -> None:
        self._decoder = FrameDecoder()

    def feed(self, data: bytes) -> list[ServerEvent]:
        payloads: list[ServerEvent] = []
        for frame in self._decoder.feed(data):
            headers = frame.headers
            if headers.get(":message-type") == "exception":
                payloads.append(("!" + headers.get(":exception-type", ""), frame.payload or b"{}"))
            elif headers.get(":message-type") == "error":
                error = {"message": headers.get(":error-message", "")}
                payloads.append(("!" + headers.get(":error-code", ""), _encode(error)))
            else:
                payloads.append((headers.get(":event-type", ""), frame.payload or b"{}"))
        return payloads


class _Block:
    """A block as it grows."""

    __slots__ = ("call", "citations", "json", "number", "redacted", "signature", "text", "thinking")

    def __init__(self) -> None:
        self.text = TextPieces()
        self.thinking = TextPieces()
        self.json = TextPieces()
        self.signature = self.redacted = ""
        self.citations: list[Json] = []
        self.call: dict[str, Json] | None = None
        self.number: int | None = None

    def as_json(self) -> dict[str, Json]:
        """The block as a whole reply has it."""
        if self.call is not None:
            try:
                arguments = decode_json(str(self.json).encode()) if self.json else {}
            except UNDECODABLE:
                arguments = {}
            return {"toolUse": {**self.call, "input": arguments}}
        if self.redacted:
            return {"reasoningContent": {"redactedContent": self.redacted}}
        if self.thinking or self.signature:
            signature = {"signature": self.signature} if self.signature else {}
            return {"reasoningContent": {"reasoningText": {"text": str(self.thinking), **signature}}}
        if self.citations:
            return {"citationsContent": {"content": [{"text": str(self.text)}], "citations": self.citations}}
        return {"text": str(self.text)}


class ConverseStream(PayloadStream):
    """See the module; ``metadata`` comes behind ``messageStop``."""

    terminator = b""

    def __init__(self, classify: Callable[[int, Mapping[str, str], bytes], Fault]) -> None:
        super().__init__(_Frames())
        self._classify = classify
        self._called = 0
        self._blocks: list[_Block] = []
        # Blocks by their index; without indices there is one at a time.
        self._open: dict[int | None, _Block] = {}
        self._is_simple = True
        self._stopped = False

    def end(self) -> bool:
        return self._stopped

    def take(self, name: str, payload: bytes, events: list[Event]) -> None:
        if name.startswith("!"):
            kind = name[1:2].upper() + name[2:]
            self.failure = self._classify(200, {ERROR_TYPE: kind}, payload)
            return
        event = self.read(payload, _EVENT, _StreamEvent)
        if event is None:
            return
        match name:
            case "contentBlockDelta":
                if event.delta is not None:
                    self._delta(event.delta, event.content_block_index, payload, events)
            case "contentBlockStart":
                self._begin(event.start, event.content_block_index, events)
            case "contentBlockStop":
                self._open.pop(event.content_block_index, None)
            case "messageStop":
                self._stopped = True
                if not self._is_simple:
                    events.append(TurnTold(turn_of([block.as_json() for block in self._blocks])))
                events.append(Finished(in_common(FINISH, event.stop_reason) or "stop"))
            case "metadata":
                if event.usage is not None:
                    events.append(UsageTold(event.usage.usage()))
                self.done = self._stopped
            case _:
                pass

    def _new(self, index: int | None) -> _Block:
        block = self._open[index] = _Block()
        self._blocks.append(block)
        return block

    def _begin(self, start: _Start | None, index: int | None, events: list[Event]) -> None:
        block = self._new(index)
        if start is None or start.tool_use is None:
            return
        use = start.tool_use
        block.call = {"toolUseId": use.tool_use_id, "name": use.name, **({"type": use.type} if use.type else {})}
        if use.is_ours:
            block.number = self._called
            self._called += 1
            events.append(ToolCallPiece(block.number, use.tool_use_id, use.name))
        else:
            self._is_simple = False

    def _delta(self, delta: _Delta, index: int | None, payload: bytes, events: list[Event]) -> None:
        block = self._open.get(index)
        if block is None:  # only blocks of calls are announced
            block = (
                self._blocks[-1] if index is None and self._blocks and delta.tool_use is not None else self._new(index)
            )
        if delta.text:
            events.append(Text(delta.text))
            block.text.add(delta.text)
            block.text.compact()
        elif delta.tool_use is not None and isinstance(delta.tool_use.input, str):
            block.json.add(delta.tool_use.input)
            block.json.compact()
            if block.number is not None:
                events.append(ToolCallPiece(block.number, arguments=delta.tool_use.input))
        elif delta.reasoning_content is not None:
            self._think(delta.reasoning_content, block, events)
        elif delta.citation is not None:
            self._is_simple = False
            events.append(Cited(delta.citation.citation()))
            block.citations.append(_citation(payload))
        elif delta.image is not None:
            self._is_simple = False
            fields = msgspec.convert({"image": delta.image}, BlockFields, strict=False)
            if (file := fields.file()) is not None:
                events.append(FileTold(file))

    def _think(self, reasoning: ReasoningFields, block: _Block, events: list[Event]) -> None:
        self._is_simple = False
        if reasoning.text:
            events.append(Reasoning(reasoning.text))
            block.thinking.add(reasoning.text)
            block.thinking.compact()
        block.signature += reasoning.signature or ""
        block.redacted += reasoning.redacted_content or ""


def _citation(payload: bytes) -> Json:
    delta = decode_json(payload).get("delta")
    return delta.get("citation") if isinstance(delta, dict) else None
