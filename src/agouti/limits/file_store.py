"""Limits that the programs of one machine share through a file, without any server.

The same rows and windows as in a Redis server, in a database of SQLite: whoever looks has it for himself for that
moment. A program that is killed says nothing more, and what it holds comes back after a lease.
"""

import itertools
import os
import socket
import sqlite3
import threading
import time
import uuid
import weakref
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from queue import Empty, SimpleQueue
from typing import Any

from ..core.errors import ConfigError
from ..engine.effects import Signal
from ..runtime.fork_guard import undisturbed
from .shared_schedule import LEASE, StoreLost

_PATIENCE = 2.0
# Nobody is told when another program has ended: whoever waits for that looks again so often.
_RETRY_SECONDS = 0.05
# A process that waits says so often that it is there; one that has not for so long stands at the end of the row again.
_HEARTBEAT, _STALLED = 0.25, 1.0
_WINDOWS = (1.0, 60.0, 60.0)
_TOKENS = 2
_APPLICATION = 0x41676C6D

_SCHEMA = f"""
CREATE TABLE waiting (seq INTEGER PRIMARY KEY AUTOINCREMENT, place TEXT, member TEXT, process TEXT,
  tokens INTEGER, UNIQUE (place, member));
CREATE TABLE running (place TEXT, member TEXT, process TEXT, PRIMARY KEY (place, member));
CREATE TABLE counted (place TEXT, kind INTEGER, member TEXT, at REAL, weight INTEGER,
  PRIMARY KEY (place, kind, member));
CREATE INDEX counted_at ON counted (place, kind, at);
CREATE TABLE blocked (place TEXT PRIMARY KEY, until REAL);
CREATE TABLE days (place TEXT, day TEXT, count INTEGER, PRIMARY KEY (place, day));
CREATE TABLE sums (place TEXT, kind INTEGER, total INTEGER, PRIMARY KEY (place, kind));
CREATE TABLE alive (process TEXT PRIMARY KEY, until REAL);
PRAGMA application_id = {_APPLICATION}
"""


