"""Answers on disk: a SQLite file that several threads and processes use, with limits of age and size."""

import os
import sqlite3
import threading
import time
from contextlib import suppress
from pathlib import Path

from ..core.errors import ConfigError
from ..core.warn import warn
from ..runtime.fork_guard import undisturbed
from ..runtime.fork_reset import reset_after_fork

_DAY = 86400.0
_HOUR = 3600.0
# So often, while it fills, it is looked up what all programs have put there.
_SHARE = 16
# What SQLite says of a file that it cannot read any more.
_SIGNS = ("malformed", "corrupt", "disk image", "file is not a database")
_FORMAT = 1
# Calls do not wait longer than this for another program that writes; the answer is not kept then.
_PATIENCE = 0.2
# So much is taken out at a time once there is too much.
_ROOM = 0.9
_TABLES = """
CREATE TABLE IF NOT EXISTS answers (key BLOB PRIMARY KEY, at REAL NOT NULL, size INTEGER NOT NULL, answer BLOB NOT NULL)
    WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS answers_at ON answers (at);
"""


class _Damaged(Exception):
    """The file is a database, and cannot be read."""


class AnswerStore:
    """Answers by the key of their question.

    Args:
        path: the file; made where it is not there.
        keep_days: an older answer is none; `None`: however old.
        max_bytes: once all answers are larger than that, the oldest go.

    Raises:
        ConfigError: the file is something else, or cannot be used.
    """

    def __init__(self, path: Path, *, keep_days: float | None, max_bytes: int) -> None:
        self._path = path
        self._age = None if keep_days is None else keep_days * _DAY
        self._max_bytes = max_bytes
        self._lock = threading.Lock()
        self._base: sqlite3.Connection | None = None
        self._added = 0
        self._checked_at = 0.0
        self._file = (0, 0)  # which one is open: another program may have begun a new one in its place
        self._connection()
        reset_after_fork(self)

    def _connection(self) -> sqlite3.Connection:
        """The open file; a child opens it when it first needs it."""
        if self._base is None:
            with undisturbed():
                try:
                    self._base = self._opened()
                except _Damaged as damaged:
                    self._move_away(str(damaged))
                    self._base = self._opened()
        return self._base

    def _move_away(self, reason: str) -> None:
        """Put a damaged file beside, so that a new one can begin."""
        base, self._base = self._base, None
        if base is not None:
            with suppress(sqlite3.Error):
                base.close()
        if self._size_and_count() != self._file:
            return  # another program has put it aside already
        damaged_path = self._path.with_name(f"{self._path.name}.damaged-{time.time_ns()}")
        try:
            for ending in ("-wal", "-shm"):  # before anybody can begin anew
                self._path.with_name(self._path.name + ending).unlink(missing_ok=True)
            os.replace(self._path, damaged_path)
        except OSError as error:
            raise ConfigError(
                f"[cache] store = {str(self._path)!r} is damaged ({reason}), "
                f"and cannot be moved away: {error.strerror}",
                hint="Remove it: a new one begins.",
            ) from None
        warn(f"the cache {self._path} was damaged ({reason}): it is {damaged_path.name} now, and a new one begins")

    def _size_and_count(self) -> tuple[int, int]:
        try:
            facts = os.stat(self._path)
        except OSError:
            return 0, 0
        return facts.st_dev, facts.st_ino

    def _is_damaged(self, error: sqlite3.Error) -> bool:
        """Whether the file is a database that cannot be read any more; anything else is somebody's."""
        message = str(error)
        if not any(sign in message for sign in _SIGNS):
            return False
        try:
            with self._path.open("rb") as file:
                return file.read(16) == b"SQLite format 3\0"
        except OSError:
            return False

    def recover(self, error: sqlite3.Error) -> bool:
        """After an error: move the file away where it is damaged, and begin anew; whether that was so."""
        with self._lock, undisturbed():
            if not self._is_damaged(error):
                return False
            self._move_away(str(error))
            self._connection()
        return True

    def _opened(self) -> sqlite3.Connection:
        try:
            if not self._path.exists():
                # Answers are nobody else's.
                os.close(os.open(self._path, os.O_CREAT | os.O_RDWR, 0o600))
            self._file = self._size_and_count()
            base = sqlite3.connect(self._path, isolation_level=None, check_same_thread=False, timeout=_PATIENCE)
            try:
                self._prepare(base)
            except BaseException:
                base.close()
                raise
            return base
        except sqlite3.Error as error:
            if self._is_damaged(error):
                raise _Damaged(str(error)) from None
            raise ConfigError(
                f"[cache] store = {str(self._path)!r} cannot be used: {error}",
                hint="Name a file that is a cache of answers, or not there yet.",
            ) from None
        except OSError as error:
            raise ConfigError(
                f"[cache] store = {str(self._path)!r} cannot be written: {error.strerror or error}",
                hint="Name a file in a folder that you can write to.",
            ) from None

    def _prepare(self, base: sqlite3.Connection) -> None:
        """Make the file a cache of answers, if it is not one."""
        version = base.execute("PRAGMA user_version").fetchone()[0]
        tables = [name for (name,) in base.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        if tables and (version != _FORMAT or "answers" not in tables):
            raise ConfigError(
                f"{self._path} is a database, but no cache of answers", hint="Name another file in [cache] store."
            )
        if not tables:
            base.execute("PRAGMA journal_mode=WAL")
            base.executescript(_TABLES)
            base.execute(f"PRAGMA user_version = {_FORMAT}")
        base.execute("PRAGMA synchronous=OFF")  # what a power cut takes can be asked again
        self._size = int(base.execute("SELECT coalesce(sum(size), 0) FROM answers").fetchone()[0])
        self._added = 0
        with suppress(sqlite3.OperationalError):  # somebody else writes just now, and does the same
            self._forget_old(base)

    def after_fork(self) -> None:
        """A child has a connection of its own."""
        self._lock, self._base = threading.Lock(), None

    def get(self, key: bytes) -> bytes | None:
        """The answer to a question; `None` where there is none, or it is too old.

        Raises:
            sqlite3.Error: the file cannot be read.
        """
        with self._lock, undisturbed():
            found = self._connection().execute("SELECT at, answer FROM answers WHERE key = ?", (key,)).fetchone()
        if found is None or (self._age is not None and time.time() - found[0] > self._age):
            return None
        return bytes(found[1])

    def put(self, key: bytes, answer: bytes) -> None:
        """Keep an answer, unless it is larger than all together may be.

        Raises:
            sqlite3.Error: the file cannot be written.
        """
        if len(answer) > self._max_bytes:
            return
        with self._lock, undisturbed():
            base = self._connection()
            base.execute("INSERT OR REPLACE INTO answers VALUES (?, ?, ?, ?)", (key, time.time(), len(answer), answer))
            self._size += len(answer)
            self._added += len(answer)
            # Other programs add to it as well: what there is in all is looked up now and then.
            if (
                self._size > self._max_bytes
                or self._added > self._max_bytes // _SHARE
                or time.time() - self._checked_at > _HOUR
            ):
                self._make_room(base)

    def _forget_old(self, base: sqlite3.Connection) -> None:
        """Take out what is too old: nobody can read it any more."""
        self._checked_at = time.time()
        if self._age is not None:
            base.execute("DELETE FROM answers WHERE at < ?", (self._checked_at - self._age,))

    def _make_room(self, base: sqlite3.Connection) -> None:
        """Take out what is too old, and of the others the oldest ones where there are too many."""
        self._forget_old(base)
        self._added = 0
        self._size = int(base.execute("SELECT coalesce(sum(size), 0) FROM answers").fetchone()[0])
        if self._size <= self._max_bytes:
            return
        spare = self._size - int(self._max_bytes * _ROOM)
        base.execute(
            "DELETE FROM answers WHERE key IN (SELECT key FROM (SELECT key, sum(size) OVER (ORDER BY at, key "
            "ROWS BETWEEN UNBOUNDED PRECEDING AND 1 PRECEDING) AS before FROM answers) WHERE coalesce(before, 0) < ?)",
            (spare,),
        )
        self._size = int(base.execute("SELECT coalesce(sum(size), 0) FROM answers").fetchone()[0])

    def close(self) -> None:
        """Let go of the file."""
        with self._lock:
            if self._base is not None:
                self._base.close()
