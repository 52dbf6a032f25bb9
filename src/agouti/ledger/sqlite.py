"""A ledger in a file of SQLite, written by any number of processes: a row for each attempt, and sums of days."""

import json
import sqlite3
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path
from threading import Lock
from typing import TYPE_CHECKING, Any

import msgspec

from ..core.errors import ConfigError
from .rows import PICO, LedgerRow

if TYPE_CHECKING:
    from ..config.budgets import Budget

VERSION = 1
# Lists of models and counts of tokens cost nothing: they have rows, and stand in no sum.
_USES = frozenset({"chat", "embeddings"})
_PATIENCE = 10.0
_APPLICATION = 0x41676F75
_COLUMNS = tuple(name for name in LedgerRow.__struct_fields__)
_SUMS = (
    "calls", "failures", "abandoned", "input_tokens", "output_tokens", "cached_tokens", "cache_write_tokens",
    "reasoning_tokens", "cost", "unpriced", "estimated",
)  # fmt: skip
_KEYS = ("day", "provider", "name", "label", "tags", "currency")

_SCHEMA = f"""
CREATE TABLE attempts (id INTEGER PRIMARY KEY, {", ".join(f'"{name}"' for name in _COLUMNS)});
CREATE INDEX attempts_at ON attempts (at);
CREATE TABLE sums ({", ".join(f"{name} TEXT NOT NULL" for name in _KEYS)},
  {", ".join(f"{name} INTEGER NOT NULL" for name in _SUMS)}, PRIMARY KEY ({", ".join(_KEYS)})) WITHOUT ROWID;
CREATE TABLE latencies ({", ".join(f"{name} TEXT NOT NULL" for name in _KEYS[:-1])}, bucket INTEGER NOT NULL,
  count INTEGER NOT NULL, PRIMARY KEY ({", ".join(_KEYS[:-1])}, bucket)) WITHOUT ROWID;
CREATE TABLE reservations (id INTEGER PRIMARY KEY, budget TEXT NOT NULL, amount INTEGER NOT NULL,
  expires REAL NOT NULL);
PRAGMA application_id = {_APPLICATION};
PRAGMA user_version = {VERSION};
"""
_INSERT = f"INSERT INTO attempts ({', '.join(_COLUMNS)}) VALUES ({', '.join('?' * len(_COLUMNS))})"
_ADD = (
    f"INSERT INTO sums VALUES ({', '.join('?' * (len(_KEYS) + len(_SUMS)))}) "
    f"ON CONFLICT DO UPDATE SET {', '.join(f'{name} = {name} + excluded.{name}' for name in _SUMS)}"
)
_ADD_LATENCY = (
    f"INSERT INTO latencies VALUES ({', '.join('?' * (len(_KEYS) + 1))}) "
    "ON CONFLICT DO UPDATE SET count = count + excluded.count"
)


