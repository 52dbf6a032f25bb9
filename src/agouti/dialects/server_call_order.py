"""Calls of a stream one behind the other, for formats in which one block or item is open at a time.

Where calls may be mixed, pieces of another call, and whatever else comes in between, wait until the open one is whole.
"""

import logging
from collections.abc import Iterable

import msgspec
from msgspec.structs import replace

from ..core.canonical.chat import Json
from ..core.canonical.events import Event, Finished, Started, ToolCallPiece, TurnTold, UsageTold

log = logging.getLogger("agouti.relay")
# Events that say nothing within the answer: they need not wait.
_UNORDERED = (Started, Finished, UsageTold, TurnTold)


class CallOrder:
    """Orders the events of one answer."""

    def __init__(self) -> None:
        self._open: int | None = None
        self._arguments: list[str] = []
        self._named: set[int] = set()
        self._closed: set[int] = set()
        self._nameless: dict[int, ToolCallPiece] = {}
        self._waiting: list[Event] = []

    def of(self, events: Iterable[Event]) -> list[Event]:
        """The events that can be told now; the pieces of a call follow one another, and the first has its name."""
        ordered: list[Event] = []
        for event in events:
            self._order(event, ordered)
        return ordered

    def flush(self) -> list[Event]:
        """Whatever waits still: the answer has ended."""
        ordered: list[Event] = []
        while self._waiting or self._nameless:
            self._close()
            waiting, self._waiting = self._waiting, []
            if not waiting:
                waiting = [replace(each, name="") for each in self._nameless.values()]
                self._nameless.clear()
            for event in waiting:
                self._order(event, ordered)
        return ordered

    def _order(self, event: Event, ordered: list[Event]) -> None:
        if isinstance(event, ToolCallPiece):
            if self._open in (None, event.index) or (not self._waiting and self._is_complete()):
                self._order_piece(event, ordered)
            else:
                self._waiting.append(event)
            return
        if self._open is not None and not isinstance(event, _UNORDERED):
            if self._waiting or not self._is_complete():
                self._waiting.append(event)
                return
            self._close()
        ordered.append(event)

    def _order_piece(self, call_piece: ToolCallPiece, ordered: list[Event]) -> None:
        index = call_piece.index
        if index in self._closed:
            log.debug("a call goes on behind its end: %d characters", len(call_piece.arguments))
            return
        if index in self._named:
            if call_piece.id is not None or call_piece.name is not None:
                call_piece = replace(call_piece, id=None, name=None)  # some servers say in each piece whose it is
        else:
            if (before := self._nameless.pop(index, None)) is not None:
                call_piece = replace(
                    call_piece,
                    id=before.id or call_piece.id,
                    arguments=before.arguments + call_piece.arguments,
                    extra={**before.extra, **call_piece.extra},
                )
            if call_piece.name is None:
                self._nameless[index] = call_piece
                return
            self._named.add(index)
        if self._open != index:
            self._close()
            self._open = index
        if call_piece.arguments:
            self._arguments.append(call_piece.arguments)
        ordered.append(call_piece)
        if self._waiting and self._is_complete():
            self._close()
            waiting, self._waiting = self._waiting, []
            for event in waiting:
                self._order(event, ordered)

    def _close(self) -> None:
        if self._open is not None:
            self._closed.add(self._open)
        self._open, self._arguments = None, []

    def _is_complete(self) -> bool:
        """Whether the open call has all of its arguments, as far as they show it."""
        # Looked at once they may be: what grows is not read again with each piece.
        return bool(self._arguments) and self._arguments[-1].rstrip()[-1:] == "}" and is_whole("".join(self._arguments))


def is_whole(arguments: str) -> bool:
    """Whether the arguments of a call are a whole JSON value.

    >>> is_whole('{"x": 1}'), is_whole('{"x": ')
    (True, False)
    """
    try:
        value: Json = msgspec.json.decode(arguments)
    except (msgspec.DecodeError, RecursionError):
        return False
    return value is not None
