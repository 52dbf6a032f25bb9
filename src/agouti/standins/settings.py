"""How the stand-ins behave."""

import itertools
from collections.abc import Iterator
from dataclasses import dataclass, field


@dataclass
class Settings:
    """How the stand-ins behave.

    Attributes:
        seed: the same seed, the same answers.
        pace: seconds between the tokens of an answer.
        deferred: seconds that a deferred batch takes.
    """

    seed: int = 1
    pace: float = 0.0
    deferred: float = 0.3
    _known: set[str] = field(default_factory=set)
    _turns: Iterator[int] = field(default_factory=itertools.count)
    _ids: Iterator[int] = field(default_factory=lambda: itertools.count(1))

    def next_id(self, kind: str) -> str:
        """An identifier for a reply."""
        return f"{kind}-{next(self._ids):06d}"

    def next_turn(self) -> int:
        """A number for an answer that is to vary: three of them, in turn."""
        return next(self._turns) % 3

    def remembers(self, text: str) -> bool:
        """Whether a text has come before; from now on it has."""
        known = text in self._known
        self._known.add(text)
        return known
