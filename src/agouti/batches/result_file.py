"""Results of a run: on disk as they come, found again by the next run, in the order of the rows where that is wanted.

The results of ``.jsonl`` are that file itself; those of other kinds stand beside it as JSON Lines until the run ends.
Beside both is an index of the rows that have one, and of what the run asks: see `index`.
"""

import base64
import json
import os
import sqlite3
import threading
import time
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from typing import IO, Any

from ..core.errors import RequestError
from ..runtime.atomic_files import Busy, opened_alone, replaced
from ..runtime.fork_guard import undisturbed
from ..tables.row_files import Row
from .file_formats import ARRAYS, SUFFIXES, written
from .identities import check_same, identity
from .indexed_rows import IndexedRows
from .result_index import Index, State, digest_of
from .result_lines import check_results, key_in, result_line, why_of

KEY = "key"
# What was noted in the index is on disk after so many seconds; until then the results tell it.
_COMMIT = 0.5
_GO_ON = "The same command goes on."


class Unwritable(RequestError):
    """A result came that could not be written.

    Attributes:
        lines: the results that stand nowhere.
    """

    lines: tuple[bytes, ...] = ()


class Results(IndexedRows):
    """What has come of rows, in a file.

    Args:
        out: .jsonl, .csv, .parquet, .npz or .npy.
        question: what is asked of every row, by name, for people: another run's results are not mixed with these.
        keyed: whether rows have keys of their own, and may come and go; otherwise they go by their number.
        in_order: put them into the order of the rows at the end.
        restart: begin again; what is there is lost.
        keep: go on with what is there, though it was asked otherwise.
        trial: only look; nothing is changed.
        schema: the Arrow schema of the rows, where they come out of Parquet.
        retry_kinds: results of these kinds are asked for once more: see `Known.why`.

    Raises:
        RequestError: the file cannot be written, holds something else or was asked otherwise, or another run has it.
    """

    def __init__(
        self,
        out: str | os.PathLike[str],
        question: Mapping[str, Any],
        *,
        keyed: bool,
        in_order: bool = False,
        restart: bool = False,
        keep: bool = False,
        trial: bool = False,
        schema: bytes = b"",
        retry_kinds: frozenset[str] = frozenset(),
        quote_formulas: bool = False,
    ) -> None:
        self._trial = trial
        self._quotes = quote_formulas
        self._retry_kinds = retry_kinds
        self._schema = schema
        self.out = Path(out)
        self.suffix = self.out.suffix.lower()
        if self.suffix not in SUFFIXES:
            raise RequestError(f"{out} has no suffix that says what to write", hint=f"Take {', '.join(SUFFIXES)}.")
        if not self.out.absolute().parent.is_dir():
            raise RequestError(f"there is no folder {self.out.parent}", hint="Make it, or name another.")
        self._keyed = keyed
        self._has_earlier = False
        self._in_order = in_order or self.suffix != ".jsonl"
        self._lock = threading.Lock()
        self._is_broken = self._is_put_away = self._is_caught_up = self._is_submitted = False
        self._end = 0
        self.remarks: tuple[str, ...] = ()
        self._index: Index
        self._file: IO[bytes]
        self._data = self.out if self.suffix == ".jsonl" else self.out.with_name(f".{self.out.name}.part")
        self._journal = self.out.with_name(f".{self.out.name}.journal")
        self._created = not self._journal.exists()
        self._new = self._created and not self._data.exists()
        self._open(question, restart=restart, keep=keep)

    def _open(self, question: Mapping[str, Any], *, restart: bool, keep: bool) -> None:
        try:
            self._lock_file = opened_alone(self._journal)
        except Busy:
            raise RequestError(
                f"another run is writing {self.out}", hint="Wait for it, or name another file."
            ) from None
        except OSError as error:
            raise self._unwritable(error) from None
        self._is_open = False
        try:
            self._check_foreign()
            self._index = Index(self._journal, trial=self._trial, retry_kinds=self._retry_kinds)
            if not self._index.is_ours:
                raise RequestError(
                    f"{self._journal} is of another version", hint="Say --restart (restart=True), or remove it."
                )
            self._begin(self._index, json.loads(json.dumps(question, default=identity)), restart=restart, keep=keep)
        except sqlite3.DatabaseError as error:
            self.abandon()
            # What a full disk does not take is no damage.
            no_room = getattr(error, "sqlite_errorcode", 0) & 0xFF in (sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR)
            moved = "Move it away; results are found again without it."
            hint = f"Make room on its disk. {_GO_ON}" if no_room else moved
            raise RequestError(f"{self._journal} cannot be used ({error})", hint=hint) from None
        except OSError as error:
            self.abandon()
            raise self._unwritable(error) from None
        except BaseException:
            self.abandon()
            raise

    def _check_foreign(self) -> None:
        """See that what stands beside the results is a journal: nothing is written into anything else."""
        self._lock_file.seek(0)
        begins = self._lock_file.read(16)
        if begins and begins != b"SQLite format 3\x00":
            raise RequestError(f"{self._journal} is something else", hint="Move it away, or name another file.")

    def _begin(self, index: Index, question: dict[str, Any], *, restart: bool, keep: bool) -> None:
        before = index.fact("asks")
        if restart:
            index.forget()
            index.disown()
            before = None
            index.note("complete", False)
            index.note("request", None)
        exists = self._data.exists() and self._data.stat().st_size > 0
        if exists and restart:
            check_results(self._data)
        if before is None and not restart:
            if exists and not keep:
                check_results(self._data)
                raise RequestError(
                    f"{self.out} is there already, and it is not known how its rows were asked",
                    hint="Name another file, say --restart to start over, or --ignore-changes to go on with it.",
                )
            if not exists and self._data != self.out and self.out.exists() and self.out.stat().st_size:
                raise RequestError(
                    f"{self.out} is there already", hint="Name another file, or say --restart to write it again."
                )
        if before is not None and not keep:
            check_same(before, question, self.out)
        if before is not None and before != question:
            index.forget_contents()
        if self._trial and not self._data.exists():
            self._file = open(os.devnull, "rb")  # noqa: SIM115
        else:
            self._file = self._data.open("rb" if self._trial else "a+b", buffering=0)
        self._is_open = True
        self._restarts = restart and not self._trial and not self._created
        self.finished = bool(index.fact("complete", False)) and not self._data.exists()
        self.costs: dict[str, float] = {} if restart else index.fact("costs", {})
        if restart:
            self.finished, self._end, self._is_caught_up = False, 0, True
            self._note_end(index, 0)
            index.note("whole", True)
        else:
            self._catch_up(index, keep=keep)
        self._has_earlier = index.counts()[0] > 0
        index.note("format", 1)
        if self._schema:
            index.note("schema", base64.b64encode(self._schema).decode())
        index.note("asks", question)
        if not self._restarts:
            index.commit()
        self._committed = time.monotonic()

    def check_request(self, content: str, *, keep: bool) -> None:
        """See that the request around each row is the one of the results that are there.

        Args:
            content: a digest of it, as it goes out.
            keep: it need not be.

        Raises:
            RequestError: it is another one.
        """
        with self._lock, undisturbed():
            before = self._index.fact("request")
            if before is not None and before != content:
                if not keep:
                    raise RequestError(
                        f"{self.out} holds results of another run: what goes out with each row is another request now",
                        hint="The entry of the model or of its provider has changed. Name another file, say --restart "
                        "to start over, or --ignore-changes to go on with what is there.",
                    )
                self._index.forget_contents()
            self._index.note("request", content)

    def _really_begin(self) -> None:
        """Something new is there: what was there before goes."""
        if self._restarts:
            self._restarts = False
            self._file.truncate(0)
            self._end = 0
            if self._data != self.out:
                self.out.unlink(missing_ok=True)

    def _catch_up(self, index: Index, *, keep: bool = False) -> None:
        """Note what stands in the file and not in the index; a line that was being written is cut off."""
        size = os.fstat(self._file.fileno()).st_size
        end = int(index.fact("end", 0))
        if index.fact("complete", False) and size == 0 and self._data != self.out and self.out.exists():
            self.finished = True  # its results are in the file that was asked for
            self._end = 0
            return
        self.finished = False
        if size < end or not index.fact("whole", True) or not self._fits(index, end):
            lost = index.counts()[0] if index.fact("whole", True) and not size else 0
            if lost and not keep:
                raise RequestError(
                    f"{self.out}: {lost} results are gone that were there",
                    hint="Put the file back, say --restart to begin again, or --ignore-changes to ask them once more.",
                )
            index.forget()
            end, self.costs = 0, {}
        for digest, start, length in index.unread():
            self._file.seek(start)
            if (known := key_in(self._file.read(length))) is not None:
                index.note_kind(digest, known.reason)
                self.add_cost(known.cost, known.currency)
        self._file.seek(end)
        number = 0
        with open(os.dup(self._file.fileno()), "rb") as file:
            file.seek(end)
            for line in file:
                number += 1
                key = key_in(line)
                if key is None:
                    if line.endswith(b"\n"):
                        raise RequestError(
                            f"{self._data}, line {number} is no result of rows",
                            hint="Name another file, or say --restart to begin again.",
                        )
                    break
                # The last one of a row counts.
                index.found(digest_of(key.key), end, len(line), failed=key.failed, reason=key.reason)
                end += len(line)
                self.add_cost(key.cost, key.currency)
        if end < size and not self._trial:
            self._file.truncate(end)
        self._end = end
        self._is_caught_up = True
        self._note_end(index, end)
        index.note("whole", True)

    def _fits(self, index: Index, end: int) -> bool:
        """Whether the last result that the index knows stands where it says."""
        last = index.last()
        if last is None:
            return end == 0
        self._file.seek(last[1])
        known = key_in(self._file.read(last[2]))
        return last[1] + last[2] == end and known is not None and digest_of(known[0]) == last[0]

    def begin_again(self) -> None:
        """The rows are gone through once more: each may be met again."""
        self._index.next_run()

    def state(self, key: Any, digest: bytes, position: int, row: Row, content: bytes) -> State:
        """How it stands with a row of this run.

        Args:
            key: what it is called.
            digest: of the key.
            position: its number.
            content: a digest of what is asked of it.

        Raises:
            RequestError: it has the key of another one, or is another row than the one whose result is there.
        """
        with self._lock, undisturbed():
            state, line = self._index.see(digest, position, row.line, content)
        if state == "twice":
            raise RequestError(
                f"lines {line} and {row.line} have the same key {key!r}",
                hint="Name a column with --id-column (key=...) that tells all rows apart, or leave one of them out.",
            )
        if state == "changed" and not self._keyed:
            raise RequestError(
                f"{self.out} holds results of other rows (row {key} is another one now)",
                hint="Name another file, or say --restart; with --id-column rows may come, go and change.",
            )
        if self.finished and state != "done":
            raise RequestError(
                f"{self.out} is finished, and line {row.line} is not in it, or was asked otherwise",
                hint="Name another file for it, or say --restart to begin again.",
            )
        return state

    def add(self, digest: bytes, result: Mapping[str, Any], *, failed: bool, content: bytes | None = None) -> None:
        """The result of a row, instead of one that it may have; on disk when this returns.

        Args:
            digest: of its key.
            content: a digest of what it is an answer to; what the row was met with, where not given.

        Raises:
            Unwritable: it is not.
        """
        line = result_line(result)
        with self._lock, undisturbed():
            try:
                self._really_begin()
                self._write(self._file, line)
            except OSError as error:
                with suppress(OSError):
                    self._file.truncate(self._end)
                raised = Unwritable(
                    f"{self._data} cannot be written ({error.strerror or error})",
                    hint=f"Make room; what is there is kept. {_GO_ON}",
                )
                raised.lines = (line,)
                raise raised from None
            start, self._end = self._end, self._end + len(line)
            try:
                self.add_cost(result.get("cost"), result.get("currency"))
                reason = why_of(result.get("error"), result.get("finish_reason"))
                self._index.set(digest, start, len(line), failed=failed, content=content, reason=reason)
                if time.monotonic() - self._committed > _COMMIT:
                    self._note_end(self._index, self._end)
                    self._index.commit()
                    self._committed = time.monotonic()
            except sqlite3.Error as error:  # the results tell it again to the next run
                self._is_broken = True
                raise Unwritable(
                    f"{self._journal} cannot be written ({error})", hint=f"Make room; what came is kept. {_GO_ON}"
                ) from None

    @staticmethod
    def _write(file: IO[bytes], line: bytes) -> None:
        unwritten = memoryview(line)
        while unwritten:
            unwritten = unwritten[file.write(unwritten) :]

    def record_submission(
        self, mark: str, rows: Iterable[tuple[bytes, bytes, str]], count: int, since: float, file: str
    ) -> None:
        """Rows are about to be handed over."""
        self._really_begin()
        self._noted_so_far()
        self._is_submitted = True
        self._index.submit(mark, rows, count, since, file)

    def name_submission(self, mark: str, name: str) -> None:
        """A batch has got its name."""
        self._index.name_batch(mark, name)

    def forget_submission(self, mark: str) -> None:
        """A batch is over."""
        self._noted_so_far()
        self._index.take_back(mark)

    def _noted_so_far(self) -> None:
        self._note_end(self._index, self._end)

    def add_cost(self, cost: Any, currency: Any) -> None:
        """Count what was paid, whether its result is kept or not."""
        if cost and currency:
            self.costs[currency] = self.costs.get(currency, 0.0) + cost

    def _note_end(self, index: Index, end: int) -> None:
        """What the index tells of the results reaches so far."""
        index.note("end", end)
        index.note("costs", self.costs)

    def sync(self) -> None:
        """Put what was written on the disk itself: a machine that loses its power has it."""
        with self._lock, suppress(OSError):
            os.fsync(self._file.fileno())

    def lines(self) -> Iterator[bytes]:
        """The results, in the order in which they are kept."""
        with open(os.dup(self._file.fileno()), "rb") as file:
            for start, size in self._index.spans(by_place=self._in_order):
                file.seek(start)
                yield file.read(size)

    def move_missing_rows_last(self) -> None:
        """Every row was met: what others have stands last, and errors of those that could not be asked go."""
        if self._is_open and not (self.finished or self._is_broken or self._restarts):
            with self._lock, suppress(sqlite3.Error):
                self._index.move_missing_rows_last()

    def finish(self, names: Iterable[str], *, saw_all: bool) -> None:
        """Write the file that was asked for, and let go of it.

        Args:
            names: the columns of the rows.
            saw_all: whether every row was met.
        """
        if not self._is_open:
            return
        if self._restarts:
            self.abandon()
            return
        self._is_put_away = True
        try:
            if self.finished or self._is_broken:
                return
            done, failed = self._index.counts()
            complete = saw_all and not failed
            if self._data != self.out:
                # The lines stay beside the table: rows that come or change later are added to them.
                if done > failed or (done and self.suffix not in ARRAYS):
                    self.remarks = written(
                        self.out, self.suffix, self.lines, list(names), self._schema, quote_formulas=self._quotes
                    )
                is_array = complete and not self._keyed and self.suffix in ARRAYS  # nothing is ever added to those
                if is_array:
                    self._data.unlink()
                self._index.note("complete", complete)
                self._note_end(self._index, 0 if is_array else self._end)
            elif self._in_order or self._index.size() != self._end:  # some were replaced, by this run or one before
                self._rewrite(self._index)
            else:
                self._note_end(self._index, self._end)
        except OSError as error:
            raise self._unwritable(error) from None
        except sqlite3.Error as error:
            raise RequestError(f"{self._journal} cannot be written ({error})", hint=_GO_ON) from None
        finally:
            self.abandon()

    def _rewrite(self, index: Index) -> None:
        """Leave out what was replaced, and put the results into the order that was asked for."""
        index.note("whole", False)
        index.commit()
        with replaced(self.out) as file:
            for line in self.lines():
                file.write(line)
            end = file.tell()
        index.closed_up(by_place=self._in_order)
        self._note_end(index, end)
        index.note("whole", True)

    def abandon(self) -> None:
        """Let go of all files; what came stays in them for the next run."""
        if self._lock_file.closed:
            return
        if (index := getattr(self, "_index", None)) is not None:
            with suppress(sqlite3.Error):
                if self._is_caught_up and not self._is_broken and not self._is_put_away:
                    self._note_end(index, self._end)
                # Begun anew, and nothing new came: what was there is there still.
                index.close(undo=getattr(self, "_restarts", False))
        if self._is_open:
            self._file.close()
            self._is_open = False
        if self._new and not self._is_submitted:
            self._leave_no_trace()
        elif self._created and (self._trial or not self._is_caught_up):
            self._remove_journal()
        self._lock_file.close()

    def _leave_no_trace(self) -> None:
        """Of a run that had no result, no file stays."""
        with suppress(OSError):
            if self._data.exists() and not self._data.stat().st_size:
                self._data.unlink()
        if not self._data.exists() and not self.out.exists():
            self._remove_journal()

    def _remove_journal(self) -> None:
        for name in ("", "-wal", "-shm"):
            self._journal.with_name(self._journal.name + name).unlink(missing_ok=True)

    def _unwritable(self, error: OSError) -> RequestError:
        return RequestError(
            f"{self.out} cannot be written ({error.strerror or error})",
            hint=f"Name a file in a folder that you can write to. What came is kept: {_GO_ON.lower()}",
        )
