"""What ledgers of every kind do in the same words: rows, sums of days and budgets in tables of SQL."""

import json
import logging
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from threading import RLock
from typing import TYPE_CHECKING, Any, ClassVar

import msgspec

from ..config.budgets import TOKENS
from ..core.errors import ConfigError, LedgerUnavailable
from .kept_budgets import BudgetState, KeptBudget, Wanted, words_of
from .rows import LedgerRow

if TYPE_CHECKING:
    from ..config.budgets import Budget
    from ..config.entries import Config
    from ..config.singles import LedgerSettings

log = logging.getLogger("agouti.ledger")

VERSION = 2
_PAGE = 5000
# Lists of models and counts of tokens cost nothing: they have rows, and stand in no sum.
USES = frozenset({"chat", "embeddings"})
COLUMNS = tuple(name for name in LedgerRow.__struct_fields__)
ADDED = ("sent", "audio_input_tokens", "audio_output_tokens", "provider_cost")
"""Columns that the first version did not have."""
UNTIMED = frozenset({"operation", "key", "error"})
"""Columns by which latencies are not kept."""
AMOUNTS = ("cost", "provider_cost", "compared_cost")
"""Sums of amounts, which have no ceiling."""
SUMS = (
    "calls", "failures", "abandoned", "cached_answers", "unsent", "input_tokens", "output_tokens", "cached_tokens",
    "cache_write_tokens", "reasoning_tokens", "cost", "provider_cost", "compared_cost", "unpriced", "estimated",
)  # fmt: skip
"""``compared_cost`` is what those requests cost by our price of which the provider says the cost itself."""
OLD_SUMS = (
    "calls", "failures", "abandoned", "input_tokens", "output_tokens", "cached_tokens", "cache_write_tokens",
    "reasoning_tokens", "cost", "unpriced", "estimated",
)  # fmt: skip
"""Those of the first version."""
OLD_KEYS = ("day", "provider", "name", "label", "tags", "currency")
KEYS = (*OLD_KEYS, "operation", "key", "error")
LATENCY_KEYS = OLD_KEYS[:-1]
_GROUPS = {
    "day": "day", "provider": "provider", "model": "name", "label": "label", "operation": "operation", "key": "key",
    "error": "error",
}  # fmt: skip


class LedgerAway(ConfigError):
    """The ledger is out of reach now, and may be there again later."""


class Full(Exception):
    """A budget has too little left.

    Attributes:
        wanted: what was to be put aside.
        used: what is spent and put aside already.
    """

    def __init__(self, wanted: Wanted, used: int) -> None:
        super().__init__(wanted.budget.label)
        self.wanted = wanted
        self.used = used


