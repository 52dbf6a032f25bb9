"""Usage reports: what was asked, taken and spent in a stretch of days, from the ledger."""

import os
import re
from collections import Counter
from collections.abc import Iterable, Sequence
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

import msgspec
from msgspec import Struct

from ..config.budgets import Plan
from ..core.errors import RequestError
from ..core.statistics import percentile
from ..core.suggest import near_hint
from ..tables import SUFFIXES, Table
from .rows import PICO
from .store import Ledger

if TYPE_CHECKING:
    from matplotlib.figure import Figure

FigureKind: TypeAlias = Literal["cost", "latency"]
FIGURES: tuple[FigureKind, ...] = ("cost", "latency")
BY = ("day", "provider", "model", "label")
_TAG = re.compile(r"tag:[^\"\\]+")
_TOKENS = ("input_tokens", "output_tokens", "cached_tokens", "cache_write_tokens", "reasoning_tokens")


class UsageRow(Struct, frozen=True, kw_only=True):
    """What was used by one group.

    Attributes:
        group: the columns that it is of, such as ``{"day": "2026-11-29", "model": "quill-large"}``.
        calls: requests that were sent; those that were repeated count each time.
        failures: of these, those that failed.
        abandoned: of these, those that were left before their end.
        input_tokens, output_tokens: as the providers counted.
        cached_tokens, cache_write_tokens: of the input, what came out of the providers' cache and went into it.
        reasoning_tokens: of the output, the thinking.
        cost: by currency; amounts of different currencies are not added up.
        unpriced: requests whose cost is not known; they are in no sum.
        estimated: requests whose tokens are estimated, because they were left before the provider told them.
        median, p95, p99: seconds of answered requests, right to five per cent.
    """

    group: dict[str, str | None]
    calls: int
    failures: int
    abandoned: int
    input_tokens: int
    output_tokens: int
    cached_tokens: int
    cache_write_tokens: int
    reasoning_tokens: int
    cost: dict[str, Decimal]
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


class UsageReport(Table[UsageRow]):
    """What was used from one day to another.

    Attributes:
        rows: a row for each group.
        total: all of them together.
        since, until: the first day, and the last one.
        plans: how much of the providers' plans is used.
        days: rows by day and model, and ``models`` by model, whatever ``rows`` are grouped by.
    """

    def __init__(
        self,
        rows: tuple[UsageRow, ...],
        total: UsageRow,
        since: date,
        until: date,
        plans: tuple[PlanUsage, ...] = (),
        *,
        days: tuple[UsageRow, ...] = (),
        models: tuple[UsageRow, ...] = (),
    ) -> None:
        super().__init__(rows)
        self.plans = plans
        self.total = total
        self.since = since
        self.until = until
        self.days = days
        self.models = models

    def __repr__(self) -> str:
        return f"UsageReport({self.since} to {self.until}, {self.total.calls} calls)"

    def records(self) -> list[dict[str, Any]]:
        """The rows as plain dicts: a column for each thing that they are grouped by, and for each currency."""
        return [record_of(row) for row in self.rows]

    def figure(self, kind: FigureKind = "cost") -> "Figure":
        """A Matplotlib figure: ``cost`` (by day and model; a panel for each currency), or ``latency`` (by model).

        Raises:
            RequestError: there is no such figure.
            ConfigError: Matplotlib is not installed.
        """
        if kind not in FIGURES:
            raise RequestError(f"there is no figure {kind!r}", hint=near_hint(kind, FIGURES, "figure"))
        from .usage_figures import draw

        return draw(self, kind)

    def save(self, path: str | os.PathLike[str]) -> None:
        """Write the rows to a file (.csv, .jsonl, .parquet), a page (.html), or the figure of the cost (.png)."""
        super().save(path)

    def _columns(self) -> list[str]:
        return list(dict.fromkeys(name for record in self.records() for name in record))

    def _suffixes(self) -> tuple[str, ...]:
        return (*SUFFIXES, ".html", ".png")

    def _as_file(self, suffix: str) -> bytes:
        if suffix == ".html":
            from .usage_page import page

            return page(self).encode()
        if suffix == ".png":
            from ..figures import as_png

            return as_png(self.figure("cost"))
        return super()._as_file(suffix)


def record_of(row: UsageRow) -> dict[str, Any]:
    """A row as a plain dict."""
    fields = msgspec.structs.asdict(row)
    costs = {f"cost_{currency}": float(amount) for currency, amount in row.cost.items()}
    del fields["cost"]
    return {**fields.pop("group"), **fields, **costs}


