"""What servers demand of a conversation with tools and thinking, whatever the format: the same for all stand-ins."""

import hashlib
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from .auth import Refusal

ALLOWED_ID = re.compile(r"[a-zA-Z0-9_-]{1,64}")


@dataclass(frozen=True)
class Turn:
    """A turn of a conversation, as far as its calls matter.

    Attributes:
        calls: identifier and function of each call that it asks for.
        results: identifier and function of each call that it answers; what the format does not say is `None`.
    """

    calls: Sequence[tuple[str | None, str]] = ()
    results: Sequence[tuple[str | None, str | None]] = ()


def pairing_complaint(turns: Sequence[Turn], *, by_name: bool = False) -> str:
    """What is wrong with the calls and results of a conversation; empty where nothing is.

    Args:
        by_name: the format has no identifiers: results follow their calls in order, with the same names.
    """
    seen: set[str | None] = set()
    waiting: list[tuple[str | None, str]] = []
    for turn in turns:
        if turn.results:
            if len(turn.results) > len(waiting):
                return "a result answers no call of the turn before it, or a call is answered twice"
            for identifier, name in turn.results:
                match = next(
                    (each for each in waiting if (name if by_name else identifier) == each[1 if by_name else 0]), None
                )
                if match is None:
                    return f"the result of {name if by_name else identifier} answers no call of the turn before it"
                waiting.remove(match)
        elif waiting:
            return f"the call {waiting[0][0] or waiting[0][1]} has no result directly behind it"
        if turn.calls:
            if waiting:
                return f"the call {waiting[0][0] or waiting[0][1]} has no result directly behind it"
            for identifier, name in turn.calls:
                if not by_name and identifier in seen:
                    return f"identifiers of calls must be unique: {identifier} comes twice"
                seen.add(identifier)
                waiting.append((identifier, name))
    return f"the call {waiting[0][0] or waiting[0][1]} has no result directly behind it" if waiting else ""


def under_way(questions: Sequence[bool]) -> int:
    """The place of the last question; only what has been said since then is the turn under way."""
    return max((place for place, question in enumerate(questions) if question), default=-1)


def signature(thinking: str) -> str:
    """The signature of a piece of thinking: it goes back with it, or it is worth nothing."""
    return "sig-" + hashlib.sha256(thinking.encode()).hexdigest()[:24]


def is_signed(thinking: Any, signed: Any) -> bool:
    """Whether thinking has come back as it was given."""
    return isinstance(thinking, str) and signed == signature(thinking)


def blank(text: Any) -> bool:
    """Whether a text says nothing."""
    return not isinstance(text, str) or not text.strip()


def refusal(message: str) -> Refusal:
    """A request that is not as the format demands."""
    return Refusal(400, message)


def first_unknown(body: Mapping[str, Any], known: frozenset[str]) -> str | None:
    """The first field that a format does not have."""
    return next((name for name in body if name not in known), None)
