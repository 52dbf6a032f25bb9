"""Vectors of rows: asked for in portions; a text that the provider refuses costs only itself."""

import base64
from typing import Any

from ..calls.calls import Calls
from ..core.errors import AgoutiError, ContextOverflow, ReplyUnreadable, RequestError, RequestRefused
from ..embeddings.embeddings import Embeddings
from ..engine.attempts.error_policy import HOLDS_FOR_ALL
from ..engine.call import Call
from ..engine.effects import Steps
from ..tables.row_files import Row
from .prompts import RowPrompt, RowPrompts
from .types import Unit

PORTION = 128
"""Rows that are asked for together."""


class VectorsAsked:
    """A vector for each row.

    Args:
        lists: write vectors as lists of numbers; as base64 of 32-bit floats otherwise, which takes a quarter.
    """

    def __init__(
        self, calls: Calls, label: str, prompts: RowPrompts, dimensions: int | None, options: Any, *, lists: bool
    ) -> None:
        self._calls = calls
        self._label = label
        self._prompts = prompts
        self._dimensions = dimensions
        self._options = options
        self._lists = lists
        price = calls.target(label).price
        self._currency = None if price is None else price.currency
        self._size: int | None = None

    def prompt(self, row: Row) -> RowPrompt:
        return self._prompts.of(row)

    def call(self, prompt: RowPrompt) -> Call:
        return self._calls.chat(self._label, prompt.text, {})

    def answer_of(self, prompt: RowPrompt) -> Steps[dict[str, Any]]:
        raise NotImplementedError  # rows are asked together

    def together(self, units: list[Unit]) -> Steps[list[dict[str, Any] | Exception]]:
        """What came for each of these rows."""
        outcomes: list[dict[str, Any] | Exception] = [RequestError("it was not asked for")] * len(units)
        waiting = [list(range(len(units)))]
        while waiting:
            positions = waiting.pop()
            texts = [units[position].prompt.text for position in positions]
            error: AgoutiError | None = None
            try:
                embeddings = yield from self._calls.embedding(
                    self._label, texts, dimensions=self._dimensions, concurrency=1, options=self._options
                )
            except AgoutiError as failed:
                error, embeddings = failed, failed.partial
            if isinstance(embeddings, Embeddings) and len(embeddings):
                self._note(outcomes, embeddings, units, positions)
                answered = frozenset(embeddings.texts)
                positions = [position for position in positions if units[position].prompt.text not in answered]
            if error is None or not positions:
                continue
            is_single = len({units[position].prompt.text for position in positions}) == 1
            if isinstance(error, (RequestRefused, ContextOverflow)) and not is_single:
                half = (len(positions) + 1) // 2
                waiting += [positions[half:], positions[:half]]
            else:
                for position in positions:
                    outcomes[position] = error
            if isinstance(error, HOLDS_FOR_ALL):
                break
        return outcomes

    def _note(
        self,
        outcomes: list[dict[str, Any] | Exception],
        embeddings: Embeddings,
        units: list[Unit],
        positions: list[int],
    ) -> None:
        size = embeddings.dimensions
        self._size = self._size or size
        vectors = dict(zip(embeddings.texts, embeddings.vectors, strict=True))
        first = True
        for position in positions:
            text = units[position].prompt.text
            vector = vectors.get(text)
            if vector is None:
                continue
            if size != self._size:
                outcomes[position] = ReplyUnreadable(f"its vector has {size} numbers, others have {self._size}")
                continue
            facts: dict[str, Any] = {
                "text": text,
                "vector": vector.tolist() if self._lists else base64.b64encode(vector.astype("<f4").tobytes()).decode(),
                "label": self._label,
                "model": embeddings.model,
            }
            if first:  # what all of them took stands with the first
                facts |= {
                    "input_tokens": embeddings.usage.input_tokens,
                    "cost": embeddings.cost,
                    "currency": self._currency,
                }
                first = False
            outcomes[position] = {name: value for name, value in facts.items() if value is not None}
