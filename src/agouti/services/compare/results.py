"""Results of a comparison: a row for each answer, and what they amount to for each model."""

import os
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

import msgspec

from ...core.errors import RequestError
from ...core.text.suggest import near_hint
from ...tables.table import SUFFIXES, Table
from .rows import ComparedAnswer, JudgedPair
from .summaries import (
    FIGURES,
    FigureKind,
    ModelDifference,
    ModelSummary,
    Preference,
    PromptSummary,
    by_prompt,
    differences,
    preferences,
    summaries,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure


class Comparison(Table[ComparedAnswer]):
    """Answers of several models to the same prompts.

    Attributes:
        rows: the answers, by model, parameters, prompt and repetition.
        summary: a row for each model with each set of parameters.
        cost: by currency, of all answers and of the model that judges; what is not known is left out.
        differences: each two models, paired by prompt: checks, seconds, tokens, cost, each with its interval.
        prompts: a row for each prompt and model.
        pairs, preferences: pairs of answers that a judge has seen in both orders, and who won how often.
        warnings: what is odd about the results, such as a check that nothing has passed.
    """

    def __init__(
        self,
        rows: Iterable[ComparedAnswer],
        similarities: "dict[tuple[str, str, int], float] | None" = None,
        remarks: tuple[str, ...] = (),
        pairs: Iterable[JudgedPair] = (),
    ) -> None:
        super().__init__(tuple(rows))
        self.summary: Table[ModelSummary] = Table(tuple(summaries(self.rows, similarities)))
        self.differences: Table[ModelDifference] = Table(tuple(differences(self.rows)))
        self.prompts: Table[PromptSummary] = Table(tuple(by_prompt(self.rows)))
        self.pairs: Table[JudgedPair] = Table(tuple(pairs))
        self.preferences: Table[Preference] = Table(tuple(preferences(self.pairs)))
        self.cost = costs_of(self.rows, self.pairs)
        self.warnings = (*remarks, *_remarks(self.rows, self.pairs))

    def __repr__(self) -> str:
        labels = dict.fromkeys(row.label for row in self.rows)
        return f"Comparison({len(self.rows)} answers of {', '.join(labels)})"

    def _repr_markdown_(self) -> str:
        from ...tables.notebook import markdown_table

        records = [_summary_cells(row) for row in self.summary]
        return markdown_table(list(dict.fromkeys(name for record in records for name in record)), records)

    def figure(self, kind: FigureKind = "time_cost") -> "Figure":
        """A Matplotlib figure: ``time_cost`` (seconds against cost), or ``spread`` (by temperature).

        Raises:
            RequestError: there is no such figure.
            ConfigError: Matplotlib is not installed.
        """
        if kind not in FIGURES:
            raise RequestError(f"there is no figure {kind!r}", hint=near_hint(kind, FIGURES, "figure"))
        from .figures import draw

        return draw(self, kind)

    def save(self, path: str | os.PathLike[str]) -> None:
        """Write the answers to a file: .csv, .jsonl, .parquet; .html, a page that needs no network; .png, a figure.

        Raises:
            RequestError: the suffix is none of these, or the file cannot be written.
            ConfigError: what writes it is not installed.
        """
        super().save(path)

    def _suffixes(self) -> tuple[str, ...]:
        return (*SUFFIXES, ".html", ".png")

    def _columns(self) -> list[str]:
        names = [name for name in ComparedAnswer.__struct_fields__ if name not in _FLAT]
        return [*names, *_flat_names(self.rows)]

    def records(self) -> list[dict[str, Any]]:
        """The rows as plain dicts: a column for each parameter and each check."""
        return [_flat(row) for row in self.rows]

    def _as_file(self, suffix: str) -> bytes:
        if suffix == ".html":
            from .page import page

            return page(self).encode()
        if suffix == ".png":
            from ...tables.figures import as_png

            return as_png(self.figure("time_cost"))
        return super()._as_file(suffix)

    if not TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            from ..._former import attribute

            return attribute(self, name)


def _flat_names(rows: Iterable[ComparedAnswer]) -> list[str]:
    every = list(rows)
    names = [f"{prefix}_{name}" for field, prefix in _FLAT.items() for row in every for name in getattr(row, field)]
    return list(dict.fromkeys(names))


def _flat(row: ComparedAnswer) -> dict[str, Any]:
    flat = msgspec.to_builtins(row)
    for field, prefix in _FLAT.items():
        flat |= {f"{prefix}_{name}": value for name, value in flat.pop(field).items()}
    result: dict[str, Any] = flat
    return result


_FLAT = {"parameters": "parameter", "checks": "check", "check_errors": "check_error"}
"""Fields with several values, and what the column of each is called."""


def costs_of(rows: Iterable[ComparedAnswer], pairs: Iterable[JudgedPair] = ()) -> dict[str, float]:
    """What answers and judgements cost, by currency; what is not known is left out."""
    costs: dict[str, float] = {}
    spent = [each for row in rows for each in ((row.cost, row.currency), (row.judge_cost, row.judge_currency))]
    for amount, currency in (*spent, *[(each.cost, each.currency) for each in pairs]):
        if amount is not None and currency is not None:
            costs[currency] = costs.get(currency, 0.0) + amount
    return costs


def _remarks(rows: tuple[ComparedAnswer, ...], pairs: Iterable[JudgedPair]) -> Iterable[str]:
    good = [row for row in rows if row.error is None]
    for name in dict.fromkeys(name for row in good for name in row.checks):
        values = [row.checks[name] for row in good if name in row.checks]
        if not any(values):
            yield f"{name}: none of {len(values)} answers has passed it; is it written as the answers are?"
    for label in dict.fromkeys(row.label for row in rows):
        of_model = [row for row in rows if row.label == label]
        failed = [row.error for row in of_model if row.error is not None]
        if failed:
            yield f"{label}: {len(failed)} of {len(of_model)} answers failed: {failed[0]}"
    for name in dict.fromkeys(name for row in good for name in row.check_errors):
        broken = [row.check_errors[name] for row in good if name in row.check_errors]
        yield f"{name}: it said nothing of {len(broken)} of {len(good)} answers, which count without it: {broken[0]}"
    silent = [row.judge_error for row in good if row.judge_error is not None]
    if silent:
        yield f"judge: no verdict on {len(silent)} of {len(good)} answers: {silent[0]}"
    undecided = [each.error for each in pairs if each.error is not None]
    if undecided:
        yield f"judge: no verdict on {len(undecided)} pairs: {undecided[0]}"


def _summary_cells(row: ModelSummary) -> dict[str, Any]:
    """A row as a notebook shows it."""
    cost = "" if row.cost is None else f"{row.cost:.6f} {row.currency or ''}".rstrip()
    parameters = ", ".join(f"{name} {value}" for name, value in row.parameters.items())
    cells: dict[str, Any] = {"model": row.label, "parameters": parameters, "answers": row.answers}
    cells |= {"errors": row.errors or None, "cut": row.cut or None, "cost": cost}
    measures = (("seconds", row.seconds), ("tokens", row.output_tokens), *row.checks.items())
    return cells | {name: round(each.value, 3) for name, each in measures if each is not None}
