"""Budgets of a configuration: how much may be spent in a day, a week, a month or a run, on what."""

from collections.abc import Collection, Iterable, Mapping
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

import msgspec
from msgspec import Struct
from msgspec.structs import force_setattr

from ..core.errors import ConfigError
from ..core.secrets.secret import Secret
from ..core.text.suggest import near_hint
from ..credentials.sources import GivenKey, Key, parse_key

if TYPE_CHECKING:
    Whom: TypeAlias = str | Key
else:
    Whom = Any  # what it is to be is seen in `_whom`

TOKENS = "tokens"
"""The unit of budgets that count tokens."""

_EACH = ("model", "provider")


def first_day(per: str, now: float) -> str:
    """The first day of the period that a time is in.

    >>> first_day("week", 1796040000.0)  # a Monday
    '2026-11-30'
    """
    day = datetime.fromtimestamp(now, UTC).date()
    if per == "month":
        day = day.replace(day=1)
    elif per == "week":
        day -= timedelta(days=day.weekday())
    return day.isoformat()


def _whom(notify: Any) -> "str | Key":
    """Who is told: a function by its name, or an address as a secret.

    Raises:
        ConfigError: it is neither.
    """
    if isinstance(notify, Mapping):
        try:
            key = parse_key(dict(notify))
        except msgspec.ValidationError as error:
            raise ConfigError(f"notify is wrong: {error}", hint='Write notify = { env = "NAME" }.') from None
        return key
    if isinstance(notify, Key):
        return notify
    if isinstance(notify, str):
        if notify.startswith(("http://", "https://")):
            return GivenKey(Secret(notify))
        if not notify or ("://" not in notify and all(notify.partition(":"))):
            return notify
    raise ConfigError(
        "notify is no function and no address",
        hint='Write notify = "package.module:function", "https://...", or { env = "NAME" }.',
    )


class Budget(Struct, frozen=True, forbid_unknown_fields=True):
    """An amount that may be spent.

    Attributes:
        label: your own name for it.
        amount, currency: how much; prices of other currencies do not count in it.
        tokens: instead of an amount: how many tokens of prompts and answers, whatever they cost.
        per: ``day``, ``week`` (from Monday) or ``month``, by UTC; ``run``: by this client.
        warn: the share from which it is told once that it is nearly spent.
        notify: who is told then, besides: ``package.module:function``, which is called with a `BudgetWarning`, or an
            address, which gets it as JSON in a POST request; an address that is a secret may live elsewhere, such as
            ``{ env = "NAME" }``. It is never shown.
        models: labels whose calls count; all where none is named.
        providers: labels of providers whose calls count; all where none is named.
        keys: keys whose providers' calls count: names of variables, files or entries of the keyring.
        tags: tags that a call must have to count.
        each: ``tag:NAME``, ``model`` or ``provider``: each value of it has the whole amount for itself.
    """

    label: str
    amount: float = 0.0
    currency: str = ""
    per: Literal["day", "week", "month", "run"] = "month"
    warn: float = 0.8
    models: tuple[str, ...] = ()
    tags: dict[str, str] = {}
    tokens: int | None = None
    providers: tuple[str, ...] = ()
    keys: tuple[str, ...] = ()
    each: str = ""
    notify: Whom = ""

    def __post_init__(self) -> None:
        if self.tokens is not None:
            if self.tokens < 1:
                raise ConfigError(f"tokens = {self.tokens} is out of range", hint="Write a whole number from 1.")
            if self.amount or self.currency:
                raise ConfigError(
                    "a budget has tokens or an amount, not both", hint="Make two budgets of it: each of them holds."
                )
        else:
            if not 0 < self.amount < float("inf"):
                raise ConfigError(f"amount = {self.amount} is out of range", hint="Write an amount above 0, or tokens.")
            if not self.currency.strip():
                raise ConfigError("currency is missing", hint='Add currency = "USD".')
            force_setattr(self, "currency", self.currency.strip().upper())
        if not 0 <= self.warn <= 1:
            raise ConfigError(f"warn = {self.warn} is out of range", hint="It takes a share from 0 to 1.")
        for name, value in self.tags.items():
            if value == "*":
                raise ConfigError(
                    f'tags: {name} = "*" would count no call',
                    hint=f'For an amount for each value of the tag, write each = "tag:{name}" instead.',
                )
        if self.each and self.each not in _EACH and not (self.each.startswith("tag:") and self.each[4:]):
            raise ConfigError(
                f"each = {self.each!r} is nothing that a call has",
                hint='Write each = "tag:NAME", "model" or "provider".',
            )
        force_setattr(self, "notify", _whom(self.notify))

    @property
    def exact(self) -> Decimal:
        """The amount as it was written; tokens, where it counts those."""
        return Decimal(repr(self.amount)) if self.tokens is None else Decimal(self.tokens)

    @property
    def unit(self) -> str:
        """The currency, or ``tokens``."""
        return self.currency if self.tokens is None else TOKENS

    @property
    def whole(self) -> str:
        """All of it in words."""
        return f"{self.tokens:,} tokens" if self.tokens is not None else f"{self.amount:g} {self.currency}"

    def shown(self, amount: Decimal) -> str:
        """An amount of it in words."""
        if self.tokens is not None:
            return f"{amount:,.0f} tokens"
        return f"{f'{amount:.2f}' if abs(amount) >= 100 else f'{amount:.6f}'} {self.currency}"

    def counts(
        self, labels: Iterable[str], tags: Mapping[str, str], provider: str = "", providers: Collection[str] = ()
    ) -> bool:
        """Whether a call counts, whatever currency it is paid in.

        Args:
            labels: of the model that is paid.
            provider: who is paid.
            providers: those that the budget counts, those with its keys among them; empty: all.
        """
        if providers and provider not in providers:
            return False
        return (not self.models or any(label in self.models for label in labels)) and all(
            tags.get(name) == value for name, value in self.tags.items()
        )

    def begins(self, now: float) -> str:
        """The first day of the period that a time is in.

        >>> Budget("b", 1, "USD", "week").begins(1796040000.0)  # a Monday
        '2026-11-30'
        """
        return first_day(self.per, now)

    def ends(self, now: float) -> float:
        """When the period that a time is in is over, in seconds since the epoch.

        >>> Budget("b", 1, "USD", "day").ends(1796040000.0) - 1796040000.0 <= 86400
        True
        """
        first = date.fromisoformat(self.begins(now))
        days = {"week": 7, "month": 31}.get(self.per, 1)
        after = first + timedelta(days=days)
        after = after.replace(day=1) if self.per == "month" else after
        return datetime(after.year, after.month, after.day, tzinfo=UTC).timestamp()


