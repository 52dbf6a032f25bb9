"""What the answers of a comparison amount to: for each model, between two models, and prompt by prompt.

Repetitions of one prompt are averaged first, so that intervals are over prompts: forty answers to four prompts say
little more of a fifth prompt than four do. Checks that an answer passes or not have one kind of interval, scores of a
judge and what is measured another, whatever values come.
"""

from collections.abc import Iterable, Sequence
from itertools import combinations
from typing import Literal, Protocol, TypeAlias

from msgspec import Struct

from ...core.canonical.chat import Json
from ...tables.statistics import Estimate, difference_over, mean, mean_over, quantile, share_over, spread
from ...tables.table import Table
from .rows import ComparedAnswer, JudgedPair, parameters_text

_SCORED = frozenset({"judge"})
_SCORE_STEP = 0.1


class ModelSummary(Struct, frozen=True, kw_only=True):
    """What the answers of one model with one set of parameters amount to; intervals are over prompts, for 95 %.

    Attributes:
        label, parameters: which.
        answers, errors, cut: how many came, failed, and were cut off by a cap.
        first_token, seconds, tokens_per_second, output_tokens, reasoning_tokens, cached_tokens: means.
        seconds_median, seconds_p95: of all answers: half took no longer, and nineteen of twenty.
        cost: of all answers, and of those that failed as far as it is known; `None` where that of an answer is not.
        judge_cost: what judging them cost, in ``judge_currency``.
        distinct: different answers to one prompt, as a share of its repetitions: 1 where none came twice.
        similarity: how alike the answers to one prompt are on average, from 0 to 1.
        checks: by name, the share that passed, or the mean score; an answer that failed has passed nothing.
    """

    label: str
    parameters: dict[str, Json]
    answers: int
    errors: int
    cut: int
    first_token: Estimate | None
    seconds: Estimate | None
    seconds_median: float | None
    seconds_p95: float | None
    tokens_per_second: Estimate | None
    output_tokens: Estimate | None
    reasoning_tokens: Estimate | None
    cached_tokens: Estimate | None
    cost: float | None
    currency: str | None
    judge_cost: float | None
    judge_currency: str | None
    distinct: float | None
    similarity: float | None
    checks: dict[str, Estimate]


class ModelDifference(Struct, frozen=True, kw_only=True):
    """How two models differ on the prompts that both have answered, the first less the other one.

    Attributes:
        label, other: the models.
        parameters: what both were asked with.
        measure: a check, ``seconds``, ``output_tokens`` or ``cost``.
        difference: the mean over prompts, with its interval; one that holds nothing between its ends but values on
            one side of 0 is a difference that is more than chance.
        prompts: how many both have answered.
    """

    label: str
    other: str
    parameters: dict[str, Json]
    measure: str
    difference: Estimate
    prompts: int

    @property
    def clear(self) -> bool:
        """Whether it is more than chance."""
        low, high = self.difference.low, self.difference.high
        return low is not None and high is not None and (low > 0 or high < 0)


class PromptSummary(Struct, frozen=True, kw_only=True):
    """The answers of one model to one prompt.

    Attributes:
        prompt, question: which.
        label, parameters: of the model.
        answers, errors: how many came, and failed.
        seconds, output_tokens: means.
        cost: of all of them.
        checks: by name, the share that passed, or the mean score.
    """

    prompt: int
    question: str
    label: str
    parameters: dict[str, Json]
    answers: int
    errors: int
    seconds: float | None
    output_tokens: float | None
    cost: float | None
    currency: str | None
    checks: dict[str, float]


def summaries(
    rows: Iterable[ComparedAnswer], similarities: "dict[tuple[str, str, int], float] | None"
) -> Iterable[ModelSummary]:
    """A summary for each model with each set of parameters."""
    groups = _by_model(rows)
    names = _names(row for group in groups.values() for row in group)
    for (label, parameters), group in groups.items():
        yield _summary(label, parameters, group, names, similarities)


