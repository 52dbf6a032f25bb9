"""The stream of the dialect `chat`: chunks in server-sent events. The hottest path of all, hence its shape."""

from collections.abc import Callable, Mapping
from typing import Any

import msgspec
from msgspec import Struct

from ...core.canonical.chat import Citation
from ...core.canonical.events import (
    Cited,
    Event,
    FileTold,
    Finished,
    LogprobsTold,
    Passed,
    Reasoning,
    Refusal,
    SafetyTold,
    Started,
    Text,
    ToolCallPiece,
    TurnTold,
    UsageTold,
)
from ...core.errors import ReplyUnreadable
from ...core.framing.sse import SseDecoder
from ...core.json.lenient import UNDECODABLE, decode_json, lenient
from ...core.messages.messages import TURN_FIELD
from ...core.text.growing_text import TextPieces
from ..shared.text_template import TextTemplate
from ..shared.tool_call_indices import CallNumbers
from ..shared.usage_fields import UsageFields, usage_of
from ..wire import Fault
from .fields import (
    FINISH,
    CallFields,
    FunctionFields,
    LogprobFields,
    MessageFields,
    arguments_text,
    audio_file,
    call_of,
    citations_of,
    images_of,
    logprobs_of,
    safety_of,
    text_and_thoughts,
    turn_of,
    usage_outside,
)

# An event that is cut over many reads is put together here up to this length.
_LARGE = 16 * 1024


class _ChunkChoice(Struct, gc=False):
    index: int | None = None
    delta: MessageFields | None = None
    finish_reason: str | None = None
    message: MessageFields | None = None
    logprobs: LogprobFields | None = None
    content_filter_results: dict[str, Any] | None = None
    error: Any = None


class _LaterChunk(Struct, gc=False):
    """A chunk after the first: identifier and model have been told, decoding them again costs and tells nothing."""

    choices: list[_ChunkChoice] | None = None
    usage: UsageFields | None = None
    error: Any = None
    citations: list[str] | None = None


class _Chunk(_LaterChunk, gc=False):
    id: str | None = None
    model: str | None = None


_decode_chunk: Callable[[bytes], _LaterChunk] = msgspec.json.Decoder(_Chunk).decode
_decode_later_chunk = msgspec.json.Decoder(_LaterChunk).decode


_NO_CHOICE = _ChunkChoice(index=0, delta=MessageFields())


def _text_alone(chunk: _LaterChunk) -> str | None:
    """The text of a chunk that has a piece of the first answer's text, and nothing else."""
    choices = chunk.choices
    if not choices or len(choices) > 1 or chunk.usage is not None or chunk.error or chunk.citations:
        return None
    choice = choices[0]
    delta = choice.delta
    if delta is None or type(delta.content) is not str or not delta.content:
        return None
    choice_now = msgspec.structs.replace(
        choice, index=choice.index or 0, delta=msgspec.structs.replace(delta, content=None)
    )
    return delta.content if choice_now == _NO_CHOICE else None


class _HeldArguments:
    """What has come of one answer besides its text, in pieces: its thinking as it goes back, its audio."""

    __slots__ = ("audio", "audio_id", "details", "extra", "provider_turn", "thoughts")

    def __init__(self) -> None:
        self.thoughts: dict[str, TextPieces] = {}
        self.details: list[dict[str, Any]] = []
        self.extra: Any = None
        self.provider_turn: Any = None
        self.audio: list[str] = []
        self.audio_id: str | None = None

    def think(self, name: str, text: str) -> None:
        texts = self.thoughts.setdefault(name, TextPieces())
        texts.add(text)
        texts.compact()

    def detail(self, texts: list[Any]) -> None:
        """Pieces of the thinking in parts: texts of one part are joined, its other fields replaced."""
        for detail_part in texts:
            if not isinstance(detail_part, dict):
                continue
            position, kind = detail_part.get("index"), detail_part.get("type")
            known = next(
                (each for each in self.details if (each.get("index"), each.get("type")) == (position, kind)), None
            )
            if known is None or position is None:
                self.details.append(dict(detail_part))
                continue
            for name, value in detail_part.items():
                joined = name in ("text", "summary", "data") and isinstance(known.get(name), str)
                known[name] = known[name] + value if joined and isinstance(value, str) else value

    def events(self, index: int) -> list[Event]:
        """What is told of it at the end of the answer."""
        events: list[Event] = [FileTold(audio_file(self.audio), index)] if self.audio else []
        fields: dict[str, Any] = {name: str(texts) for name, texts in self.thoughts.items()}
        fields |= {"reasoning_details": self.details, "extra_content": self.extra, TURN_FIELD: self.provider_turn}
        fields["audio"] = {"id": self.audio_id} if self.audio_id else None
        provider_turn = turn_of(fields)
        return events if provider_turn is None else [*events, TurnTold(provider_turn, index)]


