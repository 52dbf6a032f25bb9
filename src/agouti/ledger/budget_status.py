"""What is spent, put aside and left of budgets."""

from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from decimal import Decimal
from typing import TYPE_CHECKING

from msgspec import Struct

from ..config.budgets import TOKENS
from .budget_sums import BudgetState, definition_of
from .rows import PICO

if TYPE_CHECKING:
    from ..config.budgets import Budget
    from ..config.entries import Config
    from .store import Ledger


class BudgetStatus(Struct, frozen=True, kw_only=True):
    """What is spent, put aside and left of a budget, or of one part of it.

    Attributes:
        label: of the budget.
        part: of a budget with ``each``: the value that it is of; empty otherwise.
        per: ``day``, ``week``, ``month`` or ``run``.
        unit: the currency, or ``tokens``.
        amount: all of it.
        spent: what calls have cost.
        reserved: what is put aside for those under way, and for those of which nobody knows what they have cost.
        until: when its period is over; `None` for a run.
        reserved_until: when what is put aside comes back at the latest, where nobody settles it before.
    """

    label: str
    part: str
    per: str
    unit: str
    amount: Decimal
    spent: Decimal
    reserved: Decimal
    until: datetime | None = None
    reserved_until: datetime | None = None

    @property
    def left(self) -> Decimal:
        """What may be spent still."""
        return self.amount - self.spent - self.reserved

    @property
    def share(self) -> float:
        """The share that is spent or put aside."""
        return float((self.spent + self.reserved) / self.amount)


def statuses(
    config: "Config",
    ledger: "Ledger | None",
    runs: Mapping[str, Iterable[tuple[str, Decimal, Decimal]]],
    now: float,
) -> list[BudgetStatus]:
    """The states of all budgets of a configuration, in its order.

    Args:
        ledger: where those of a day, a week or a month are kept; `None`: nothing was spent yet.
        runs: part, what is spent and what is put aside of those of a run, by label.

    Raises:
        ConfigError: the ledger cannot be read.
    """
    budgets = [each for each in config.budgets.values() if each.per != "run"] if ledger is not None else []
    found = {}
    if ledger is not None:
        ledger_states = ledger.states([(each, definition_of(each, config), each.begins(now)) for each in budgets], now)
        found = dict(zip([each.label for each in budgets], ledger_states, strict=True))
    states = []
    for budget in config.budgets.values():
        if budget.per == "run":
            parts = [(part, spent, reserved) for part, spent, reserved in runs.get(budget.label, ())]
            if not parts and not budget.each:
                parts = [("", Decimal(0), Decimal(0))]
            states += [_status(budget, part, spent, reserved, None, None) for part, spent, reserved in parts]
        else:
            known = found.get(budget.label) or ([] if budget.each else [BudgetState("", 0, 0)])
            unit = 1 if budget.tokens is not None else PICO
            states += [
                _status(
                    budget,
                    each.value,
                    Decimal(each.spent) / unit,
                    Decimal(max(each.reserved, 0)) / unit,
                    budget.ends(now),
                    each.until if each.reserved > 0 else None,
                )
                for each in known
            ]
    return states


def _status(
    budget: "Budget", part: str, spent: Decimal, reserved: Decimal, until: float | None, back: float | None
) -> BudgetStatus:
    return BudgetStatus(
        label=budget.label,
        part=part,
        per=budget.per,
        unit=budget.unit,
        amount=budget.exact,
        spent=spent or Decimal(0),
        reserved=reserved or Decimal(0),
        until=None if until is None else datetime.fromtimestamp(until, UTC),
        reserved_until=None if back is None else datetime.fromtimestamp(back, UTC),
    )


_PARTS = 10


def most_used(budgets: Iterable[BudgetStatus]) -> list[tuple[BudgetStatus, int]]:
    """Those that are shown where there are too many parts: of each budget the ten that are spent most.

    Returns:
        Each with how many more parts of its budget there are; 0 but for the last one.
    """
    by_label: dict[str, list[BudgetStatus]] = {}
    for each in budgets:
        by_label.setdefault(each.label, []).append(each)
    lines = []
    for parts in by_label.values():
        selected = parts if len(parts) <= _PARTS else sorted(parts, key=lambda each: -each.share)[:_PARTS]
        lines += [(each, 0) for each in selected[:-1]] + [(selected[-1], len(parts) - len(selected))]
    return lines


def in_words(budget: BudgetStatus, *, short: bool = False) -> str:
    """A line about it.

    Args:
        short: without its name.
    """

    def amount(value: Decimal) -> str:
        if budget.unit == TOKENS:
            return f"{value:,.0f}"
        return f"{value:,.2f}" if abs(value) >= 100 else f"{value:.6f}".rstrip("0").rstrip(".") or "0"

    text = f"{amount(budget.spent)} of {amount(budget.amount)} {budget.unit} spent"
    if budget.reserved:
        back = f" until {budget.reserved_until:%H:%M} at the latest" if budget.reserved_until is not None else ""
        text += f", {amount(budget.reserved)} put aside{back}"
    text += f", {amount(max(budget.left, Decimal(0)))} left"
    text += f" until {budget.until:%Y-%m-%d %H:%M} UTC" if budget.until is not None else " in this run"
    part = f" for {budget.part}" if budget.part else ""
    return text if short else f"budget {budget.label}{part}: {text}"
