"""Writing a ledger: rows with the sums that they add to, and what is put aside in budgets."""

import json
from abc import abstractmethod
from collections.abc import Iterable, Sequence
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..config.budgets import TOKENS
from ..core.errors import ConfigError, LedgerUnavailable
from .budget_sums import BudgetDefinition, BudgetState, ReservationRequest, words_of
from .ledger_reports import LedgerReports
from .rows import LedgerRow
from .tables import COLUMNS, LATENCY_KEYS, SUMS, USES, counted, key_of

if TYPE_CHECKING:
    from ..config.budgets import Budget
    from ..config.entries import Config
    from ..config.tables import LedgerSettings


class LedgerAway(ConfigError):
    """The ledger is out of reach now, and may be there again later."""


class Full(Exception):
    """A budget has too little left.

    Attributes:
        request: what was to be put aside.
        used: what is spent and put aside already.
    """

    def __init__(self, request: ReservationRequest, used: int) -> None:
        super().__init__(request.budget.label)
        self.request = request
        self.used = used


class Ledger(LedgerReports):
    """A ledger, whatever keeps it."""

    def add(
        self, rows: Sequence[LedgerRow], settled: Sequence[int] = (), renewed: Sequence[tuple[int, float]] = ()
    ) -> None:
        """Keep rows, and add them to the sums of their days and budgets, all or none.

        Args:
            settled: reservations that they take the place of.
            renewed: reservations of which nobody knows what they have cost, and until when they count.

        Raises:
            Exception: of the database: they cannot be written.
        """
        if not rows and not settled and not renewed:
            return
        sums: dict[tuple[str, ...], list[int]] = {}
        latencies: dict[tuple[Any, ...], int] = {}
        counting = [row for row in rows if row.operation in USES]
        for row in counting:
            key = key_of(row)
            total = sums.setdefault(key, [0] * len(SUMS))
            for at, value in enumerate(counted(row)):
                total[at] += value
            if (bucket := row.bucket) is not None:
                where = (*key[: len(LATENCY_KEYS)], bucket)
                latencies[where] = latencies.get(where, 0) + 1
        with self._transaction():
            budgets = self._known()
            spent: dict[tuple[int, str, str], list[int]] = {}
            for number, budget in budgets:
                for row in counting:
                    if amount := budget.counted(row):
                        where_spent = (number, budget.begins(row.at), budget.value_in(row))
                        spent.setdefault(where_spent, [0, 0])[0] += amount
            self._execute_many(_INSERT, [self._values(row) for row in rows])
            # In the order of their keys: two that write at a time never wait for each other crosswise.
            self._add_sums([(key, sums[key]) for key in sorted(sums)])
            self._add_latencies([(*key, latencies[key]) for key in sorted(latencies)])
            for sum_key, amount in self._take_out(settled).items():
                spent.setdefault(sum_key, [0, 0])[1] -= amount
            self._execute_many(
                "UPDATE {reservations} SET expires = ? WHERE id = ?", [(end, each) for each, end in renewed]
            )
            self._spend([(sum_key, spent[sum_key][0], spent[sum_key][1]) for sum_key in sorted(spent)])

    @abstractmethod
    def _known(self) -> list[tuple[int, BudgetDefinition]]:
        """The budgets that a sum is kept for; none is added before the transaction is over."""

    @abstractmethod
    def _take_out(self, reservations: Sequence[int]) -> dict[tuple[int, str, str], int]:
        """Take reservations out; how much that is, by budget, period and part."""

    @abstractmethod
    def _spend(self, amounts: Sequence[tuple[tuple[int, str, str], int, int]]) -> None:
        """Add to what is spent and to what is put aside, by budget, period and part."""

    @abstractmethod
    def _reserve(
        self, request: Sequence[tuple[int, ReservationRequest]], now: float, expires: float
    ) -> list[tuple[int, int]]:
        """Put amounts aside, all or none: the number of each, and what is used then.

        Raises:
            Full: there is too little left in one of them.
        """

    @abstractmethod
    def _state(self, budget: int, begins: str, now: float) -> list[BudgetState]:
        """What is spent of a budget in a period, and what is put aside and has not lapsed, by parts."""

    def reserve(
        self, request: Sequence[ReservationRequest], now: float, expires: float
    ) -> "tuple[list[tuple[int, Decimal]], tuple[ReservationRequest, int] | None]":
        """Put an amount aside in each of several budgets, or in none.

        Returns:
            The number of each reservation, with the share of the budget that is used then; and the one that has too
            little left, with what it has.

        Raises:
            LedgerUnavailable: the ledger cannot be read or written now.
        """

        def reserve_once() -> list[tuple[int, int]]:
            numbered = [(self._number_of(each.definition, each.begins), each) for each in request]
            return self._reserve(numbered, now, expires)

        try:
            try:
                reserved = reserve_once()
            except self.errors as error:
                # A server may have closed a connection that nobody had used for a while: nothing was kept yet.
                if not self._disconnected(error):
                    raise
                reserved = reserve_once()
        except Full as full:
            return [], (full.request, full.request.limit - full.used)
        except self.errors as error:
            raise self._unreserved(error) from None
        shares = [Decimal(used) / each.limit for each, (_, used) in zip(request, reserved, strict=True)]
        return [(number, share) for (number, _), share in zip(reserved, shares, strict=True)], None

    def _unreserved(self, error: Exception) -> LedgerUnavailable:
        if self.may_retry(error):
            return LedgerUnavailable(
                f"the budget cannot be kept: the ledger {self.address} is out of reach ({self.redacted(error)})",
                hint="Nothing was sent. Try again, or see what is the matter with it.",
            )
        return LedgerUnavailable(
            f"the budget cannot be kept: the ledger {self.address} is damaged ({self.redacted(error)})",
            hint="Nothing was sent. Put back a copy of it, or move it away: a new one begins with nothing spent.",
        )

    def _number_of(self, budget: BudgetDefinition, begins: str) -> int:
        """The number of a budget in this ledger.

        The first program that asks for it adds up what was spent in its period before; from then on a sum is kept.
        """
        key = budget.key
        number = self._numbers.get(key)
        if number is not None:
            return number
        with self._transaction():
            self._lock_exclusively()
            found = self._execute("SELECT id FROM {budgets} WHERE key = ?", (key,)).fetchone()
            if found is None:
                sql = "INSERT INTO {budgets} (key, definition) VALUES (?, ?)"
                number = self._inserted(sql, (key, budget.description))
                before = self._spent_before(budget, begins)
                self._spend([((number, begins, value), amount, 0) for value, amount in sorted(before.items())])
            else:
                number = int(found[0])
        self._numbers[key] = number
        return number

    def _spent_before(self, budget: BudgetDefinition, begins: str) -> dict[str, int]:
        """What the sums of a period's days say, by parts of a budget."""
        where, parameters = "", [begins]
        if budget.unit != TOKENS:
            where += " AND currency = ?"
            parameters.append(budget.unit)
        if budget.pairs:
            same = " OR ".join(["(provider = ? AND name = ?)"] * len(budget.pairs))
            where += f" AND ({same})"
            parameters += [text for pair in budget.pairs for text in pair]
            if budget.but:
                where += f" AND label NOT IN ({', '.join('?' * len(budget.but))})"
                parameters += budget.but
        if budget.providers:
            where += f" AND provider IN ({', '.join('?' * len(budget.providers))})"
            parameters += budget.providers
        columns = "provider, name, label, tags, currency, cost, input_tokens + output_tokens"
        found = self._execute(f"SELECT {columns} FROM {{sums}} WHERE day >= ?{where}", parameters)
        spent: dict[str, int] = {}
        for provider, name, label, tags, currency, cost, tokens in found:
            row = LedgerRow(
                at=0.0, provider=provider, name=name, label=label, operation="chat", currency=currency,
                tags=json.loads(tags), cost=self._amount(cost), input_tokens=int(tokens), output_tokens=0,
            )  # fmt: skip
            if amount := budget.counted(row):
                value = budget.value_in(row)
                spent[value] = spent.get(value, 0) + amount
        return spent

    def states(self, budgets: "Iterable[tuple[Budget, BudgetDefinition, str]]", now: float) -> list[list[BudgetState]]:
        """What is spent and put aside of budgets in their periods, by parts; as the rows before say, where no program
        has asked for one of them yet.

        Raises:
            ConfigError: the ledger cannot be read.
        """
        states = []
        for _, renewed, begins in budgets:
            try:
                found = self._execute("SELECT id FROM {budgets} WHERE key = ?", (renewed.key,)).fetchone()
                if found is not None:
                    states.append(self._state(int(found[0]), begins, now))
                else:
                    before = self._spent_before(renewed, begins)
                    states.append([BudgetState(value, amount, 0) for value, amount in sorted(before.items())])
            except self.errors as error:
                raise self._unread(error) from None
        return states


