"""Results of rows: written as they come, found again by the next run, put into the order of the rows at the end.

What is paid is on disk before the next answer is looked at: a run that is killed is gone on with by the next one, and
only what was under way is asked again. Results of CSV are kept beside it as JSON Lines until all are there.
"""

import csv
import json
import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import IO, Any

import click

from ..config.files import write_whole
from ..tables import as_csv, text_of
from .journal import opened_alone
from .rows import Row


class Results:
    """What has come of rows.

    Args:
        out: the file; `None`: they are only shown.
        key: the column that names a row; without one it is the line and what stands in it.
        show: is told of each row in the order of the rows, as soon as all before it are there.

    Attributes:
        found: how many there were before.
        complete: all of them were.

    Raises:
        click.UsageError: the file cannot be written, or holds the results of other rows.
    """

    def __init__(
        self,
        out: str | None,
        suffix: str,
        rows: Sequence[Row],
        *,
        key: str | None,
        anew: bool,
        show: Callable[[dict[str, Any]], None],
    ) -> None:
        self._out = Path(out) if out is not None else None
        self._suffix = suffix
        self._rows = rows
        self._keys = [self._key_of(row, key) for row in rows]
        self._check_keys(key)
        self._show = show
        self._shown = 0
        self._by_key: dict[str, dict[str, Any]] = {}
        self._file: IO[bytes] | None = None
        self.complete = False
        if self._out is not None:
            self._journal = self._out if suffix == ".jsonl" else self._out.with_name(f".{self._out.name}.part")
            self._file = self._opened(self._out, self._journal, anew)
        self.found = len(rows) if self.complete else len(self._by_key)

    def _key_of(self, row: Row, key: str | None) -> str:
        return json.dumps([row.columns.get(key)] if key else [row.line, row.text], ensure_ascii=False, default=str)

    def _check_keys(self, key: str | None) -> None:
        if key is None:
            return
        seen: dict[str, int] = {}
        for row, name in zip(self._rows, self._keys, strict=True):
            if key not in row.columns:
                raise click.UsageError(f"line {row.line} has no column {key!r} for --key")
            if name in seen:
                raise click.UsageError(f"lines {seen[name]} and {row.line} have the same {key}")
            seen[name] = row.line

    def _opened(self, out: Path, journal: Path, anew: bool) -> IO[bytes] | None:
        try:
            there = journal.exists()
            file = opened_alone(journal, out)
            try:
                if anew:
                    file.truncate(0)
                    if out != journal:
                        out.unlink(missing_ok=True)
                elif there:
                    self._read(journal)
                elif out.exists() and out.stat().st_size and not self._is_of_all_rows(out):
                    raise click.UsageError(
                        f"{out} is there already: name another file, or say --anew to write it from the beginning"
                    )
                if not self.complete:
                    return file
            except BaseException:
                _put_away(file, journal, made=not there)
                raise
            _put_away(file, journal, made=True)
            return None
        except OSError as error:
            raise click.UsageError(f"{out} cannot be written ({error.strerror or error})") from None

    def _is_of_all_rows(self, out: Path) -> bool:
        """Whether a file of CSV has the results of all of these rows, from an earlier run that came to its end."""
        try:
            with out.open(encoding="utf-8", newline="") as file:
                found = list(csv.DictReader(file))
        except (OSError, UnicodeDecodeError, csv.Error):
            return False
        self.complete = len(found) == len(self._rows) and all(
            each.get("line") == str(row.line)
            and not each.get("error")
            and all(each.get(name) == text_of(value) for name, value in (row.columns or {"text": row.text}).items())
            for each, row in zip(found, self._rows, strict=True)
        )
        return self.complete

    def _read(self, journal: Path) -> None:
        """What an earlier run has left; a line that was being written when it was killed is cut off."""
        data = journal.read_bytes()
        whole = data.rfind(b"\n") + 1
        known = set(self._keys)
        for number, line in enumerate(data[:whole].splitlines(), 1):
            try:
                result = json.loads(line)
                key = result["key"] if "key" in result else [result["line"], result["text"]]
            except (ValueError, KeyError, TypeError):
                raise click.UsageError(
                    f"{journal}, line {number} is no result of rows: name another file, or say --anew"
                ) from None
            name = json.dumps(key, ensure_ascii=False)
            if name not in known:
                raise click.UsageError(
                    f"{journal} holds results of other rows (line {result.get('line')}): "
                    "name another file, or say --anew"
                )
            if "error" in result:
                self._by_key.pop(name, None)
            else:
                self._by_key[name] = result
        if whole < len(data):
            os.truncate(journal, whole)

    def wanted(self) -> list[tuple[int, Row]]:
        """The rows without a result, by their place."""
        if self.complete:
            return []
        return [(place, row) for place, row in enumerate(self._rows) if self._keys[place] not in self._by_key]

    def add(self, place: int, result: dict[str, Any]) -> None:
        """The result of a row; on disk when this returns."""
        key = self._keys[place]
        named = json.loads(key)
        if len(named) == 1:
            result = {**result, "key": named}
        if self._file is not None:
            self._file.write(_line(result))
            self._file.flush()
        self._by_key[key] = result
        self.show()

    def show(self) -> None:
        """Show what can be shown."""
        while self._shown < len(self._rows) and (result := self._by_key.get(self._keys[self._shown])) is not None:
            self._show(result)
            self._shown += 1

    def all(self) -> list[dict[str, Any]]:
        """What there is, in the order of the rows."""
        return [self._by_key[key] for key in self._keys if key in self._by_key]

    def close(self, names: Sequence[str]) -> None:
        """Put what there is into the order of the rows.

        Args:
            names: the columns of the rows.
        """
        out = self._out
        if out is None or self._file is None:
            return
        results = self.all()
        try:
            if self._suffix == ".csv":
                flat = [flattened(each, names) for each in results]
                write_whole(out, as_csv(flat, ["line", *names]))
                complete = len(results) == len(self._rows) and not any("error" in each for each in results)
                if complete:
                    self._journal.unlink(missing_ok=True)
            else:
                write_whole(out, b"".join(map(_line, results)).decode("utf-8", "surrogatepass"))
        except OSError as error:
            raise click.UsageError(f"{out} cannot be written ({error.strerror or error})") from None
        finally:
            self._file.close()


def _put_away(file: IO[bytes], journal: Path, *, made: bool) -> None:
    """Close a journal that nothing was written into, and leave none behind that was not there."""
    if made:
        journal.unlink(missing_ok=True)
    file.close()


def _line(result: dict[str, Any]) -> bytes:
    text = json.dumps(result, ensure_ascii=False, allow_nan=False)
    try:
        return text.encode() + b"\n"
    except UnicodeEncodeError:  # half of a letter: told as it came
        return json.dumps(result).encode() + b"\n"


def flattened(result: dict[str, Any], names: Sequence[str] = ()) -> dict[str, Any]:
    """A result as a row of CSV: the columns of its row, then those of its value.

    >>> flattened({"line": 1, "text": "a", "value": {"text": "b", "n": 1}})
    {'line': 1, 'text': 'a', 'value_text': 'b', 'n': 1}
    """
    columns = result.get("row") or {"text": result["text"]}
    made = {"line": result["line"], **columns}
    value = result.get("value")
    inner = {} if "error" in result else value if isinstance(value, dict) else {"value": value}
    taken = {*made, *names, "error"}
    for name, each in inner.items():
        made[f"value_{name}" if name in taken else name] = each
    return {**made, "error": result["error"]} if "error" in result else made
