"""Rows of usage reports, and what pages and figures need of a report."""

from datetime import date
from decimal import Decimal
from typing import Any, Literal, Protocol, TypeAlias

import msgspec
from msgspec import Struct

from .budget_status import BudgetStatus

FigureKind: TypeAlias = Literal["cost", "latency"]


FIGURES: tuple[FigureKind, ...] = ("cost", "latency")


class UsageRow(Struct, frozen=True, gc=False):
    """What was used by one group.

    Attributes:
        group: the columns that it is of, such as ``{"day": "2026-11-29", "model": "quill-large"}``.
        calls: requests that were sent; those that were repeated count each time.
        failures: of these, those that failed.
        abandoned: of these, those that were left before their end.
        cached_answers: answers that came from the cache: nothing was sent.
        unsent: attempts that were never sent: there was no key, or no connection.
        input_tokens, output_tokens: as the providers counted.
        cached_tokens, cache_write_tokens: of the input, what came out of the providers' cache and went into it.
        reasoning_tokens: of the output, the thinking.
        cost: by currency; amounts of different currencies are not added up.
        provider_cost: what the providers themselves say that it costs, where they do.
        difference: of those requests, by how much that is more than our price.
        unpriced: requests whose cost is not known; they are in no sum.
        estimated: requests whose tokens are estimated, because they were left before the provider told them.
        median, p95, p99: seconds of answered requests, right to five per cent.
    """

    group: dict[str, str | None]
    calls: int
    failures: int
    abandoned: int
    cached_answers: int
    unsent: int
    input_tokens: int
    output_tokens: int
    cached_tokens: int
    cache_write_tokens: int
    reasoning_tokens: int
    cost: dict[str, Decimal]
    provider_cost: dict[str, Decimal]
    difference: dict[str, Decimal]
    unpriced: int
    estimated: int
    median: float | None
    p95: float | None
    p99: float | None

    @property
    def cached_share(self) -> float | None:
        """The share of the input that came out of the cache."""
        return self.cached_tokens / self.input_tokens if self.input_tokens else None


class PlanUsage(Struct, frozen=True, kw_only=True):
    """How much of a provider's plan is used in the period of the report's last day.

    Attributes:
        provider: its label.
        since, until: the first and the last day of the period.
        tokens: what the plan includes.
        used: tokens of prompts and answers so far; ``expected`` at the end of the period, if it goes on like this.
        fee: what the plan costs.
        overage, expected_overage: what the tokens beyond it cost so far, and at the end.
        currency: of these amounts.
    """

    provider: str
    since: date
    until: date
    tokens: int
    used: int
    expected: int
    fee: float
    overage: float
    expected_overage: float
    currency: str

    @property
    def share(self) -> float:
        """The share of the plan that is used."""
        return self.used / self.tokens


WHY_UNPRICED = "their entries have no price, or they failed after they were sent"
"""Why the cost of a request is not known."""


WHY_ESTIMATED = "they were left before their end, or the provider tells none"
"""Why the tokens of a request are estimated."""


def record_of(row: UsageRow) -> dict[str, Any]:
    """A row as a plain dict."""
    fields = msgspec.structs.asdict(row)
    amounts = {}
    for name in ("cost", "provider_cost", "difference"):
        amounts.update({f"{name}_{currency}": float(amount) for currency, amount in fields.pop(name).items()})
    return {**fields.pop("group"), **fields, **amounts}


class UsageFacts(Protocol):
    """What pages and figures show of a usage report."""

    @property
    def rows(self) -> tuple[UsageRow, ...]: ...

    since: date
    until: date
    total: UsageRow
    days: tuple[UsageRow, ...]
    models: tuple[UsageRow, ...]
    plans: tuple[PlanUsage, ...]
    budgets: tuple[BudgetStatus, ...]
