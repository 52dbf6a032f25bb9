"""Results of a comparison: a row for each answer, and what they amount to for each model."""

import os
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

import msgspec
from msgspec import Struct

from ..core.chat import Json
from ..core.errors import RequestError
from ..core.statistics import Estimate, mean, rate, spread
from ..core.suggest import near_hint
from ..tables import SUFFIXES, Table

if TYPE_CHECKING:
    from matplotlib.figure import Figure

FigureKind: TypeAlias = Literal["time_cost", "spread"]
FIGURES: tuple[FigureKind, ...] = ("time_cost", "spread")


class ComparedAnswer(Struct, frozen=True, kw_only=True):
    """One answer of one model to one prompt.

    Attributes:
        label, provider, name: of the model.
        prompt: number of the prompt, from 0.
        question: its text.
        repeat: which repetition it is, from 0.
        parameters: what this answer was asked with.
        text: the answer.
        first_token, seconds: from when it was sent to the first piece of text, and to the whole answer.
        waited: seconds before that, for limits and after attempts that failed.
        tokens_per_second: of the output, from the first piece on.
        input_tokens, output_tokens: as the provider counts.
        cost: in ``currency``; `None` where the entry has no price.
        finish_reason: ``stop``, ``length``, ...
        checks: by name, 1 passed and 0 failed, or a share between them.
        reason, judge_spread: of the model that judges: its words, and the deviation of its scores.
        judge_cost, judge_currency: what it cost.
        error: why there is no answer.
    """

    label: str
    provider: str
    name: str
    prompt: int
    question: str
    repeat: int
    parameters: dict[str, Json] = {}
    text: str = ""
    first_token: float | None = None
    seconds: float | None = None
    waited: float | None = None
    tokens_per_second: float | None = None
    input_tokens: int | None = None
    output_tokens: int | None = None
    cost: float | None = None
    currency: str | None = None
    finish_reason: str | None = None
    checks: dict[str, float] = {}
    reason: str | None = None
    judge_spread: float | None = None
    judge_cost: float | None = None
    judge_currency: str | None = None
    error: str | None = None


class ModelSummary(Struct, frozen=True, kw_only=True):
    """What the answers of one model with one set of parameters amount to; intervals hold with 95 % confidence.

    Attributes:
        label, parameters: which.
        answers, errors, cut: how many came, failed, and were cut off by a cap.
        first_token, seconds, tokens_per_second, output_tokens: means.
        cost: of all answers; `None` where one is not known.
        distinct: different answers to one prompt, as a share of its repetitions: 1 where none came twice.
        similarity: how alike the answers to one prompt are on average, from 0 to 1.
        checks: by name, the share that passed.
    """

    label: str
    parameters: dict[str, Json]
    answers: int
    errors: int
    cut: int
    first_token: Estimate | None
    seconds: Estimate | None
    tokens_per_second: Estimate | None
    output_tokens: Estimate | None
    cost: float | None
    currency: str | None
    distinct: float | None
    similarity: float | None
    checks: dict[str, Estimate]


class Comparison(Table[ComparedAnswer]):
    """Answers of several models to the same prompts.

    Attributes:
        rows: the answers, by model, parameters, prompt and repetition.
        summary: a row for each model with each set of parameters.
        cost: by currency, of all answers and of the model that judges; what is not known is left out.
        remarks: what is odd about the results, such as a check that nothing has passed.
    """

    def __init__(
        self,
        rows: Iterable[ComparedAnswer],
        similarities: "dict[tuple[str, str, int], float] | None" = None,
        remarks: tuple[str, ...] = (),
    ) -> None:
        super().__init__(tuple(rows))
        self.summary: Table[ModelSummary] = Table(tuple(_summaries(self.rows, similarities)))
        self.cost = costs_of(self.rows)
        self.remarks = (*remarks, *_remarks(self.rows))

    def __repr__(self) -> str:
        labels = dict.fromkeys(row.label for row in self.rows)
        return f"Comparison({len(self.rows)} answers of {', '.join(labels)})"

    def _repr_markdown_(self) -> str:
        from ..notebook import markdown_table

        records = [_shown(row) for row in self.summary]
        return markdown_table(list(dict.fromkeys(name for record in records for name in record)), records)

    def figure(self, kind: FigureKind = "time_cost") -> "Figure":
        """A Matplotlib figure: ``time_cost`` (seconds against cost), or ``spread`` (by temperature).

        Raises:
            RequestError: there is no such figure.
            ConfigError: Matplotlib is not installed.
        """
        if kind not in FIGURES:
            raise RequestError(f"there is no figure {kind!r}", hint=near_hint(kind, FIGURES, "figure"))
        from .compare_figures import draw

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
        names = [name for name in ComparedAnswer.__struct_fields__ if name not in ("checks", "parameters")]
        return [*names, *_flat_names(self.rows)]

    def records(self) -> list[dict[str, Any]]:
        """The rows as plain dicts: a column for each parameter and each check."""
        return [_flat(row) for row in self.rows]

    def _as_file(self, suffix: str) -> bytes:
        if suffix == ".html":
            from .compare_page import page

            return page(self).encode()
        if suffix == ".png":
            from ..figures import as_png

            return as_png(self.figure("time_cost"))
        return super()._as_file(suffix)


