"""Where rows come from: files, pandas frames, any iterable; looked through once before anything is sent."""

import os
import sqlite3
from collections.abc import Iterable, Iterator, Mapping
from contextlib import closing
from glob import glob
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ..core.errors import RequestError
from ..core.text.suggest import near_hint
from ..tables.row_files import TEXT, Row, RowFile
from ..tables.table import text_of
from .result_index import digest_of
from .types import Source

REQUEST = "body"
REQUEST_KEY = "custom_id"
"""The columns that a line of an OpenAI-compatible batch has."""


class InputScan(Struct, frozen=True):
    """Rows that were looked through.

    Attributes:
        source: the rows.
        columns: the names of what is in them.
        first: the first that can be read.
        folder: where they come from; `None` where they are no file.
        remarks: what had to be found out about the file.
        schema: the Arrow schema of the rows, where they come out of Parquet.
    """

    source: Source
    columns: tuple[str, ...]
    first: Row | None
    folder: Path | None = None
    remarks: tuple[str, ...] = ()
    schema: bytes = b""

    @property
    def are_requests(self) -> bool:
        """Whether they are lines of an OpenAI-compatible batch."""
        return self.first is not None and isinstance(self.first.columns.get(REQUEST), dict)


def scan_rows(
    rows: Any, *, key: str | None, limit: int | None, delimiter: str | None = None, encoding: str = ""
) -> InputScan:
    """The rows, seen to have what they must have, before anything is sent.

    Args:
        rows: a path, a pandas frame, or an iterable of mappings or texts.
        key: the column that names a row.
        limit: only so many of them count.

    Raises:
        RequestError: there are none, a column is not there, or two rows have one key.
    """
    folder: Path | None = None
    remarks: tuple[str, ...] = ()
    schema = b""
    if isinstance(rows, (str, os.PathLike)):
        names = _files(rows)
        several = [RowFile(each, delimiter=delimiter, encoding=encoding) for each in names]
        folder, remarks = (
            Path(names[0]).absolute().parent,
            tuple([remark for each in several for remark in each.remarks]),
        )
        source_rows: Iterable[Row] = several[0] if len(several) == 1 else _Several(several)
        known = tuple(dict.fromkeys(name for each in several for name in each.names))
        schema = several[0].schema
        for file in several if key is not None else ():
            file.check_column(str(key))
    elif hasattr(rows, "iloc") and hasattr(rows, "columns"):
        source_rows, known = _Frame(rows), tuple(str(name) for name in rows.columns)
        twice = next((name for name in known if known.count(name) > 1), None)
        if twice is not None:
            raise RequestError(f"the frame has two columns {twice!r}", hint="Give one of them another name.")
    elif isinstance(rows, Iterable) and not isinstance(rows, (bytes, Mapping)):
        source_rows, known = _Items(rows), ()
    else:
        raise RequestError(
            f"rows cannot be a {type(rows).__name__}", hint="Pass a file, a pandas frame, or a list of dicts or texts."
        )
    if not isinstance(source_rows, _Items) or source_rows.can_be_repeated:
        scan = _scan(source_rows, known, key, limit, folder, remarks)
        return replace(scan, schema=schema) if schema else scan
    # An iterator is gone through once: only its first row can be looked at.
    first = source_rows.first()
    columns = tuple(first.columns) if first is not None else ()
    if first is None:
        raise RequestError("there are no rows", hint="Pass at least one.")
    _check_key(key, columns)
    return InputScan(Source(lambda: source_rows, None, has_lines=False), columns, first)


def _scan(
    rows: Iterable[Row],
    known: tuple[str, ...],
    key: str | None,
    limit: int | None,
    folder: Path | None,
    remarks: tuple[str, ...],
) -> InputScan:
    columns = dict.fromkeys(known)
    first: Row | None = None
    total = 0
    with closing(sqlite3.connect("")) as known_keys:  # in a file of its own once it is large
        known_keys.execute("CREATE TABLE keys (key BLOB PRIMARY KEY, line INTEGER) WITHOUT ROWID")
        for row in rows:
            if row.is_empty and folder is not None:
                continue
            if limit is not None and total >= limit:
                break
            total += 1
            columns.update(dict.fromkeys(row.columns))
            if row.error or row.is_empty:
                continue
            first = first or row
            if key is not None and row.columns.get(key) not in (None, ""):
                _check_alone(known_keys, row, key)
    if not total:
        raise RequestError(
            "there are no rows" if folder is None else "there is nothing in it", hint="Pass at least one."
        )
    _check_key(key, tuple(columns))
    return InputScan(Source(lambda: rows, total, has_lines=folder is not None), tuple(columns), first, folder, remarks)


