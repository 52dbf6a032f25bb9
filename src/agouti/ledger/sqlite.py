"""A ledger in a file of SQLite, written by any number of processes."""

import os
import sqlite3
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from ..core.errors import ConfigError
from ..forking import undisturbed
from .store import COLUMNS, KEYS, SUMS, VERSION, Ledger

_PATIENCE = 10.0
_APPLICATION = 0x41676F75

_SCHEMA = f"""
CREATE TABLE attempts (id INTEGER PRIMARY KEY, {", ".join(f'"{name}"' for name in COLUMNS)});
CREATE INDEX attempts_at ON attempts (at);
CREATE TABLE sums ({", ".join(f"{name} TEXT NOT NULL" for name in KEYS)},
  {", ".join(f"{name} INTEGER NOT NULL" for name in SUMS)}, PRIMARY KEY ({", ".join(KEYS)})) WITHOUT ROWID;
CREATE TABLE latencies ({", ".join(f"{name} TEXT NOT NULL" for name in KEYS[:-1])}, bucket INTEGER NOT NULL,
  count INTEGER NOT NULL, PRIMARY KEY ({", ".join(KEYS[:-1])}, bucket)) WITHOUT ROWID;
CREATE TABLE reservations (id INTEGER PRIMARY KEY, budget TEXT NOT NULL, amount INTEGER NOT NULL,
  expires REAL NOT NULL);
PRAGMA application_id = {_APPLICATION};
PRAGMA user_version = {VERSION};
"""


class SqliteLedger(Ledger):
    """A ledger in a file.

    Args:
        path: of the file; made where it is not there, unless ``reading``.

    Raises:
        ConfigError: it cannot be opened, is no ledger, or one of a newer Agouti.
    """

    errors = (sqlite3.Error,)
    later = (sqlite3.OperationalError,)  # a full disk, somebody else's lock
    tag = "json_extract(tags, ?)"

    def __init__(self, path: Path, *, reading: bool = False) -> None:
        super().__init__()
        self.path = path
        self.place = str(path)
        if reading and not path.exists():
            raise ConfigError(f"there is no ledger {path}", hint="It comes with the first call; see [ledger] store.")
        try:
            with undisturbed():
                if not reading:  # what stands in it is its owner's: prompts, where they are kept
                    os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
                self._database = sqlite3.connect(path, timeout=_PATIENCE, isolation_level=None, check_same_thread=False)
            try:
                self._prepared()
            except BaseException:
                self._database.close()
                raise
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

    def _execute(self, statement: str, values: Sequence[Any] = ()) -> sqlite3.Cursor:
        with undisturbed():
            return self._database.execute(self._words(statement), values)

    def _execute_many(self, statement: str, rows: Sequence[Sequence[Any]]) -> None:
        with undisturbed():
            self._database.executemany(self._words(statement), rows)

    def _inserted(self, statement: str, values: Sequence[Any]) -> int:
        return self._execute(statement, values).lastrowid or 0

    @contextmanager
    def _transaction(self, *, alone: bool) -> Iterator[None]:
        with self._lock:
            self._execute("BEGIN IMMEDIATE")  # nobody else writes
            try:
                yield
                self._execute("COMMIT")
            except BaseException:
                self._execute("ROLLBACK")
                raise

    def tag_value(self, name: str) -> str:
        return f'$."{name}"'

    def close(self) -> None:
        """Close the file."""
        self._database.close()