class SqliteLedger:
    """A ledger.

    Args:
        path: of the file; made where it is not there, unless ``reading``.

    Raises:
        ConfigError: it cannot be opened, is no ledger, or one of a newer Agouti.
    """

    def __init__(self, path: Path, *, reading: bool = False) -> None:
        self.path = path
        self._lock = Lock()
        if reading and not path.exists():
            raise ConfigError(f"there is no ledger {path}", hint="It comes with the first call; see [ledger] store.")
        try:
            self._database = sqlite3.connect(path, timeout=_PATIENCE, isolation_level=None, check_same_thread=False)
            self._prepared()
        except (sqlite3.Error, OSError) as error:
            raise ConfigError(
                f"the ledger {path} cannot be opened ({error})",
                hint="Name a file in a folder that you can write to in [ledger] store, or another file.",
            ) from None

    def _prepared(self) -> None:
        """Make the file a ledger; several programs may begin at the same moment.

        Switching to the write-ahead log does not wait for others, whatever the timeout says.
        """
        until = time.monotonic() + _PATIENCE
        while True:
            try:
                self._prepare()
                return
            except sqlite3.OperationalError as error:
                if "locked" not in str(error) or time.monotonic() > until:
                    raise
                time.sleep(0.02)

    def _prepare(self) -> None:
        database = self._database
        # The tables first: another program may just be making them, and its mark comes with them.
        tables = database.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]
        version = database.execute("PRAGMA user_version").fetchone()[0]
        application = database.execute("PRAGMA application_id").fetchone()[0]
        if tables and application != _APPLICATION:
            raise ConfigError(f"{self.path} is another program's database", hint="Name another file in [ledger] store.")
        if version > VERSION:
            raise ConfigError(
                f"the ledger {self.path} was written by a newer Agouti", hint="Update this one, or name another file."
            )
        database.execute("PRAGMA journal_mode = WAL")
        database.execute("PRAGMA synchronous = NORMAL")
        if not tables:
            database.execute("BEGIN IMMEDIATE")
            try:
                if not database.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]:
                    for statement in _SCHEMA.strip().split(";\n"):
                        database.execute(statement.rstrip(";"))
                database.execute("COMMIT")
            except BaseException:
                database.execute("ROLLBACK")
                raise

    def add(self, rows: Sequence[LedgerRow], settled: Sequence[int] = ()) -> None:
        """Keep rows, and add them to the sums of their days, all or none.

        Args:
            settled: reservations that they take the place of.

        Raises:
            sqlite3.Error: they cannot be written.
        """
        if not rows and not settled:
            return
        sums: dict[tuple[str, ...], list[int]] = {}
        latencies: dict[tuple[Any, ...], int] = {}
        for row in rows:
            if row.operation not in _USES:
                continue
            key = _key(row)
            for at, value in enumerate(_counted(row)):
                sums.setdefault(key, [0] * len(_SUMS))[at] += value
            if (bucket := row.bucket) is not None:
                where = (*key[:-1], bucket)
                latencies[where] = latencies.get(where, 0) + 1
        with self._transaction() as database:
            database.executemany(_INSERT, [_values(row) for row in rows])
            database.executemany(_ADD, [(*key, *values) for key, values in sums.items()])
            database.executemany(_ADD_LATENCY, [(*key, count) for key, count in latencies.items()])
            database.executemany("DELETE FROM reservations WHERE id = ?", [(each,) for each in settled])

    @contextmanager
    def _transaction(self) -> Iterator[sqlite3.Connection]:
        """While the block runs, nobody else writes; all of it is kept, or nothing."""
        database = self._database
        with self._lock:
            database.execute("BEGIN IMMEDIATE")
            try:
                yield database
                database.execute("COMMIT")
            except BaseException:
                database.execute("ROLLBACK")
                raise

    def reserve(
        self, budgets: "Sequence[tuple[Budget, str]]", amount: int, now: float, expires: float
    ) -> "tuple[list[tuple[int, Decimal]], tuple[Budget, Decimal] | None]":
        """Put an amount aside in each of several budgets, or in none.

        Args:
            budgets: each with the first day of its period.
            amount: in picos.

        Returns:
            The number of each reservation, with the share of the budget that is used then; and the budget that has
            too little left, with what it has.
        """
        with self._transaction() as database:
            database.execute("DELETE FROM reservations WHERE expires < ?", (now,))
            used = [self._used(budget, begins) for budget, begins in budgets]
            for (budget, _), already in zip(budgets, used, strict=True):
                if already + amount > int(budget.exact * PICO):
                    return [], (budget, budget.exact - Decimal(already) / PICO)
            numbers = [
                database.execute(
                    "INSERT INTO reservations (budget, amount, expires) VALUES (?, ?, ?)",
                    (budget.label, amount, expires),
                ).lastrowid
                for budget, _ in budgets
            ]
        shares = [
            Decimal(already + amount) / PICO / budget.exact for (budget, _), already in zip(budgets, used, strict=True)
        ]
        return [(number or 0, share) for number, share in zip(numbers, shares, strict=True)], None

    def _used(self, budget: "Budget", begins: str) -> int:
        """What is spent and put aside of a budget."""
        where = ""
        given: list[str] = []
        if budget.models:
            where += f" AND label IN ({', '.join('?' * len(budget.models))})"
            given += budget.models
        for name, value in budget.tags.items():
            where += " AND json_extract(tags, ?) = ?"
            given += [f'$."{name}"', value]
        query = f"SELECT coalesce(sum(cost), 0) FROM sums WHERE day >= ? AND currency = ?{where}"
        spent = self._database.execute(query, (begins, budget.currency, *given)).fetchone()[0]
        aside = "SELECT coalesce(sum(amount), 0) FROM reservations WHERE budget = ?"
        return int(spent) + int(self._database.execute(aside, (budget.label,)).fetchone()[0])

    def sums(self, since: str, until: str, by: Sequence[str]) -> list[dict[str, Any]]:
        """Sums by columns, of the days from ``since`` up to but not including ``until``; a row for each currency.

        Args:
            by: of ``day``, ``provider``, ``model``, ``label``, ``tag:NAME``.
        """
        groups = [_expression(each) for each in by]
        columns = ", ".join(
            [*(f"{expression} AS g{at}" for at, (expression, _) in enumerate(groups)), "currency"]
            + [f"sum({name}) AS {name}" for name in _SUMS]
        )
        grouped = ", ".join([*(f"g{at}" for at in range(len(groups))), "currency"])
        given = [value for _, values in groups for value in values]
        query = f"SELECT {columns} FROM sums WHERE day >= ? AND day < ? GROUP BY {grouped} ORDER BY {grouped}"
        names = [*by, "currency", *_SUMS]
        return [dict(zip(names, row, strict=True)) for row in self._database.execute(query, (*given, since, until))]

    def latencies(self, since: str, until: str, by: Sequence[str]) -> dict[tuple[Any, ...], dict[int, int]]:
        """Counts of latencies by the same columns."""
        groups = [_expression(each) for each in by]
        columns = "".join(f"{expression} AS g{at}, " for at, (expression, _) in enumerate(groups))
        grouped = "".join(f"g{at}, " for at in range(len(groups)))
        given = [value for _, values in groups for value in values]
        query = (
            f"SELECT {columns} bucket, sum(count) FROM latencies WHERE day >= ? AND day < ? GROUP BY {grouped} bucket"
        )
        counts: dict[tuple[Any, ...], dict[int, int]] = {}
        for *key, bucket, count in self._database.execute(query, (*given, since, until)):
            counts.setdefault(tuple(key), {})[bucket] = count
        return counts

    def attempts(self, since: float, until: float) -> Iterable[LedgerRow]:
        """The rows of single attempts of a time, the oldest first."""
        query = f"SELECT {', '.join(_COLUMNS)} FROM attempts WHERE at >= ? AND at < ? ORDER BY at"
        for values in self._database.execute(query, (since, until)):
            row = dict(zip(_COLUMNS, values, strict=True))
            row["tags"], row["estimated"] = json.loads(row["tags"]), bool(row["estimated"])
            yield msgspec.convert(row, LedgerRow)

    def forget(self, before: float) -> int:
        """Take out the rows of single attempts before a time; sums of days stay. Returns how many."""
        return self._database.execute("DELETE FROM attempts WHERE at < ?", (before,)).rowcount

    def close(self) -> None:
        """Close the file."""
        self._database.close()


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
        row.outcome == "failed",
        row.outcome == "abandoned",
        *[each or 0 for each in tokens],
        row.cost or 0,
        row.cost is None and row.outcome != "failed",
        row.estimated,
    )


def _values(row: LedgerRow) -> tuple[Any, ...]:
    return tuple([_tags(row) if name == "tags" else getattr(row, name) for name in _COLUMNS])


def _expression(by: str) -> tuple[str, list[str]]:
    """What a column is grouped by, and the values in it."""
    if by.startswith("tag:"):
        return "json_extract(tags, ?)", [f'$."{by[4:]}"']
    return {"day": "day", "provider": "provider", "model": "name", "label": "label"}[by], []
