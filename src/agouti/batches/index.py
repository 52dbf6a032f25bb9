"""The index of a run: which rows have a result, and where it stands in the file of results; SQLite, never in memory.

It is told of by the file of results alone, and can be made again from it: a kill between the two costs nothing.
"""

import json
import sqlite3
from collections.abc import Iterable, Iterator
from hashlib import blake2b
from pathlib import Path
from typing import Any, Literal, TypeAlias

State: TypeAlias = Literal["new", "done", "failed", "changed", "twice"]

_TABLES = """
CREATE TABLE IF NOT EXISTS facts (name TEXT PRIMARY KEY, value TEXT);
CREATE TABLE IF NOT EXISTS rows (
    key BLOB PRIMARY KEY, place INTEGER, line INTEGER, content BLOB, start INTEGER, size INTEGER, failed INTEGER,
    run INTEGER
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS handed (mark TEXT PRIMARY KEY, name TEXT, count INTEGER, since REAL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS handed_rows (key BLOB PRIMARY KEY, mark TEXT) WITHOUT ROWID;
"""
_FORMAT = 1
_ORDERS = {True: "place IS NULL, place, start", False: "start"}


def digest_of(key: Any) -> bytes:
    """What stands for the key of a row."""
    if type(key) is str:  # as most are
        return blake2b(key.encode("utf-8", "surrogatepass"), digest_size=16, person=b"text").digest()
    text = json.dumps(key, ensure_ascii=True, default=str, sort_keys=True)
    return blake2b(text.encode(), digest_size=16).digest()