def _check_key(key: str | None, columns: tuple[str, ...]) -> None:
    if key is not None and key not in columns:
        raise RequestError(f"there is no column {key!r} for the key", hint=near_hint(key, columns, "column"))


def _check_alone(known_keys: sqlite3.Connection, row: Row, key: str) -> None:
    digest = digest_of(row.columns[key])
    try:
        known_keys.execute("INSERT INTO keys VALUES (?, ?)", (digest, row.line))
    except sqlite3.IntegrityError:
        [(line,)] = known_keys.execute("SELECT line FROM keys WHERE key = ?", (digest,))
        raise RequestError(
            f"lines {line} and {row.line} have the same {key} ({text_of(row.columns[key])})",
            hint="Name a column that tells all rows apart, or leave one of them out.",
        ) from None


def _files(rows: "str | os.PathLike[str]") -> "list[str | os.PathLike[str]]":
    """The file, or those that a pattern fits, in the order of their names."""
    text = str(rows)
    if not any(sign in text for sign in "*?[") or os.path.exists(text):
        return [rows]
    found: list[str | os.PathLike[str]] = [*sorted(each for each in glob(text) if os.path.isfile(each))]
    if not found:
        raise RequestError(f"there is no file {text}", hint="Name one, or a pattern that some of them fit.")
    return found


class _Several:
    """The rows of several files, one behind the other; each is numbered from the first one on."""

    def __init__(self, files: list[RowFile]) -> None:
        self._files = files

    def __iter__(self) -> Iterator[Row]:
        line = 0
        for file in self._files:
            before, last = line, 0
            for row in file:
                last = max(last, row.line)
                yield replace(row, line=before + row.line)
            line = before + last


class _Frame:
    """The rows of a pandas frame."""

    def __init__(self, frame: Any) -> None:
        self._frame = frame

    def __iter__(self) -> Iterator[Row]:
        import pandas

        names = [str(name) for name in self._frame.columns]
        for number, cells in enumerate(self._frame.itertuples(index=False, name=None), 1):
            yield Row(number, {name: _cell(pandas, cell) for name, cell in zip(names, cells, strict=True)})


def _cell(pandas: Any, cell: Any) -> Any:
    """A cell as a plain value; what pandas has for a missing one is none."""
    if hasattr(cell, "item") and getattr(cell, "shape", None) == ():
        cell = cell.item()
    if isinstance(cell, (list, tuple, dict)) or hasattr(cell, "shape"):
        return cell if not hasattr(cell, "tolist") else cell.tolist()
    if cell is None or pandas.isna(cell):
        return None
    return cell if isinstance(cell, (str, int, float, bool)) else str(cell)


class _Items:
    """The rows of an iterable: mappings, or texts."""

    def __init__(self, items: Iterable[Any]) -> None:
        self._items = items
        self.can_be_repeated = not isinstance(items, Iterator)
        self._peeked: list[Row] = []
        self._remaining: Iterator[Row] | None = None

    def first(self) -> Row | None:
        """The first row; it comes again when all are gone through."""
        self._remaining = iter(self._rows())
        self._peeked = [row for row in [next(self._remaining, None)] if row is not None]
        return self._peeked[0] if self._peeked else None

    def __iter__(self) -> Iterator[Row]:
        if self._remaining is None:
            yield from self._rows()
            return
        opened, self._peeked = self._peeked, []
        yield from opened
        yield from self._remaining

    def _rows(self) -> Iterator[Row]:
        for number, item in enumerate(self._items, 1):
            if isinstance(item, str):
                yield Row(number, {TEXT: item}, is_unquoted=True)
            elif isinstance(item, Mapping):
                yield Row(number, {str(name): value for name, value in item.items()})
            else:
                yield Row(number, error=f"a row cannot be a {type(item).__name__}: pass a dict or a text")
