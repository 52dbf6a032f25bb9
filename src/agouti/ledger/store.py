"""What ledgers of every kind do in the same words: rows, sums of days and reservations in tables of SQL."""

import json
from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from decimal import Decimal
from threading import RLock
from typing import TYPE_CHECKING, Any, ClassVar

import msgspec
from msgspec import Struct

from ..core.errors import ConfigError, RequestError
from .rows import PICO, LedgerRow

if TYPE_CHECKING:
    from ..config.budgets import Budget
    from ..config.singles import LedgerSettings

VERSION = 1
_PAGE = 5000
# Lists of models and counts of tokens cost nothing: they have rows, and stand in no sum.
_USES = frozenset({"chat", "embeddings"})
COLUMNS = tuple(name for name in LedgerRow.__struct_fields__)
SUMS = (
    "calls", "failures", "abandoned", "input_tokens", "output_tokens", "cached_tokens", "cache_write_tokens",
    "reasoning_tokens", "cost", "unpriced", "estimated",
)  # fmt: skip
KEYS = ("day", "provider", "name", "label", "tags", "currency")


class BudgetModels(Struct, frozen=True):
    """The models that a budget counts.

    Attributes:
        pairs: label of the provider and name of each.
        but: labels of other entries for the same models: what was asked by those does not count.
    """

    pairs: tuple[tuple[str, str], ...]
    but: tuple[str, ...] = ()