class Index:
    """Which rows have a result.

    Args:
        trial: nothing stays of what is noted.

    Raises:
        sqlite3.Error: the file is something else, or cannot be written.
    """

    def __init__(self, path: Path, *, trial: bool = False) -> None:
        self._trial = trial
        self._base = sqlite3.connect(path, isolation_level=None, check_same_thread=False, timeout=5)
        try:
            self._base.execute("PRAGMA journal_mode=WAL")
            self._base.execute("PRAGMA synchronous=NORMAL")
            self._base.executescript(_TABLES)
            self._base.execute("BEGIN")
        except BaseException:
            self._base.close()
            raise
        self.run = 0
        self.next_run()

    def next_run(self) -> None:
        """Rows are gone through from the beginning: each may be met once."""
        self.run = int(self.fact("run", 0)) + 1
        self.note("run", self.run)

    def fact(self, name: str, default: Any = None) -> Any:
        """A fact of the run."""
        found = self._base.execute("SELECT value FROM facts WHERE name = ?", (name,)).fetchone()
        return default if found is None else json.loads(found[0])

    def note(self, name: str, value: Any) -> None:
        """Keep a fact of the run."""
        self._base.execute("INSERT OR REPLACE INTO facts VALUES (?, ?)", (name, json.dumps(value)))

    @property
    def is_ours(self) -> bool:
        """Whether it is of this format; an empty one is."""
        return bool(self.fact("format", _FORMAT) == _FORMAT)

    def met(self, key: bytes, place: int, line: int, content: bytes) -> tuple[State, int]:
        """A row of the run: how it stands with it, and in which line the other one is that has its key."""
        added = self._base.execute(
            "INSERT INTO rows VALUES (?, ?, ?, ?, NULL, NULL, 0, ?) ON CONFLICT DO NOTHING",
            (key, place, line, content, self.run),
        )
        if added.rowcount:
            return "new", 0
        found = self._base.execute(
            "SELECT content, start, failed, run, line FROM rows WHERE key = ?", (key,)
        ).fetchone()
        before, start, failed, run, other = found
        if run == self.run:
            return "twice", other
        self._base.execute(
            "UPDATE rows SET place = ?, line = ?, content = ?, run = ? WHERE key = ?",
            (place, line, content, self.run, key),
        )
        if start is None:
            return "new", 0
        if before is not None and before != content:
            return "changed", 0
        return ("failed" if failed else "done"), 0

    def set(self, key: bytes, start: int, size: int, *, failed: bool) -> None:
        """The result of a row that was met stands at this place."""
        self._base.execute("UPDATE rows SET start = ?, size = ?, failed = ? WHERE key = ?", (start, size, failed, key))

    def found(self, key: bytes, start: int, size: int, *, failed: bool) -> None:
        """The result of some row stands at this place."""
        self._base.execute(
            "INSERT INTO rows VALUES (?, NULL, NULL, NULL, ?, ?, ?, 0) ON CONFLICT (key) DO UPDATE SET "
            "start = excluded.start, size = excluded.size, failed = excluded.failed",
            (key, start, size, failed),
        )

    def counts(self) -> tuple[int, int]:
        """How many rows have a result, and how many of those failed."""
        found = self._base.execute(
            "SELECT count(*), coalesce(sum(failed), 0) FROM rows WHERE start IS NOT NULL"
        ).fetchone()
        return int(found[0]), int(found[1])

    def size(self) -> int:
        """How many bytes the results have that count."""
        return int(self._base.execute("SELECT coalesce(sum(size), 0) FROM rows WHERE start IS NOT NULL").fetchone()[0])

    def places(self, *, by_place: bool) -> Iterator[tuple[int, int]]:
        """Where the results stand, and how long they are.

        Args:
            by_place: in the order of the rows; as they came otherwise.
        """
        yield from self._base.cursor().execute(
            f"SELECT start, size FROM rows WHERE start IS NOT NULL ORDER BY {_ORDERS[by_place]}"  # noqa: S608
        )

    def put_last_what_is_gone(self) -> None:
        """Rows that were not met in this run have no place among the others any more."""
        self._base.execute("UPDATE rows SET place = NULL WHERE run != ?", (self.run,))

    def forget_contents(self) -> None:
        """What rows were asked is of no account any more: those that have a result keep it."""
        self._base.execute("UPDATE rows SET content = NULL")

    def last(self) -> tuple[bytes, int, int] | None:
        """The result that stands last: its row, where it stands, and how long it is."""
        found = self._base.execute(
            "SELECT key, start, size FROM rows WHERE start IS NOT NULL ORDER BY start DESC LIMIT 1"
        ).fetchone()
        return None if found is None else (bytes(found[0]), int(found[1]), int(found[2]))

    def closed_up(self, *, by_place: bool) -> None:
        """The results stand one behind the other now, in the order of `places`."""
        order = _ORDERS[by_place]
        self._base.execute(
            "CREATE TEMP TABLE moved AS SELECT key, coalesce(sum(size) OVER (ORDER BY "  # noqa: S608
            f"{order} ROWS BETWEEN UNBOUNDED PRECEDING AND 1 PRECEDING), 0) AS start "
            "FROM rows WHERE start IS NOT NULL"
        )
        self._base.execute("CREATE INDEX temp.moved_key ON moved (key)")
        self._base.execute(
            "UPDATE rows SET start = (SELECT moved.start FROM moved WHERE moved.key = rows.key) WHERE start IS NOT NULL"
        )
        self._base.execute("DROP TABLE moved")

    def handed(self) -> list[tuple[str, str, int, float]]:
        """The batches that were handed over: our mark, the provider's name, how many rows, and when."""
        return list(self._base.execute("SELECT mark, name, count, since FROM handed ORDER BY since"))

    def hand(self, mark: str, keys: Iterable[bytes], count: int, since: float) -> None:
        """Rows are about to be handed over; on disk when this returns."""
        self._base.execute("INSERT INTO handed VALUES (?, '', ?, ?)", (mark, count, since))
        self._base.executemany("INSERT OR REPLACE INTO handed_rows VALUES (?, ?)", ((key, mark) for key in keys))
        self.commit()

    def name_batch(self, mark: str, name: str) -> None:
        """A batch has got its name; on disk when this returns. One that was forgotten is remembered."""
        self._base.execute("UPDATE handed SET name = ? WHERE mark = ?", (name, mark))
        self.commit()

    def take_back(self, mark: str) -> None:
        """A batch is over; on disk when this returns."""
        self._base.execute("DELETE FROM handed WHERE mark = ?", (mark,))
        self._base.execute("DELETE FROM handed_rows WHERE mark = ?", (mark,))
        self.commit()

    def is_handed(self, key: bytes) -> bool:
        """Whether a row is in one of the batches."""
        return self._base.execute("SELECT 1 FROM handed_rows WHERE key = ?", (key,)).fetchone() is not None

    def forget(self) -> None:
        """Begin again: nothing has a result."""
        self._base.execute("DELETE FROM rows")

    def commit(self) -> None:
        """Put on disk what was noted."""
        if not self._trial:
            self._base.execute("COMMIT")
            self._base.execute("BEGIN")

    def close(self) -> None:
        """Put on disk what was noted, and let go of the file."""
        try:
            self._base.execute("ROLLBACK" if self._trial else "COMMIT")
        finally:
            self._base.close()
