"""JSON found in what a model wrote: as it is, in a fence, behind its thoughts, among words; mended where that is sure.

The text is read as it came before anything is cut out of it. Numbers keep all of their digits; what is no number is an
error. Thoughts are left out where they stand outside of JSON only.
"""

import json
import re
from typing import Any, Literal, TypeAlias

from msgspec import Struct

from ..canonical.chat import Json
from .repair import Unreadable, no_number, number, parse_lenient

Problem: TypeAlias = Literal["", "empty", "no json", "broken json", "several"]
_TAG = re.compile(r"<(/?)(think|thinking|reasoning)>")
_THOUGHTS = re.compile(r"<(think|thinking|reasoning)>.*?(</\1>|\Z)", re.DOTALL)
_FENCE = re.compile(
    r"^[ \t]*(`{3,}|~{3,})[ \t]*([\w+-]*)[^\n`]*\n(.*?)(?:^[ \t]*\1[`~]*[ \t]*$|\Z)", re.DOTALL | re.MULTILINE
)
# A brace in a sentence is no JSON; one with a key or a value behind it was meant as such.
_GAP = r"(?:\s|//[^\n]*\n|#[^\n]*\n|/\*[^*]*\*/)*"
_MEANT = re.compile(
    rf"\{{{_GAP}(?:[\"'}}]|[A-Za-z_]\w*\s*:)|\[{_GAP}(?:[\[{{\"'\d\]-]|true|false|null|None|True|False)"
)
_JSON_FENCES = ("", "json", "json5", "jsonc", "jsonl", "ndjson")
_DECODER = json.JSONDecoder(parse_float=number, parse_constant=no_number)
_MOST_VALUES = 1000


class Found(Struct, frozen=True):
    """What was found.

    Attributes:
        values: the JSON values, without those that are there twice.
        problem: why there is not exactly one.
        reason: what is wrong with one that cannot be read, and where.
        repairs: what was mended.
    """

    values: tuple[Json, ...]
    problem: Problem = ""
    reason: str = ""
    repairs: tuple[str, ...] = ()


def json_in(text: str) -> Found:
    """The JSON in a text.

    >>> json_in('Here:\\n```json\\n{"a": 1}\\n```').values
    ({'a': 1},)
    >>> json_in('{"a": 1} or {"a": 2}').problem, json_in('{"a": ').problem, json_in("It depends.").problem
    ('several', 'broken json', 'no json')
    >>> json_in("{'a': 1,}").repairs
    ('single quotes', 'trailing comma')
    """
    text = text.strip().lstrip("\ufeff")
    if not text:
        return Found((), "empty")
    reason = ""
    try:
        return Found((_DECODER.decode(text),))
    except Unreadable as error:
        reason = str(error)
    except (ValueError, RecursionError):
        pass
    search = _Search(text)
    search.run()
    if not search.values and not search.reason and not search.text.strip():
        return Found((), "empty")
    if not search.values:
        first_reason = search.reason or reason
        return Found((), "broken json" if first_reason else "no json", first_reason)
    values: list[Json] = []
    for value in search.values:
        if value not in values:
            values.append(value)
    return Found(tuple(values), "several" if len(values) > 1 else "", "", tuple(dict.fromkeys(search.repairs)))


def without_thoughts(text: str) -> str:
    """A text without the thoughts that some models write into it, between marks."""
    return _THOUGHTS.sub("", text) if "<" in text else text


class _Search:
    """The values in a text that is not one.

    Attributes:
        text: what was left of it, without thoughts.
        reason: what is wrong with the first that cannot be read.
    """

    def __init__(self, text: str) -> None:
        self.text = text
        self.values: list[Json] = []
        self.repairs: list[str] = []
        self.reason = ""

    def run(self) -> None:
        text = self.text
        values, mends, reason, spans = _values_in(text)
        thoughts = _thoughts(text, spans)
        if thoughts:
            # Drafts in a thought are no answers; what stands behind them is read anew.
            kept_texts, at = [], 0
            for start, end in thoughts:
                kept_texts.append(text[at:start])
                at = end
            self.text = "".join([*kept_texts, text[at:]]).strip()
            try:
                self.values = [_DECODER.decode(self.text)]
            except (ValueError, RecursionError):
                values, mends, reason, spans = _values_in(self.text)
            else:
                return
        fences = [match for match in _FENCE.finditer(self.text) if match[2].lower() in _JSON_FENCES]
        inside = [_values_in(match[3]) for match in fences]
        if any(each[0] for each in inside):
            # What is in a fence was set apart as the answer; other languages are no answers.
            self.values = [value for each in inside for value in each[0]]
            self.repairs = [repair for each in inside for repair in each[1]]
            return
        code = [match.span() for match in _FENCE.finditer(self.text) if match[2].lower() not in _JSON_FENCES]
        outside = [
            value
            for value, (start, _) in zip(values, spans, strict=True)
            if not any(begin <= start < end for begin, end in code)
        ]
        self.values, self.repairs, self.reason = outside or values, mends, reason


def _thoughts(text: str, spans: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Where thoughts stand in a text; marks within a JSON value are a part of it."""
    found: list[tuple[int, int]] = []
    opening: tuple[int, str] | None = None
    for tag in _TAG.finditer(text):
        if opening is None and any(start < tag.start() < end for start, end in spans):
            continue
        if tag[1]:
            if opening is None:
                found = [(0, tag.end())]  # its beginning stood in the template
            elif opening[1] == tag[2]:
                found.append((opening[0], tag.end()))
                opening = None
        elif opening is None:
            opening = tag.start(), tag[2]
    if opening is not None:
        found.append((opening[0], len(text)))
    return found


def _values_in(text: str) -> tuple[list[Json], list[str], str, list[tuple[int, int]]]:
    """The objects and lists in a text: values, what was mended, what is wrong with one that cannot be read, places."""
    values: list[Json] = []
    mends: list[str] = []
    spans: list[tuple[int, int]] = []
    position = 0
    while len(values) < _MOST_VALUES:
        starts = [start for start in (text.find("{", position), text.find("[", position)) if start >= 0]
        if not starts:
            break
        start = min(starts)
        value: Any
        try:
            value, end = _DECODER.raw_decode(text, start)
        except Unreadable as error:
            return [], [], str(error), []
        except (ValueError, RecursionError):
            if not _MEANT.match(text, start):
                position = start + 1
                continue
            try:
                value, end, further = parse_lenient(text, start)
            except Unreadable as error:
                # Inner objects of a broken one would be taken for the answer.
                return ([], [], str(error), []) if not values else (values, mends, str(error), spans)
            mends += further
        values.append(value)
        spans.append((start, end))
        position = end
    return values, mends, "", spans
