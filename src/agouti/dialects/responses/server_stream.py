"""Streams of ``POST {base}/responses``: named, numbered events from ``response.created`` to ``response.completed``."""

from collections.abc import Callable, Sequence

from ...core.canonical.chat import Citation, Json, MediaFile, ToolCall, ToolFunction
from ...core.canonical.events import (
    Cited,
    Event,
    FileTold,
    LogprobsTold,
    Reasoning,
    Refusal,
    Started,
    Text,
    ToolCallPiece,
)
from ..server_base import ErrorTold, EventEncoder, ReplyHead, encode_json
from ..server_call_order import is_whole
from ..shared.packed_turns import packed
from .server_reply import annotation, call_item, ended, image, logprob, message, output_text, reasoning, response

_NUMBERED = b'"sequence_number"'


class _Item:
    """An item that is open: its kind, its number, and what has come of it."""

    def __init__(self, kind: str, number: int, identifier: str) -> None:
        self.kind = kind
        self.number = number
        self.id = identifier
        self.texts: list[str] = []
        self.refusals: list[str] = []
        self.part_kinds: list[str] = []  # the kinds of the pieces of a message, in their order
        self.annotations: list[Json] = []
        self.logprobs: list[Json] = []
        self.call = ToolCallPiece(0)
        self.position = 0


