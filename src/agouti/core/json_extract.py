"""JSON found in what a model wrote: bare, in a fence, behind its thoughts, among words."""

import json
import re
from typing import Literal, TypeAlias

from msgspec import Struct

from .chat import Json

Problem: TypeAlias = Literal["", "empty", "no json", "broken json", "several"]
_THOUGHTS = re.compile(r"<(think|thinking|reasoning)>.*?(</\1>|\Z)", re.DOTALL)
_FENCE = re.compile(r"^[ \t]*(`{3,}|~{3,})[^\n`]*\n(.*?)(?:^[ \t]*\1[`~]*[ \t]*$|\Z)", re.DOTALL | re.MULTILINE)
_DECODER = json.JSONDecoder()


class Found(Struct, frozen=True):
    """What was found.

    Attributes:
        values: the JSON values, without those that are there twice.
        problem: why there is not exactly one.
    """

    values: tuple[Json, ...]
    problem: Problem = ""


def json_in(text: str) -> Found:
    """The JSON in a text.

    >>> json_in('Here:\\n```json\\n{"a": 1}\\n```').values
    ({'a': 1},)
    >>> json_in('{"a": 1} or {"a": 2}').problem, json_in('{"a": ').problem, json_in("It depends.").problem
    ('several', 'broken json', 'no json')
    """
    text = without_thoughts(text).strip()
    if not text:
        return Found((), "empty")
    try:
        return Found((json.loads(text),))
    except (ValueError, RecursionError):
        pass
    fences = [match[2] for match in _FENCE.finditer(text)]
    values, broken = _all_in("\n".join(fences)) if fences else ([], False)
    if not values:
        values, broken = _all_in(text)
    kept: list[Json] = []
    for value in values:
        if value not in kept:
            kept.append(value)
    if not kept:
        return Found((), "broken json" if broken else "no json")
    return Found(tuple(kept), "several" if len(kept) > 1 else "")


def without_thoughts(text: str) -> str:
    """A text without the thoughts that some models write into it, between marks."""
    return _THOUGHTS.sub("", text) if "<" in text else text


def _all_in(text: str) -> tuple[list[Json], bool]:
    """The objects and arrays in a text, and whether one begins that cannot be read."""
    parsed: list[Json] = []
    broken = False
    position = 0
    for _ in range(1000):
        starts = [start for start in (text.find("{", position), text.find("[", position)) if start >= 0]
        if not starts:
            break
        start = min(starts)
        try:
            value, position = _DECODER.raw_decode(text, start)
        except (ValueError, RecursionError):
            # A brace in a sentence is no JSON; one with a key or a value behind it was meant as such.
            broken = broken or bool(re.match(r"\{\s*\"|\[\s*[\[{\"\d]", text[start:]))
            position = start + 1
            continue
        parsed.append(value)
    if broken and parsed:
        # Inner objects of a broken one would be taken for the answer.
        first = min(start for start in (text.find("{"), text.find("[")) if start >= 0)
        try:
            _DECODER.raw_decode(text, first)
        except (ValueError, RecursionError):
            if re.match(r"\{\s*\"|\[\s*[\[{\"\d]", text[first:]):
                return [], True
    return parsed, broken
