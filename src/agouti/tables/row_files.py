"""Rows of files, one after another: CSV, JSON Lines, Parquet, or a line each of plain text.

A file is read as often as it is gone through, and never held whole. A row that cannot be read is a row with an error:
the others go on.
"""

import csv
import json
import os
import re
import tempfile
from codecs import getincrementaldecoder
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from io import TextIOWrapper
from pathlib import Path
from typing import IO, Any

from msgspec import Struct

from ..core.errors import ConfigError, RequestError
from ..core.text.suggest import near_hint
from .table import text_of

TEXT = "text"
"""The column of a row that has no names: a line of plain text, a value that is no object."""

# Files that are packed, by what unpacks them.
_PACKED = {".gz": "gzip", ".bz2": "bz2", ".xz": "lzma"}
_DELIMITERS = ",;\t|"
_CHUNK = 1 << 20
_KINDS = (".csv", ".tsv", ".json", ".jsonl")
# A cell may hold a whole document.
_CELL = 100_000_000
# Bytes that stand for nothing in the commonest of the other encodings.
_NO_LETTERS = re.compile(b"[\x00\x81\x8d\x8f\x90\x9d]")


class Row(Struct, frozen=True):
    """A row of a file.

    Attributes:
        line: the line of the file in which it begins, from 1; in Parquet its number.
        columns: all that it has; of plain text its `TEXT`.
        error: why it cannot be read; empty where it can.
        is_unquoted: whether it is a line of text, or a value without names.
    """

    line: int
    columns: dict[str, Any] = {}
    error: str = ""
    is_unquoted: bool = False

    def describe(self, column: str | None = None) -> str:
        """What a model is given of it: one column, or all that it has as ``name: value`` lines."""
        if column is not None:
            return text_of(self.columns.get(column)).strip()
        if self.is_unquoted:
            return str(self.columns[TEXT])
        return "\n".join(
            f"{name}: {text_of(value)}" for name, value in self.columns.items() if name and value not in (None, "")
        )

    @property
    def is_empty(self) -> bool:
        """Whether nothing stands in it."""
        return not self.error and not any(text_of(value).strip() for value in self.columns.values())


