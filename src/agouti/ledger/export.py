"""Rows of single attempts written to a file, as many as there are."""

import csv
import json
import os
from collections.abc import Iterable, Iterator
from itertools import islice
from pathlib import Path
from typing import IO, Any

import msgspec

from ..core.errors import ConfigError, RequestError
from ..runtime.atomic_files import replaced
from ..tables.table import check_suffix
from .rows import PICO, LedgerRow

_ROWS_AT_A_TIME = 5000
_COUNTS = (
    "status", "input_tokens", "output_tokens", "cached_tokens", "cache_write_tokens", "reasoning_tokens",
    "audio_input_tokens", "audio_output_tokens",
)  # fmt: skip
_NUMBERS = ("at", "seconds", "first_token", "cost", "provider_cost")


def export(rows: Iterable[LedgerRow], path: str | os.PathLike[str]) -> int:
    """Write rows to a .csv, .jsonl or .parquet file; not all of them are held at a time. Returns how many.

    ``cost`` is in ``currency``; in CSV and Parquet ``tags`` are JSON.

    Raises:
        RequestError: the suffix is none of these, or the file cannot be written.
        ConfigError: what writes Parquet is not installed.
    """
    suffix = check_suffix(path)
    try:
        with replaced(Path(path)) as file:
            return {".jsonl": _jsonl, ".csv": _csv, ".parquet": _parquet}[suffix](_records(rows), file)
    except OSError as error:
        raise RequestError(
            f"{path} cannot be written ({error.strerror or error})",
            hint="Name a file in a folder that you can write to.",
        ) from None


def _records(rows: Iterable[LedgerRow]) -> Iterator[dict[str, Any]]:
    for row in rows:
        record = msgspec.to_builtins(row)
        for name in ("cost", "provider_cost"):
            record[name] = None if record[name] is None else record[name] / PICO
        yield record


def _jsonl(records: Iterator[dict[str, Any]], file: IO[bytes]) -> int:
    count = 0
    for count, record in enumerate(records, 1):  # noqa: B007 - it counts them
        file.write(msgspec.json.encode(record) + b"\n")
    return count


def _plain_record(record: dict[str, Any]) -> dict[str, Any]:
    return {**record, "tags": json.dumps(record["tags"], ensure_ascii=False)}


def _csv(records: Iterator[dict[str, Any]], file: IO[bytes]) -> int:
    import io

    text = io.TextIOWrapper(file, encoding="utf-8", errors="replace", newline="", write_through=True)
    try:
        # All is quoted: a lone carriage return would end a line otherwise.
        writer = csv.DictWriter(text, LedgerRow.__struct_fields__, lineterminator="\n", quoting=csv.QUOTE_ALL)
        writer.writeheader()
        count = 0
        for count, record in enumerate(records, 1):  # noqa: B007 - it counts them
            writer.writerow(_plain_record(record))
    finally:
        text.detach()
    return count


def _parquet(records: Iterator[dict[str, Any]], file: IO[bytes]) -> int:
    try:
        import pyarrow
        import pyarrow.parquet
    except ImportError:
        raise ConfigError(
            "Parquet needs pyarrow, which is not installed", hint="Install it: pip install 'agouti-client[parquet]'."
        ) from None
    kinds = {**dict.fromkeys(_COUNTS, pyarrow.int64()), **dict.fromkeys(_NUMBERS, pyarrow.float64())}
    kinds["estimated"] = kinds["sent"] = pyarrow.bool_()
    schema = pyarrow.schema([(name, kinds.get(name, pyarrow.string())) for name in LedgerRow.__struct_fields__])
    count = 0
    with pyarrow.parquet.ParquetWriter(file, schema) as writer:
        while batch := [_plain_record(record) for record in islice(records, _ROWS_AT_A_TIME)]:
            writer.write_table(pyarrow.Table.from_pylist(batch, schema=schema))
            count += len(batch)
    return count