def usage_of(
    ledger: Ledger,
    since: date | str | None,
    until: date | str | None,
    by: Sequence[str],
    plans: Iterable[Plan] = (),
    *,
    today: date | None = None,
) -> UsageReport:
    """A report from a ledger.

    Args:
        since: the first day; the first of this month where not given.
        until: the last day; today where not given.
        by: of ``day``, ``provider``, ``model``, ``label`` and ``tag:NAME``.
        plans: what providers' plans include.

    Raises:
        RequestError: the days are the wrong way round, or there is no such column.
    """
    today = today or datetime.now(UTC).date()
    last = _day("until", until) or today
    first = _day("since", since) or last.replace(day=1)
    if first > last:
        raise RequestError(f"since = {first} is after until = {last}", hint="Put the earlier day first.")
    for each in by:
        if each not in BY and not _TAG.fullmatch(each):
            raise RequestError(
                f"usage is not told by {each!r}",
                hint=near_hint(each, BY, "column") + " Or tag:NAME, of a tag of calls.",
            )
    span = (first.isoformat(), (last + timedelta(days=1)).isoformat())
    columns = list(dict.fromkeys(by))
    told = _Latencies(ledger, span, list(dict.fromkeys([*columns, "model"])))
    rows = _rows(ledger, span, columns, told)
    total = _rows(ledger, span, [], told)
    return UsageReport(
        tuple(rows),
        total[0] if total else _NOTHING,
        first,
        last,
        tuple([_plan(ledger, each, last) for each in plans]),
        days=tuple(_rows(ledger, span, ["day", "model"])),
        models=tuple(_rows(ledger, span, ["model"], told)),
    )


def _plan(ledger: Ledger, plan: Plan, day: date) -> PlanUsage:
    first, last = plan.period(day)
    rows = _rows(ledger, (first.isoformat(), (day + timedelta(days=1)).isoformat()), ["provider"])
    used = sum(row.input_tokens + row.output_tokens for row in rows if row.group["provider"] == plan.label)
    expected = round(used * ((last - first).days + 1) / ((day - first).days + 1))
    return PlanUsage(
        provider=plan.label,
        since=first,
        until=last,
        tokens=plan.tokens,
        used=used,
        expected=expected,
        fee=plan.fee,
        overage=max(used - plan.tokens, 0) / 1000 * plan.overage,
        expected_overage=max(expected - plan.tokens, 0) / 1000 * plan.overage,
        currency=plan.currency,
    )


def _day(name: str, value: object) -> date | None:
    if value is None:
        return None
    if isinstance(value, datetime):
        return value.astimezone(UTC).date() if value.tzinfo is not None else value.date()
    if isinstance(value, date):
        return value
    if isinstance(value, str):
        try:
            return date.fromisoformat(value)
        except ValueError:
            pass
    raise RequestError(f"{name} = {value!r} is no day", hint='Pass a date, or "2026-11-29".')


class _Latencies:
    """Counts of latencies by several columns: read once, they are most of a ledger."""

    def __init__(self, ledger: Ledger, span: tuple[str, str], columns: list[str]) -> None:
        self._columns = columns
        self._counts = ledger.latencies(*span, columns)

    def by(self, columns: list[str]) -> dict[tuple[Any, ...], dict[int, int]]:
        """The counts by some of the columns."""
        at = [self._columns.index(name) for name in columns]
        result: dict[tuple[Any, ...], Counter[int]] = {}
        for key, counts in self._counts.items():
            result.setdefault(tuple([key[each] for each in at]), Counter()).update(counts)
        return dict(result)


def _rows(ledger: Ledger, span: tuple[str, str], by: list[str], told: _Latencies | None = None) -> list[UsageRow]:
    groups: dict[tuple[Any, ...], list[dict[str, Any]]] = {}
    for found in ledger.sums(*span, by):
        groups.setdefault(tuple([found[name] for name in by]), []).append(found)
    counts = {} if told is None else told.by(by)
    return [_row(by, key, parts, counts.get(key, {})) for key, parts in groups.items()]


def _row(by: list[str], key: tuple[Any, ...], parts: list[dict[str, Any]], latencies: dict[int, int]) -> UsageRow:
    def total(name: str) -> int:
        return sum(part[name] for part in parts)

    cost = {part["currency"]: Decimal(part["cost"]) / PICO for part in parts if part["currency"]}
    return UsageRow(
        group=dict(zip(by, key, strict=True)),
        calls=total("calls"),
        failures=total("failures"),
        abandoned=total("abandoned"),
        **{name: total(name) for name in _TOKENS},
        cost=cost,
        unpriced=total("unpriced"),
        estimated=total("estimated"),
        median=percentile(latencies, 0.5),
        p95=percentile(latencies, 0.95),
        p99=percentile(latencies, 0.99),
    )


_NOTHING = UsageRow(
    group={}, calls=0, failures=0, abandoned=0, input_tokens=0, output_tokens=0, cached_tokens=0, cache_write_tokens=0,
    reasoning_tokens=0, cost={}, unpriced=0, estimated=0, median=None, p95=None, p99=None,
)  # fmt: skip