class RowFile:
    """A file of rows. ``for row in file`` reads it, from the beginning each time.

    Args:
        path: a path; ``-`` is standard input, JSON Lines where it begins with ``{``, a line each otherwise.
        delimiter: what stands between the columns of CSV; found out where not given.
        encoding: of the text; found out where not given.

    Attributes:
        names: its columns, as far as the file itself says.
        remarks: what had to be found out, in words.
        schema: the Arrow schema of Parquet, as bytes; empty otherwise.

    Raises:
        RequestError: it cannot be read, has no such encoding, or two columns of one name.
        ConfigError: what reads Parquet is not installed.
    """

    def __init__(self, path: str | os.PathLike[str], *, delimiter: str | None = None, encoding: str = "") -> None:
        self.name = str(path)
        self.remarks: tuple[str, ...] = ()
        self.names: tuple[str, ...] = ()
        if delimiter is not None and len(delimiter) != 1:
            raise RequestError("the delimiter is not one character", hint="Pass one, such as ';'.")
        self._path = Path(path)
        self._spool: IO[bytes] | None = _spooled(self._path)
        self.kind = self._path.suffix.lower()
        self._packed = _PACKED.get(self.kind)
        if self._packed is not None:
            self.kind = Path(self._path.stem).suffix.lower()
        self.schema = b""
        self._array: Any = None
        try:
            if self.kind == ".parquet":
                schema = _parquet(self._path).schema_arrow
                self.names = tuple(schema.names)
                self.schema = schema.serialize().to_pybytes()
                self._check_names()
                return
            self._encoding = self._found_encoding(encoding)
            with self._opened() as file:
                self._detect(file, delimiter)
        except OSError as error:
            raise self._unreadable(error) from None
        except UnicodeError:
            raise RequestError(
                f"{self.name} is not {self._encoding} text", hint="Say what it is: encoding=..."
            ) from None

    def _unreadable(self, error: OSError) -> RequestError:
        return RequestError(f"{self.name} cannot be read ({error.strerror or error})", hint="Name a file with rows.")

    def _detect(self, file: TextIOWrapper, delimiter: str | None) -> None:
        if self._spool is not None and self.kind not in _KINDS:
            # A pipe has no name that says what it gives.
            begins = file.read(_CHUNK).lstrip()[:1]
            self.kind = ".csv" if delimiter is not None else ".jsonl" if begins == "{" else self.kind
            file.seek(0)
        if self.kind in (".csv", ".tsv"):
            first = file.readline()
            self._delimiter = delimiter or ("\t" if self.kind == ".tsv" else _delimiter_in(first))
            if delimiter is None and self._delimiter not in (",", "\t"):
                self._remark(f"the columns of {self.name} are divided by {self._delimiter!r}")
            file.seek(0)
            self.names = tuple(name.strip() for name in next(csv.reader(file, delimiter=self._delimiter), []))
            self._check_names()
        elif self.kind == ".json":
            self._check_array(file)

    def _check_names(self) -> None:
        twice = next((name for name in self.names if self.names.count(name) > 1), None)
        if twice is not None:
            raise RequestError(f"{self.name} has two columns {twice!r}", hint="Give one of them another name.")

    def _check_array(self, file: TextIOWrapper) -> None:
        """See that a file of JSON is a list of rows: it is held whole, as there is no other way to read it."""
        try:
            self._array = json.load(file)
        except (ValueError, RecursionError) as error:
            raise RequestError(
                f"{self.name} is no JSON ({error})",
                hint="A list of objects is rows; an object a line is a .jsonl file.",
            ) from None
        if not isinstance(self._array, list):
            raise RequestError(
                f"{self.name} is no list of rows", hint="Write a list of objects, or an object a line into a .jsonl."
            )

    @property
    def has_columns(self) -> bool:
        """Whether its rows have names for what stands in them."""
        return self.kind in (".csv", ".tsv", ".json", ".jsonl", ".ndjson", ".parquet")

    def check_column(self, column: str) -> None:
        """See that it has a column, as far as the file itself says.

        Raises:
            RequestError: it has not.
        """
        if not self.has_columns:
            raise RequestError(
                f"{self.name} has no columns", hint="A column is named of a .csv, .tsv, .jsonl or .parquet file."
            )
        if self.kind not in (".json", ".jsonl", ".ndjson") and column not in self.names:
            raise RequestError(
                f"{self.name} has no column {column!r}; it has {', '.join(self.names) or 'none'}",
                hint=near_hint(column, self.names, "column"),
            )

    def __iter__(self) -> Iterator[Row]:
        try:
            if self.kind == ".parquet":
                yield from self._parquet_rows()
                return
            if self.kind == ".json":
                yield from _array_rows(self._array)
                return
            with self._opened() as file:
                if self.kind in (".csv", ".tsv"):
                    yield from self._csv_rows(file)
                elif self.kind in (".jsonl", ".ndjson"):
                    yield from _json_rows(file)
                else:
                    for number, line in enumerate(file, 1):
                        yield Row(number, {TEXT: line.strip()}, is_unquoted=True)
        except OSError as error:
            raise self._unreadable(error) from None

    @contextmanager
    def _opened(self) -> Iterator[TextIOWrapper]:
        """The text, from its beginning; only CR, LF and CRLF end a line."""
        newline = "" if self.kind in (".csv", ".tsv") else None
        if self._spool is not None:
            self._spool.seek(0)
            file: TextIOWrapper[Any] = TextIOWrapper(
                os.fdopen(os.dup(self._spool.fileno()), "rb"), self._encoding, newline=newline
            )
        else:
            file = TextIOWrapper(self._raw(), self._encoding, newline=newline)
        with file:
            yield file

    def _found_encoding(self, encoding: str) -> str:
        """The encoding of the file: what is given, what its mark says, UTF-8, or else the commonest other one."""
        marked = ""
        with self._bytes() as file:
            if file.read(2) in (b"\xff\xfe", b"\xfe\xff"):
                marked = "utf-16"
        encoding_name = encoding or marked or "utf-8"
        if encoding_name.lower() in ("utf-8", "utf8"):
            encoding_name = "utf-8-sig"
        try:
            decoder = getincrementaldecoder(encoding_name)()
        except LookupError:
            raise RequestError(f"there is no encoding {encoding!r}", hint="Such as utf-8, utf-16 or cp1252.") from None
        if self._is_text(decoder):
            if marked and not encoding:
                self._remark(f"{self.name} is read as {marked}", is_error=False)
            return encoding_name
        if encoding or marked:
            raise RequestError(f"{self.name} is not {encoding or marked} text", hint="Say what it is: encoding=...")
        with self._bytes() as file:
            if any(_NO_LETTERS.search(chunk) for chunk in iter(lambda: file.read(_CHUNK), b"")):
                raise RequestError(f"{self.name} is not UTF-8 text", hint="Say what it is: encoding=... (--encoding)")
        self._remark(f"{self.name} is read as cp1252", option="--encoding")
        return "cp1252"

    def _is_text(self, decoder: Any) -> bool:
        with self._bytes() as file:
            try:
                while chunk := file.read(_CHUNK):
                    decoder.decode(chunk)
                decoder.decode(b"", final=True)
            except UnicodeError:
                return False
        return True

    @contextmanager
    def _bytes(self) -> Iterator[IO[bytes]]:
        if self._spool is not None:
            self._spool.seek(0)
            yield self._spool
            return
        with self._raw() as file:
            yield file

    def _raw(self) -> Any:
        """The bytes of the text, unpacked where they are packed."""
        if self._packed is None:
            return self._path.open("rb")
        from importlib import import_module

        return import_module(self._packed).open(self._path, "rb")

    def _remark(self, text: str, *, is_error: bool = True, option: str = "--delimiter") -> None:
        self.remarks += (f"{text} (say {option} if that is wrong)" if is_error else text,)

    def _csv_rows(self, file: TextIOWrapper) -> Iterator[Row]:
        csv.field_size_limit(max(csv.field_size_limit(), _CELL))
        lines = _Lines(file, self._delimiter)
        reader = csv.reader(lines, delimiter=self._delimiter)
        count = len(self.names)
        try:
            next(reader, None)
            lines.is_open()
            line = reader.line_num + 1
            for cells in reader:
                if lines.is_open():
                    raise RequestError(
                        f"{self.name}, line {line}: a quote is opened and never closed",
                        hint="Close it, or double it where it is part of the text; all rows behind it were one cell.",
                    )
                while len(cells) > count and not cells[-1]:
                    cells.pop()  # a delimiter at the end of the line
                if len(cells) > count:
                    yield Row(line, error=f"{len(cells)} cells, where there are {count} columns")
                elif cells:
                    if len(cells) < count:
                        cells += [""] * (count - len(cells))
                    yield Row(line, dict(zip(self.names, cells, strict=True)))
                line = reader.line_num + 1
        except csv.Error as error:
            # Where the next row begins is not known any more.
            raise RequestError(
                f"{self.name}, line {reader.line_num}: {error}",
                hint="Mend the line; rows behind it cannot be told apart.",
            ) from None

    def _parquet_rows(self) -> Iterator[Row]:
        number = 0
        for batch in _parquet(self._path).iter_batches(batch_size=1024):
            try:
                rows: list[Any] = batch.to_pylist()
            except (OverflowError, ValueError):  # a time of another age, say: of one row, not of all
                rows = [_single_value(batch, at) for at in range(batch.num_rows)]
            for columns in rows:
                number += 1
                yield Row(number, error=columns) if isinstance(columns, str) else Row(number, columns)


