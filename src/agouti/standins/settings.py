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
    """

    seed: int = 1
    pace: float = 0.0
    _ids: Iterator[int] = field(default_factory=lambda: itertools.count(1))

    def next_id(self, kind: str) -> str:
        """An identifier for a reply."""
        return f"{kind}-{next(self._ids):06d}"
