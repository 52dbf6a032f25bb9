"""The index of a run: which rows have a result, and where it stands in the file of results; SQLite, never in memory.

It is told of by the file of results alone, and can be made again from it: a kill between the two costs nothing.
"""

import json
import sqlite3
from collections.abc import Iterable, Iterator
from hashlib import blake2b
from pathlib import Path
from typing import Any, Literal, TypeAlias

from .result_lines import UNUSABLE

State: TypeAlias = Literal["new", "done", "failed", "changed", "twice", "again"]

_TABLES = """
CREATE TABLE IF NOT EXISTS facts (name TEXT PRIMARY KEY, value TEXT);
CREATE TABLE IF NOT EXISTS rows (
    key BLOB PRIMARY KEY, place INTEGER, line INTEGER, content BLOB, start INTEGER, size INTEGER, failed INTEGER,
    run INTEGER, asked BLOB, why TEXT
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS handed (
    mark TEXT PRIMARY KEY, name TEXT, count INTEGER, since REAL, file TEXT DEFAULT ''
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS handed_rows (
    key BLOB PRIMARY KEY, mark TEXT, content BLOB, head TEXT, counted INTEGER
) WITHOUT ROWID;
"""
# Columns that files of earlier versions lack.
_LATER = (
    ("rows", "asked", "BLOB"),
    ("rows", "why", "TEXT"),
    ("handed", "file", "TEXT DEFAULT ''"),
    ("handed_rows", "content", "BLOB"),
    ("handed_rows", "head", "TEXT"),
    ("handed_rows", "counted", "INTEGER"),
)
_FORMAT = 1
_ORDERS = {True: "place IS NULL, place, start", False: "start"}


def digest_of(key: Any) -> bytes:
    """What stands for the key of a row."""
    if type(key) is str:  # as most are
        return blake2b(key.encode("utf-8", "surrogatepass"), digest_size=16, person=b"text").digest()
    text = json.dumps(key, ensure_ascii=True, default=str, sort_keys=True)
    return blake2b(text.encode(), digest_size=16).digest()


def batches_in(base: sqlite3.Connection) -> list[tuple[str, str, int, float, str]]:
    """The batches that were handed over, the oldest first: our mark, the provider's name, how many rows, when, file."""
    return list(base.execute("SELECT mark, name, count, since, file FROM handed ORDER BY since"))


