"""What a budget of a day, a week or a month counts, in words that every program of a ledger understands.

A ledger keeps a running sum for each of them: whoever writes a row adds it to the sums of all budgets that count it,
also of those that stand in the configuration of another program.
"""

from hashlib import blake2b
from typing import TYPE_CHECKING

import msgspec
from msgspec import Struct

from ..config.budgets import TOKENS, first_day
from .rows import LedgerRow

if TYPE_CHECKING:
    from ..config.budgets import Budget
    from ..config.entries import Config
    from ..engine.hooks import AttemptDetails


class BudgetDefinition(Struct, frozen=True, omit_defaults=True):
    """What is counted, of which calls.

    Attributes:
        unit: the currency of the amounts, or ``tokens``.
        per: ``day``, ``week`` or ``month``.
        pairs: label of the provider and name of each model that counts; empty: every model.
        but: labels of other entries for the same models: what was asked by those does not count.
        providers: labels of providers that count; empty: every one.
        tags: name and value of each tag that a call must have.
        each: ``model``, ``provider`` or ``tag:NAME``: each value of it has the amount for itself.
    """

    unit: str
    per: str
    pairs: tuple[tuple[str, str], ...] = ()
    but: tuple[str, ...] = ()
    providers: tuple[str, ...] = ()
    tags: tuple[tuple[str, str], ...] = ()
    each: str = ""

    @property
    def description(self) -> str:
        """The same as JSON."""
        return msgspec.json.encode(self).decode()

    @property
    def key(self) -> str:
        """A digest that names it: two configurations that count the same share one sum."""
        return blake2b(self.description.encode(), digest_size=16).hexdigest()

    def counted(self, row: LedgerRow) -> int:
        """How much of a row counts: picos of the currency, or tokens; 0 where it does not count."""
        if self.unit == TOKENS:
            amount = (row.input_tokens or 0) + (row.output_tokens or 0)
        else:
            amount = (row.cost or 0) if row.currency == self.unit else 0
        if not amount or (self.providers and row.provider not in self.providers):
            return 0
        if self.pairs and ((row.provider, row.name) not in self.pairs or row.label in self.but):
            return 0
        return amount if all(row.tags.get(name) == value for name, value in self.tags) else 0

    def value_in(self, row: LedgerRow) -> str:
        """Which of its parts a row counts in."""
        if self.each == "model":
            return row.name
        return row.provider if self.each == "provider" else row.tags.get(self.each[4:], "") if self.each else ""

    def begins(self, at: float) -> str:
        """The first day of the period that a time is in."""
        return first_day(self.per, at)


def words_of(text: str) -> BudgetDefinition:
    """What stands in a ledger."""
    return msgspec.json.decode(text, type=BudgetDefinition)


class ReservationRequest(Struct, frozen=True):
    """An amount that is to be put aside in a budget.

    Attributes:
        budget: of the configuration.
        definition: what it counts.
        begins: the first day of its period.
        value: which of its parts, where it has one for each value.
        amount, limit: what is put aside, and what the budget has: picos, or tokens.
    """

    budget: "Budget"
    definition: BudgetDefinition
    begins: str
    value: str
    amount: int
    limit: int


class BudgetState(Struct, frozen=True):
    """What is spent and put aside of one part of a budget, as a ledger has it.

    Attributes:
        value: of the part.
        spent, reserved: picos, or tokens.
        until: when what is put aside comes back at the latest, in seconds since the epoch.
    """

    value: str
    spent: int
    reserved: int
    until: float | None = None


def definition_of(budget: "Budget", config: "Config") -> BudgetDefinition:
    """What a budget of a configuration counts."""
    pairs: tuple[tuple[str, str], ...] = ()
    but: tuple[str, ...] = ()
    if budget.models:
        named = [config.model(label) for label in budget.models]
        pairs = tuple(dict.fromkeys((each.provider, each.name) for each in named))
        other_labels = [each.label for each in config.models.values() if (each.provider, each.name) in pairs]
        but = tuple(label for label in other_labels if label not in budget.models)
    return BudgetDefinition(
        unit=TOKENS if budget.tokens is not None else budget.currency,
        per=budget.per,
        pairs=pairs,
        but=but,
        providers=tuple(sorted(providers_of(budget, config))),
        tags=tuple(sorted(budget.tags.items())),
        each=budget.each,
    )


def providers_of(budget: "Budget", config: "Config") -> frozenset[str]:
    """Labels of the providers that a budget counts: those that it names, or that have a key which it names."""
    keys = set(budget.keys)
    with_key = [
        each.label
        for each in config.providers.values()
        if keys and each.key is not None and keys & set(key_names(each.key.describe()))
    ]
    return frozenset([*budget.providers, *with_key])


def key_names(described: str) -> list[str]:
    """The names by which a key can be meant: each word of its description."""
    return [described, *[token.strip(",;()'\"") for token in described.split()]]


def part_of(budget: "Budget", attempt: "AttemptDetails") -> str:
    """Which part of a budget an attempt counts in."""
    if budget.each == "model":
        return attempt.name
    return (
        attempt.provider if budget.each == "provider" else attempt.tags.get(budget.each[4:], "") if budget.each else ""
    )
