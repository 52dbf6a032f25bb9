"""Usage reports: what was asked, taken and spent in a stretch of days, from the ledger."""

import os
import re
from collections import Counter
from collections.abc import Iterable, Sequence
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any, TypeAlias

from ..config.budgets import Plan
from ..core.errors import RequestError
from ..core.text.suggest import near_hint
from ..tables.statistics import percentile
from ..tables.table import SUFFIXES, Table
from .budget_status import BudgetStatus
from .rows import PICO
from .store import Ledger
from .tables import SUMS, UNTIMED
from .usage_rows import FIGURES, FigureKind, PlanUsage, UsageRow, record_of

if TYPE_CHECKING:
    from matplotlib.figure import Figure

BY = ("day", "provider", "model", "label", "operation", "key", "error")
_TAG = re.compile(r"tag:[^\"\\]+")


class UsageReport(Table[UsageRow]):
    """What was used from one day to another.

    Attributes:
        rows: a row for each group.
        total: all of them together.
        since, until: the first day, and the last one.
        plans: how much of the providers' plans is used.
        budgets: what is spent, put aside and left of the budgets that the ledger keeps.
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
        budgets: tuple[BudgetStatus, ...] = (),
    ) -> None:
        super().__init__(rows)
        self.plans = plans
        self.budgets = budgets
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
        """A Matplotlib figure: ``cost`` by day and model, with budgets; or ``latency`` by model.

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
            from ..tables.figures import as_png

            return as_png(self.figure("cost"))
        return super()._as_file(suffix)


def usage_of(
    ledger: Ledger,
    since: date | str | None,
    until: date | str | None,
    by: Sequence[str],
    plans: Iterable[Plan] = (),
    *,
    budgets: Iterable[BudgetStatus] = (),
    today: date | None = None,
) -> UsageReport:
    """A report from a ledger.

    Args:
        since: the first day; the first of this month where not given.
        until: the last day; today where not given.
        by: of ``day``, ``provider``, ``model``, ``label``, ``operation``, ``key``, ``error`` and ``tag:NAME``.
        plans: what providers' plans include.
        budgets: what is spent of budgets now.

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
    by_day = ledger.sums(*span, ["day", "model"])
    by_model = ledger.latencies(*span, ["model"])
    days = _rows_of(["day", "model"], by_day, {})
    models = _rows_of(["model"], [(key[1:], currency, sums) for key, currency, sums in by_day], by_model)
    totals: Counter[int] = Counter()
    for counts in by_model.values():
        totals.update(counts)
    total = _rows_of([], [((), currency, sums) for _, currency, sums in by_day], {(): totals})
    if columns == ["model"] or not columns:
        rows = models if columns else total
    else:
        latencies = {} if UNTIMED & set(columns) else ledger.latencies(*span, columns)
        rows = _rows_of(columns, ledger.sums(*span, columns), latencies)
    return UsageReport(
        tuple(rows),
        total[0] if total else _EMPTY_ROW,
        first,
        last,
        tuple([_plan(ledger, each, last, today) for each in plans]),
        days=tuple(days),
        models=tuple(models),
        budgets=tuple(budgets),
    )


def _plan(ledger: Ledger, plan: Plan, day: date, today: date) -> PlanUsage:
    first, last = plan.period(day)
    span = (first.isoformat(), (day + timedelta(days=1)).isoformat())
    rows = _rows_of(["provider"], ledger.sums(*span, ["provider"]), {})
    used = sum(row.input_tokens + row.output_tokens for row in rows if row.group["provider"] == plan.label)
    days_passed = (min(max(today, first), day) - first).days + 1  # days that are still to come have used nothing yet
    expected = round(used * ((last - first).days + 1) / days_passed)
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


_Sums: TypeAlias = "tuple[tuple[Any, ...], str, tuple[int, ...]]"


def _rows_of(by: list[str], found: list[_Sums], latencies: dict[tuple[Any, ...], dict[int, int]]) -> list[UsageRow]:
    """A row for each group, in the order of the groups."""
    if len({each[0] for each in found}) == len(found):  # one currency for each, as nearly always
        return [_row(by, key, {currency: sums}, latencies.get(key, _NONE)) for key, currency, sums in found]
    groups: dict[tuple[Any, ...], dict[str, tuple[int, ...]]] = {}
    single: dict[tuple[Any, ...], _Sums] = {}
    for each in found:
        key, currency, sums = each
        if (before := single.get(key)) is None:
            single[key] = each
            continue
        parts = groups.setdefault(key, {before[1]: before[2]})
        sums_before = parts.get(currency)
        parts[currency] = (
            sums
            if sums_before is None
            else tuple([one + second for one, second in zip(sums_before, sums, strict=True)])
        )
    keys = sorted(single, key=_order) if groups else single
    return [
        _row(by, key, groups.get(key) or {single[key][1]: single[key][2]}, latencies.get(key, _NONE)) for key in keys
    ]


def _order(key: tuple[Any, ...]) -> list[tuple[bool, Any]]:
    """Groups without a value first, as databases have them."""
    return [(value is not None, value) for value in key]


_NONE: dict[int, int] = {}
_DECIMALS = -len(str(PICO)) + 1  # of a pico
_COST, _PROVIDER_COST, _COMPARED = (SUMS.index(name) for name in ("cost", "provider_cost", "compared_cost"))


def _row(by: list[str], key: tuple[Any, ...], parts: dict[str, tuple[int, ...]], latencies: dict[int, int]) -> UsageRow:
    sums: tuple[int, ...] = ()
    for sums_before in parts.values():
        sums = tuple([one + second for one, second in zip(sums, sums_before, strict=True)]) if sums else sums_before
    cost: dict[str, Decimal] = {}
    provider_costs: dict[str, Decimal] = {}
    difference: dict[str, Decimal] = {}
    for currency, amounts in parts.items():
        if currency:
            cost[currency] = Decimal(amounts[_COST]).scaleb(_DECIMALS)
            if provider_sum := amounts[_PROVIDER_COST]:
                provider_costs[currency] = Decimal(provider_sum).scaleb(_DECIMALS)
                difference[currency] = Decimal(provider_sum - amounts[_COMPARED]).scaleb(_DECIMALS)
    # In the order of the sums; a report may have a row for each of a million users.
    calls, failures, abandoned, cached_answers, unsent, inputs, outputs, cached, written, thought, *further = sums
    unpriced, estimated = further[-2:]
    if not latencies:
        median = p95 = p99 = None
    else:
        median = percentile(latencies, 0.5)
        p95, p99 = (median, median) if len(latencies) == 1 else map(percentile, (latencies, latencies), (0.95, 0.99))
    return UsageRow(
        dict(zip(by, key, strict=True)) if len(by) != 1 else {by[0]: key[0]},
        calls,
        failures,
        abandoned,
        cached_answers,
        unsent,
        inputs,
        outputs,
        cached,
        written,
        thought,
        cost,
        provider_costs,
        difference,
        unpriced,
        estimated,
        median,
        p95,
        p99,
    )


_EMPTY_ROW = _row([], (), {"": (0,) * len(SUMS)}, _NONE)
