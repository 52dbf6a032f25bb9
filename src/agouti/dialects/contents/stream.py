"""The stream of the dialect `contents`: each payload is a reply with the next parts of its answers."""

from collections.abc import Callable, Mapping
from typing import Any

import msgspec

from ...core.canonical.chat import Citation, Json
from ...core.canonical.events import (
    Cited,
    Event,
    FileTold,
    Finished,
    LogprobsTold,
    Reasoning,
    SafetyTold,
    Started,
    Text,
    ToolCallPiece,
    TurnTold,
    UsageTold,
)
from ...core.errors import ContentRefused
from ...core.framing.json_array import ArraySplitter
from ...core.framing.sse import SseDecoder
from ...core.json.lenient import decode_json
from ...core.text.growing_text import JOIN_AT, TextPieces
from ..shared.stream_decoding import PayloadStream
from ..wire import Fault
from .fields import CandidateFields, PartFields, ReplyFields, turn_of

_NO_PART = PartFields()
_REPLY = msgspec.json.Decoder(ReplyFields)


class _ChoiceState:
    """The parts of one answer as they come; texts of one kind that follow each other are one part."""

    __slots__ = ("called", "cited", "is_simple", "parts", "text", "thought")

    def __init__(self) -> None:
        self.parts: list[Json] = []
        self.is_simple = True
        self.called = 0
        self.cited: set[Citation] = set()
        self.text = TextPieces()
        self.thought = False

    def add(self, part: PartFields, raw: Json) -> None:
        """The next part; ``raw`` is the same as it came, where it is more than a text."""
        if raw is None:
            if bool(part.thought) != self.thought:
                self.flush()
                self.thought = bool(part.thought)
            self.text.add(part.text or "")
            self.text.compact()
            return
        self.flush()
        self.parts.append(raw)

    def flush(self) -> None:
        """The texts up to here become a part."""
        if text := str(self.text):
            self.parts.append({"text": text, "thought": True} if self.thought else {"text": text})
        self.text = TextPieces()


class ContentsStream(PayloadStream):
    """There is no end mark but the finish reason.

    Payloads come as server-sent events, or as a JSON array where a server passes over ``alt=sse``: the first byte
    tells.
    """

    def __init__(self, classify: Callable[[int, Mapping[str, str], bytes], Fault]) -> None:
        super().__init__(SseDecoder())
        self._head: bytes | None = b""
        self._classify = classify
        self._started = False
        self._states: dict[int, _ChoiceState] = {}
        self._finished = False

    def feed(self, data: bytes) -> list[Event]:
        if self._head is not None:
            data, self._head = (self._head + data).lstrip(), None
            if not data:
                self._head = b""
            elif data[:1] in (b"[", b"{"):
                self._splitter = ArraySplitter()
        return super().feed(data)

    def end(self) -> bool:
        return self._finished

    def take(self, name: str, payload: bytes, events: list[Event]) -> None:
        reply = self.read(payload, _REPLY, ReplyFields)
        if reply is None:
            return
        if reply.error:
            self.failure = self._classify(200, {}, payload)
            return
        if reply.prompt_feedback is not None and (reason := reply.block_reason) is not None:
            self.failure = refused(reason)
            return
        if not self._started and (reply.model_version or reply.response_id):
            self._started = True
            events.append(Started(reply.model_version, reply.response_id))
        for position, candidate in enumerate(reply.candidates or ()):
            self._candidate(candidate, position, payload, events)
        if reply.usage_metadata is not None:
            events.append(UsageTold(reply.usage_metadata.usage()))

    def _candidate(self, candidate: CandidateFields, position: int, payload: bytes, events: list[Event]) -> None:
        index = candidate.index or 0
        state = self._states.get(index)
        if state is None:
            state = self._states[index] = _ChoiceState()
        raw: Any = None
        content = candidate.content
        for number, part in enumerate((content.parts if content is not None else None) or ()):
            text = part.text
            part.text = None
            is_simple = part == _NO_PART
            part.text = text
            if text and is_simple:  # nearly every part of a stream
                if state.thought:
                    state.flush()
                    state.thought = False
                full_text = state.text
                full_text.add(text)
                if len(full_text.chunks) >= JOIN_AT:
                    full_text.compact()
                events.append(Text(text, index))
                continue
            is_simple = part.is_plain
            state.is_simple = state.is_simple and is_simple
            if part.function_call is not None or (
                not is_simple and not (part.thought and part.thought_signature is None)
            ):
                raw = raw or _raw_parts(payload, position)
            is_own = part.function_call is not None or part.thought_signature is not None or not part.text
            state.add(part, raw[number] if is_own and raw and number < len(raw) else None)
            self._part(part, state, index, events)
        if candidate.citation_metadata is not None or candidate.grounding_metadata is not None:
            for citation in candidate.citations():
                if citation not in state.cited:  # each payload may tell all of them again
                    state.cited.add(citation)
                    events.append(Cited(citation, index))
        if candidate.safety_ratings:
            events.append(SafetyTold(candidate.safety(), index))
        if candidate.logprobs_result is not None and (tokens := candidate.logprobs()):
            events.append(LogprobsTold(tokens, index))
        if candidate.finish_reason and (reason := candidate.finish(called=state.called > 0)) is not None:
            self._finished = True
            if not state.is_simple:
                state.flush()
                events.append(TurnTold(turn_of(state.parts), index))
            events.append(Finished(reason, index))

    def _part(self, part: PartFields, state: _ChoiceState, index: int, events: list[Event]) -> None:
        if part.function_call is not None:
            call = part.function_call.call(state.called)
            arguments = call.function.arguments or ""
            events.append(ToolCallPiece(state.called, call.id, call.function.name, arguments, index))
            state.called += 1
        elif part.text:
            events.append(Reasoning(part.text, index) if part.thought else Text(part.text, index))
        elif (file := part.file()) is not None:
            events.append(FileTold(file, index))


def _raw_parts(payload: bytes, position: int) -> list[Json]:
    """The parts of an answer as they came."""
    try:
        parts = decode_json(payload)["candidates"][position]["content"]["parts"]
    except (LookupError, TypeError):
        return []
    return parts if isinstance(parts, list) else []


def refused(reason: str) -> Fault:
    """A prompt that was refused."""
    return Fault(ContentRefused, f"the prompt was refused ({reason})")
