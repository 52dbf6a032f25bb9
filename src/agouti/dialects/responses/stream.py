"""The stream of the dialect `responses`: named events up to ``response.completed`` or its kin."""

from collections.abc import Callable, Hashable, Mapping
from typing import Any

import msgspec
from msgspec import Struct

from ...core.canonical.chat import Json
from ...core.canonical.events import (
    Cited,
    Event,
    FileTold,
    Finished,
    LogprobsTold,
    Reasoning,
    Refusal,
    Started,
    Text,
    ToolCallPiece,
    TurnTold,
    UsageTold,
)
from ...core.errors import ProviderFault
from ...core.framing.sse import SseDecoder
from ...core.json.lenient import decode_json
from ..chat.fields import Logprob, LogprobFields, logprobs_of
from ..shared.stream_decoding import PayloadStream
from ..shared.text_template import TextTemplate
from ..shared.tool_call_indices import CallNumbers
from ..wire import Fault
from .fields import Annotation, ItemFields, ReplyFields, choice_of, finish, turn_of_items, usage_of


class _StreamEvent(Struct):
    type: str | None = None
    delta: str | None = None
    output_index: int | None = None
    content_index: int | None = None
    summary_index: int | None = None
    item_id: str | None = None
    text: str | None = None
    arguments: str | None = None
    input: str | None = None
    item: ItemFields | None = None
    response: ReplyFields | None = None
    annotation: Annotation | None = None
    logprobs: list[Logprob] | None = None


_EVENT = msgspec.json.Decoder(_StreamEvent)