def _names(rows: Iterable[ComparedAnswer]) -> list[str]:
    """The checks of a comparison; a model that has answered nothing has them too, and passed none."""
    return list(dict.fromkeys(name for row in rows if row.error is None for name in row.checks))


def _by_model(rows: Iterable[ComparedAnswer]) -> dict[tuple[str, str], list[ComparedAnswer]]:
    groups: dict[tuple[str, str], list[ComparedAnswer]] = {}
    for row in rows:
        groups.setdefault((row.label, parameters_text(row.parameters)), []).append(row)
    return groups


def _summary(
    label: str,
    parameters: str,
    group: list[ComparedAnswer],
    names: list[str],
    similarities: "dict[tuple[str, str, int], float] | None",
) -> ModelSummary:
    good = [row for row in group if row.error is None]
    cells: dict[int, list[str]] = {}
    for row in good:
        cells.setdefault(row.prompt, []).append(row.text)
    repeated = {prompt: texts for prompt, texts in cells.items() if len(texts) > 1}
    if similarities is None:
        each_looks_at = max(2000 // max(len(repeated), 1), 10)
        likeness = [spread(texts, each_looks_at) for texts in repeated.values()]
    else:
        likeness = [similarities.get((label, parameters, prompt)) for prompt in repeated]
    known = mean([each for each in likeness if each is not None])
    distinct = mean([len(set(texts)) / len(texts) for texts in repeated.values()])
    costs = [row.cost for row in group if row.error is None or row.cost is not None]
    seconds = [row.seconds for row in good if row.seconds is not None]
    return ModelSummary(
        label=label,
        parameters=group[0].parameters,
        answers=len(good),
        errors=len(group) - len(good),
        cut=sum(row.finish_reason == "length" for row in good),
        first_token=_mean_of(good, "first_token"),
        seconds=_mean_of(good, "seconds"),
        seconds_median=quantile(seconds, 0.5),
        seconds_p95=quantile(seconds, 0.95),
        tokens_per_second=_mean_of(good, "tokens_per_second"),
        output_tokens=_mean_of(good, "output_tokens"),
        reasoning_tokens=_mean_of(good, "reasoning_tokens"),
        cached_tokens=_mean_of(good, "cached_tokens"),
        cost=_sum(costs),
        currency=next((row.currency for row in group if row.currency is not None), None),
        judge_cost=_sum([row.judge_cost for row in group if row.judge_cost is not None]),
        judge_currency=next((row.judge_currency for row in group if row.judge_currency is not None), None),
        distinct=None if distinct is None else distinct.value,
        similarity=None if known is None else known.value,
        checks={name: each for name in names if (each := _passed(group, name)) is not None},
    )


def _sum(costs: Sequence[float | None]) -> float | None:
    known = [each for each in costs if each is not None]
    return sum(known) if known and len(known) == len(costs) else None


def _by_prompt(rows: Iterable[ComparedAnswer], name: str) -> dict[int, list[float]]:
    """The values of a measure or a check, by prompt; what is missing is missing."""
    found: dict[int, list[float]] = {}
    for row in rows:
        value = getattr(row, name) if name in ComparedAnswer.__struct_fields__ else _check(row, name)
        if value is not None:
            found.setdefault(row.prompt, []).append(value)
    return found


def _check(row: ComparedAnswer, name: str) -> float | None:
    """What an answer has in a check: one that failed has passed nothing; a check that broke, or no verdict, is none."""
    if row.error is not None and name not in _SCORED:
        return 0.0
    return row.checks.get(name)


def _mean_of(rows: list[ComparedAnswer], name: str) -> Estimate | None:
    return mean_over(list(_by_prompt(rows, name).values()), within=(0.0, float("inf")))


def _passed(rows: list[ComparedAnswer], name: str) -> Estimate | None:
    groups = list(_by_prompt(rows, name).values())
    return mean_over(groups, step=_SCORE_STEP, within=(0.0, 1.0)) if name in _SCORED else share_over(groups)


def differences(rows: Iterable[ComparedAnswer]) -> Iterable[ModelDifference]:
    """How each two models differ, paired by prompt, for each set of parameters that both were asked with."""
    groups = _by_model(rows)
    for (label, parameters), (second_label, second_group) in combinations(groups, 2):
        if label == second_label or parameters != second_group:
            continue
        one, two = groups[label, parameters], groups[second_label, second_group]
        names = _names((*one, *two))
        for name in (*names, "seconds", "output_tokens", "cost"):
            first, second = ([row for row in each if name in names or row.error is None] for each in (one, two))
            if name == "cost" and len({row.currency for row in (*first, *second)}) != 1:
                continue  # amounts of different currencies are never set against each other
            first_values, second_values = _by_prompt(first, name), _by_prompt(second, name)
            both = [prompt for prompt in first_values if prompt in second_values]
            paired = [
                sum(first_values[each]) / len(first_values[each]) - sum(second_values[each]) / len(second_values[each])
                for each in both
            ]
            estimate = difference_over(paired, shares=name in names and name not in _SCORED)
            if estimate is not None:
                yield ModelDifference(
                    label=label,
                    other=second_label,
                    parameters=one[0].parameters,
                    measure=name,
                    difference=estimate,
                    prompts=len(both),
                )


class Preference(Struct, frozen=True, kw_only=True):
    """How often a judge took one model's answers for the better ones, of pairs with another model's.

    Attributes:
        label, other, parameters: which.
        won: the share that the first one won, a draw half; its interval is over prompts.
        pairs: how many had a verdict.
    """

    label: str
    other: str
    parameters: dict[str, Json]
    won: Estimate
    pairs: int


def preferences(pairs: Iterable[JudgedPair]) -> Iterable[Preference]:
    """Who wins against whom."""
    groups: dict[tuple[str, str, str], list[JudgedPair]] = {}
    for each in pairs:
        if each.won is not None:
            groups.setdefault((each.label, each.other, parameters_text(each.parameters)), []).append(each)
    for (label, second_label, _), group in groups.items():
        prompts: dict[int, list[float]] = {}
        for each in group:
            prompts.setdefault(each.prompt, []).append(each.won or 0.0)
        won = share_over(list(prompts.values()))
        if won is not None:
            yield Preference(label=label, other=second_label, parameters=group[0].parameters, won=won, pairs=len(group))


def by_prompt(rows: Iterable[ComparedAnswer]) -> Iterable[PromptSummary]:
    """The answers prompt by prompt, each model's."""
    cells: dict[tuple[int, str, str], list[ComparedAnswer]] = {}
    for row in rows:
        cells.setdefault((row.prompt, row.label, parameters_text(row.parameters)), []).append(row)
    names = _names(row for group in cells.values() for row in group)
    for (prompt, label, _), group in sorted(cells.items(), key=lambda item: item[0][0]):
        good = [row for row in group if row.error is None]
        checks = {name: values for name in names if (values := _by_prompt(group, name).get(prompt))}
        yield PromptSummary(
            prompt=prompt,
            question=group[0].question,
            label=label,
            parameters=group[0].parameters,
            answers=len(good),
            errors=len(group) - len(good),
            seconds=_plain_mean([row.seconds for row in good]),
            output_tokens=_plain_mean([row.output_tokens for row in good]),
            cost=_sum([row.cost for row in group if row.error is None or row.cost is not None]),
            currency=next((row.currency for row in group if row.currency is not None), None),
            checks={name: sum(values) / len(values) for name, values in checks.items()},
        )


def _plain_mean(values: Sequence[float | None]) -> float | None:
    known = [each for each in values if each is not None]
    return sum(known) / len(known) if known else None


FigureKind: TypeAlias = Literal["time_cost", "spread"]


FIGURES: tuple[FigureKind, ...] = ("time_cost", "spread")


class ComparisonFacts(Protocol):
    """What pages and figures show of a comparison."""

    @property
    def rows(self) -> tuple[ComparedAnswer, ...]: ...

    summary: Table[ModelSummary]
    differences: Table[ModelDifference]
    prompts: Table[PromptSummary]
    preferences: Table[Preference]
    cost: dict[str, float]
    warnings: tuple[str, ...]