class Ledger(ABC):
    """A ledger, whatever keeps it.

    Attributes:
        place: where it is, for messages.
        errors: all errors of the database.
        prefix: of the names of its tables.
        mark: what stands for a value in a statement.
        tag: the expression for a tag of a call, with one value in it.
    """

    place: str
    errors: ClassVar[tuple[type[Exception], ...]]
    prefix: ClassVar[str] = ""
    mark: ClassVar[str] = "?"
    tag: ClassVar[str]

    def __init__(self) -> None:
        self._lock = RLock()
        self._numbers: dict[str, int] = {}

    @abstractmethod
    def may_retry(self, error: Exception) -> bool:
        """Whether the same may be written later: the disk is full, somebody holds a lock, the server is away."""

    def is_damaged(self, error: Exception) -> bool:
        """Whether it is no ledger any more; another one may be put in its place."""
        return False

    def _disconnected(self, error: Exception) -> bool:
        """Whether an error says that the connection was closed."""
        return False

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
    def _transaction(self) -> Iterator[None]:
        """All that the block writes is kept, or nothing."""
        yield

    def _alone(self) -> None:
        """Nobody else writes rows until the transaction is over; so it is by itself where only one can write."""
        return

    def _amount(self, value: Any) -> int:
        """An amount as it is kept."""
        return int(value)

    def _values(self, row: LedgerRow) -> tuple[Any, ...]:
        """A row as it is kept."""
        return tuple([_tags(row) if name == "tags" else getattr(row, name) for name in COLUMNS])

    @abstractmethod
    def tag_value(self, name: str) -> str:
        """The value in the expression for a tag."""

    @abstractmethod
    def close(self) -> None:
        """Let go of it."""

    def close_now(self) -> bool:
        """Let go of it, unless another thread is in the middle of something; whether it was."""
        if not self._lock.acquire(blocking=False):
            return False
        try:
            self.close()
        finally:
            self._lock.release()
        return True

    def told(self, error: Exception) -> str:
        """What an error says, in one line."""
        return " ".join(str(error).split())

    def _words(self, statement: str) -> str:
        """A statement with the names of tables, and the marks for values, that this ledger has."""
        return statement.replace("{", self.prefix).replace("}", "").replace("?", self.mark)

    def add(
        self, rows: Sequence[LedgerRow], settled: Sequence[int] = (), kept: Sequence[tuple[int, float]] = ()
    ) -> None:
        """Keep rows, and add them to the sums of their days and budgets, all or none.

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
        counting = [row for row in rows if row.operation in USES]
        for row in counting:
            key = _key(row)
            total = sums.setdefault(key, [0] * len(SUMS))
            for at, value in enumerate(_counted(row)):
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
            for place, amount in self._take_out(settled).items():
                spent.setdefault(place, [0, 0])[1] -= amount
            self._execute_many(
                "UPDATE {reservations} SET expires = ? WHERE id = ?", [(end, each) for each, end in kept]
            )
            self._spend([(place, spent[place][0], spent[place][1]) for place in sorted(spent)])

    @abstractmethod
    def _known(self) -> list[tuple[int, KeptBudget]]:
        """The budgets that a sum is kept for; none is added before the transaction is over."""

    @abstractmethod
    def _add_sums(self, sums: Sequence[tuple[tuple[str, ...], Sequence[int]]]) -> None:
        """Add to the sums of days."""

    @abstractmethod
    def _add_latencies(self, counts: Sequence[tuple[Any, ...]]) -> None:
        """Add to the counts of latencies."""

    @abstractmethod
    def _take_out(self, reservations: Sequence[int]) -> dict[tuple[int, str, str], int]:
        """Take reservations out; how much that is, by budget, period and part."""

    @abstractmethod
    def _spend(self, amounts: Sequence[tuple[tuple[int, str, str], int, int]]) -> None:
        """Add to what is spent and to what is put aside, by budget, period and part."""

    @abstractmethod
    def _put_aside(self, wanted: Sequence[tuple[int, Wanted]], now: float, expires: float) -> list[tuple[int, int]]:
        """Put amounts aside, all or none: the number of each, and what is used then.

        Raises:
            Full: there is too little left in one of them.
        """

    @abstractmethod
    def _state(self, budget: int, begins: str) -> list[BudgetState]:
        """What is spent and put aside of a budget in a period, by parts."""

    def reserve(
        self, wanted: Sequence[Wanted], now: float, expires: float
    ) -> "tuple[list[tuple[int, Decimal]], tuple[Wanted, int] | None]":
        """Put an amount aside in each of several budgets, or in none.

        Returns:
            The number of each reservation, with the share of the budget that is used then; and the one that has too
            little left, with what it has.

        Raises:
            LedgerUnavailable: the ledger cannot be read or written now.
        """
        try:
            numbered = [(self._number_of(each.kept, each.begins), each) for each in wanted]
            try:
                put_aside = self._put_aside(numbered, now, expires)
            except Full as full:
                return [], (full.wanted, full.wanted.most - full.used)
            except self.errors as error:
                # A server may have closed a connection that nobody had used for a while: nothing was kept yet.
                if not self._disconnected(error):
                    raise
                put_aside = self._put_aside(numbered, now, expires)
        except self.errors as error:
            raise self._unreserved(error) from None
        shares = [Decimal(used) / each.most for each, (_, used) in zip(wanted, put_aside, strict=True)]
        return [(number, share) for (number, _), share in zip(put_aside, shares, strict=True)], None

    def _unreserved(self, error: Exception) -> LedgerUnavailable:
        if self.may_retry(error):
            return LedgerUnavailable(
                f"the budget cannot be kept: the ledger {self.place} is out of reach ({self.told(error)})",
                hint="Nothing was sent. Try again, or see what is the matter with it.",
            )
        return LedgerUnavailable(
            f"the budget cannot be kept: the ledger {self.place} is damaged ({self.told(error)})",
            hint="Nothing was sent. Put back a copy of it, or move it away: a new one begins with nothing spent.",
        )

    def _number_of(self, budget: KeptBudget, begins: str) -> int:
        """The number of a budget in this ledger.

        The first program that asks for it adds up what was spent in its period before; from then on a sum is kept.
        """
        key = budget.key
        number = self._numbers.get(key)
        if number is not None:
            return number
        with self._transaction():
            self._alone()
            found = self._execute("SELECT id FROM {budgets} WHERE key = ?", (key,)).fetchone()
            if found is None:
                words = "INSERT INTO {budgets} (key, definition) VALUES (?, ?)"
                number = self._inserted(words, (key, budget.words))
                before = self._spent_before(budget, begins)
                self._spend([((number, begins, value), amount, 0) for value, amount in sorted(before.items())])
            else:
                number = int(found[0])
        self._numbers[key] = number
        return number

    def _spent_before(self, budget: KeptBudget, begins: str) -> dict[str, int]:
        """What the sums of a period's days say, by parts of a budget."""
        where, given = "", [begins]
        if budget.unit != TOKENS:
            where += " AND currency = ?"
            given.append(budget.unit)
        if budget.pairs:
            same = " OR ".join(["(provider = ? AND name = ?)"] * len(budget.pairs))
            where += f" AND ({same})"
            given += [text for pair in budget.pairs for text in pair]
            if budget.but:
                where += f" AND label NOT IN ({', '.join('?' * len(budget.but))})"
                given += budget.but
        if budget.providers:
            where += f" AND provider IN ({', '.join('?' * len(budget.providers))})"
            given += budget.providers
        columns = "provider, name, label, tags, currency, cost, input_tokens + output_tokens"
        found = self._execute(f"SELECT {columns} FROM {{sums}} WHERE day >= ?{where}", given)
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

    def states(self, budgets: "Iterable[tuple[Budget, KeptBudget, str]]") -> list[list[BudgetState]]:
        """What is spent and put aside of budgets in their periods, by parts; as the rows before say, where no program
        has asked for one of them yet.

        Raises:
            ConfigError: the ledger cannot be read.
        """
        told = []
        for _, kept, begins in budgets:
            try:
                found = self._execute("SELECT id FROM {budgets} WHERE key = ?", (kept.key,)).fetchone()
                if found is not None:
                    told.append(self._state(int(found[0]), begins))
                else:
                    before = self._spent_before(kept, begins)
                    told.append([BudgetState(value, amount, 0) for value, amount in sorted(before.items())])
            except self.errors as error:
                raise self._unread(error) from None
        return told

    def sums(self, since: str, until: str, by: Sequence[str]) -> list[tuple[tuple[Any, ...], str, tuple[int, ...]]]:
        """Sums by columns, of the days from ``since`` up to but not including ``until``; one for each currency.

        Args:
            by: of ``day``, ``provider``, ``model``, ``label``, ``operation``, ``key``, ``error``, ``tag:NAME``.

        Returns:
            The values of the columns, the currency, and the sums in the order of `SUMS`.
        """
        groups = [self._group(each) for each in by]
        grouped = ", ".join([str(at + 1) for at in range(len(groups) + 1)])
        given = [value for _, values in groups for value in values]

        def found(total: str) -> list[Any]:
            columns = ", ".join(
                [*(f"{expression} AS g{at}" for at, (expression, _) in enumerate(groups)), "currency"]
                + [f"{total if name in AMOUNTS else 'sum'}({name}) AS {name}" for name in SUMS]
            )
            query = f"SELECT {columns} FROM {{sums}} WHERE day >= ? AND day < ? GROUP BY {grouped} ORDER BY {grouped}"
            return self._found(query, (*given, since, until))

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
        given = [value for _, values in groups for value in values]
        query = f"SELECT {columns} bucket, sum(count) FROM {{latencies}} WHERE day >= ? AND day < ? GROUP BY {grouped}"
        counts: dict[tuple[Any, ...], dict[int, int]] = {}
        width = len(groups)
        for row in self._found(query, (*given, since, until)):
            counts.setdefault(tuple(row[:width]), {})[int(row[width])] = int(row[width + 1])
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
            f"the ledger {self.place} cannot be read ({self.told(error)})",
            hint="See what is the matter with it, or name another one in [ledger] store.",
        )

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
            # Sums of budgets whose periods were over two months ago, which nobody asks for any more.
            long_ago = (datetime.fromtimestamp(before, UTC).date() - timedelta(days=62)).isoformat()
            self._execute("DELETE FROM {spent} WHERE period < ?", (long_ago,))
        except self.errors as error:
            raise self._unwritten(error) from None
        return gone

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
                    self._alone()
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
            f"the ledger {self.place} cannot be written ({self.told(error)})",
            hint="See what is the matter with it, and try again: what is gone is gone.",
        )

    def _group(self, by: str) -> tuple[str, list[str]]:
        """What a column is grouped by, and the values in it."""
        if by.startswith("tag:"):
            return self.tag, [self.tag_value(by[4:])]
        return _GROUPS[by], []


