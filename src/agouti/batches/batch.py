"""What a batch gives: its rows, read when they are wanted, and what it came to."""

import json
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..core.errors import RequestError
from ..forms.build import Misfit
from ..tables.table import SUFFIXES, Table, check_suffix
from .export import result_lines
from .file_formats import vector_of, written
from .in_memory import Memory
from .result_file import Results


class BatchRow(Struct, frozen=True, kw_only=True):
    """A row, and what came of it.

    Attributes:
        key: what its key column holds; without one its number.
        line: where it begins in its file.
        row: its columns.
        answer: the text that was answered.
        value: what was read of it, where a form was asked for: a value of that type.
        vector: its vector, where vectors were asked for.
        error: why it has none of these; empty where it has.
        response: the whole reply as an OpenAI-compatible batch has it, where the row was a line of one.
        finish_reason, model, input_tokens, output_tokens, cost, currency, seconds: of the reply; of vectors that were
            asked for together, tokens and cost stand with the first.
        cached: it was answered from the cache.
        mended: what was mended in the answer.
    """

    key: Any
    line: int | None = None
    row: dict[str, Any] = {}
    answer: str | None = None
    value: Any = None
    vector: list[float] | None = None
    error: str = ""
    response: dict[str, Any] | None = None
    finish_reason: str | None = None
    model: str | None = None
    input_tokens: int | None = None
    output_tokens: int | None = None
    cost: float | None = None
    currency: str | None = None
    seconds: float | None = None
    cached: bool = False
    mended: tuple[str, ...] = ()


class Batch(Table[BatchRow]):
    """What came of the rows.

    ``for row in batch`` goes through them, those of earlier runs on the same file too; only ``rows`` and ``frame()``
    hold them all.

    Attributes:
        answered: have an answer, of this run or an earlier one.
        done: answered by this run.
        failed: have an error, of this run or an earlier one.
        failed_now: of those, how many were asked by this run.
        already_done: were there before.
        left: have no result: a batch that was handed over has ended without them.
        costs: what this run has cost, by currency, as far as it is known.
        costs_in_all: the same of all runs that have written this file.
        kinds: of all that failed, how many by kind: ``{"RateLimited": 3}``.
        cut: answers that end at their cap.
        rate: rows a second of this run.
        seconds: how long it took.
        failures: the first few rows of this run that failed: the line of each, and why.
        out: the file of results.
        warnings: what should be known of it, in words.
        stopped: in a report of a run that was stopped: what has stopped it.
    """

    def __init__(
        self,
        results: Results | Memory,
        *,
        done: int,
        failed: int,
        failed_now: int,
        remaining: int,
        found: int,
        costs: dict[str, float],
        costs_in_all: dict[str, float],
        kinds: dict[str, int],
        cut: int,
        seconds: float,
        names: list[str],
        failures: tuple[tuple[int, str], ...] = (),
        remarks: tuple[str, ...] = (),
        read: Callable[[Any], Any] | None = None,
        stopped: str = "",
    ) -> None:
        self._results = results
        self._read = read
        self._names = names
        self.done = done
        self.failed = failed
        self.failed_now = failed_now
        self.left = remaining
        self.already_done = found
        self.costs = costs
        self.costs_in_all = costs_in_all
        self.kinds = kinds
        self.cut = cut
        self.rate = (done + failed_now) / seconds if seconds > 0 else 0.0
        self.seconds = seconds
        self.failures = failures
        self.warnings = remarks
        self.stopped = stopped
        self.out: Path | None = results.out if isinstance(results, Results) else None

    def __repr__(self) -> str:
        where = f", out={str(self.out)!r}" if self.out is not None else ""
        return (
            f"Batch(done={self.done}, failed={self.failed}, already_done={self.already_done}, left={self.left}{where})"
        )

    @property
    def answered(self) -> int:
        """How many have an answer."""
        return self.done + self.already_done - (self.failed - self.failed_now)

    @property
    def rows(self) -> tuple[BatchRow, ...]:  # type: ignore[override]
        """All rows."""
        return tuple(self)

    def __iter__(self) -> Iterator[BatchRow]:
        for line in self._lines():
            try:
                known = msgspec.json.decode(line)
            except (msgspec.DecodeError, UnicodeDecodeError):
                known = json.loads(line)
            if "vector" in known:
                known["vector"] = vector_of(known)
            row = msgspec.convert(known, BatchRow)
            if self._read is not None and row.value is not None:
                with suppress(Misfit):  # of a run that asked for another one, which was kept
                    row = replace(row, value=self._read(row.value))
            yield row

    def __len__(self) -> int:
        return sum(1 for _ in self._lines())

    def __getitem__(self, number: int) -> BatchRow:
        return self.rows[number]

    def _lines(self) -> Iterator[bytes]:
        if isinstance(self._results, Memory) or self.out is None:
            yield from self._results.lines()
            return
        if self.out.suffix.lower() != ".jsonl":
            yield from result_lines(self.out)
            return
        with self.out.open("rb") as file:
            yield from file

    def report(self, path: Any) -> None:
        """Write what became of the run to a file: .json, or .html, a page with a figure that needs no network.

        Raises:
            RequestError: the suffix is neither, or the file cannot be written.
        """
        from .report import save

        save(self, Path(path))

    def save(self, path: Any, *, quote_formulas: bool = False) -> None:
        """Write the rows to a file: .csv, .jsonl or .parquet.

        Args:
            quote_formulas: cells of .csv that a spreadsheet would take for formulas get a ' in front.
        """
        suffix = check_suffix(path, SUFFIXES)
        try:
            written(Path(path), suffix, self._lines, self._names, quote_formulas=quote_formulas)
        except OSError as error:
            raise RequestError(
                f"{path} cannot be written ({error.strerror or error})",
                hint="Name a file in a folder that you can write to.",
            ) from None

    def _columns(self) -> list[str]:
        return list(BatchRow.__struct_fields__)

    if not TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            from .._former import attribute

            return attribute(self, name)


class BatchPlan(Struct, frozen=True, kw_only=True):
    """What a batch is likely to take; nothing was sent.

    Attributes:
        rows: how many there are.
        to_ask: how many of them have no result yet.
        unusable: how many cannot be asked.
        input_tokens: of the prompts, estimated.
        output_tokens: of the answers: as many as those that are there have on average, or else at most; `None` where
            neither is known.
        at_most: whether those of the answers are the most that there can be.
        cost, currency: at the price of the entry; `None` where it is not known.
        seconds: how long it takes at least under the limits of the entries; `None` where there are none.
        example: the first prompt, as it would be asked.
    """

    rows: int
    to_ask: int
    unusable: int
    input_tokens: int
    output_tokens: int | None
    at_most: bool
    cost: float | None
    currency: str | None
    seconds: float | None
    example: str