class _Lines:
    """The lines of CSV, and whether a quote was still open where they ended."""

    def __init__(self, file: Iterable[str], delimiter: str) -> None:
        self._lines = iter(file)
        self._begins = re.compile(f'(^|{re.escape(delimiter)})"')
        self._ahead = next(self._lines, None)
        self._count = self._rows_read = 0
        self._quoted = False

    def __iter__(self) -> Iterator[str]:
        while self._ahead is not None:
            line, self._ahead = self._ahead, next(self._lines, None)
            self._count += line.count('"')
            self._rows_read += 1
            self._quoted = self._quoted or self._begins.search(line) is not None
            yield line

    def is_open(self) -> bool:
        """Whether the row that has just been read ends with the file, within a quote; the next row begins anew."""
        is_odd, quoted, several = self._count % 2 == 1, self._quoted, self._rows_read > 1
        self._count = self._rows_read = 0
        self._quoted = False
        return self._ahead is None and is_odd and (quoted or several)


def _single_value(batch: Any, at: int) -> dict[str, Any] | str:
    """One row of Parquet, or why it cannot be had."""
    try:
        row: dict[str, Any] = batch.slice(at, 1).to_pylist()[0]
    except (OverflowError, ValueError) as error:
        return f"a value of it has no place here ({error})"
    return row


def _spooled(path: Path) -> IO[bytes] | None:
    """Standard input, or a pipe, as a file that can be gone through more than once; `None` of what is one."""
    import shutil
    import sys

    if str(path) != "-" and (not path.exists() or path.is_file() or path.is_dir()):
        return None
    file = tempfile.TemporaryFile()  # noqa: SIM115  # it lives as long as its rows
    if str(path) == "-":
        shutil.copyfileobj(sys.stdin.buffer, file)
    else:
        with path.open("rb") as pipe:
            shutil.copyfileobj(pipe, file)
    file.flush()
    return file


def _parquet(path: Path) -> Any:
    try:
        import pyarrow
        import pyarrow.parquet
    except ImportError:
        raise ConfigError(
            "Parquet needs pyarrow, which is not installed", hint="Install it: pip install 'agouti-client[parquet]'."
        ) from None
    if not path.exists():
        raise FileNotFoundError(2, os.strerror(2))
    try:
        return pyarrow.parquet.ParquetFile(path)
    except pyarrow.ArrowException as error:
        raise RequestError(
            f"{path} is no Parquet file ({error})", hint="Name one, or give it another suffix."
        ) from None


def _delimiter_in(line: str) -> str:
    """What divides the columns: what stands in the first line most often, outside of quotes."""
    first = re.sub(r'"[^"]*"', "", line)
    return max(_DELIMITERS, key=lambda each: (first.count(each), -_DELIMITERS.index(each)))


def _array_rows(values: list[Any]) -> Iterator[Row]:
    for number, value in enumerate(values, 1):
        yield Row(number, value) if isinstance(value, dict) else Row(number, {TEXT: text_of(value)}, is_unquoted=True)


def _json_rows(lines: Iterable[str]) -> Iterator[Row]:
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        try:
            value = json.loads(line)
        except (ValueError, RecursionError) as error:
            yield Row(number, error=f"it is not JSON: {error}")
            continue
        if isinstance(value, dict):
            yield Row(number, value)
        else:
            yield Row(number, {TEXT: text_of(value)}, is_unquoted=True)