class Index:
    """Which rows have a result.

    Args:
        trial: nothing stays of what is noted.
        retry_kinds: results of these kinds are asked for once more: see `Known.why`.

    Raises:
        sqlite3.Error: the file is something else, or cannot be written.
    """

    def __init__(self, path: Path, *, trial: bool = False, retry_kinds: frozenset[str] = frozenset()) -> None:
        self._trial = trial
        self._retry_kinds = retry_kinds
        self._base = sqlite3.connect(path, isolation_level=None, check_same_thread=False, timeout=5)
        try:
            self._base.execute("PRAGMA journal_mode=WAL")
            self._base.execute("PRAGMA synchronous=NORMAL")
            self._base.executescript(_TABLES)
            for table, column, kind in _LATER:
                if column not in [each[1] for each in self._base.execute(f"PRAGMA table_info({table})")]:
                    self._base.execute(f"ALTER TABLE {table} ADD COLUMN {column} {kind}")
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

    def see(self, key: bytes, position: int, line: int, content: bytes) -> tuple[State, int]:
        """A row of the run: how it stands with it, and in which line the other one is that has its key.

        What a result is an answer to is noted with the result alone (see `set`): a row that has changed stays changed
        until its new question is answered.

        Args:
            content: a digest of what is asked of it now.
        """
        added = self._base.execute(
            "INSERT INTO rows VALUES (?, ?, ?, NULL, NULL, NULL, 0, ?, ?, NULL) ON CONFLICT DO NOTHING",
            (key, position, line, self.run, content),
        )
        if added.rowcount:
            return "new", 0
        found = self._base.execute(
            "SELECT content, start, failed, run, line, why FROM rows WHERE key = ?", (key,)
        ).fetchone()
        before, start, failed, run, content_before, reason = found
        if run == self.run:
            return "twice", content_before
        self._base.execute(
            "UPDATE rows SET place = ?, line = ?, asked = ?, run = ? WHERE key = ?",
            (position, line, content, self.run, key),
        )
        if start is None:
            return "new", 0
        if before is not None and before != content:
            return "changed", 0
        if reason in self._retry_kinds:
            return "again", 0
        return ("failed" if failed else "done"), 0

    def has_of_earlier_run(self, key: bytes) -> bool:
        """Whether a run before this one has a result under that key, and this one has not met it."""
        found = self._base.execute(
            "SELECT 1 FROM rows WHERE key = ? AND run != ? AND start IS NOT NULL", (key, self.run)
        ).fetchone()
        return found is not None

    def set(
        self, key: bytes, start: int, size: int, *, failed: bool, content: bytes | None = None, reason: str = ""
    ) -> None:
        """The result of a row stands at this place.

        Args:
            content: what it is an answer to; what the row was met with, where not given.
        """
        self._base.execute(
            "INSERT INTO rows VALUES (?, NULL, NULL, ?, ?, ?, ?, 0, ?, ?) ON CONFLICT (key) DO UPDATE SET "
            "start = excluded.start, size = excluded.size, failed = excluded.failed, why = excluded.why, "
            "content = coalesce(excluded.content, asked)",
            (key, content, start, size, failed, content, reason),
        )

    def found(self, key: bytes, start: int, size: int, *, failed: bool, reason: str = "") -> None:
        """The result of some row stands at this place."""
        self._base.execute(
            "INSERT INTO rows VALUES (?, NULL, NULL, NULL, ?, ?, ?, 0, NULL, ?) ON CONFLICT (key) DO UPDATE SET "
            "start = excluded.start, size = excluded.size, failed = excluded.failed, why = excluded.why",
            (key, start, size, failed, reason),
        )
        # Of a row that is handed over, nobody else writes a result: this is what a run had fetched when it was killed.
        self._base.execute(
            "UPDATE rows SET content = coalesce((SELECT content FROM handed_rows WHERE key = ?1), content) "
            "WHERE key = ?1",
            (key,),
        )

    def accepts(self, key: bytes, content: bytes, *, failed: bool) -> bool:
        """Whether what came of a row that was handed over is to be kept.

        An error is not, where there is an answer; an answer is not where it is there already, or where there is one to
        what the row asks by now.

        Args:
            content: what was asked.
        """
        found = self._base.execute(
            "SELECT content, asked FROM rows WHERE key = ? AND start IS NOT NULL AND NOT failed", (key,)
        ).fetchone()
        if found is None:
            return True
        return not failed and found[0] != content and (found[0] is None or found[1] in (None, content))

    def counts(self) -> tuple[int, int]:
        """How many rows have a result, and how many of those failed."""
        found = self._base.execute(
            "SELECT count(*), coalesce(sum(failed), 0) FROM rows WHERE start IS NOT NULL"
        ).fetchone()
        return int(found[0]), int(found[1])

    def unread(self) -> list[tuple[bytes, int, int]]:
        """Results of which an earlier version has not noted the kind: the digest of the key, and where they stand."""
        return [
            (bytes(key), int(start), int(size))
            for key, start, size in self._base.execute(
                "SELECT key, start, size FROM rows WHERE why IS NULL AND start IS NOT NULL"
            )
        ]

    def note_kind(self, key: bytes, reason: str) -> None:
        """The kind of a result: see `Known.why`."""
        self._base.execute("UPDATE rows SET why = ? WHERE key = ?", (reason, key))

    def kinds(self) -> dict[str, int]:
        """How many results there are of each kind that is to be told: see `Known.why`."""
        return dict(
            self._base.execute(
                "SELECT why, count(*) FROM rows WHERE start IS NOT NULL AND why != '' "
                "GROUP BY why ORDER BY count(*) DESC, why"
            )
        )

    def size(self) -> int:
        """How many bytes the results have that count."""
        return int(self._base.execute("SELECT coalesce(sum(size), 0) FROM rows WHERE start IS NOT NULL").fetchone()[0])

    def spans(self, *, by_place: bool) -> Iterator[tuple[int, int]]:
        """Where the results stand, and how long they are.

        Args:
            by_place: in the order of the rows; as they came otherwise.
        """
        yield from self._base.cursor().execute(
            f"SELECT start, size FROM rows WHERE start IS NOT NULL ORDER BY {_ORDERS[by_place]}"  # noqa: S608
        )

    def move_missing_rows_last(self) -> None:
        """Rows that were not met in this run have no place among the others any more."""
        self._base.execute("UPDATE rows SET place = NULL WHERE run != ?", (self.run,))
        # An error of a row that could not even be asked is of no use without it; it may go by its line alone.
        self._base.execute("DELETE FROM rows WHERE run != ? AND failed AND why = ?", (self.run, UNUSABLE))

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
        """The results stand one behind the other now, in the order of `spans`."""
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

    def submissions(self) -> list[tuple[str, str, int, float, str]]:
        """The batches that were handed over: our mark, the provider's name, how many rows, when, and their file."""
        return batches_in(self._base)

    def submit(self, mark: str, rows: Iterable[tuple[bytes, bytes, str]], count: int, since: float, file: str) -> None:
        """Rows are about to be handed over; on disk when this returns.

        Args:
            rows: the digest of each key, what is asked of it, and how its result begins.
        """
        self._base.execute("INSERT INTO handed VALUES (?, '', ?, ?, ?)", (mark, count, since, file))
        self._base.executemany(
            "INSERT OR REPLACE INTO handed_rows VALUES (?, ?, ?, ?, 0)",
            ((key, mark, content, head) for key, content, head in rows),
        )
        self.commit()

    def submitted_row(self, key: bytes, mark: str) -> tuple[bytes, str] | None:
        """What was asked of a row of a batch, and how its result begins; `None` where it is in no such batch."""
        found = self._base.execute(
            "SELECT content, head FROM handed_rows WHERE key = ? AND mark = ?", (key, mark)
        ).fetchone()
        return None if found is None else (bytes(found[0] or b""), found[1] or "")

    def count_submission(self, key: bytes, mark: str) -> bool:
        """Note that the answer to a row of a batch is in the books; whether it was not before."""
        noted = self._base.execute(
            "UPDATE handed_rows SET counted = 1 WHERE key = ? AND mark = ? AND counted IS NOT 1", (key, mark)
        )
        return noted.rowcount > 0

    def submitted_keys(self, mark: str) -> list[bytes]:
        """The keys of the rows of a batch."""
        return [bytes(key) for (key,) in self._base.execute("SELECT key FROM handed_rows WHERE mark = ?", (mark,))]

    def disown(self) -> None:
        """What was handed over is nobody's any more."""
        self._base.execute("DELETE FROM handed")
        self._base.execute("DELETE FROM handed_rows")

    def name_batch(self, mark: str, name: str) -> None:
        """A batch has got its name; on disk when this returns. One that was forgotten is remembered."""
        self._base.execute("UPDATE handed SET name = ? WHERE mark = ?", (name, mark))
        self.commit()

    def take_back(self, mark: str) -> None:
        """A batch is over; on disk when this returns."""
        self._base.execute("DELETE FROM handed WHERE mark = ?", (mark,))
        self._base.execute("DELETE FROM handed_rows WHERE mark = ?", (mark,))
        self.commit()

    def is_submitted(self, key: bytes, content: bytes) -> bool:
        """Whether a row is in one of the batches, with this very question."""
        found = self._base.execute("SELECT content FROM handed_rows WHERE key = ?", (key,)).fetchone()
        return found is not None and (found[0] is None or bytes(found[0]) == content)

    def forget(self) -> None:
        """Begin again: nothing has a result."""
        self._base.execute("DELETE FROM rows")

    def commit(self) -> None:
        """Put on disk what was noted."""
        if not self._trial:
            self._base.execute("COMMIT")
            self._base.execute("BEGIN")

    def close(self, *, undo: bool = False) -> None:
        """Put on disk what was noted, and let go of the file.

        Args:
            undo: what was noted since it was last put on the disk never was.
        """
        try:
            self._base.execute("ROLLBACK" if self._trial or undo else "COMMIT")
        finally:
            self._base.close()
