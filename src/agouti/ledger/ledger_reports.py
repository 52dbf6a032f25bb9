"""What is read from a ledger: sums of days by columns, latencies, rows of single attempts; and what is taken out."""

import json
from collections.abc import Iterator, Sequence
from datetime import UTC, date, datetime
from typing import Any

import msgspec

from ..core.errors import ConfigError
from .rows import LedgerRow
from .tables import AMOUNTS, COLUMNS, GROUPS, KEYS, LATENCY_KEYS, PAGE, SUMS, LedgerTables

# Seconds after which nobody asks for the sum of a budget's period any more.
_LONG = 62 * 86400.0


class LedgerReports(LedgerTables):
    """Reads a ledger, and thins it."""

    def sums(self, since: str, until: str, by: Sequence[str]) -> list[tuple[tuple[Any, ...], str, tuple[int, ...]]]:
        """Sums by columns, of the days from ``since`` up to but not including ``until``; one for each currency.

        Args:
            by: of ``day``, ``provider``, ``model``, ``label``, ``operation``, ``key``, ``error``, ``tag:NAME``.

        Returns:
            The values of the columns, the currency, and the sums in the order of `SUMS`.
        """
        groups = [self._group(each) for each in by]
        grouped = ", ".join([str(at + 1) for at in range(len(groups) + 1)])
        parameters = [value for _, values in groups for value in values]

        def found(total: str) -> list[Any]:
            columns = ", ".join(
                [*(f"{expression} AS g{at}" for at, (expression, _) in enumerate(groups)), "currency"]
                + [f"{total if name in AMOUNTS else 'sum'}({name}) AS {name}" for name in SUMS]
            )
            query = f"SELECT {columns} FROM {{sums}} WHERE day >= ? AND day < ? GROUP BY {grouped} ORDER BY {grouped}"
            return self._found(query, (*parameters, since, until))

        width = len(groups)
        total = self._total(since, until)
        sums = self._sums_in(found(total), width + 1, exact=total != "sum")
        return [(tuple(row[:width]), row[width], each) for row, each in sums]

    def _sums_in(self, rows: list[Any], first: int, *, exact: bool) -> Iterator[tuple[Any, tuple[int, ...]]]:
        """Each row with the sums that begin at a column."""
        return ((row, tuple(map(self._amount, row[first:]))) for row in rows)

    def _total(self, since: str, until: str) -> str:
        """The function that adds up the amounts of these days."""
        return "sum"

    def latencies(self, since: str, until: str, by: Sequence[str]) -> dict[tuple[Any, ...], dict[int, int]]:
        """Counts of latencies by the same columns, as far as they are kept by them."""
        groups = [self._group(each) for each in by]
        columns = "".join(f"{expression} AS g{at}, " for at, (expression, _) in enumerate(groups))
        grouped = ", ".join([str(at + 1) for at in range(len(groups) + 1)])
        parameters = [value for _, values in groups for value in values]
        query = f"SELECT {columns} bucket, sum(count) FROM {{latencies}} WHERE day >= ? AND day < ? GROUP BY {grouped}"
        counts: dict[tuple[Any, ...], dict[int, int]] = {}
        width = len(groups)
        for row in self._found(query, (*parameters, since, until)):
            counts.setdefault(tuple(row[:width]), {})[int(row[width])] = int(row[width + 1])
        return counts

    def attempts(self, since: float, until: float) -> Iterator[LedgerRow]:
        """The rows of single attempts of a time, the oldest first; not all of them are held at a time."""
        query = (
            f"SELECT id, {', '.join(COLUMNS)} FROM {{attempts}} WHERE (at, id) > (?, ?) AND at < ? "
            f"ORDER BY at, id LIMIT {PAGE}"
        )
        after, number = since, -1
        while page := self._found(query, (after, number, until)):
            for number, *values in page:  # noqa: B007 - where the next page begins
                row = dict(zip(COLUMNS, values, strict=True))
                row["tags"], row["estimated"] = json.loads(row["tags"]), bool(row["estimated"])
                row["sent"] = row["sent"] is None or bool(row["sent"])  # older rows do not say it
                for name in ("cost", "provider_cost"):
                    row[name] = None if row[name] is None else self._amount(row[name])
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
            raise self._unread(error) from None
        return rows

    def _unread(self, error: Exception) -> ConfigError:
        return ConfigError(
            f"the ledger {self.address} cannot be read ({self.redacted(error)})",
            hint="See what is the matter with it, or name another one in [ledger] store.",
        )

    def forget(self, before: float) -> int:
        """Take out the rows of single attempts before a time; sums of days stay. Returns how many.

        In parts, so that nobody who writes meanwhile waits long.

        Raises:
            ConfigError: the ledger cannot be written.
        """
        old = f"SELECT id FROM {{attempts}} WHERE at < ? ORDER BY at LIMIT {PAGE}"
        removed = 0
        try:
            while count := int(self._execute(f"DELETE FROM {{attempts}} WHERE id IN ({old})", (before,)).rowcount):
                removed += count
            # Sums of budgets whose periods were over two months ago, which nobody asks for any more.
            if before > _LONG:
                long_ago = datetime.fromtimestamp(before - _LONG, UTC).date().isoformat()
                self._execute("DELETE FROM {spent} WHERE period < ?", (long_ago,))
        except self.errors as error:
            raise self._unwritten(error) from None
        return removed

    def thin(self, before: date) -> int:
        """Add up the sums of each day before a day whatever their tags and keys are; returns how many are left less.

        What was used and spent by day, model and label stays; what it was used for does not.

        Raises:
            ConfigError: the ledger cannot be written.
        """
        less = 0
        columns = ", ".join([*KEYS, *SUMS])
        try:
            days = self._execute(
                "SELECT day, count(*) FROM {sums} WHERE day < ? AND (tags <> ? OR key <> '') GROUP BY day",
                (before.isoformat(), "{}"),
            ).fetchall()
            for day, _ in days:
                sums: dict[tuple[str, ...], list[int]] = {}
                latencies: dict[tuple[Any, ...], int] = {}
                with self._transaction():
                    self._lock_exclusively()
                    rows = self._execute(f"SELECT {columns} FROM {{sums}} WHERE day = ?", (day,)).fetchall()
                    for row in rows:
                        named = dict(zip(KEYS, row, strict=False))
                        key = tuple([{"tags": "{}", "key": ""}.get(name, named[name]) for name in KEYS])
                        total = sums.setdefault(key, [0] * len(SUMS))
                        for at, value in enumerate(row[len(KEYS) :]):
                            total[at] += self._amount(value)
                    found = self._execute(
                        f"SELECT {', '.join(LATENCY_KEYS)}, bucket, count FROM {{latencies}} WHERE day = ?", (day,)
                    ).fetchall()
                    for *key_of, bucket, count in found:
                        where = (*key_of[:-1], "{}", bucket)
                        latencies[where] = latencies.get(where, 0) + int(count)
                    self._execute("DELETE FROM {sums} WHERE day = ?", (day,))
                    self._execute("DELETE FROM {latencies} WHERE day = ?", (day,))
                    self._add_sums(sorted(sums.items()))
                    self._add_latencies([(*key, latencies[key]) for key in sorted(latencies)])
                less += len(rows) - len(sums)
        except self.errors as error:
            raise self._unwritten(error) from None
        return less

    def _unwritten(self, error: Exception) -> ConfigError:
        return ConfigError(
            f"the ledger {self.address} cannot be written ({self.redacted(error)})",
            hint="See what is the matter with it, and try again: what is gone is gone.",
        )

    def _group(self, by: str) -> tuple[str, list[str]]:
        """What a column is grouped by, and the values in it."""
        if by.startswith("tag:"):
            return self.tag, [self.tag_value(by[4:])]
        return GROUPS[by], []
