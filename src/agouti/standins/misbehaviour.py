"""Lies: what a stand-in accepts and does not do, one at a time, by the switch ``+lies=N``."""

import itertools
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from .faults import Fault

if TYPE_CHECKING:
    from .asked import Asked
    from .writer import Answer

LIES = (
    "stop strings",
    "cap on tokens",
    "cut is told",
    "seed",
    "system text",
    "JSON mode",
    "schema",
    "forced call",
    "parallel calls",
    "tool round",
    "image",
    "file",
    "thinking",
    "stream",
    "usage in the stream",
    "usage",
    "length of vectors",
    "embeddings",
)
"""What is claimed and not done; ``+lies=1`` is the first one."""


def lie_of(fault: Fault | None) -> str:
    """What a reply lies about; nothing where it is honest."""
    if fault is None or fault.name != "lies" or not 1 <= fault.number <= len(LIES):
        return ""
    return LIES[fault.number - 1]


def misheard(asked: "Asked", lie: str) -> "Asked":
    """What a model that lies hears of a question."""
    match lie:
        case "stop strings":
            return replace(asked, stop=())
        case "cap on tokens":
            return replace(asked, cap=None)
        case "system text":
            return replace(asked, messages=[each for each in asked.messages if each[0] != "system"])
        case "JSON mode" if asked.schema is None:
            return replace(asked, as_json=False)
        case "schema" if asked.schema is not None:
            return replace(asked, schema={"type": "object", "properties": {"weather": {"type": "string"}}})
        case "forced call" if asked.choice not in ("auto", "none"):
            return replace(asked, choice="none")
        case "tool round" if asked.results:
            said = [each for each in asked.messages if each[0] in ("system", "user")]
            return replace(asked, results=(), choice="none", messages=said)
        case "image":
            return replace(asked, images=())
        case "thinking":
            return replace(asked, thinks=False)
        case _:
            return asked


def without_files(messages: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Messages whose files are taken and not looked at."""
    return [
        {**each, "content": [part for part in each["content"] if part.get("type") != "file"]}
        if isinstance(each.get("content"), list)
        else each
        for each in messages
    ]


_turns = itertools.count(1)


def misspoken(answers: "list[Answer]", lie: str) -> "list[Answer]":
    """The answers of a model that lies."""
    for answer in answers:
        if lie == "parallel calls":
            answer.calls = answer.calls[:1]
        elif lie == "seed" and not answer.text.startswith("{"):
            by = next(_turns) % max(len(answer.pieces), 1)
            answer.pieces = answer.pieces[by:] + answer.pieces[:by]
            answer.text = "".join(answer.pieces)
        elif lie == "cut is told" and answer.finish == "length":
            answer.finish = "stop"
    return answers


def at_once(answers: "list[Answer]") -> None:
    """Make answers that come in one piece, whatever the stream looks like."""
    for answer in answers:
        answer.pieces = ["".join(answer.pieces)]
