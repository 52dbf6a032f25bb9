"""A ledger in a file of SQLite, written by any number of processes."""

import errno
import os
import shutil
import sqlite3
import tempfile
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from operator import itemgetter
from pathlib import Path
from typing import Any
from weakref import WeakSet

import msgspec

from ..core.errors import ConfigError
from ..runtime.fork_guard import undisturbed
from ..runtime.fork_reset import reset_after_fork
from .budget_sums import BudgetDefinition, BudgetState, ReservationRequest
from .rows import LedgerRow
from .sqlite_amounts import LARGEST, Total, added, read_amount, stored_amount, sum_of
from .sqlite_tables import ADD, ADD_LATENCY, APPLICATION, AS_NEW, SCHEMA, UPGRADE
from .store import Full, Ledger, LedgerAway, read_budgets, reserved_by_part
from .tables import AMOUNTS, SUMS, VERSION, log

_PATIENCE = 10.0
# Codes of errors after which the same may be written later, and of files that are no ledger any more.
_LATER = frozenset(
    {
        sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED, sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_CANTOPEN,
        sqlite3.SQLITE_READONLY, sqlite3.SQLITE_NOMEM, sqlite3.SQLITE_PERM, sqlite3.SQLITE_INTERRUPT,
        sqlite3.SQLITE_PROTOCOL, sqlite3.SQLITE_SCHEMA,
    }
)  # fmt: skip
_DAMAGED = frozenset({sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB})
# The same of files.
_BUSY = frozenset({errno.ENOSPC, errno.EDQUOT, errno.EIO, errno.EMFILE, errno.ENFILE, errno.ETIMEDOUT, errno.EAGAIN})
_MANY = 500


# What was opened of a file that is not there any more.
_NOWHERE = (0, 0)
_OPEN: "WeakSet[SqliteLedger]" = WeakSet()


