"""Structured output as it grows: the value so far of a JSON document that is still being written.

Whatever stands before the document (words, a fence, thoughts) is looked at once, so that the cost grows with the length
of what came alone.
"""

import re
from collections.abc import Callable, Mapping
from typing import Any

from ..canonical.chat import Json
from ..canonical.events import Event, Text, ToolCallPiece
from ..json.partial import PartialReader
from .values import texts_at_once

_TAG = re.compile(r"<(/?)(think|thinking|reasoning)>")
_MARK = re.compile(r"[<{\[]")
# What stands behind a bracket that begins a document, and not a remark in a sentence.
_FOLLOWING = {"{": re.compile(r"[\"}]"), "[": re.compile(r"[\[{\"\d\]-]|t(?=r)|f(?=a)|n(?=u)")}
_LONGEST_TAG = len("</reasoning>")


class Growing:
    """The value of a form so far: from the arguments of the call where there is one, otherwise from the text.

    Args:
        unwrapped: takes a value out of its wrapping.
        lists: whether the document may be a list.
        schema: of the form; texts that it chooses from a list, and those with a format, appear once they are whole.
    """

    def __init__(
        self, unwrapped: Callable[[Json], Json], *, lists: bool = True, schema: Mapping[str, Any] | None = None
    ) -> None:
        self._unwrapped = unwrapped
        is_early = texts_at_once(schema) if schema is not None else None
        self._text = _Document(lists, is_early)
        self._call = _Document(lists, is_early)

    def add(self, batch: list[Event]) -> bool:
        """Add events; whether the value has grown."""
        text = "".join([event.text for event in batch if type(event) is Text and not event.choice])
        arguments = "".join([event.arguments for event in batch if type(event) is ToolCallPiece and not event.index])
        called = self._call.feed(arguments) if arguments else False
        grew = self._text.feed(text) if text else False
        return (called or (grew and not self._call.reader.started)) and self.value is not None

    @property
    def value(self) -> Json:
        """The value so far; `None` before it begins."""
        return self._unwrapped(self._document.reader.value)

    @property
    def whole_items(self) -> list[Json]:
        """The items of a list that are complete; nothing where it is no list."""
        value = self.value
        if not isinstance(value, list):
            return []
        return value[:-1] if self._document.reader.is_open(value) else value

    @property
    def _document(self) -> "_Document":
        return self._call if self._call.reader.started else self._text


class _Document:
    """A JSON document that may have words, a fence or thoughts before it."""

    def __init__(self, lists: bool, is_early: Callable[[tuple[str | None, ...]], bool] | None) -> None:
        self.reader = PartialReader(is_early)
        self._starts = "{[" if lists else "{"
        self._started = False
        self._thought = ""
        self._tail = ""

    def feed(self, text: str) -> bool:
        """Add text; whether the value has grown."""
        if not self._started:
            text = self._from_its_beginning(self._tail + text)
            if not self._started:
                return False
        if self.reader.complete or self.reader.broken:
            return False
        before = self.reader.changes
        self.reader.feed(text)
        return self.reader.started and self.reader.changes != before

    def _from_its_beginning(self, text: str) -> str:
        """The text from where the document begins; what cannot be told yet is kept for the next time."""
        at = 0
        self._tail = ""
        while True:
            if self._thought:
                end = text.find(f"</{self._thought}>", at)
                if end < 0:
                    self._tail = text[max(at, len(text) - _LONGEST_TAG) :]
                    return ""
                at, self._thought = end + len(self._thought) + 3, ""
                continue
            mark = _MARK.search(text, at)
            if mark is None:
                return ""
            at = mark.start()
            if mark[0] == "<":
                tag = _TAG.match(text, at)
                if tag is None and len(text) - at < _LONGEST_TAG:
                    self._tail = text[at:]  # it may become one
                    return ""
                if tag is not None and not tag[1]:
                    self._thought = tag[2]
                at = tag.end() if tag is not None else at + 1
                continue
            tail = text[at + 1 :].lstrip()[:2]
            if len(tail) < 2 and tail not in ("}", "]", '"'):
                self._tail = text[at:]
                return ""
            if mark[0] in self._starts and _FOLLOWING[mark[0]].match(tail):
                self._started = True
                return text[at:]
            at += 1
