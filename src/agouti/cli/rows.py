"""Rows of a file as texts: a line each of plain text, CSV or JSON Lines; and rows written as JSON Lines or CSV."""

import csv
import io
import json
import re
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click
from msgspec import Struct

from ..tables import text_of

_DELIMITERS = ",;\t|"


class Row(Struct, frozen=True):
    """A row of a file.

    Attributes:
        line: the line of the file in which it begins, from 1.
        text: what a model is given of it.
        columns: all that it has; empty for a line of plain text.
    """

    line: int
    text: str
    columns: dict[str, Any] = {}


class Table(Struct, frozen=True):
    """The rows of a file, and how they were read where that had to be found out.

    Attributes:
        remarks: what was found out, in words.
    """

    rows: list[Row]
    names: list[str] = []
    remarks: tuple[str, ...] = ()


def read_rows(file: str, column: str | None = None, *, delimiter: str | None = None, encoding: str = "") -> Table:
    """The rows of a file, those that are empty left out.

    Args:
        file: a path; ``-`` is standard input, a line each.
        column: give this column (CSV) or field (JSON Lines) alone; otherwise all of a row, as ``name: value`` lines.
        delimiter: what stands between the columns of CSV; found out where not given.
        encoding: of the text; found out where not given.

    Raises:
        click.UsageError: it cannot be read, or a row is not as its suffix promises: says which line.
    """
    path = Path(file)
    text, read_as = _text_of(file, encoding)
    suffix = path.suffix.lower()
    remarks = (f"{file} is read as {read_as}",) if read_as not in ("utf-8", "") else ()
    if suffix in (".csv", ".tsv"):
        table = _csv(text, file, column, delimiter or ("\t" if suffix == ".tsv" else ""))
    elif suffix in (".jsonl", ".ndjson"):
        table = _json_lines(text, file, column)
    elif column is not None:
        raise click.UsageError(f"{file} has no columns: --column goes with a .csv, .tsv or .jsonl file")
    else:
        table = Table([Row(number, line.strip()) for number, line in enumerate(lines_of(text), 1)])
    rows = [row for row in table.rows if row.text.strip() or any(str(each).strip() for each in row.columns.values())]
    if not rows:
        raise click.UsageError(f"there is nothing in {file}")
    return Table(rows, table.names, (*remarks, *table.remarks))


def _text_of(file: str, encoding: str) -> tuple[str, str]:
    """The text of a file as it stands (a line end within a quoted field is a part of it), and its encoding."""
    try:
        data = sys.stdin.buffer.read() if file == "-" else Path(file).read_bytes()
    except OSError as error:
        raise click.UsageError(f"{file} cannot be read ({error.strerror or error})") from None
    marked = {b"\xff\xfe": "utf-16", b"\xfe\xff": "utf-16"}.get(data[:2], "")
    wanted = encoding or marked or "utf-8"
    try:
        return data.decode("utf-8-sig" if wanted.lower() in ("utf-8", "utf8") else wanted), wanted
    except LookupError:
        raise click.UsageError(f"there is no encoding {wanted!r}") from None
    except UnicodeDecodeError as error:
        if encoding or marked:
            raise click.UsageError(f"{file} is not {wanted} text (byte {error.start})") from None
    # What is none of the others and has letters beyond them is most often this.
    if b"\x00" in data or any(byte in data for byte in (b"\x81", b"\x8d", b"\x8f", b"\x90", b"\x9d")):
        raise click.UsageError(f"{file} is not UTF-8 text: say what it is with --encoding")
    return data.decode("cp1252"), "cp1252 (say --encoding if that is wrong)"


def lines_of(text: str) -> list[str]:
    """The lines of a text; only CR, LF and CRLF end one, as in the files that are read here."""
    return re.split("\r\n|\r|\n", text)


def _csv(text: str, file: str, column: str | None, delimiter: str) -> Table:
    remarks: tuple[str, ...] = ()
    if not delimiter:
        delimiter = _delimiter_in(text)
        if delimiter != ",":
            remarks = (f"the columns of {file} are divided by {delimiter!r} (say --delimiter if that is wrong)",)
    if len(delimiter) != 1:
        raise click.UsageError("--delimiter takes one character")
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    rows: list[Row] = []
    try:
        names = [name.strip() for name in next(reader, [])]
        if len(set(names)) < len(names):
            twice = next(name for name in names if names.count(name) > 1)
            raise click.UsageError(f"{file} has two columns {twice!r}")
        if column is not None and column not in names:
            raise click.UsageError(f"{file} has no column {column!r}; it has {', '.join(names) or 'none'}")
        line = reader.line_num + 1
        for cells in reader:
            if len(cells) > len(names):
                raise click.UsageError(f"{file}, line {line}: {len(cells)} cells, where there are {len(names)} columns")
            columns = dict(zip(names, [*cells, *[""] * (len(names) - len(cells))], strict=True))
            if any(cell.strip() for cell in cells):
                rows.append(Row(line, _said(columns, column), columns))
            line = reader.line_num + 1
    except csv.Error as error:
        raise click.UsageError(f"{file}, line {reader.line_num}: {error}") from None
    return Table(rows, names, remarks)


def _delimiter_in(text: str) -> str:
    """What divides the columns: what stands in the first line most often, outside of quotes."""
    first = re.sub(r'"[^"]*"', "", next(iter(lines_of(text)), ""))
    return max(_DELIMITERS, key=lambda each: (first.count(each), -_DELIMITERS.index(each)))


def _json_lines(text: str, file: str, column: str | None) -> Table:
    rows, names = [], {}
    for number, line in enumerate(lines_of(text), 1):
        if not line.strip():
            continue
        try:
            value = json.loads(line)
        except (ValueError, RecursionError) as error:
            raise click.UsageError(f"{file}, line {number} is not JSON: {error}") from None
        if column is not None and (not isinstance(value, dict) or column not in value):
            raise click.UsageError(f"{file}, line {number} has no field {column!r}")
        if isinstance(value, dict):
            rows.append(Row(number, _said(value, column), value))
            names.update(dict.fromkeys(value))
        else:
            rows.append(Row(number, text_of(value)))
    return Table(rows, list(names))


def _said(row: dict[str, Any], column: str | None) -> str:
    if column is not None:
        return text_of(row[column]).strip()
    return "\n".join(f"{name}: {text_of(value)}" for name, value in row.items() if name and value not in (None, ""))


def kind_of(out: str | None, kinds: Sequence[str]) -> str:
    """What a file is to be, by its suffix.

    Raises:
        click.UsageError: it is none of those.
    """
    suffix = Path(out).suffix.lower() if out is not None else kinds[0]
    if suffix not in kinds:
        raise click.UsageError(f"--out takes a file that ends in {' or '.join(kinds)}, not {out}")
    return suffix