def _flat_names(rows: Iterable[ComparedAnswer]) -> list[str]:
    names = {f"parameter_{name}": None for row in rows for name in row.parameters}
    return [*names, *{f"check_{name}": None for row in rows for name in row.checks}]


def _flat(row: ComparedAnswer) -> dict[str, Any]:
    flat = msgspec.to_builtins(row)
    for name, value in flat.pop("parameters").items():
        flat[f"parameter_{name}"] = value
    for name, value in flat.pop("checks").items():
        flat[f"check_{name}"] = value
    result: dict[str, Any] = flat
    return result


def parameters_text(parameters: dict[str, Json]) -> str:
    """A set of parameters in a few words.

    >>> parameters_text({"temperature": 0.7, "seed": 1})
    'temperature 0.7, seed 1'
    """
    return ", ".join(f"{name} {value}" for name, value in parameters.items())


def _summaries(
    rows: Iterable[ComparedAnswer], similarities: "dict[tuple[str, str, int], float] | None"
) -> Iterable[ModelSummary]:
    groups: dict[tuple[str, str], list[ComparedAnswer]] = {}
    for row in rows:
        groups.setdefault((row.label, parameters_text(row.parameters)), []).append(row)
    for (label, parameters), group in groups.items():
        yield _summary(label, parameters, group, similarities)


def _summary(
    label: str,
    parameters: str,
    group: list[ComparedAnswer],
    similarities: "dict[tuple[str, str, int], float] | None",
) -> ModelSummary:
    good = [row for row in group if row.error is None]
    cells: dict[int, list[str]] = {}
    for row in good:
        cells.setdefault(row.prompt, []).append(row.text)
    repeated = {prompt: texts for prompt, texts in cells.items() if len(texts) > 1}
    if similarities is None:
        likeness = [spread(texts) for texts in repeated.values()]
    else:
        likeness = [similarities.get((label, parameters, prompt)) for prompt in repeated]
    known = mean([each for each in likeness if each is not None])
    distinct = mean([len(set(texts)) / len(texts) for texts in repeated.values()])
    costs = [row.cost for row in good]
    names = dict.fromkeys(name for row in good for name in row.checks)
    return ModelSummary(
        label=label,
        parameters=group[0].parameters,
        answers=len(good),
        errors=len(group) - len(good),
        cut=sum(row.finish_reason == "length" for row in good),
        first_token=_mean_of(good, "first_token"),
        seconds=_mean_of(good, "seconds"),
        tokens_per_second=_mean_of(good, "tokens_per_second"),
        output_tokens=_mean_of(good, "output_tokens"),
        cost=None if None in costs or not costs else sum(each for each in costs if each is not None),
        currency=next((row.currency for row in good if row.currency is not None), None),
        distinct=None if distinct is None else distinct.value,
        similarity=None if known is None else known.value,
        checks={name: each for name in names if (each := _passed(good, name)) is not None},
    )


def _mean_of(rows: list[ComparedAnswer], name: str) -> Estimate | None:
    return mean([value for row in rows if (value := getattr(row, name)) is not None])


def _passed(rows: list[ComparedAnswer], name: str) -> Estimate | None:
    values = [row.checks[name] for row in rows if name in row.checks]
    if set(values) <= {0.0, 1.0}:
        return rate(int(sum(values)), len(values))
    return mean(values)


def costs_of(rows: Iterable[ComparedAnswer]) -> dict[str, float]:
    """What answers and judgements cost, by currency; what is not known is left out."""
    costs: dict[str, float] = {}
    for row in rows:
        for spent, currency in ((row.cost, row.currency), (row.judge_cost, row.judge_currency)):
            if spent is not None and currency is not None:
                costs[currency] = costs.get(currency, 0.0) + spent
    return costs


def _remarks(rows: tuple[ComparedAnswer, ...]) -> Iterable[str]:
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


def _shown(row: ModelSummary) -> dict[str, Any]:
    """A row as a notebook shows it."""
    cost = "" if row.cost is None else f"{row.cost:.6f} {row.currency or ''}".rstrip()
    parameters = ", ".join(f"{name} {value}" for name, value in row.parameters.items())
    shown: dict[str, Any] = {"model": row.label, "parameters": parameters, "answers": row.answers}
    shown |= {"errors": row.errors or None, "cut": row.cut or None, "cost": cost}
    means = (("seconds", row.seconds), ("tokens", row.output_tokens), *row.checks.items())
    return shown | {name: round(each.value, 3) for name, each in means if each is not None}
