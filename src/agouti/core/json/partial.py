"""A JSON document read while it comes: at every moment the value so far, at a cost that grows with its length alone.

Objects and arrays grow in place, texts grow too; a number or a literal appears once it is whole, and a key with
its value. So the value only ever grows, and the last one is that of the whole document.

    >>> reader = PartialReader()
    >>> reader.feed('{"crop": "pe')
    {'crop': 'pe'}
    >>> reader.feed('as", "seeds": 2')
    {'crop': 'peas'}
    >>> reader.feed('4}'), reader.complete
    ({'crop': 'peas', 'seeds': 24}, True)
"""

import re
from collections.abc import Callable
from typing import Any

from ..canonical.chat import Json

_SPACE = re.compile(r"[ \t\r\n]*")
_PLAIN_TEXT = re.compile(r'[^"\\]+')
_SCALAR = re.compile(r"[-+.0-9A-Za-z]+")
_NUMBER = re.compile(r"-?(?:0|[1-9][0-9]*)(\.[0-9]+)?([eE][-+]?[0-9]+)?")
_ESCAPES = {'"': '"', "\\": "\\", "/": "/", "b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t"}
_LITERALS = {"true": True, "false": False, "null": None}
# A long text is shown again when it has grown by this part of its length: showing it is copying it.
_STEP = 256