class ChatStream:
    """Chunks, each the data of one server-sent event, until ``[DONE]``."""

    __slots__ = (
        "_calls",
        "_cited",
        "_classify",
        "_events",
        "_finished",
        "_has_events",
        "_held_arguments",
        "_refused",
        "_sse",
        "_started",
        "_template",
        "_unparsed",
        "done",
        "failure",
        "verbatim",
    )

    def __init__(self, classify: Callable[[int, Mapping[str, str], bytes], Fault], *, verbatim: bool = False) -> None:
        self._classify = classify
        self._sse = SseDecoder()
        self._events: list[Event] = []
        self._started = False
        self._has_events = False
        self._finished = False
        self._refused = False
        self._calls: dict[int, CallNumbers] = {}
        self._held_arguments: dict[int, _HeldArguments] = {}
        self._cited: set[str] = set()
        self._template = TextTemplate("content")
        self.done = False
        self.failure: Fault | None = None
        self.verbatim = verbatim
        # Bytes of an event that is not whole yet, while blocks go through as they came; `None`: they do not.
        self._unparsed: bytes | None = b"" if verbatim else None

    def feed(self, data: bytes) -> list[Event]:
        events: list[Event] = []
        self._events = events
        if self.done or self.failure is not None:
            return events  # some servers send more after the end mark: not part of the reply
        if self._unparsed is not None:
            if self._template.fits and self._sse.empty and b"\r" not in data:
                data, text = self._block(data)
                if text is not None:
                    return [Passed(data, framed=True), Text(text)]
            elif self._unparsed:
                data, self._unparsed = self._unparsed + data, b""
        try:
            decoded = self._sse.feed(data)
        except ReplyUnreadable as error:
            self.failure = Fault(type(error), error.message)
            return events
        add = events.append
        template = self._template
        for item in decoded:
            name, payload = ("", item) if isinstance(item, bytes) else item
            if template.fits and not name and (text := template.text(payload)) is not None:
                # Nearly every chunk of a stream: one piece of the first answer's text, and nothing else.
                if self.verbatim:
                    add(Passed(payload))
                add(Text(text))
                continue
            self._decoded(name, payload)
            if self._over():
                break
        self._has_events = self._has_events or bool(events)
        return events

    def _block(self, data: bytes) -> tuple[bytes, str | None]:
        """The events that are whole now, and their text where they are nothing but pieces of it."""
        data = (self._unparsed or b"") + data
        end = data.rfind(b"\n\n") + 2
        if end < 2:
            if len(data) > _LARGE:
                self._unparsed = b""
                return data, None  # a large event grows where growing is cheap
            self._unparsed = data
            return b"", None
        self._unparsed = data[end:]
        block = data[:end] if self._unparsed else data
        return block, self._template.block(block, b"data: ")

    def _decoded(self, name: str, payload: bytes) -> None:
        """One payload, whatever it is."""
        try:
            chunk = _decode_later_chunk(payload) if self._started else _decode_chunk(payload)
        except UNDECODABLE as error:
            self._unreadable(name, payload, error)
            return
        if self.verbatim and not chunk.error and (not name or chunk.choices is not None):
            self._events.append(Passed(payload))
        if name == "error":
            self._fail(payload)
            return
        if self._started and (text := _text_alone(chunk)):
            self._template.learn(payload, text)
            self._events.append(Text(text))
        else:
            self._chunk(chunk, payload)

    def _over(self) -> bool:
        return self.done or self.failure is not None

    def last(self) -> list[Event]:
        return self.feed(b"\n\n")

    def end(self) -> bool:
        # Some servers just close after the last chunk: complete all the same once a finish reason has come.
        return self.done or self._finished

    def _fail(self, payload: bytes) -> None:
        self.failure = self._classify(200, {}, payload)

    def _chunk(self, chunk: _LaterChunk, payload: bytes) -> None:
        if chunk.error:  # some servers say "", {} or false where there is none
            self._fail(payload)
            return
        events = self._events
        if not self._started and isinstance(chunk, _Chunk) and (chunk.model or chunk.id):
            self._started = True
            events.append(Started(chunk.model, chunk.id))
        for choice in chunk.choices or ():
            if choice.error:
                self._fail(msgspec.json.encode({"error": choice.error}))
                return
            self._choice(choice, choice.index or 0, payload)
        for address in chunk.citations or ():
            if address not in self._cited:
                self._cited.add(address)
                events.append(Cited(Citation(address)))
        if chunk.usage is not None:
            events.append(UsageTold(usage_of(chunk.usage)))
        elif self._finished and (usage := usage_outside(payload)) is not None:
            events.append(UsageTold(usage))

    def _choice(self, choice: _ChunkChoice, index: int, payload: bytes) -> None:
        events = self._events
        if choice.delta is not None:
            self._delta(choice.delta, index, payload)
        elif choice.message is not None and not self._has_text():
            self._delta(choice.message, index, payload)
        if choice.logprobs is not None and (tokens := logprobs_of(choice.logprobs)):
            events.append(LogprobsTold(tokens, index))
        if choice.content_filter_results:
            events.append(SafetyTold(safety_of(choice.content_filter_results), index))
        reason = choice.finish_reason
        if reason:  # some servers say "" where there is none yet
            self._finished = True
            if (arguments_kept := self._held_arguments.pop(index, None)) is not None:
                events += arguments_kept.events(index)
            reason = FINISH.get(reason, reason)
            events.append(Finished("refusal" if self._refused and reason == "stop" else reason, index))

    def _has_text(self) -> bool:
        """Whether anything of an answer has come: a whole message behind its pieces says nothing new."""
        return self._has_events or any(not isinstance(event, (Started, Passed)) for event in self._events)

    def _unreadable(self, name: str, payload: bytes, error: Exception) -> None:
        """A payload that is no chunk as promised: the end mark, an error, a chunk with odd fields, or garbage."""
        if payload == b"[DONE]":
            self.done = True
        elif name == "error":
            self._fail(payload)
        elif (repaired := self._repaired(payload, error)) is not None:
            if self.verbatim and not repaired.error:
                self._events.append(Passed(payload))
            self._chunk(repaired, payload)

    def _repaired(self, payload: bytes, error: Exception) -> "_Chunk | None":
        """A chunk with fields of other types than promised; none for what is only filler or is garbage."""
        if payload.strip() in (b"", b"null"):
            return None
        try:
            return lenient(decode_json(payload), _Chunk)
        except msgspec.MsgspecError as reparsed:
            error = reparsed
        self.failure = Fault(ReplyUnreadable, f"a chunk of the stream cannot be read ({error})")
        return None

    def _delta(self, delta: MessageFields, index: int, payload: bytes) -> None:
        events = self._events
        text, thought = text_and_thoughts(delta.content)
        thought = delta.reasoning_content or delta.reasoning or thought
        if thought:
            events.append(Reasoning(thought, index))
        if text:
            events.append(Text(text, index))
        if delta.refusal:
            self._refused = True
            events.append(Refusal(delta.refusal, index))
        if delta.annotations:
            events += [Cited(citation, index) for citation in citations_of(delta.annotations, None)]
        events += [FileTold(file, index) for file in images_of(delta.images)]
        self._keep(delta, index)
        calls = delta.tool_calls
        if delta.function_call is not None and not calls:  # the older form, of one call
            calls = [CallFields(index=0, function=delta.function_call)]
        if calls:
            numbers = self._calls.setdefault(index, CallNumbers())
            for position, call in enumerate(calls):
                # Without an index, several pieces of one chunk are told apart by their order.
                call_key = ("at", position) if call.index is None and len(calls) > 1 else call.index
                events.append(self._call_piece(call, numbers, call_key, index, position, payload))

    def _keep(self, delta: MessageFields, index: int) -> None:
        """What goes back with the answer, piece by piece."""
        has_more = delta.reasoning_content or delta.reasoning or delta.reasoning_details or delta.extra_content
        if has_more or delta.audio or delta.provider_turn:
            arguments_kept = self._held_arguments.setdefault(index, _HeldArguments())
            for name in ("reasoning_content", "reasoning"):
                if text := getattr(delta, name):
                    arguments_kept.think(name, text)
            arguments_kept.detail(delta.reasoning_details or [])
            arguments_kept.extra = delta.extra_content or arguments_kept.extra
            arguments_kept.provider_turn = delta.provider_turn or arguments_kept.provider_turn
            if (audio := delta.audio) is not None:
                arguments_kept.audio_id = audio.id or arguments_kept.audio_id
                arguments_kept.audio += [audio.data] if audio.data else []
                if audio.transcript:
                    self._events.append(Text(audio.transcript, index))

    def _call_piece(
        self, call: CallFields, numbers: CallNumbers, call_key: Any, index: int, position: int, payload: bytes
    ) -> ToolCallPiece:
        function = call.function or FunctionFields()
        extra: dict[str, Any] = {}
        if call.id or function.name or call.custom is not None:
            extra = call_of(call, _raw_call(payload, index, position)).extra
        if call.custom is not None:
            function = FunctionFields(call.custom.name, call.custom.input)
        number = numbers.index_of(call_key, call.id, function.name)
        return ToolCallPiece(number, call.id, function.name, arguments_text(function.arguments), index, extra)


def _raw_call(payload: bytes, index: int, position: int) -> Any:
    """A call of a chunk as it came; `None` where it is not to be had."""
    try:
        choices = decode_json(payload)["choices"]
        choice = next(each for each in choices if (each.get("index") or 0) == index)
        return (choice.get("delta") or choice.get("message"))["tool_calls"][position]
    except (LookupError, TypeError, AttributeError, StopIteration):
        return None