class ResponsesStream(PayloadStream):
    """See the module."""

    def __init__(self, classify: Callable[[int, Mapping[str, str], bytes], Fault]) -> None:
        super().__init__(SseDecoder())
        self._classify = classify
        self._calls = CallNumbers()
        self._complete: set[int] = set()  # calls whose arguments have come
        self._streamed_items: set[Hashable] = set()  # items whose text has come in pieces
        self._placeless = False  # a text has come, and nobody said of which item
        self._length = 0
        self._thought: Hashable = None
        self._thoughts: set[Hashable] = set()  # items whose thinking has come in pieces
        self._refused = False
        self._named = False
        self._cited = self._logprobs = False
        self._items: list[Json] = []
        self._template = TextTemplate("delta")

    def take(self, name: str, payload: bytes, events: list[Event]) -> None:
        if self._template.fits and (text := self._template.text(payload)) is not None:
            # Nearly every event of a stream: the next piece of the same text.
            self._length += len(text)
            events.append(Text(text))
            return
        if payload == b"[DONE]":
            return  # some compatible servers send it here too
        event = self.read(payload, _EVENT, _StreamEvent)
        if event is None:
            return
        match event.type or name:
            case "response.output_text.delta":
                self._text(event, event.delta, events)
                if event.delta and not event.logprobs:
                    self._template.learn(payload, event.delta)
            case "response.output_text.done":
                positions = _keys_of(event.item_id, event.output_index)
                if not self._placeless and (
                    self._streamed_items.isdisjoint(positions) if positions else not self._streamed_items
                ):
                    self._text(event, event.text, events)
            case "response.refusal.delta":
                self._refused = True
                events.append(Refusal(event.delta or ""))
            case "response.reasoning_summary_text.delta" | "response.reasoning_text.delta":
                self._think(event, events)
            case "response.function_call_arguments.delta" | "response.custom_tool_call_input.delta":
                number = self._calls.at(event.item_id, event.output_index)
                self._complete.add(number)
                events.append(ToolCallPiece(number, arguments=event.delta or ""))
            case "response.function_call_arguments.done" | "response.custom_tool_call_input.done":
                number = self._calls.at(event.item_id, event.output_index)
                self._arguments(number, event.arguments or event.input, events)
            case "response.output_item.added":
                if event.item is not None and event.item.is_call:
                    self._open(event.item, event.output_index, events)
            case "response.output_item.done":
                if event.item is not None:
                    self._item_done(event.item, event.output_index, payload, events)
            case "response.output_text.annotation.added":
                if event.annotation is not None:
                    self._cited = True
                    events.append(Cited(event.annotation.citation()))
            case "response.created":
                if event.response is not None:
                    self._named = event.response.model is not None
                    events.append(Started(event.response.model, event.response.id))
            case "response.completed" | "response.incomplete":
                self.done = True
                self._last(event.response or ReplyFields(status="completed"), payload, events)
            case "response.failed":
                error = event.response.error if event.response is not None else None
                self.failure = failed(error, self._classify)
            case "error":
                self.failure = self._classify(200, {}, payload)
            case _:
                pass

    def _text(self, event: _StreamEvent, text: str | None, events: list[Event]) -> None:
        if text:
            positions = _keys_of(event.item_id, event.output_index)
            self._streamed_items.update(positions)
            self._placeless = self._placeless or not positions
            self._length += len(text)
            events.append(Text(text))
        if event.logprobs and (text or not self._logprobs):
            self._logprobs = True
            events.append(LogprobsTold(logprobs_of(LogprobFields(event.logprobs))))

    def _think(self, event: _StreamEvent, events: list[Event]) -> None:
        positions = _keys_of(event.item_id, event.output_index)
        position = (positions[0] if positions else None, event.summary_index)
        text = event.delta or ""
        if self._thought not in (None, position):
            text = f"\n\n{text}"  # another part of the thinking
        self._thought = position
        self._thoughts.update(positions)
        events.append(Reasoning(text))

    def _open(self, item: ItemFields, position: int | None, events: list[Event]) -> int:
        number = self._calls.opened(item.id or None, item.call_id or None, position)
        call = item.call()
        extra = {} if item.type == "function_call" else call.extra
        events.append(ToolCallPiece(number, item.call_id, item.name, extra=extra))
        return number

    def _item_done(self, item: ItemFields, position: int | None, payload: bytes, events: list[Event]) -> None:
        raw = decode_json(payload)
        self._items.append(raw.get("item") if isinstance(raw, dict) else None)
        if item.is_call:
            self._call(item, position, events)
        elif (file := item.file()) is not None:
            events.append(FileTold(file))
        elif item.type == "reasoning":
            # Some servers show it only here.
            positions = _keys_of(item.id, position)
            is_new = self._thoughts.isdisjoint(positions) if positions else self._thought is None
            if is_new and (text := item.thoughts()):
                events.append(Reasoning(f"\n\n{text}" if self._thought is not None else text))
                self._thought = (positions[0] if positions else None, None)
        elif (
            not self._placeless
            and (
                self._streamed_items.isdisjoint(positions)
                if (positions := _keys_of(item.id, position))
                else not self._streamed_items
            )
            and (text := choice_of([item]).text)
        ):
            self._text(_StreamEvent(item_id=item.id, output_index=position), text, events)

    def _call(self, item: ItemFields, position: int | None, events: list[Event]) -> None:
        """A call that is complete; some servers send nothing of it before."""
        known = next((each for each in (item.id, item.call_id) if each and self._calls.known(each)), None)
        number = self._calls.at(known) if known else self._open(item, position, events)
        call = item.call()
        if call.extra:  # the input is known only now
            events.append(ToolCallPiece(number, extra=call.extra))
        self._arguments(number, call.function.arguments, events)

    def _arguments(self, number: int, arguments: str | None, events: list[Event]) -> None:
        if arguments and number not in self._complete:
            self._complete.add(number)
            events.append(ToolCallPiece(number, arguments=arguments))

    def _last(self, reply: ReplyFields, payload: bytes, events: list[Event]) -> None:
        """The last event holds the whole reply: what of it has not been said before."""
        if not self._named and reply.model is not None:
            events.append(Started(reply.model, reply.id))  # some servers name it only here
        choice = choice_of(reply.output or ())
        if len(choice.text) > self._length:
            events.append(Text(choice.text[self._length :]))
        if choice.refusal and not self._refused:
            self._refused = True
            events.append(Refusal(choice.refusal))
        if choice.reasoning and self._thought is None:
            events.append(Reasoning(choice.reasoning))
        if not self._calls.count:
            for item in reply.output or ():
                if item.is_call:
                    self._call(item, None, events)
        if not self._cited:
            events += [Cited(citation) for citation in choice.citations]
        if not self._items:
            events += [FileTold(file) for file in choice.files]
        if choice.logprobs and not self._logprobs:
            events.append(LogprobsTold(choice.logprobs))
        self._tell_turn(payload, events)
        reason = finish(reply, called=self._calls.count > 0, refused=self._refused)
        events.append(Finished(reason or "stop"))
        if reply.usage is not None:
            events.append(UsageTold(usage_of(reply.usage)))

    def _tell_turn(self, payload: bytes, events: list[Event]) -> None:
        response: Any = decode_json(payload)
        response = response.get("response") if isinstance(response, dict) else None
        output = response.get("output") if isinstance(response, dict) else None
        # Either may be empty, by the server.
        items = output if isinstance(output, list) and len(output) >= len(self._items) else self._items
        if (provider_turn := turn_of_items(items)) is not None:
            events.append(TurnTold(provider_turn))


def _keys_of(item: str | None, index: int | None) -> tuple[Hashable, ...]:
    """By what the item of a piece can be known: its number first, for some servers make up an identifier each time."""
    return tuple(each for each in (index, item) if each is not None and each != "")


def failed(error: Json, classify: Callable[[int, Mapping[str, str], bytes], Fault]) -> Fault:
    """What a reply that failed means; some say nothing of why."""
    if not error:
        return Fault(ProviderFault, "the reply failed, and the provider does not say why")
    return classify(200, {}, msgspec.json.encode({"error": error}))