class FileStore:
    """A file, and what this process waits for and holds there.

    Args:
        path: of the file; made where it is not there.

    Attributes:
        address: its path.
        process: a name for this process, another one in each.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self.address = str(path)
        self._begin()

    def _begin(self) -> None:
        self._lock = threading.RLock()
        self._database: sqlite3.Connection | None = None
        self._later: SimpleQueue[tuple[Sequence[str], Sequence[Any]] | None] | None = None
        self._numbers = itertools.count()
        self._signals: dict[str, Signal] = {}
        self.process = f"{_this_process()}/{os.getpid()}/{uuid.uuid4().hex}"

    def after_fork(self) -> None:
        """A child is another process, with nothing under way."""
        self._begin()

    def member(self) -> str:
        """A name for one request."""
        return f"{self.process}|{next(self._numbers)}"

    def expect(self, member: str, signal: Signal) -> None:
        """A signal is set when it is worth while to look again."""
        self._signals[member] = signal

    def forget(self, member: str) -> None:
        """Nobody waits any more."""
        self._signals.pop(member, None)

    @property
    def waits(self) -> bool:
        """Whether anybody waits here."""
        return bool(self._signals)

    def ask(self, keys: Sequence[str], arguments: Sequence[Any]) -> tuple[str, str]:
        """Look, and take a turn where it has come.

        Raises:
            StoreLost: the file cannot be used now.
            ConfigError: it is something else.
        """
        try:
            with self._transaction() as database:
                return _try_start(database, keys, arguments)
        except sqlite3.Error as error:
            raise StoreLost(str(error)) from None

    def later(self, keys: Sequence[str], arguments: Sequence[Any]) -> None:
        """Note what has ended, beside the calls."""
        if self._later is not None:
            self._later.put((keys, arguments))

    def close(self) -> None:
        """Give back what is held, and let go of the file."""
        queue, self._later = self._later, None
        if queue is not None:
            queue.put(None)

    @contextmanager
    def _transaction(self) -> Iterator[sqlite3.Connection]:
        with self._lock:
            database = self._database or self._opened()
            with undisturbed():
                database.execute("BEGIN IMMEDIATE")
            try:
                yield database
            except BaseException:
                if database.in_transaction:
                    database.execute("ROLLBACK")
                raise
            database.execute("COMMIT")

    def _opened(self) -> sqlite3.Connection:
        until = time.monotonic() + _PATIENCE
        while True:
            try:
                database = sqlite3.connect(self._path, timeout=_PATIENCE, isolation_level=None, check_same_thread=False)
                try:
                    with undisturbed():
                        self._prepare(database)
                    break
                except BaseException:
                    database.close()
                    raise
            except sqlite3.DatabaseError as error:
                # Switching to the write-ahead log does not wait for others who begin at the same moment.
                busy = isinstance(error, sqlite3.OperationalError) and "locked" in str(error)
                if busy and time.monotonic() < until:
                    time.sleep(0.02)
                    continue
                if busy:
                    raise
                raise ConfigError(
                    f"[limits] store {self._path} cannot be opened ({error})",
                    hint="Name a file in a folder that you can write to.",
                ) from None
        self._database = database
        self._later = SimpleQueue()
        thread = threading.Thread(
            target=_work, args=(weakref.ref(self), self._later), name="agouti-limits", daemon=True
        )
        try:
            thread.start()
        except RuntimeError:  # the program is at its end, and takes no new threads
            self._database = None
            database.close()
            raise StoreLost("the program is at its end") from None
        weakref.finalize(self, self._later.put, None).atexit = False
        return database

    def _prepare(self, database: sqlite3.Connection) -> None:
        database.execute("PRAGMA journal_mode = WAL")
        database.execute("PRAGMA synchronous = OFF")  # what a crash of the machine loses is over by then
        database.execute("BEGIN IMMEDIATE")
        tables = database.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]
        if tables and database.execute("PRAGMA application_id").fetchone()[0] != _APPLICATION:
            raise ConfigError(f"[limits] store {self._path} is another program's database", hint="Name another file.")
        for statement in () if tables else _SCHEMA.strip().split(";\n"):
            database.execute(statement)
        database.execute("COMMIT")

    def note(self, work: "Sequence[tuple[Sequence[str], Sequence[Any]]]") -> None:
        """Write down what has ended, and that this process is there."""
        with self._transaction() as database:
            _lives(database, self.process)
            for keys, arguments in work:
                _NOTES[arguments[0]](database, keys, arguments)
        if work:
            for signal in list(self._signals.values()):
                signal.set()

    def leave(self) -> None:
        """This process has gone."""
        with self._lock:
            database, self._database = self._database, None
            if database is not None:
                try:
                    database.execute("DELETE FROM alive WHERE process = ?", (self.process,))
                    database.close()
                except sqlite3.Error:
                    return


def _work(store: "weakref.ref[FileStore]", queue: "SimpleQueue[tuple[Sequence[str], Sequence[Any]] | None]") -> None:
    waiting: list[tuple[Sequence[str], Sequence[Any]]] = []
    ended, seconds = False, LEASE / 4
    while not ended:
        try:
            first = queue.get(timeout=seconds if not waiting else 0.2)
            items = [first, *[queue.get() for _ in range(queue.qsize())]]
        except Empty:
            items = []
        ended = None in items
        waiting += [each for each in items if each is not None]
        own_store = store()
        if own_store is None:
            return
        try:
            own_store.note(waiting)
            waiting = []
        except sqlite3.Error:
            pass  # with the next ones
        if ended:
            own_store.leave()
        seconds = _HEARTBEAT if own_store.waits else LEASE / 4
        del own_store


@cache
def _this_process() -> str:
    """The machine, and what numbers processes in it: containers that share a file do so each for itself."""
    try:
        numbering = os.readlink("/proc/self/ns/pid")
    except OSError:
        numbering = ""
    return f"{socket.gethostname()} {numbering}".replace("/", " ").replace("|", " ")


def _has_ended(process: str) -> bool:
    """Whether a process has ended, as far as that can be seen from here."""
    key, _, arguments_rest = process.partition("/")
    if os.name != "posix" or key != _this_process():
        return False
    try:
        os.kill(int(arguments_rest.partition("/")[0]), 0)
    except ProcessLookupError:
        return True
    except (OSError, ValueError):
        return False
    return False


def _process_of(member: str) -> str:
    return member.partition("|")[0]


def _lives(database: sqlite3.Connection, process: str) -> None:
    now = time.time()
    database.execute("INSERT OR REPLACE INTO alive VALUES (?, ?)", (process, now + LEASE))
    for each, until in database.execute("SELECT process, until FROM alive").fetchall():
        if until < now + LEASE - _STALLED:
            database.execute("DELETE FROM waiting WHERE process = ?", (each,))
        if until >= now and not _has_ended(each):
            continue
        database.execute("DELETE FROM waiting WHERE process = ?", (each,))
        database.execute("DELETE FROM running WHERE process = ?", (each,))
        database.execute("DELETE FROM alive WHERE process = ?", (each,))


def _try_start(database: sqlite3.Connection, keys: Sequence[str], arguments: Sequence[Any]) -> tuple[str, str]:
    """Take a turn in all places, or say how long to wait; arguments as of the script of Redis servers."""
    _, member, _, time_left, tokens, *arguments_rest = arguments
    process, now = _process_of(member), time.time()
    _lives(database, process)
    keyed_counts = [(key, arguments_rest[at * 10 : at * 10 + 10]) for at, key in enumerate(keys)]
    for window_key, _counts in keyed_counts:
        database.execute(
            "INSERT OR IGNORE INTO waiting (place, member, process, tokens) VALUES (?, ?, ?, ?)",
            (window_key, member, process, tokens),
        )
    start_at, known, is_alone = now, True, True
    for window_key, counts in keyed_counts:
        at, first = _turn_of(database, window_key, member, counts, tokens, now)
        known, is_alone = known and at is not None, is_alone and first
        start_at = max(start_at, at or now)
    if known and start_at <= now:
        for window_key, counts in keyed_counts:
            _begin(database, window_key, member, process, counts, tokens, now)
        return "go", "0"
    if time_left <= 0 or (known and start_at - now > time_left):
        for window_key, _counts in keyed_counts:
            database.execute("DELETE FROM waiting WHERE place = ? AND member = ?", (window_key, member))
        return "late", f"{start_at - now:.6f}" if known else ""
    wait = start_at - now
    return "wait", f"{wait if known and is_alone else min(max(wait, _RETRY_SECONDS), 10 * _RETRY_SECONDS):.6f}"


def _turn_of(
    database: sqlite3.Connection, key: str, member: str, counts: Sequence[Any], tokens: int, now: float
) -> tuple[float | None, bool]:
    """When it is a member's turn at the earliest, if all before it take theirs; whether it is the first one."""
    *limits, concurrency, per_day, day, to_reset = counts[:7]
    (seq,) = database.execute("SELECT seq FROM waiting WHERE place = ? AND member = ?", (key, member)).fetchone()
    before, added = database.execute(
        "SELECT count(*), coalesce(sum(tokens), 0) FROM waiting WHERE place = ? AND seq < ?", (key, seq)
    ).fetchone()
    if concurrency:
        (running,) = database.execute("SELECT count(*) FROM running WHERE place = ?", (key,)).fetchone()
        if running + before + 1 > concurrency:
            return None, not before
    found = database.execute("SELECT until FROM blocked WHERE place = ?", (key,)).fetchone()
    start_at = max(now, found[0] if found else 0.0)
    for kind, (limit, seconds) in enumerate(zip(limits, _WINDOWS, strict=True)):
        if limit:
            needed = added + tokens if kind == _TOKENS else before + 1
            start_at = max(start_at, _free_at(database, key, kind, limit, seconds, needed, now))
    if per_day:
        used = database.execute("SELECT count FROM days WHERE place = ? AND day = ?", (key, day)).fetchone()
        if (used[0] if used else 0) + before >= per_day:
            start_at = max(start_at, now + to_reset)
    return start_at, not before