def relay_ledger(config: "Config") -> "LedgerSettings | None":
    """The ledger that a relay keeps by itself where the configuration names none; `None` where there is none."""
    from ..config.tables import LedgerSettings
    from ..core.secrets.secret import Secret

    path = relay_ledger_path(config)
    return LedgerSettings(Secret(str(path))) if path.exists() else None


def relay_ledger_path(config: "Config") -> Path:
    """Where that is: beside the file with the tokens."""
    from ..config.tables import RelaySettings

    return Path((config.relay or RelaySettings()).tokens).with_name("relay-usage.sqlite")


_INSERT = f"INSERT INTO {{attempts}} ({', '.join(COLUMNS)}) VALUES ({', '.join('?' * len(COLUMNS))})"


def reserved_by_part(found: Iterable[tuple[str, int, float]]) -> dict[str, tuple[int, float]]:
    """Amounts of reservations by parts, with when the last of them lapses."""
    reserved: dict[str, tuple[int, float]] = {}
    for value, amount, expires in found:
        total, until = reserved.get(value, (0, 0.0))
        reserved[value] = (total + amount, max(until, expires))
    return reserved


def read_budgets(
    found: Iterable[Sequence[Any]], by_definition: dict[str, BudgetDefinition]
) -> list[tuple[int, BudgetDefinition]]:
    """The budgets in the rows of a ledger; those that were read before are not read again."""
    known = []
    for number, sql in found:
        if (budget := by_definition.get(sql)) is None:
            budget = by_definition[sql] = words_of(sql)
        known.append((int(number), budget))
    return known
