"""Rows of a file as texts: a line each of plain text, CSV or JSON Lines; and rows written as JSON Lines or CSV."""

import csv
import io
import json
import re
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

import click


def read_rows(file: str, column: str | None = None) -> list[str]:
    """The texts of a file, one for each row that is not empty.

    Args:
        column: take this column (CSV) or field (JSON Lines) alone; otherwise all of a row, as ``name: value`` lines.

    Raises:
        click.UsageError: it cannot be read, or a row is not as its suffix promises: says which line.
    """
    path = Path(file)
    try:
        # As it stands: a line end within a quoted field is a part of it.
        text = _read(path)
    except OSError as error:
        raise click.UsageError(f"{file} cannot be read ({error.strerror or error})") from None
    except UnicodeDecodeError:
        raise click.UsageError(f"{file} is not UTF-8 text") from None
    suffix = path.suffix.lower()
    if suffix == ".csv":
        rows = _csv(text, file, column)
    elif suffix in (".jsonl", ".ndjson"):
        rows = _json_lines(text, file, column)
    elif column is not None:
        raise click.UsageError(f"{file} has no columns: --column goes with a .csv or .jsonl file")
    else:
        rows = lines_of(text)
    rows = [row.strip() for row in rows if row.strip()]
    if not rows:
        raise click.UsageError(f"there is nothing in {file}")
    return rows


def _read(path: Path) -> str:
    with path.open(encoding="utf-8-sig", newline="") as file:
        return file.read()


def lines_of(text: str) -> list[str]:
    """The lines of a text; only CR, LF and CRLF end one, as in the files that are read here."""
    return re.split("\r\n|\r|\n", text)


def _csv(text: str, file: str, column: str | None) -> list[str]:
    reader = csv.DictReader(io.StringIO(text, newline=""))
    names = list(reader.fieldnames or ())
    if column is not None and column not in names:
        raise click.UsageError(f"{file} has no column {column!r}; it has {', '.join(names) or 'none'}")
    try:
        return [_said(row, column) for row in reader]
    except csv.Error as error:
        raise click.UsageError(f"{file}, line {reader.line_num}: {error}") from None


def _json_lines(text: str, file: str, column: str | None) -> list[str]:
    texts = []
    for number, line in enumerate(lines_of(text), 1):
        if not line.strip():
            continue
        try:
            value = json.loads(line)
        except ValueError as error:
            raise click.UsageError(f"{file}, line {number} is not JSON: {error}") from None
        if column is not None and (not isinstance(value, dict) or column not in value):
            raise click.UsageError(f"{file}, line {number} has no field {column!r}")
        texts.append(_said(value, column) if isinstance(value, dict) else _text(value))
    return texts


def _said(row: dict[str, Any], column: str | None) -> str:
    if column is not None:
        return _text(row[column])
    return "\n".join(f"{name}: {_text(value)}" for name, value in row.items() if name and value not in (None, ""))


def _text(value: Any) -> str:
    return value if isinstance(value, str) else "" if value is None else json.dumps(value, ensure_ascii=False)


def kind_of(out: str | None, kinds: Sequence[str]) -> str:
    """What a file is to be, by its suffix.

    Raises:
        click.UsageError: it is none of those.
    """
    suffix = Path(out).suffix.lower() if out is not None else kinds[0]
    if suffix not in kinds:
        raise click.UsageError(f"--out takes a file that ends in {' or '.join(kinds)}, not {out}")
    return suffix


def as_csv(rows: Iterable[dict[str, Any]]) -> str:
    """Rows as CSV: the columns in the order in which they first come; what is no plain value as JSON."""
    rows = list(rows)
    names = list(dict.fromkeys(name for row in rows for name in row))
    out = io.StringIO()
    values = [{name: _text(value) for name, value in row.items()} for row in rows]
    # The writer does not quote a carriage return where it is no line end of its own, and the reader takes it for one.
    lone = any("\r" in value for row in values for value in row.values())
    writer = csv.DictWriter(out, names, lineterminator="\n", quoting=csv.QUOTE_ALL if lone else csv.QUOTE_MINIMAL)
    writer.writeheader()
    writer.writerows(values)
    return out.getvalue()