def _free_at(
    database: sqlite3.Connection, key: str, kind: int, limit: int, seconds: float, needed: int, now: float
) -> float:
    old = database.execute(
        "SELECT coalesce(sum(weight), 0), count(*) FROM counted WHERE place = ? AND kind = ? AND at <= ?",
        (key, kind, now - seconds),
    ).fetchone()
    if old[1]:
        database.execute("DELETE FROM counted WHERE place = ? AND kind = ? AND at <= ?", (key, kind, now - seconds))
        _add(database, key, kind, -old[0])
    found = database.execute("SELECT total FROM sums WHERE place = ? AND kind = ?", (key, kind)).fetchone()
    used, at = found[0] if found else 0, now
    if used + needed <= limit:
        return now
    # The oldest ones first, as far as room is needed.
    for counted, weight in database.execute(
        "SELECT at, weight FROM counted WHERE place = ? AND kind = ? ORDER BY at", (key, kind)
    ):
        used -= weight
        at = counted + seconds
        if used + needed <= limit:
            return float(at)
    return float(at + (0 if needed <= limit else seconds))


def _add(database: sqlite3.Connection, key: str, kind: int, added: int) -> None:
    database.execute(
        "INSERT INTO sums VALUES (?, ?, ?) ON CONFLICT (place, kind) "
        "DO UPDATE SET total = max(total + excluded.total, 0)",
        (key, kind, added),
    )


