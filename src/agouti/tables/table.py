"""Tables of results: rows as frozen structs, a pandas frame, and files by their suffix."""

import csv
import io
import json
import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, TypeVar

import msgspec
from msgspec import Struct

from ..core.errors import ConfigError, RequestError
from ..runtime.atomic_files import replaced

if TYPE_CHECKING:
    import pandas

Row = TypeVar("Row", bound=Struct)
SUFFIXES = (".csv", ".jsonl", ".parquet")


class Table(Generic[Row]):
    """Rows of one kind. ``for row in table`` gives them, ``len(table)`` counts them.

    Attributes:
        rows: the rows.
    """

    def __init__(self, rows: tuple[Row, ...]) -> None:
        self.rows = rows

    def __iter__(self) -> Iterator[Row]:
        return iter(self.rows)

    def __len__(self) -> int:
        return len(self.rows)

    def __getitem__(self, number: int) -> Row:
        return self.rows[number]

    def records(self) -> list[dict[str, Any]]:
        """The rows as plain dicts."""
        return [msgspec.to_builtins(row) for row in self.rows]

    def frame(self) -> "pandas.DataFrame":
        """The rows as a pandas frame.

        Raises:
            ConfigError: pandas is not installed.
        """
        try:
            import pandas
        except ImportError:
            raise ConfigError(
                "a frame needs pandas, which is not installed", hint="Install it: pip install 'agouti-client[frames]'."
            ) from None
        return pandas.DataFrame(self.records(), columns=self._columns())

    def _repr_markdown_(self) -> str:
        from .notebook import markdown_table

        return markdown_table(self._columns(), self.records())

    def save(self, path: str | os.PathLike[str]) -> None:
        """Write the rows to a file: .csv, .jsonl or .parquet; it is the old one or the new one at every moment.

        Raises:
            RequestError: the suffix is none of these, or the file cannot be written.
            ConfigError: what writes Parquet is not installed.
        """
        suffix = check_suffix(path, self._suffixes())
        data = self._as_file(suffix)
        try:
            with replaced(Path(path)) as file:
                file.write(data)
        except OSError as error:
            raise RequestError(
                f"{path} cannot be written ({error.strerror or error})",
                hint="Name a file in a folder that you can write to.",
            ) from None

    def _suffixes(self) -> tuple[str, ...]:
        return SUFFIXES

    def _columns(self) -> list[str]:
        return list(self.rows[0].__struct_fields__) if self.rows else []

    def _as_file(self, suffix: str) -> bytes:
        records = self.records()
        if suffix == ".jsonl":
            return b"".join(msgspec.json.encode(record) + b"\n" for record in records)
        if suffix == ".csv":
            return as_csv(records, self._columns()).encode("utf-8", "replace")
        return as_parquet(self._columns(), records)


def check_suffix(path: str | os.PathLike[str], suffixes: tuple[str, ...] = SUFFIXES) -> str:
    """The suffix of a file that is to be written.

    Raises:
        RequestError: it is none of those.
        ConfigError: what writes such a file is not installed.
    """
    suffix = Path(path).suffix.lower()
    if suffix not in suffixes:
        raise RequestError(f"{path} has no suffix that says what to write", hint=f"Take {', '.join(suffixes)}.")
    needs = _NEEDS.get(suffix)
    if needs is not None and find_spec(needs[0]) is None:
        raise ConfigError(
            f"a {suffix} file needs {needs[1]}, which is not installed",
            hint=f"Install it: pip install 'agouti-client[{needs[2]}]'.",
        )
    return suffix


_NEEDS = {".parquet": ("pyarrow", "pyarrow", "parquet"), ".png": ("matplotlib", "Matplotlib", "figures")}


def text_of(value: Any) -> str:
    """A value as it stands in a cell.

    >>> from datetime import date
    >>> text_of({"a": 1}), text_of(True), text_of(date(2026, 3, 4))
    ('{"a": 1}', 'true', '2026-03-04')
    """
    if isinstance(value, str):
        return value
    if value is None:
        return ""
    is_plain_value = isinstance(value, (bool, int, float, list, tuple, dict))
    return json.dumps(value, ensure_ascii=False, default=str) if is_plain_value else str(value)


def as_csv(rows: Iterable[Mapping[str, Any]], names: Sequence[str] = ()) -> str:
    """Rows as CSV: the columns in the order in which they first come; what is no text as JSON.

    Args:
        names: the columns that come first.
    """
    rows = list(rows)
    names = list(dict.fromkeys([*names, *(name for row in rows for name in row)]))
    out = io.StringIO()
    values = [{name: text_of(value) for name, value in row.items()} for row in rows]
    # The writer does not quote a carriage return where it is no line end of its own, and the reader takes it for one.
    lone = any("\r" in value for row in values for value in row.values())
    writer = csv.DictWriter(out, names, lineterminator="\n", quoting=csv.QUOTE_ALL if lone else csv.QUOTE_MINIMAL)
    writer.writeheader()
    writer.writerows(values)
    return out.getvalue()


def as_parquet(columns: list[str], records: "list[dict[str, Any]]") -> bytes:
    """Rows as Parquet; what is no plain value stands there as JSON.

    Raises:
        ConfigError: pyarrow is not installed.
    """
    try:
        import pyarrow
        import pyarrow.parquet
    except ImportError:
        raise ConfigError(
            "Parquet needs pyarrow, which is not installed", hint="Install it: pip install 'agouti-client[parquet]'."
        ) from None
    cells = {
        name: [
            text_of(value) if isinstance(value := record.get(name), (Mapping, list, tuple)) else value
            for record in records
        ]
        for name in columns
    }
    columns_made = {name: _column(pyarrow, values) for name, values in cells.items()}
    sink = io.BytesIO()
    pyarrow.parquet.write_table(pyarrow.table(columns_made), sink)
    return sink.getvalue()


def _column(pyarrow: Any, values: list[Any]) -> Any:
    """A column; one whose values are of several kinds, or too large for any, as texts."""
    try:
        return pyarrow.array(values)
    except (pyarrow.ArrowException, OverflowError, TypeError):
        return pyarrow.array([None if value is None else text_of(value) for value in values])