class Ledger(ABC):
    """A ledger, whatever keeps it.

    Attributes:
        place: where it is, for messages.
        errors: all errors of the database.
        later: of these, those after which the same rows may be written later.
        prefix: of the names of its tables.
        mark: what stands for a value in a statement.
        tag: the expression for a tag of a call, with one value in it.
    """

    place: str
    errors: ClassVar[tuple[type[Exception], ...]]
    later: ClassVar[tuple[type[Exception], ...]]
    prefix: ClassVar[str] = ""
    mark: ClassVar[str] = "?"
    tag: ClassVar[str]

    def __init__(self) -> None:
        self._lock = RLock()

    @abstractmethod
    def _execute(self, statement: str, values: Sequence[Any] = ()) -> Any:
        """Run a statement; what it has found can be iterated and fetched from."""

    @abstractmethod
    def _execute_many(self, statement: str, rows: Sequence[Sequence[Any]]) -> None:
        """Run a statement for each row of values."""

    @abstractmethod
    def _inserted(self, statement: str, values: Sequence[Any]) -> int:
        """Run a statement that puts one row in; the number of the row."""

    @contextmanager
    @abstractmethod
    def _transaction(self, *, alone: bool) -> Iterator[None]:
        """All that the block writes is kept, or nothing; ``alone``: nobody else reserves meanwhile."""
        yield

    @abstractmethod
    def tag_value(self, name: str) -> str:
        """The value in the expression for a tag."""

    @abstractmethod
    def close(self) -> None:
        """Let go of it."""

    def _told(self, error: Exception) -> str:
        """What an error says, in one line."""
        return " ".join(str(error).split())

    def _words(self, statement: str) -> str:
        """A statement with the names of tables, and the marks for values, that this ledger has."""
        return statement.replace("{", self.prefix).replace("}", "").replace("?", self.mark)

    def add(
        self, rows: Sequence[LedgerRow], settled: Sequence[int] = (), kept: Sequence[tuple[int, float]] = ()
    ) -> None:
        """Keep rows, and add them to the sums of their days, all or none.

        Args:
            settled: reservations that they take the place of.
            kept: reservations of which nobody knows what they have cost, and until when they count.

        Raises:
            Exception: of the database: they cannot be written.
        """
        if not rows and not settled and not kept:
            return
        sums: dict[tuple[str, ...], list[int]] = {}
        latencies: dict[tuple[Any, ...], int] = {}
        for row in rows:
            if row.operation not in _USES:
                continue
            key = _key(row)
            for at, value in enumerate(_counted(row)):
                sums.setdefault(key, [0] * len(SUMS))[at] += value
            if (bucket := row.bucket) is not None:
                where = (*key[:-1], bucket)
                latencies[where] = latencies.get(where, 0) + 1
        with self._transaction(alone=False):
            self._execute_many(_INSERT, [_values(row) for row in rows])
            # In the order of their keys: two that write at a time never wait for each other crosswise.
            self._execute_many(_ADD, [(*key, *sums[key]) for key in sorted(sums)])
            self._execute_many(_ADD_LATENCY, [(*key, latencies[key]) for key in sorted(latencies)])
            self._execute_many("DELETE FROM {reservations} WHERE id = ?", [(each,) for each in settled])
            self._execute_many(
                "UPDATE {reservations} SET expires = ? WHERE id = ?", [(end, each) for each, end in kept]
            )

    def reserve(
        self,
        budgets: "Sequence[tuple[Budget, str, BudgetModels | None]]",
        amount: int,
        now: float,
        expires: float,
    ) -> "tuple[list[tuple[int, Decimal]], tuple[Budget, Decimal] | None]":
        """Put an amount aside in each of several budgets, or in none.

        Args:
            budgets: each with the first day of its period, and the models that it counts.
            amount: in picos.

        Returns:
            The number of each reservation, with the share of the budget that is used then; and the budget that has
            too little left, with what it has.

        Raises:
            RequestError: the ledger cannot be read or written now.
        """
        try:
            return self._reserved(budgets, amount, now, expires)
        except self.later as error:
            raise RequestError(
                f"the budget cannot be kept: the ledger {self.place} is out of reach ({self._told(error)})",
                hint="Nothing was sent. Try again, or see what is the matter with it.",
            ) from None
        except self.errors as error:
            raise RequestError(
                f"the budget cannot be kept: the ledger {self.place} is damaged ({self._told(error)})",
                hint="Nothing was sent. Put back a copy of it, or move it away: a new one begins with nothing spent.",
            ) from None

    def _reserved(
        self,
        budgets: "Sequence[tuple[Budget, str, BudgetModels | None]]",
        amount: int,
        now: float,
        expires: float,
    ) -> "tuple[list[tuple[int, Decimal]], tuple[Budget, Decimal] | None]":
        with self._transaction(alone=True):
            self._execute("DELETE FROM {reservations} WHERE expires < ?", (now,))
            used = [self._used(*each) for each in budgets]
            for (budget, *_), already in zip(budgets, used, strict=True):
                if already + amount > int(budget.exact * PICO):
                    return [], (budget, budget.exact - Decimal(already) / PICO)
            aside = "INSERT INTO {reservations} (budget, amount, expires) VALUES (?, ?, ?)"
            numbers = [self._inserted(aside, (each.label, amount, expires)) for each, *_ in budgets]
        shares = [
            Decimal(already + amount) / PICO / budget.exact for (budget, *_), already in zip(budgets, used, strict=True)
        ]
        return list(zip(numbers, shares, strict=True)), None

    def _used(self, budget: "Budget", begins: str, models: "BudgetModels | None") -> int:
        """What is spent and put aside of a budget, seen at one moment."""
        where = ""
        given: list[str] = []
        if models is not None:
            same = " OR ".join(["(provider = ? AND name = ?)"] * len(models.pairs))
            where += f" AND ({same})"
            given += [text for pair in models.pairs for text in pair]
            if models.but:
                where += f" AND label NOT IN ({', '.join('?' * len(models.but))})"
                given += models.but
        for name, value in budget.tags.items():
            where += f" AND {self.tag} = ?"
            given += [self.tag_value(name), value]
        query = (
            f"SELECT (SELECT coalesce(sum(cost), 0) FROM {{sums}} WHERE day >= ? AND currency = ?{where})"
            " + (SELECT coalesce(sum(amount), 0) FROM {reservations} WHERE budget = ?)"
        )
        return int(self._execute(query, (begins, budget.currency, *given, budget.label)).fetchone()[0])

    def sums(self, since: str, until: str, by: Sequence[str]) -> list[dict[str, Any]]:
        """Sums by columns, of the days from ``since`` up to but not including ``until``; a row for each currency.

        Args:
            by: of ``day``, ``provider``, ``model``, ``label``, ``tag:NAME``.
        """
        groups = [self._group(each) for each in by]
        columns = ", ".join(
            [*(f"{expression} AS g{at}" for at, (expression, _) in enumerate(groups)), "currency"]
            + [f"sum({name}) AS {name}" for name in SUMS]
        )
        grouped = ", ".join([str(at + 1) for at in range(len(groups) + 1)])
        given = [value for _, values in groups for value in values]
        query = f"SELECT {columns} FROM {{sums}} WHERE day >= ? AND day < ? GROUP BY {grouped} ORDER BY {grouped}"
        names = [*by, "currency"]
        return [
            {**dict(zip(names, row, strict=False)), **dict(zip(SUMS, map(int, row[len(names) :]), strict=True))}
            for row in self._found(query, (*given, since, until))
        ]

    def latencies(self, since: str, until: str, by: Sequence[str]) -> dict[tuple[Any, ...], dict[int, int]]:
        """Counts of latencies by the same columns."""
        groups = [self._group(each) for each in by]
        columns = "".join(f"{expression} AS g{at}, " for at, (expression, _) in enumerate(groups))
        grouped = ", ".join([str(at + 1) for at in range(len(groups) + 1)])
        given = [value for _, values in groups for value in values]
        query = f"SELECT {columns} bucket, sum(count) FROM {{latencies}} WHERE day >= ? AND day < ? GROUP BY {grouped}"
        counts: dict[tuple[Any, ...], dict[int, int]] = {}
        for *key, bucket, count in self._found(query, (*given, since, until)):
            counts.setdefault(tuple(key), {})[int(bucket)] = int(count)
        return counts

    def attempts(self, since: float, until: float) -> Iterator[LedgerRow]:
        """The rows of single attempts of a time, the oldest first; not all of them are held at a time."""
        query = (
            f"SELECT id, {', '.join(COLUMNS)} FROM {{attempts}} WHERE (at, id) > (?, ?) AND at < ? "
            f"ORDER BY at, id LIMIT {_PAGE}"
        )
        after, number = since, -1
        while page := self._found(query, (after, number, until)):
            for number, *values in page:  # noqa: B007 - where the next page begins
                row = dict(zip(COLUMNS, values, strict=True))
                row["tags"], row["estimated"] = json.loads(row["tags"]), bool(row["estimated"])
                after = row["at"]
                yield msgspec.convert(row, LedgerRow)

    def _found(self, statement: str, values: Sequence[Any]) -> list[Any]:
        """The rows that a statement finds.

        Raises:
            ConfigError: the ledger cannot be read.
        """
        try:
            rows: list[Any] = self._execute(statement, values).fetchall()
        except self.errors as error:
            raise ConfigError(
                f"the ledger {self.place} cannot be read ({self._told(error)})",
                hint="See what is the matter with it, or name another one in [ledger] store.",
            ) from None
        return rows

    def forget(self, before: float) -> int:
        """Take out the rows of single attempts before a time; sums of days stay. Returns how many.

        In parts, so that nobody who writes meanwhile waits long.

        Raises:
            ConfigError: the ledger cannot be written.
        """
        old = f"SELECT id FROM {{attempts}} WHERE at < ? ORDER BY at LIMIT {_PAGE}"
        gone = 0
        try:
            while count := int(self._execute(f"DELETE FROM {{attempts}} WHERE id IN ({old})", (before,)).rowcount):
                gone += count
        except self.errors as error:
            raise ConfigError(
                f"the ledger {self.place} cannot be written ({self._told(error)})",
                hint="See what is the matter with it, and try again: what is gone is gone.",
            ) from None
        return gone

    def _group(self, by: str) -> tuple[str, list[str]]:
        """What a column is grouped by, and the values in it."""
        if by.startswith("tag:"):
            return self.tag, [self.tag_value(by[4:])]
        return {"day": "day", "provider": "provider", "model": "name", "label": "label"}[by], []


