"""Rows of a file as texts: a line each of plain text, CSV, JSON Lines or Parquet."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click
from msgspec import Struct

from ..core.errors import RequestError
from ..tables.row_files import RowFile


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
    remarks: tuple[str, ...] = ()


def read_rows(file: str, column: str | None = None, *, delimiter: str | None = None, encoding: str = "") -> Table:
    """The rows of a file, those that are empty left out.

    Args:
        file: a path; ``-`` is standard input.
        column: give this column alone; otherwise all of a row, as ``name: value`` lines.
        delimiter: what stands between the columns of CSV; found out where not given.
        encoding: of the text; found out where not given.

    Raises:
        click.UsageError: a row is not as the suffix promises: says which line.
        RequestError: the file cannot be read, or has no such column.
    """
    read = RowFile(file, delimiter=delimiter, encoding=encoding)
    if column is not None:
        read.check_column(column)
    rows = []
    for row in read:
        if row.error:
            raise click.UsageError(f"{file}, line {row.line}: {row.error}")
        if column is not None and (row.is_unquoted or column not in row.columns):
            raise click.UsageError(f"{file}, line {row.line} has no field {column!r}")
        if not row.is_empty:
            rows.append(Row(row.line, row.describe(column), {} if row.is_unquoted else row.columns))
    if not rows:
        raise RequestError(f"there is nothing in {file}", hint="Name a file with rows.")
    return Table(rows, read.remarks)


def kind_of(out: str | None, kinds: Sequence[str]) -> str:
    """What a file is to be, by its suffix.

    Raises:
        click.UsageError: it is none of those.
    """
    suffix = Path(out).suffix.lower() if out is not None else kinds[0]
    if suffix not in kinds:
        raise click.UsageError(f"--out takes a file that ends in {' or '.join(kinds)}, not {out}")
    return suffix