class SqliteLedger(Ledger):
    """A ledger in a file.

    A file that was moved, deleted or replaced while it was open is let go of, and the one that is there now is used.

    Args:
        path: of the file; made where it is not there, unless ``reading``.

    Raises:
        LedgerAway: it cannot be opened now.
        ConfigError: it is no ledger, or one of a newer Agouti.
    """

    errors = (sqlite3.Error, OverflowError)
    tag = "json_extract(tags, ?)"

    def __init__(self, path: Path, *, reading: bool = False) -> None:
        super().__init__()
        self.path = path
        self.address = str(path)
        self._reading = reading
        self._copy: tempfile.TemporaryDirectory[str] | None = None
        self._definitions: dict[str, BudgetDefinition] = {}
        if reading and not path.exists():
            raise ConfigError(f"there is no ledger {path}", hint="It comes with the first call; see [ledger] store.")
        self._open()

    def _open(self) -> None:
        try:
            with undisturbed():
                if not self._reading:  # what stands in it is its owner's: prompts, where they are kept
                    os.close(os.open(self.path, os.O_CREAT | os.O_RDWR, 0o600))
                self._connect(self.path)
            try:
                self._prepared()
            except BaseException:
                self._database.close()
                raise
        except (sqlite3.Error, OSError) as error:
            if self._reading and self._copy is None:
                self._open_copy(error)
                return
            busy = self.may_retry(error) or (isinstance(error, OSError) and error.errno in _BUSY)
            raise (LedgerAway if busy else ConfigError)(
                f"the ledger {self.path} cannot be opened ({error})",
                hint="Name a file in a folder that you can write to in [ledger] store, or another file.",
            ) from None

    def _connect(self, path: Path) -> None:
        self._database = sqlite3.connect(path, timeout=_PATIENCE, isolation_level=None, check_same_thread=False)
        self._database.create_function("exact_add", 2, added, deterministic=True)
        self._database.create_aggregate("exact_total", 1, Total)  # type: ignore[arg-type]
        self._opened = _place_of(path)
        self._numbers = {}
        _OPEN.add(self)
        reset_after_fork(self)

    def after_fork(self) -> None:
        """A child has another ledger of its own: this one, and its lock, are the parent's."""
        _OPEN.discard(self)

    def _open_copy(self, reason: Exception) -> None:
        """Read what cannot be opened where it is, such as a copy on something that nothing can be written to."""
        self._copy = tempfile.TemporaryDirectory(prefix="agouti-ledger-")
        try:
            for suffix in ("", "-wal"):
                source = Path(f"{self.path}{suffix}")
                if source.exists():
                    shutil.copyfile(source, Path(self._copy.name, f"copy{suffix}"))
            self._connect(Path(self._copy.name, "copy"))
            self._opened = None
            self._prepared()
        except (sqlite3.Error, OSError):
            self._copy.cleanup()
            raise LedgerAway(
                f"the ledger {self.path} cannot be read ({reason})",
                hint="See that it is whole, and that you may read it.",
            ) from None

    def _prepared(self) -> None:
        """Make the file a ledger; several programs may begin at the same moment.

        Switching to the write-ahead log does not wait for others, whatever the timeout says.
        """
        until = time.monotonic() + _PATIENCE
        while True:
            try:
                with undisturbed():
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
        if tables and application != APPLICATION:
            raise ConfigError(f"{self.path} is another program's database", hint="Name another file in [ledger] store.")
        if version > VERSION:
            raise ConfigError(
                f"the ledger {self.path} was written by a newer Agouti", hint="Update this one, or name another file."
            )
        if self._reading:
            if tables and version < VERSION:
                for statement in AS_NEW.strip().split(";\n"):
                    database.execute(statement)
            elif not tables:
                raise sqlite3.OperationalError("there is nothing in it")
            return
        database.execute("PRAGMA journal_mode = WAL")
        database.execute("PRAGMA synchronous = NORMAL")
        if not tables or version < VERSION:
            database.execute("BEGIN IMMEDIATE")
            try:
                statements = ""
                if not database.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]:
                    statements = SCHEMA
                elif database.execute("PRAGMA user_version").fetchone()[0] < VERSION:
                    statements = UPGRADE
                for statement in statements.strip().split(";"):
                    database.execute(statement)
                database.execute("COMMIT")
            except BaseException:
                self._roll_back()
                raise

    def _follow(self) -> None:
        """Open the file that is there now, where it is not the one that was opened."""
        if self._opened is None or _place_of(self.path) == self._opened:
            return
        if self._opened != _NOWHERE and self._database.in_transaction:
            return
        if self._opened != _NOWHERE:
            log.warning(
                "the ledger %s was moved, deleted or replaced; rows go on in the file that is there now", self.path
            )
            # Its write-ahead log has the name of the one that the new file is about to have: what is in it belongs to
            # the old one.
            with suppress(sqlite3.Error):
                self._database.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        # All that this process has open of the old file goes.
        for ledger in [each for each in _OPEN if each is not self and each.path == self.path]:
            if ledger._opened not in (None, _NOWHERE) and ledger._lock.acquire(timeout=_PATIENCE):
                try:
                    ledger._database.close()
                    ledger._opened = _NOWHERE
                finally:
                    ledger._lock.release()
        self._database.close()
        try:
            self._open()
        except ConfigError as error:
            # Whatever is wrong with it: what is to be written waits until it can be.
            self._connect(Path(":memory:"))
            self._opened = _NOWHERE
            raise sqlite3.OperationalError(error.message) from None

    def may_retry(self, error: Exception) -> bool:
        """Whether the same may be written later."""
        code = getattr(error, "sqlite_errorcode", None)
        return isinstance(error, sqlite3.OperationalError) and (code is None or code & 0xFF in _LATER)

    def is_damaged(self, error: Exception) -> bool:
        """Whether the file is no ledger any more; another one may be put there."""
        code = getattr(error, "sqlite_errorcode", None)
        if not isinstance(error, sqlite3.Error) or code is None:
            return False
        return code & 0xFF in _DAMAGED or "no such table" in str(error)

    def _execute(self, statement: str, values: Sequence[Any] = ()) -> sqlite3.Cursor:
        with undisturbed():
            return self._database.execute(self._sql_of(statement), values)

    def _execute_many(self, statement: str, rows: Sequence[Sequence[Any]]) -> None:
        if rows:
            with undisturbed():
                self._database.executemany(self._sql_of(statement), rows)

    def _inserted(self, statement: str, values: Sequence[Any]) -> int:
        return self._execute(statement, values).lastrowid or 0

    @contextmanager
    def _transaction(self) -> Iterator[None]:
        with self._lock:
            self._follow()
            self._execute("BEGIN IMMEDIATE")  # nobody else writes
            try:
                yield
                self._execute("COMMIT")
            except BaseException:
                self._roll_back()
                raise

    def _roll_back(self) -> None:
        # A full disk has rolled back already; what goes wrong here must not hide what went wrong before.
        if self._database.in_transaction:
            with suppress(sqlite3.Error):
                self._database.execute("ROLLBACK")

    def _amount(self, value: Any) -> int:
        return read_amount(value)

    def _values(self, row: LedgerRow) -> tuple[Any, ...]:
        values = super()._values(row)
        if max(row.cost or 0, row.provider_cost or 0) <= LARGEST:
            return values
        return tuple([stored_amount(each) if isinstance(each, int) else each for each in values])

    def _known(self) -> list[tuple[int, BudgetDefinition]]:
        return read_budgets(self._execute("SELECT id, definition FROM budgets"), self._definitions)

    def _add_sums(self, sums: Sequence[tuple[tuple[str, ...], Sequence[int]]]) -> None:
        self._execute_many(ADD, [(*key, *map(stored_amount, values)) for key, values in sums])

    def _add_latencies(self, counts: Sequence[tuple[Any, ...]]) -> None:
        self._execute_many(ADD_LATENCY, counts)

    def _take_out(self, reservations: Sequence[int]) -> dict[tuple[int, str, str], int]:
        return self._released(
            [
                row
                for first in range(0, len(reservations), _MANY)
                for row in self._reserved_as(reservations[first : first + _MANY])
            ]
        )

    def _reserved_as(self, numbers: Sequence[int]) -> list[Any]:
        marks = ", ".join("?" * len(numbers))
        return self._execute(
            f"SELECT id, budget, period, value, amount FROM reservations WHERE id IN ({marks})", numbers
        ).fetchall()

    def _released(self, found: Iterable[Sequence[Any]]) -> dict[tuple[int, str, str], int]:
        amounts: dict[tuple[int, str, str], int] = {}
        numbers = []
        for number, budget, period, value, amount in found:
            numbers.append((number,))
            key = (int(budget), period, value)
            amounts[key] = amounts.get(key, 0) + read_amount(amount)
        self._execute_many("DELETE FROM reservations WHERE id = ?", numbers)
        return amounts

    def _spend(self, amounts: Sequence[tuple[tuple[int, str, str], int, int]]) -> None:
        self._execute_many(
            "INSERT INTO spent AS old VALUES (?, ?, ?, ?, ?) ON CONFLICT (budget, period, value) DO UPDATE SET "
            "amount = exact_add(old.amount, excluded.amount), reserved = exact_add(old.reserved, excluded.reserved)",
            [(*key, stored_amount(amount), stored_amount(reserved)) for key, amount, reserved in amounts],
        )

    def _reserve(
        self, request: Sequence[tuple[int, ReservationRequest]], now: float, expires: float
    ) -> list[tuple[int, int]]:
        reserved = []
        with self._transaction():
            old = self._execute(
                "SELECT id, budget, period, value, amount FROM reservations WHERE expires < ?", (now,)
            ).fetchall()
            if old:
                self._spend([(key, 0, -amount) for key, amount in self._released(old).items()])
            for number, each in request:
                key = (number, each.begins, each.value)
                found = self._execute(
                    "SELECT amount, reserved FROM spent WHERE budget = ? AND period = ? AND value = ?", key
                ).fetchone()
                used = 0 if found is None else read_amount(found[0]) + read_amount(found[1])
                if used + each.amount > each.limit:
                    raise Full(each, used)
                self._spend([(key, 0, each.amount)])
                reservation = self._inserted(
                    "INSERT INTO reservations (budget, period, value, amount, expires) VALUES (?, ?, ?, ?, ?)",
                    (*key, stored_amount(each.amount), expires),
                )
                reserved.append((reservation, used + each.amount))
        return reserved

    def _state(self, budget: int, begins: str, now: float) -> list[BudgetState]:
        sql = "SELECT value, amount, expires FROM reservations WHERE budget = ? AND period = ? AND expires >= ?"
        reserved_amounts = reserved_by_part(
            (value, read_amount(amount), expires)
            for value, amount, expires in self._execute(sql, (budget, begins, now))
        )
        sql = "SELECT value, amount FROM spent WHERE budget = ? AND period = ? ORDER BY value"
        found = self._execute(sql, (budget, begins)).fetchall()
        return [
            BudgetState(value, read_amount(spent), *reserved_amounts.get(value, (0, None))) for value, spent in found
        ]

    def _total(self, since: str, until: str) -> str:
        # What SQLite adds up by itself ends at 64 bits.
        danger = " OR ".join([f"typeof({name}) = 'text' OR {name} > ?" for name in AMOUNTS])
        query = f"SELECT count(*), max({danger}) FROM sums WHERE day >= ? AND day < ?"
        count, large = self._found(query, (*[LARGEST // 10**7] * len(AMOUNTS), since, until))[0]
        return "exact_total" if large or count >= 10**7 else "sum"

    def sums(self, since: str, until: str, by: Sequence[str]) -> list[tuple[tuple[Any, ...], str, tuple[int, ...]]]:
        """Sums by columns; see `Ledger.sums`."""
        if not any(each.startswith("tag:") for each in by):
            return super().sums(since, until, by)
        # There may be as many values of a tag as rows: SQLite would sort them all, with all of their sums.
        needed = self._needed(since, until)
        found: dict[tuple[Any, ...], Sequence[Any]] = {}
        for key, values in self._by_tags(self._cursor("sums", ["currency", *needed], by, since, until), by):
            number_of = (key, values[0])
            before = found.get(number_of)
            found[number_of] = values if before is None else (values[0], *map(sum_of, before[1:], values[1:]))
        # The sums in their order; what is not needed is 0.
        pick = itemgetter(*[needed.index(name) + 1 if name in needed else -1 for name in SUMS])
        rows = [(key, currency, pick((*sums, 0))) for (key, currency), sums in found.items()]
        if self._total(since, until) != "sum":
            rows = [(key, currency, tuple(map(read_amount, sums))) for key, currency, sums in rows]
        if len(by) == 1:
            rows.sort(key=lambda row: (row[0][0] is not None, row[0][0], row[1]))
        else:
            rows.sort(key=lambda row: ([(value is not None, value) for value in row[0]], row[1]))
        return rows

    def _needed(self, since: str, until: str) -> list[str]:
        """The sums that are not 0 throughout: most of them are."""
        sql = ", ".join([f"max({name} <> 0)" for name in SUMS])
        found = self._found(f"SELECT {sql} FROM sums WHERE day >= ? AND day < ?", (since, until))[0]
        return [name for name, some in zip(SUMS, found, strict=True) if some]

    def latencies(self, since: str, until: str, by: Sequence[str]) -> dict[tuple[Any, ...], dict[int, int]]:
        """Counts of latencies by the same columns."""
        if not any(each.startswith("tag:") for each in by):
            return super().latencies(since, until, by)
        counts: dict[tuple[Any, ...], dict[int, int]] = {}
        cursor = self._cursor("latencies", ["bucket", "count"], by, since, until)
        for key, (bucket, count) in self._by_tags(cursor, by):
            buckets = counts.get(key)
            if buckets is None:
                counts[key] = {bucket: count}
            else:
                buckets[bucket] = buckets.get(bucket, 0) + count
        return counts

    def _cursor(self, table: str, columns: Sequence[str], by: Sequence[str], since: str, until: str) -> sqlite3.Cursor:
        groups = [self._group(each)[0] for each in by if not each.startswith("tag:")]
        sql = ", ".join(["tags", *groups, *columns])
        try:
            return self._execute(f"SELECT {sql} FROM {table} WHERE day >= ? AND day < ?", (since, until))
        except self.errors as error:
            raise self._unread(error) from None

    def _by_tags(self, cursor: sqlite3.Cursor, by: Sequence[str]) -> Iterator[tuple[tuple[Any, ...], Sequence[Any]]]:
        """Each row's values of the columns, and what else was asked for."""
        columns = [each for each in by if not each.startswith("tag:")]
        key_positions = [-1 if each.startswith("tag:") else columns.index(each) + 1 for each in by]
        names = [each[4:] for each in by]
        first = len(columns) + 1
        is_single = len(by) == 1
        decode = msgspec.json.decode
        try:
            for row in cursor:
                tags = decode(row[0])
                if is_single:
                    yield (tags.get(names[0]),), row[first:]
                else:
                    yield (
                        tuple(
                            [
                                tags.get(name) if at < 0 else row[at]
                                for at, name in zip(key_positions, names, strict=True)
                            ]
                        ),
                        row[first:],
                    )
        except self.errors as error:
            raise self._unread(error) from None

    def _sums_in(self, rows: list[Any], first: int, *, exact: bool) -> Iterator[tuple[Any, tuple[int, ...]]]:
        return super()._sums_in(rows, first, exact=True) if exact else ((row, row[first:]) for row in rows)

    def tag_value(self, name: str) -> str:
        return f'$."{name}"'

    def close(self) -> None:
        """Close the file; never while another thread works with it, which would be the end of both."""
        with self._lock:
            self._database.close()
        if self._copy is not None:
            self._copy.cleanup()


def _place_of(path: Path) -> tuple[int, int] | None:
    """Which file stands there."""
    try:
        found = os.stat(path)
    except OSError:
        return None
    return (found.st_dev, found.st_ino)