def open_ledger(settings: "LedgerSettings", *, reading: bool = False) -> Ledger:
    """The ledger that settings name; made where it is not there, unless ``reading``.

    Raises:
        ConfigError: it cannot be opened, is no ledger, or one of a newer Agouti.
    """
    if settings.path is not None:
        from .sqlite import SqliteLedger

        return SqliteLedger(settings.path, reading=reading)
    from .postgres import PostgresLedger

    return PostgresLedger(settings.store, reading=reading)


_INSERT = f"INSERT INTO {{attempts}} ({', '.join(COLUMNS)}) VALUES ({', '.join('?' * len(COLUMNS))})"
_ADD = (
    f"INSERT INTO {{sums}} AS old VALUES ({', '.join('?' * (len(KEYS) + len(SUMS)))}) "
    f"ON CONFLICT ({', '.join(KEYS)}) DO UPDATE SET "
    + ", ".join(f"{name} = old.{name} + excluded.{name}" for name in SUMS)
)
_ADD_LATENCY = (
    f"INSERT INTO {{latencies}} AS old VALUES ({', '.join('?' * (len(KEYS) + 1))}) "
    f"ON CONFLICT ({', '.join(KEYS[:-1])}, bucket) DO UPDATE SET count = old.count + excluded.count"
)


def day_of(at: float) -> str:
    """The day of a time, by UTC."""
    return datetime.fromtimestamp(at, UTC).date().isoformat()


def _tags(row: LedgerRow) -> str:
    return json.dumps(dict(sorted(row.tags.items())), ensure_ascii=False)


def _key(row: LedgerRow) -> tuple[str, ...]:
    return (day_of(row.at), row.provider, row.name, row.label, _tags(row), row.currency)


def _counted(row: LedgerRow) -> tuple[int, ...]:
    tokens = (row.input_tokens, row.output_tokens, row.cached_tokens, row.cache_write_tokens, row.reasoning_tokens)
    return (
        1,
        int(row.outcome == "failed"),
        int(row.outcome == "abandoned"),
        *[each or 0 for each in tokens],
        row.cost or 0,
        int(row.cost is None),
        int(row.estimated),
    )


def _values(row: LedgerRow) -> tuple[Any, ...]:
    return tuple([_tags(row) if name == "tags" else getattr(row, name) for name in COLUMNS])