def _begin(
    database: sqlite3.Connection,
    key: str,
    member: str,
    process: str,
    counts: Sequence[Any],
    tokens: int,
    now: float,
) -> None:
    *limits, _concurrency, per_day, day, _reset, one, two, three = counts
    database.execute("DELETE FROM waiting WHERE place = ? AND member = ?", (key, member))
    database.execute("INSERT INTO running VALUES (?, ?, ?)", (key, member, process))
    for kind, (limit, delay) in enumerate(zip(limits, (one, two, three), strict=True)):
        if limit:
            weight = tokens if kind == _TOKENS else 1
            database.execute("INSERT INTO counted VALUES (?, ?, ?, ?, ?)", (key, kind, member, now + delay, weight))
            _add(database, key, kind, weight)
    if per_day:
        database.execute(
            "INSERT INTO days VALUES (?, ?, 1) ON CONFLICT (place, day) DO UPDATE SET count = count + 1", (key, day)
        )
        database.execute("DELETE FROM days WHERE place = ? AND day < ?", (key, day))


def _leave(database: sqlite3.Connection, keys: Sequence[str], arguments: Sequence[Any]) -> None:
    member, days = arguments[1], arguments[3:]
    for key, day in zip(keys, days, strict=True):
        database.execute("DELETE FROM waiting WHERE place = ? AND member = ?", (key, member))
        if database.execute("DELETE FROM running WHERE place = ? AND member = ?", (key, member)).rowcount:
            for kind, weight in database.execute(
                "SELECT kind, weight FROM counted WHERE place = ? AND member = ?", (key, member)
            ).fetchall():
                _add(database, key, kind, -weight)
            database.execute("DELETE FROM counted WHERE place = ? AND member = ?", (key, member))
            database.execute("UPDATE days SET count = count - 1 WHERE place = ? AND day = ?", (key, day))


def _sent(database: sqlite3.Connection, keys: Sequence[str], arguments: Sequence[Any]) -> None:
    member, delays = arguments[1], arguments[3:]
    for at, key in enumerate(keys):
        for kind, delay in enumerate(delays[at * 3 : at * 3 + 3]):
            database.execute(
                "UPDATE counted SET at = ? WHERE place = ? AND kind = ? AND member = ?",
                (time.time() + delay, key, kind, member),
            )


def _ended(database: sqlite3.Connection, keys: Sequence[str], arguments: Sequence[Any]) -> None:
    member, arguments_rest = arguments[1], arguments[3:]
    for number, key in enumerate(keys):
        tokens, wait, *added = arguments_rest[number * 7 : number * 7 + 7]
        sooner, used_up_at = added[:3], added[3:]
        if database.execute("DELETE FROM running WHERE place = ? AND member = ?", (key, member)).rowcount:
            for kind, at, weight in database.execute(
                "SELECT kind, at, weight FROM counted WHERE place = ? AND member = ?", (key, member)
            ).fetchall():
                settled = tokens if kind == _TOKENS and tokens != "" else weight
                database.execute(
                    "UPDATE counted SET at = ?, weight = ? WHERE place = ? AND kind = ? AND member = ?",
                    (min(at - sooner[kind], time.time()), settled, key, kind, member),
                )
                _add(database, key, kind, settled - weight)
        used_up = False
        for kind, limit in enumerate(used_up_at):
            total = database.execute("SELECT total FROM sums WHERE place = ? AND kind = ?", (key, kind)).fetchone()
            used_up = used_up or bool(limit and total and total[0] >= limit)
        if wait > 0 and not used_up:
            database.execute(
                "INSERT INTO blocked VALUES (?, ?) ON CONFLICT (place) "
                "DO UPDATE SET until = max(until, excluded.until)",
                (key, time.time() + wait),
            )


_NOTES = {"leave": _leave, "sent": _sent, "ended": _ended}