class ResponsesEncoder(EventEncoder):
    """Named events; one item is open at a time.

    Attributes:
        final: the whole response, once it has ended.
    """

    def __init__(self, head: ReplyHead, error: Callable[[ErrorTold], dict[str, Json]]) -> None:
        super().__init__(head, error)
        self._response: dict[str, Json] | None = None
        self._number = 0
        self._items: list[Json] = []
        self._open: _Item | None = None
        self._passed = 0
        self._edge = b""
        self._refused = False
        self.final: dict[str, Json] | None = None

    def of(self, events: Sequence[Event]) -> bytes:
        chunk_bytes = super().of(events)
        if self.verbatim:  # a name may stand in two pieces
            edge_text = self._edge + chunk_bytes
            self._passed += edge_text.count(_NUMBERED) - self._edge.count(_NUMBERED)
            self._edge = edge_text[-len(_NUMBERED) :]
        return chunk_bytes

    def take(self, event: Event, out: list[bytes]) -> None:
        match event:
            case Started():
                self._begin(out, event)
            case Text():
                item = self._open_part(out, "output_text")
                item.texts.append(event.text)
                # What came of the tokens of a text comes behind it.
                self._item_event(out, "output_text.delta", item, content_index=_at(item), delta=event.text, logprobs=[])
            case LogprobsTold():
                item = self._open_part(out, "output_text")
                start = [logprob(each) for each in event.tokens]
                item.logprobs += start
                self._item_event(out, "output_text.delta", item, content_index=_at(item), delta="", logprobs=start)
            case Refusal():
                self._refused = True
                item = self._open_part(out, "refusal")
                item.refusals.append(event.text)
                self._item_event(out, "refusal.delta", item, content_index=_at(item), delta=event.text)
            case Reasoning():
                item = self._item(out, "reasoning")
                if not item.texts:
                    part = {"type": "summary_text", "text": ""}
                    self._item_event(out, "reasoning_summary_part.added", item, summary_index=0, part=part)
                item.texts.append(event.text)
                self._item_event(out, "reasoning_summary_text.delta", item, summary_index=0, delta=event.text)
            case ToolCallPiece():
                self._call(out, event)
            case Cited():
                self._cite(out, event.citation)
            case FileTold():
                self._file(out, event.file)
            case _:
                pass

    def _begin(self, out: list[bytes], event: Started | None = None) -> dict[str, Json]:
        if self._response is None:
            start = event or Started()
            self._response = response(self.head, start.id or self.head.identifier, start.model or self.head.model)
            self._event(out, "created", response=self._response)
            self._event(out, "in_progress", response=self._response)
        return self._response

    def _item(self, out: list[bytes], kind: str, position: int = 0, call: ToolCallPiece | None = None) -> _Item:
        """The open item of that kind; another one is closed."""
        item = self._open
        if item is not None and (item.kind, item.position) == (kind, position):
            return item
        identifier = self._begin(out)["id"]
        self._close(out)
        item = self._open = _Item(kind, len(self._items), f"{identifier}_{len(self._items)}")
        item.position, item.call = position, call or item.call
        self._event(out, "output_item.added", output_index=item.number, item=_item_json(item, "in_progress"))
        return item

    def _open_part(self, out: list[bytes], kind: str) -> _Item:
        item = self._item(out, "message")
        if not item.part_kinds or item.part_kinds[-1] != kind:
            if item.part_kinds:
                self._piece_done(out, item)
            item.part_kinds.append(kind)
            self._item_event(
                out, "content_part.added", item, content_index=_at(item), part=_part(item, kind, empty=True)
            )
        return item

    def _piece_done(self, out: list[bytes], item: _Item) -> None:
        kind, part = item.part_kinds[-1], _part(item, item.part_kinds[-1])
        start = {"refusal": part.get("refusal")}
        if kind == "output_text":
            start = {"text": part["text"], "logprobs": item.logprobs}
        self._item_event(out, f"{kind}.done", item, content_index=_at(item), **start)
        self._item_event(out, "content_part.done", item, content_index=_at(item), part=part)

    def _call(self, out: list[bytes], event: ToolCallPiece) -> None:
        item = self._item(out, "call", event.index, event)
        if event.extra:
            item.call = ToolCallPiece(event.index, item.call.id, item.call.name, extra=event.extra)
        if event.arguments:
            item.texts.append(event.arguments)
            self._item_event(out, f"{_event_noun(item)}.delta", item, delta=event.arguments)

    def _cite(self, out: list[bytes], citation: Citation) -> None:
        item = self._open_part(out, "output_text")
        item.annotations.append(annotation(citation))
        self._item_event(
            out,
            "output_text.annotation.added",
            item,
            content_index=_at(item),
            annotation_index=len(item.annotations) - 1,
            annotation=item.annotations[-1],
        )

    def _file(self, out: list[bytes], file: MediaFile) -> None:
        identifier = self._begin(out)["id"]
        self._close(out)
        item_json = image(f"{identifier}_{len(self._items)}", file)
        for event_name in ("added", "done"):
            self._event(out, f"output_item.{event_name}", output_index=len(self._items), item=item_json)
        self._items.append(item_json)

    def _close(self, out: list[bytes]) -> None:
        item, self._open = self._open, None
        if item is None:
            return
        if item.kind == "message" and item.part_kinds:
            self._piece_done(out, item)
        elif item.kind == "reasoning":
            text = "".join(item.texts)
            self._item_event(out, "reasoning_summary_text.done", item, summary_index=0, text=text)
            part = {"type": "summary_text", "text": text}
            self._item_event(out, "reasoning_summary_part.done", item, summary_index=0, part=part)
        elif item.kind == "call":
            name = "input" if _event_noun(item).startswith("custom") else "arguments"
            if not item.texts and name == "arguments":
                item.texts.append("{}")
                self._item_event(out, f"{_event_noun(item)}.delta", item, delta="{}")
            named = {"name": item.call.name} if name == "arguments" else {}
            self._item_event(out, f"{_event_noun(item)}.done", item, **named, **{name: "".join(item.texts)})
        cut = item.kind == "call" and not _event_noun(item).startswith("custom") and not is_whole("".join(item.texts))
        item_json = _item_json(item, "incomplete" if cut else "completed")
        self._event(out, "output_item.done", output_index=item.number, item=item_json)
        self._items.append(item_json)

    def last(self) -> bytes:
        if self.verbatim:
            return self.last_passed()
        out: list[bytes] = []
        base_response = self._begin(out)
        self.rest(out)
        if self.turn is not None:
            self._close(out)
            item_json = reasoning(f"{base_response['id']}_{len(self._items)}", "", packed(self.turn))
            for event_name in ("added", "done"):
                self._event(out, f"output_item.{event_name}", output_index=len(self._items), item=item_json)
            self._items.append(item_json)
        elif not self._items and self._open is None:
            self._open_part(out, "output_text")
        self._close(out)
        reason = "stop" if self._refused and self.reason == "refusal" else self.reason
        item_json = ended(base_response, self._items, reason, self.usage)
        self.final = item_json
        self._event(out, item_json["status"], response=item_json)
        return b"".join(out)

    def failed(self, error: ErrorTold) -> bytes:
        out: list[bytes] = []
        start = self.error(error)["error"]
        if self.verbatim:
            self._number = self._passed
            self._event(out, "", code=start["code"], message=start["message"], param=start["param"])
            return self.last_passed() + b"".join(out)
        base_response = self._begin(out)
        failure = {"code": start["code"] or start["type"], "message": start["message"]}
        self._event(
            out, "failed", response={**base_response, "status": "failed", "error": failure, "output": self._items}
        )
        return b"".join(out)

    def _item_event(self, out: list[bytes], kind: str, item: _Item, **fields: Json) -> None:
        self._event(out, kind, item_id=item.id, output_index=item.number, **fields)

    def _event(self, out: list[bytes], kind: str, **fields: Json) -> None:
        name = f"response.{kind}" if kind else "error"
        payload = encode_json({"type": name, "sequence_number": self._number, **fields})
        self._number += 1
        out.append(b"event: %b\ndata: %b\n\n" % (name.encode(), payload))


def _at(item: _Item) -> int:
    return len(item.part_kinds) - 1


def _event_noun(item: _Item) -> str:
    custom = item.call.extra.get("type") == "custom"
    return "custom_tool_call_input" if custom else "function_call_arguments"


def _part(item: _Item, kind: str, *, empty: bool = False) -> dict[str, Json]:
    if kind == "refusal":
        return {"type": "refusal", "refusal": "" if empty else "".join(item.refusals)}
    return output_text(
        "" if empty else "".join(item.texts), [] if empty else item.annotations, [] if empty else item.logprobs
    )


def _item_json(item: _Item, status: str) -> dict[str, Json]:
    if item.kind == "message":
        return message(item.id, [_part(item, kind) for kind in item.part_kinds], status)
    if item.kind == "reasoning":
        return reasoning(item.id, "".join(item.texts), packed(None))
    call = item.call
    text = "".join(item.texts)
    extra = {"type": "custom"} if _event_noun(item).startswith("custom") else {}
    item_json = ToolCall(ToolFunction(call.name, text), call.id, extra)
    base_response = call_item(item.id, item.position, item_json, status)
    if "arguments" in base_response:
        base_response["arguments"] = text
    return base_response
