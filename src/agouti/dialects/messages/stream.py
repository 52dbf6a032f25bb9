"""The stream of the dialect `messages`: named events from ``message_start`` to ``message_stop``."""

from collections.abc import Callable, Mapping
from typing import Any

import msgspec
from msgspec import Struct

from ...core.canonical.chat import Json
from ...core.canonical.events import (
    Cited,
    Event,
    Finished,
    Reasoning,
    Started,
    Text,
    ToolCallPiece,
    TurnTold,
    UsageTold,
)
from ...core.framing.sse import SseDecoder
from ...core.json.lenient import UNDECODABLE, decode_json
from ...core.text.growing_text import JOIN_AT, TextPieces
from ..shared.stream_decoding import PayloadStream
from ..shared.text_template import TextTemplate
from ..wire import Fault
from .fields import FINISH, BlockFields, CitationFields, ReplyFields, UsageFields, turn_of, usage_of

_encode = msgspec.json.Encoder().encode


class _Delta(Struct, gc=False):
    type: str | None = None
    text: str | None = None
    thinking: str | None = None
    signature: str | None = None
    partial_json: str | None = None
    citation: CitationFields | None = None
    stop_reason: str | None = None


class _StreamEvent(Struct):
    type: str | None = None
    index: int | None = None
    delta: _Delta | None = None
    message: ReplyFields | None = None
    content_block: BlockFields | None = None
    usage: UsageFields | None = None


_EVENT = msgspec.json.Decoder(_StreamEvent)


class _Block:
    """A block as it grows: what it began with, and what has come since."""

    __slots__ = ("citations", "input_text", "is_simple", "json", "number", "raw", "signature", "text", "thinking")

    def __init__(self, raw: dict[str, Json], fields: BlockFields, number: int | None) -> None:
        self.raw = raw
        self.is_simple = fields.is_plain
        self.number = number
        self.text = TextPieces(fields.text or "")
        self.thinking = TextPieces(fields.thinking or "")
        self.json = TextPieces()
        self.signature = ""
        self.citations: list[Json] = []
        self.input_text = _encode(fields.input).decode() if number is not None and fields.input else ""

    def as_json(self) -> dict[str, Json]:
        """The block as a whole reply has it."""
        block = dict(self.raw)
        for name, texts in (("text", self.text), ("thinking", self.thinking)):
            if texts or name in block:
                block[name] = str(texts)
        if self.signature:
            block["signature"] = self.signature
        if self.citations:
            block["citations"] = [*(block.get("citations") or ()), *self.citations]
        if self.json:
            try:
                block["input"] = decode_json(str(self.json).encode())
            except UNDECODABLE:
                block["input"] = {}  # cut off: a call that cannot be made
        return block


