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

from .core.errors import ConfigError, RequestError
from .core.suggest import near_hint
from .tables import text_of

TEXT = "text"
"""The column of a row that has no names: a line of plain text, a value that is no object."""

_DELIMITERS = ",;\t|"
_CHUNK = 1 << 20
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
        plain: whether it is a line of text, or a value without names.
    """

    line: int
    columns: dict[str, Any] = {}
    error: str = ""
    plain: bool = False

    def said(self, column: str | None = None) -> str:
        """What a model is given of it: one column, or all that it has as ``name: value`` lines."""
        if column is not None:
            return text_of(self.columns.get(column)).strip()
        if self.plain:
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
        self._spool: IO[bytes] | None = _spooled() if self.name == "-" else None
        self.kind = self._path.suffix.lower()
        try:
            if self.kind == ".parquet":
                self.names = tuple(_parquet(self._path).schema_arrow.names)
                return
            self._encoding = self._found_encoding(encoding)
            with self._opened() as file:
                self._look(file, delimiter)
        except OSError as error:
            raise self._unreadable(error) from None
        except UnicodeError:
            raise RequestError(
                f"{self.name} is not {self._encoding} text", hint="Say what it is: encoding=..."
            ) from None

    def _unreadable(self, error: OSError) -> RequestError:
        return RequestError(f"{self.name} cannot be read ({error.strerror or error})", hint="Name a file with rows.")

    def _look(self, file: TextIOWrapper, delimiter: str | None) -> None:
        if self.kind in (".csv", ".tsv"):
            first = file.readline()
            self._delimiter = delimiter or ("\t" if self.kind == ".tsv" else _delimiter_in(first))
            if delimiter is None and self._delimiter not in (",", "\t"):
                self._remark(f"the columns of {self.name} are divided by {self._delimiter!r}")
            file.seek(0)
            self.names = tuple(name.strip() for name in next(csv.reader(file, delimiter=self._delimiter), []))
            twice = next((name for name in self.names if self.names.count(name) > 1), None)
            if twice is not None:
                raise RequestError(f"{self.name} has two columns {twice!r}", hint="Give one of them another name.")
        elif self.name == "-" and file.read(_CHUNK).lstrip()[:1] == "{":
            self.kind = ".jsonl"

    @property
    def has_columns(self) -> bool:
        """Whether its rows have names for what stands in them."""
        return self.kind in (".csv", ".tsv", ".jsonl", ".ndjson", ".parquet")

    def check_column(self, column: str) -> None:
        """See that it has a column, as far as the file itself says.

        Raises:
            RequestError: it has not.
        """
        if not self.has_columns:
            raise RequestError(
                f"{self.name} has no columns", hint="A column is named of a .csv, .tsv, .jsonl or .parquet file."
            )
        if self.kind not in (".jsonl", ".ndjson") and column not in self.names:
            raise RequestError(
                f"{self.name} has no column {column!r}; it has {', '.join(self.names) or 'none'}",
                hint=near_hint(column, self.names, "column"),
            )

    def __iter__(self) -> Iterator[Row]:
        try:
            if self.kind == ".parquet":
                yield from self._parquet_rows()
                return
            with self._opened() as file:
                if self.kind in (".csv", ".tsv"):
                    yield from self._csv_rows(file)
                elif self.kind in (".jsonl", ".ndjson"):
                    yield from _json_rows(file)
                else:
                    for number, line in enumerate(file, 1):
                        yield Row(number, {TEXT: line.strip()}, plain=True)
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
            file = self._path.open(encoding=self._encoding, newline=newline)
        with file:
            yield file

    def _found_encoding(self, encoding: str) -> str:
        """The encoding of the file: what is given, what its mark says, UTF-8, or else the commonest other one."""
        marked = ""
        with self._bytes() as file:
            if file.read(2) in (b"\xff\xfe", b"\xfe\xff"):
                marked = "utf-16"
        wanted = encoding or marked or "utf-8"
        if wanted.lower() in ("utf-8", "utf8"):
            wanted = "utf-8-sig"
        try:
            decoder = getincrementaldecoder(wanted)()
        except LookupError:
            raise RequestError(f"there is no encoding {encoding!r}", hint="Such as utf-8, utf-16 or cp1252.") from None
        if self._is_text(decoder):
            if marked and not encoding:
                self._remark(f"{self.name} is read as {marked}", wrong=False)
            return wanted
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
        with self._path.open("rb") as file:
            yield file

    def _remark(self, text: str, *, wrong: bool = True, option: str = "--delimiter") -> None:
        self.remarks += (f"{text} (say {option} if that is wrong)" if wrong else text,)

    def _csv_rows(self, file: TextIOWrapper) -> Iterator[Row]:
        csv.field_size_limit(max(csv.field_size_limit(), _CELL))
        reader = csv.reader(file, delimiter=self._delimiter)
        count = len(self.names)
        try:
            next(reader, None)
            line = reader.line_num + 1
            for cells in reader:
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
            for columns in batch.to_pylist():
                number += 1
                yield Row(number, columns)


def _spooled() -> IO[bytes]:
    """Standard input as a file that can be gone through more than once."""
    import shutil
    import sys

    file = tempfile.TemporaryFile()  # noqa: SIM115  # it lives as long as its rows
    shutil.copyfileobj(sys.stdin.buffer, file)
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
            yield Row(number, {TEXT: text_of(value)}, plain=True)