def relay_ledger(config: "Config") -> "LedgerSettings | None":
    """The ledger that a relay keeps by itself where the configuration names none; `None` where there is none."""
    from ..config.singles import LedgerSettings
    from ..core.secret import Secret

    path = relay_ledger_path(config)
    return LedgerSettings(Secret(str(path))) if path.exists() else None


def relay_ledger_path(config: "Config") -> Path:
    """Where that is: beside the file with the tokens."""
    from ..config.singles import RelaySettings

    return Path((config.relay or RelaySettings()).tokens).with_name("relay-usage.sqlite")


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


def day_of(at: float) -> str:
    """The day of a time, by UTC."""
    return datetime.fromtimestamp(at, UTC).date().isoformat()


def _tags(row: LedgerRow) -> str:
    return json.dumps(dict(sorted(row.tags.items())), ensure_ascii=False)


def _key(row: LedgerRow) -> tuple[str, ...]:
    error = row.error if row.outcome == "failed" else ""
    texts = (row.provider, row.name, row.label, _tags(row), row.currency, row.operation, row.key, error)
    return (day_of(row.at), *texts)


def _counted(row: LedgerRow) -> tuple[int, ...]:
    tokens = (row.input_tokens, row.output_tokens, row.cached_tokens, row.cache_write_tokens, row.reasoning_tokens)
    sent = row.sent
    told = row.provider_cost is not None and row.cost is not None
    return (
        int(sent),
        int(sent and row.outcome == "failed"),
        int(sent and row.outcome == "abandoned"),
        int(row.outcome == "cached"),
        int(not sent and row.outcome != "cached"),
        *[each or 0 for each in tokens],
        row.cost or 0,
        row.provider_cost or 0,
        (row.cost or 0) if told else 0,
        int(sent and row.cost is None),
        int(row.estimated),
    )


def read_budgets(found: Iterable[Sequence[Any]], seen: dict[str, KeptBudget]) -> list[tuple[int, KeptBudget]]:
    """The budgets in the rows of a ledger; those that were read before are not read again."""
    known = []
    for number, words in found:
        if (budget := seen.get(words)) is None:
            budget = seen[words] = words_of(words)
        known.append((int(number), budget))
    return known