class PartialReader:
    """Feed text, look at the value.

    Args:
        is_early: whether the text at a place appears once it is whole; a place has its keys, and `None` for each list.

    Attributes:
        value: the value so far; `None` before it begins. Containers are the same objects all the time.
        started: a value has begun.
        complete: the document is whole; what comes behind it is not looked at.
        broken: what is wrong, where it is no JSON; the value stays as it was.
        changes: how often the value has grown.
    """

    def __init__(self, is_early: Callable[[tuple[str | None, ...]], bool] | None = None) -> None:
        self.value: Json = None
        self.started = False
        self.complete = False
        self.broken = ""
        self.changes = 0
        self._stack: list[Any] = []
        self._keys: list[str | None] = []
        self._expect = self._value
        self._pending = ""
        self._chunks: list[str] = []
        self._size = 0
        self._shown_size = -1
        self._is_key = False
        self._is_early = is_early
        self._hidden = False

    def feed(self, text: str) -> Json:
        """Take the next text, cut anywhere; returns the value so far."""
        if self._pending:
            text, self._pending = self._pending + text, ""
        position, end = 0, len(text)
        while position < end and not self.complete and not self.broken:
            position = self._expect(text, position)
        if self._chunks and not (self._is_key or self._hidden):
            self._show()
        return self.value

    def is_open(self, container: Json) -> bool:
        """Whether more may come into an object or a list."""
        return any(each is container for each in self._stack)

    def end(self) -> Json:
        """Nothing more will come: a number at the very end is whole now."""
        if self._pending and not self._stack and self._expect == self._scalar:
            self.feed(" ")
        return self.value

    # Each of these reads from a place on, sets what is expected next, and returns the next place.

    def _value(self, text: str, position: int) -> int:
        position = self._blank(text, position)
        if position == len(text):
            return position
        mark = text[position]
        if mark == '"':
            self._is_key = False
            self._hidden = self._is_early is not None and self._is_early(tuple(self._keys))
            self._begin_text()
            return position + 1
        if mark in "{[":
            self._put({} if mark == "{" else [])
            self._stack.append(self._last())
            self._keys.append(None)
            self._expect = self._first_key if mark == "{" else self._first_item
            return position + 1
        if mark in "-0123456789tfn":
            self._expect = self._scalar
            return position
        return self._break(f"{mark!r} begins no value")

    def _first_item(self, text: str, position: int) -> int:
        position = self._blank(text, position)
        if position < len(text):
            if text[position] == "]":
                return self._close(position)
            self._expect = self._value
        return position

    def _first_key(self, text: str, position: int) -> int:
        position = self._blank(text, position)
        if position < len(text):
            if text[position] == "}":
                return self._close(position)
            self._expect = self._key
        return position

    def _key(self, text: str, position: int) -> int:
        position = self._blank(text, position)
        if position == len(text):
            return position
        if text[position] != '"':
            return self._break("a key is expected")
        self._is_key = True
        self._begin_text()
        return position + 1

    def _colon(self, text: str, position: int) -> int:
        position = self._blank(text, position)
        if position < len(text):
            if text[position] != ":":
                return self._break("a colon is expected")
            self._expect = self._value
            return position + 1
        return position

    def _next(self, text: str, position: int) -> int:
        position = self._blank(text, position)
        if position == len(text):
            return position
        inner = self._stack[-1]
        mark = text[position]
        if mark == ",":
            self._expect = self._key if isinstance(inner, dict) else self._value
            return position + 1
        if mark == ("}" if isinstance(inner, dict) else "]"):
            return self._close(position)
        return self._break("a comma or an end is expected")

    def _text(self, text: str, position: int) -> int:
        plain_text = _PLAIN_TEXT.match(text, position)
        if plain_text is not None:
            self._add(plain_text[0])
            return plain_text.end()
        if text[position] == '"':
            self._end_text()
            return position + 1
        return self._escape(text, position)

    def _escape(self, text: str, position: int) -> int:
        if position + 1 >= len(text):
            self._pending = text[position:]
            return len(text)
        mark = text[position + 1]
        if mark != "u":
            if mark not in _ESCAPES:
                return self._break(f"there is no escape {mark!r}")
            self._add(_ESCAPES[mark])
            return position + 2
        digits = text[position + 2 : position + 6]
        if len(digits) < 4:
            self._pending = text[position:]
            return len(text)
        try:
            code = int(digits, 16)
        except ValueError:
            return self._break("an escape has no four digits")
        if 0xD800 <= code < 0xDC00:
            # The first half of a pair: the second may still be to come.
            low_surrogate = text[position + 6 : position + 12]
            if (
                len(low_surrogate) < 6
                and "\\u".startswith(low_surrogate[:2])
                and (len(low_surrogate) < 2 or low_surrogate[:2] == "\\u")
            ):
                self._pending = text[position:]
                return len(text)
            low = int(low_surrogate[2:], 16) if re.fullmatch(r"\\u[dD][c-fC-F][0-9a-fA-F]{2}", low_surrogate) else 0
            if low:
                self._add(chr(0x10000 + ((code - 0xD800) << 10) + (low - 0xDC00)))
                return position + 12
        self._add("\ufffd" if 0xD800 <= code < 0xE000 else chr(code))
        return position + 6

    def _scalar(self, text: str, position: int) -> int:
        value_so_far = _SCALAR.match(text, position)
        token = value_so_far[0] if value_so_far is not None else ""
        after = position + len(token)
        if after == len(text):
            self._pending = token
            return after
        if token in _LITERALS:
            self._put(_LITERALS[token])
        elif number := _NUMBER.fullmatch(token):
            self._put(float(token) if number[1] or number[2] else int(token))
        else:
            return self._break(f"{token[:20]!r} is no value")
        self._after_value()
        return after

    def _blank(self, text: str, position: int) -> int:
        value_so_far = _SPACE.match(text, position)
        return value_so_far.end() if value_so_far is not None else position

    def _break(self, reason: str) -> int:
        self.broken = reason
        return 0

    def _begin_text(self) -> None:
        self._chunks, self._size, self._shown_size = [""], 0, -1
        self._expect = self._text

    def _add(self, chunk: str) -> None:
        self._chunks.append(chunk)
        self._size += len(chunk)

    def _end_text(self) -> None:
        text = "".join(self._chunks)
        if self._is_key:
            self._keys[-1] = text
            self._expect = self._colon
        else:
            if self._size != self._shown_size:
                self._replace(text)
            self._after_value()
        self._chunks = []

    def _show(self) -> None:
        if self._size == self._shown_size:
            return
        if self._shown_size < 0 or self._size - self._shown_size > self._shown_size // _STEP:
            self._chunks = ["".join(self._chunks)]
            self._replace(self._chunks[0])

    def _replace(self, text: str) -> None:
        """Show more of the text under way."""
        if self._shown_size < 0:
            self._put(text)
        elif not self._stack:
            self.value = text
        elif isinstance(inner := self._stack[-1], dict):
            inner[self._keys[-1]] = text
        else:
            inner[-1] = text
        self.changes += 1
        self._shown_size = self._size

    def _put(self, value: Json) -> None:
        self.started = True
        self.changes += 1
        if not self._stack:
            self.value = value
        elif isinstance(inner := self._stack[-1], dict):
            inner[self._keys[-1]] = value
        else:
            inner.append(value)

    def _last(self) -> Json:
        if not self._stack:
            return self.value
        inner = self._stack[-1]
        return inner[self._keys[-1]] if isinstance(inner, dict) else inner[-1]

    def _close(self, position: int) -> int:
        self._stack.pop()
        self._keys.pop()
        self._after_value()
        return position + 1

    def _after_value(self) -> None:
        if self._stack:
            self._expect = self._next
        else:
            self.complete = True
