"""JSON read although it breaks the rules in the ways that models do; what was mended is told.

A trailing comma, a line end within a text, the literals of another language (``None``, ``True``), comments, single
quotes and keys without quotes: each has one reading only. What has none is an error, as ever; nothing is guessed.
"""

import re
from typing import Any

from ..canonical.chat import Json

_SPACE = re.compile(r"[ \t\r\n\ufeff\u00a0]*")
_NUMBER = re.compile(r"-?(?:0|[1-9][0-9]*)(\.[0-9]+)?([eE][-+]?[0-9]+)?")
_WORD = re.compile(r"[A-Za-z_$][\w$]*")
_COMMENT = re.compile(r"//[^\n]*|#[^\n]*|/\*.*?\*/", re.DOTALL)
_LITERALS = {"true": True, "false": False, "null": None}
_FOREIGN = {"True": True, "False": False, "None": None, "undefined": None, "nil": None}
_ESCAPES = {'"': '"', "'": "'", "\\": "\\", "/": "/", "b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t"}
_PLAIN = {'"': re.compile(r'[^"\\\x00-\x1f]*'), "'": re.compile(r"[^'\\\x00-\x1f]*")}
# Deeper values are none that a form describes.
_DEEPEST = 200


class Unreadable(ValueError):
    """It is no JSON, and there is no one way to mend it; says where and why."""


class LongNumber(float):
    """A number with more digits than a float has, and all of them as text."""

    __slots__ = ("text",)

    def __new__(cls, text: str) -> "LongNumber":
        result = super().__new__(cls, text)
        result.text = text
        return result

    text: str


def number(text: str) -> float:
    """A number that is no whole one, exactly.

    Raises:
        Unreadable: it is larger than any number.
    """
    value = float(text)
    if value in (float("inf"), float("-inf")):
        raise Unreadable(f"{text[:40]} is larger than any number")
    digits = sum(letter.isdigit() for letter in re.split("[eE]", text)[0].lstrip("-0."))
    return LongNumber(text) if digits > 15 else value


def no_number(text: str) -> Any:
    """What is made of ``NaN`` and its kin.

    Raises:
        Unreadable: always.
    """
    raise Unreadable(f"{text} is no number of JSON")


def parse_lenient(text: str, start: int = 0) -> tuple[Json, int, tuple[str, ...]]:
    """The value that begins at a place, where it ends, and what was mended in it.

    Raises:
        Unreadable: it cannot be read.

    >>> parse_lenient("{'a': [1, 2,], b: None}  // so")
    ({'a': [1, 2], 'b': None}, 23, ('single quotes', 'trailing comma', 'key without quotes', 'None'))
    """
    reader = _Reader(text)
    value = reader.value(start, 0)
    return value, reader.at, tuple(dict.fromkeys(reader.repairs))


class _Reader:
    def __init__(self, text: str) -> None:
        self._text = text
        self.at = 0
        self.repairs: list[str] = []

    def value(self, at: int, depth: int) -> Json:
        if depth > _DEEPEST:
            raise Unreadable("it is nested too deeply")
        at = self._blank(at)
        letter = self._text[at : at + 1]
        if letter == "{":
            return self._object(at + 1, depth)
        if letter == "[":
            return self._array(at + 1, depth)
        if letter and letter in "\"'":
            return self._string(at)
        return self._scalar(at)

    def _object(self, at: int, depth: int) -> Json:
        result: dict[str, Json] = {}
        at = self._blank(at)
        while self._text[at : at + 1] != "}":
            letter = self._text[at : at + 1]
            if letter and letter in "\"'":
                key = self._string(at)
                at = self.at
            else:
                literal = _WORD.match(self._text, at) or _NUMBER.match(self._text, at)
                if literal is None:
                    raise self._wrong(at, "a key")
                key, at = literal[0], literal.end()
                self.repairs.append("key without quotes")
            at = self._blank(at)
            if self._text[at : at + 1] != ":":
                raise self._wrong(at, "a colon")
            result[key] = self.value(at + 1, depth + 1)
            at = self._blank(self.at)
            if self._text[at : at + 1] == ",":
                at = self._blank(at + 1)
                if self._text[at : at + 1] == "}":
                    self.repairs.append("trailing comma")
            elif self._text[at : at + 1] != "}":
                raise self._wrong(at, "a comma or the end of the object")
        self.at = at + 1
        return result

    def _array(self, at: int, depth: int) -> Json:
        result: list[Json] = []
        at = self._blank(at)
        while self._text[at : at + 1] != "]":
            result.append(self.value(at, depth + 1))
            at = self._blank(self.at)
            if self._text[at : at + 1] == ",":
                at = self._blank(at + 1)
                if self._text[at : at + 1] == "]":
                    self.repairs.append("trailing comma")
            elif self._text[at : at + 1] != "]":
                raise self._wrong(at, "a comma or the end of the list")
        self.at = at + 1
        return result

    def _string(self, at: int) -> str:
        text, quote = self._text, self._text[at]
        if quote == "'":
            self.repairs.append("single quotes")
        at += 1
        chunks: list[str] = []
        while True:
            run = _PLAIN[quote].match(text, at)
            chunks.append(run[0])  # type: ignore[index]
            at = run.end()  # type: ignore[union-attr]
            letter = text[at : at + 1]
            if letter == quote:
                self.at = at + 1
                return _joined("".join(chunks))
            if letter == "\\":
                chunk, at = self._escape(at + 1)
                chunks.append(chunk)
            elif letter:
                self.repairs.append("control character in a text")
                chunks.append(letter)
                at += 1
            else:
                raise self._wrong(at, "the end of the text")

    def _escape(self, at: int) -> tuple[str, int]:
        letter = self._text[at : at + 1]
        if letter in _ESCAPES and letter:
            return _ESCAPES[letter], at + 1
        digits = self._text[at + 1 : at + 5]
        if letter == "u" and re.fullmatch(r"[0-9a-fA-F]{4}", digits):
            return chr(int(digits, 16)), at + 5
        raise self._wrong(at, "an escape")

    def _scalar(self, at: int) -> Json:
        found = _NUMBER.match(self._text, at)
        if found is not None:
            self.at = found.end()
            if re.match(r"[\w.]", self._text[self.at : self.at + 1]):
                raise self._wrong(at, "a number")
            return number(found[0]) if found[1] or found[2] else int(found[0])
        literal = _WORD.match(self._text, at)
        if literal is not None and literal[0] in _LITERALS:
            self.at = literal.end()
            return _LITERALS[literal[0]]
        if literal is not None and literal[0] in _FOREIGN:
            self.at = literal.end()
            self.repairs.append(literal[0])
            return _FOREIGN[literal[0]]
        raise self._wrong(at, "a value")

    def _blank(self, at: int) -> int:
        while True:
            at = _SPACE.match(self._text, at).end()  # type: ignore[union-attr]
            comment = _COMMENT.match(self._text, at)
            if comment is None:
                return at
            self.repairs.append("comment")
            at = comment.end()

    def _wrong(self, at: int, expected: str) -> Unreadable:
        if at >= len(self._text):
            return Unreadable(f"it ends where {expected} is due")
        line = self._text.count("\n", 0, at) + 1
        column = at - self._text.rfind("\n", 0, at)
        return Unreadable(f"{expected} is due in line {line}, column {column}, not {self._text[at : at + 20]!r}")


def _joined(text: str) -> str:
    """Halves of surrogate pairs put together; one that stands alone stays what it is."""
    if not any("\ud800" <= letter < "\ue000" for letter in text):
        return text
    return text.encode("utf-16", "surrogatepass").decode("utf-16", "surrogatepass")
