"""Structured output as it grows: the value so far of a JSON document that is still being written."""

from collections.abc import Callable

from .chat import Json
from .events import Event, Text, ToolCallPiece
from .json_extract import without_thoughts
from .json_partial import PartialReader


class Growing:
    """The value of a form so far: from the arguments of the call where there is one, otherwise from the text."""

    def __init__(self, unwrapped: Callable[[Json], Json]) -> None:
        self._unwrapped = unwrapped
        self._text = _Document()
        self._call = _Document()

    def take(self, batch: list[Event]) -> bool:
        """Add events; whether there is more to see."""
        text = "".join([event.text for event in batch if type(event) is Text and not event.choice])
        pieces = "".join([event.arguments for event in batch if type(event) is ToolCallPiece and not event.index])
        called = self._call.feed(pieces) if pieces else False
        said = self._text.feed(text) if text else False
        return (called or (said and not self._call.reader.begun)) and self.value is not None

    @property
    def value(self) -> Json:
        """The value so far; `None` before it begins."""
        return self._unwrapped((self._call if self._call.reader.begun else self._text).reader.value)


class _Document:
    """A JSON document that may have words, a fence or thoughts before it."""

    def __init__(self) -> None:
        self.reader = PartialReader()
        self._before: str | None = ""

    def feed(self, text: str) -> bool:
        """Add text; whether the value can have grown."""
        if self._before is not None:
            self._before += text
            if not any(mark in text for mark in "{[>"):
                return False  # what comes before a document may be long: it is looked through only where one can begin
            rest = without_thoughts(self._before)
            start = min((start for start in (rest.find("{"), rest.find("[")) if start >= 0), default=-1)
            if start < 0:
                return False
            text, self._before = rest[start:], None
        if self.reader.complete or self.reader.broken:
            return False
        self.reader.feed(text)
        return self.reader.begun