class Plan(Struct, frozen=True, forbid_unknown_fields=True):
    """What a provider's plan includes.

    Attributes:
        label: of the provider.
        tokens: of prompts and answers, in each period.
        per: ``day``, ``week`` (from Monday) or ``month``, by UTC.
        fee: what the plan costs in a period.
        overage: what a thousand tokens beyond it cost.
        currency: of both.
    """

    label: str
    tokens: int
    per: Literal["day", "week", "month"] = "month"
    fee: float = 0.0
    overage: float = 0.0
    currency: str = ""

    def __post_init__(self) -> None:
        if self.tokens < 1:
            raise ConfigError(f"tokens = {self.tokens} is out of range", hint="It takes a whole number from 1.")
        for name in ("fee", "overage"):
            if not 0 <= getattr(self, name) < float("inf"):
                raise ConfigError(f"{name} = {getattr(self, name)} is out of range", hint="It takes an amount from 0.")

    def period(self, day: date) -> tuple[date, date]:
        """The first and the last day of the period that a day is in.

        >>> Plan("northbank", 5_000_000).period(date(2028, 2, 11))[1].isoformat()
        '2028-02-29'
        """
        if self.per == "day":
            return day, day
        if self.per == "week":
            first = day - timedelta(days=day.weekday())
            return first, first + timedelta(days=6)
        first = day.replace(day=1)
        return first, (first + timedelta(days=31)).replace(day=1) - timedelta(days=1)


def check_budget(
    budget: Budget, labels: Mapping[str, object], providers: Mapping[str, object], *, ledger: bool
) -> None:
    """See that a budget can be kept.

    Raises:
        ConfigError: it names a model that there is not, or needs a ledger.
    """
    for label in budget.models:
        name, at, provider = label.rpartition("@")
        if label not in labels and not (at and name and provider in providers):
            raise ConfigError(
                f"[budgets.{budget.label}] models: there is no model {label!r}", hint=near_hint(label, labels, "label")
            )
    for label in budget.providers:
        if label not in providers:
            raise ConfigError(
                f"[budgets.{budget.label}] providers: there is no provider {label!r}",
                hint=near_hint(label, providers, "provider"),
            )
    if budget.per != "run" and not ledger:
        raise ConfigError(
            f"[budgets.{budget.label}] is of a {budget.per}, and there is no ledger that remembers what was spent",
            hint='Write [ledger] and store = "usage.sqlite", or per = "run".',
        )