class MessagesStream(PayloadStream):
    """See the module."""

    def __init__(self, classify: Callable[[int, Mapping[str, str], bytes], Fault]) -> None:
        super().__init__(SseDecoder())
        self._classify = classify
        self._called = 0
        self._blocks: list[_Block] = []
        # Blocks by their index; without indices there is one at a time.
        self._open: dict[int | None, _Block] = {}
        self._usage = UsageFields()
        self._template = TextTemplate("text")
        self._texts = TextPieces()

    def take(self, name: str, payload: bytes, events: list[Event]) -> None:
        if self._template.fits and (text := self._template.text(payload)) is not None:
            # Nearly every event of a stream: the next piece of the block that is open.
            texts = self._texts
            texts.add(text)
            if len(texts.chunks) >= JOIN_AT:
                texts.compact()
            events.append(Text(text))
            return
        event = self.read(payload, _EVENT, _StreamEvent)
        if event is None:
            return
        match event.type or name:
            case "content_block_delta":
                if event.delta is not None:
                    self._delta(event.delta, event.index, payload, events)
            case "message_start":
                message = event.message or ReplyFields()
                events.append(Started(message.model, message.id))
                if message.usage is not None:
                    self._count(message.usage, events)
            case "content_block_start":
                self._begin(event.content_block or BlockFields(), event.index, payload, events)
            case "content_block_stop":
                self._close(event.index, events)
            case "message_delta":
                for index in list(self._open):  # some servers do not say where a block ends
                    self._close(index, events)
                if event.usage is not None:
                    self._count(event.usage, events)
                if event.delta is not None and event.delta.stop_reason:
                    self._tell_turn(events)
                    events.append(Finished(FINISH.get(event.delta.stop_reason, event.delta.stop_reason)))
            case "message_stop":
                self.done = True
            case "error":
                self.failure = self._classify(200, {}, payload)
            case _:
                pass  # ping, and what may be added one day

    def _begin(self, fields: BlockFields, index: int | None, payload: bytes, events: list[Event]) -> None:
        self._close(index, events)
        number = None
        if fields.type == "tool_use":
            number = self._called
            self._called += 1
            events.append(ToolCallPiece(number, fields.id, fields.name))
        elif fields.text:
            events.append(Text(fields.text))
        elif fields.thinking:
            events.append(Reasoning(fields.thinking))
        events += [Cited(each.citation()) for each in fields.citations or ()]
        raw = _member(payload, "content_block")
        block = _Block(raw if isinstance(raw, dict) else {}, fields, number)
        self._open[index] = block
        self._blocks.append(block)

    def _close(self, index: int | None, events: list[Event]) -> None:
        """A block ends; its arguments may have come whole with its beginning, and in no pieces."""
        self._template.fits = False
        block = self._open.pop(index, None)
        if block is not None and block.number is not None and block.input_text:
            events.append(ToolCallPiece(block.number, arguments=block.input_text))

    def _delta(self, delta: _Delta, index: int | None, payload: bytes, events: list[Event]) -> None:
        block = self._open.get(index)
        if delta.text:
            events.append(Text(delta.text))
            if block is None:
                block = self._unannounced(index, "text")
            block.text.add(delta.text)
            self._texts = block.text
            self._template.learn(payload, delta.text)
        elif delta.thinking:
            events.append(Reasoning(delta.thinking))
            if block is None:
                block = self._unannounced(index, "thinking")
            block.thinking.add(delta.thinking)
            block.thinking.compact()
        elif delta.partial_json:
            # Blocks of the provider's own tools have such pieces too: those are no calls of ours.
            if block is not None:
                block.input_text = ""
                block.json.add(delta.partial_json)
                block.json.compact()
                if block.number is not None:
                    events.append(ToolCallPiece(block.number, arguments=delta.partial_json))
        elif delta.citation is not None:
            events.append(Cited(delta.citation.citation()))
            if block is not None:
                block.is_simple = False
                block.citations.append(_member(payload, "delta", "citation"))
        elif delta.signature and block is not None:
            block.signature += delta.signature

    def _unannounced(self, index: int | None, kind: str) -> _Block:
        """A block whose beginning a server has left out."""
        fields = BlockFields(type=kind)
        block = _Block({"type": kind}, fields, None)
        self._open[index] = block
        self._blocks.append(block)
        return block

    def _tell_turn(self, events: list[Event]) -> None:
        if not all(block.is_simple for block in self._blocks):
            events.append(TurnTold(turn_of([block.as_json() for block in self._blocks])))

    def _count(self, usage: UsageFields, events: list[Event]) -> None:
        """Counts are cumulative; a later event may tell only some of them."""
        for name in usage.__struct_fields__:
            if (value := getattr(usage, name)) is not None:
                setattr(self._usage, name, value)
        events.append(UsageTold(usage_of(self._usage)))


def _member(payload: bytes, *names: str) -> Any:
    """A member of a payload as it came, whatever it holds."""
    value = decode_json(payload)
    for name in names:
        value = value.get(name) if isinstance(value, dict) else None
    return value
