"""Results that stand beside the file that was asked for: read again by ``for row in batch``, and for export."""

import base64
import json
import os
import sqlite3
from collections.abc import Iterator
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

import msgspec

from ..core.errors import RequestError
from .file_formats import SUFFIXES, written
from .result_index import batches_in, digest_of
from .result_lines import key_in


def places_of(out: Path) -> tuple[Path, Path]:
    """The file of the lines of results, and that of their journal."""
    data = out if out.suffix.lower() == ".jsonl" else out.with_name(f".{out.name}.part")
    return data, out.with_name(f".{out.name}.journal")


def submissions_of(out: Path) -> list[tuple[str, str, int, float, str]]:
    """The batches that the run of a file has handed over and not fetched yet: see `index.batches_in`.

    Raises:
        RequestError: no run has written there.
    """
    _, journal = places_of(out)
    if not journal.exists():
        raise RequestError(f"no run has written to {out}", hint="Name the file that it writes to.")
    try:
        with closing(_opened(journal)) as base:
            return batches_in(base)
    except sqlite3.Error as error:
        raise RequestError(f"{journal} cannot be read ({error})", hint="Run the batch again.") from None


def result_lines(out: Path) -> Iterator[bytes]:
    """The results of a file, the last one of each row, in the order of the rows; also of a run that is under way.

    Raises:
        RequestError: there are none.
    """
    data, journal = places_of(out)
    try:
        with data.open("rb") as file, closing(_opened(journal)) as base:
            noted = "FROM rows WHERE start IS NOT NULL"
            file.seek(int(base.execute(f"SELECT coalesce(max(start + size), 0) {noted}").fetchone()[0]))
            # Of a run under way: not noted yet, and some instead of what is.
            latest = {digest_of(known.key): line for line in file if (known := key_in(line)) is not None}
            for key, start, size in base.execute(
                f"SELECT key, start, size {noted} ORDER BY place IS NULL, place, start"
            ):
                line = latest.pop(bytes(key), b"")
                if not line:
                    file.seek(start)
                    line = file.read(size)
                if line.endswith(b"\n"):
                    yield line
            yield from latest.values()
    except OSError as error:
        raise RequestError(
            f"there are no results of {out} ({error.strerror or error})",
            hint="Name the file that a run has written to.",
        ) from None
    except sqlite3.Error as error:
        raise RequestError(
            f"{journal} cannot be read ({error})", hint=f"The results themselves are in {data}."
        ) from None


def _opened(journal: Path) -> sqlite3.Connection:
    if not journal.exists():
        raise FileNotFoundError(2, os.strerror(2))
    return sqlite3.connect(f"{journal.absolute().as_uri()}?mode=ro", uri=True)


def export(out: str | os.PathLike[str], path: str | os.PathLike[str], *, quote_formulas: bool = False) -> int:
    """Write the results of a batch to another file, in any of its formats; nothing is asked.

    Args:
        out: the file that the batch was told to write, also while it is under way or where it could not be finished.
        path: .jsonl, .csv, .parquet, .npz or .npy.
        quote_formulas: cells of .csv that a spreadsheet would take for formulas get a ' in front.

    Returns:
        how many there are.

    Raises:
        RequestError: there are no results, or the file cannot be written.

    Example:
        >>> import agouti, agouti.standins, os, tempfile
        >>> folder = tempfile.mkdtemp()
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     _ = agouti.batch(client, "almanac", ["Peas?", "Beans?"], out=f"{folder}/a.jsonl", max_tokens=5)
        >>> agouti.batch_export(f"{folder}/a.jsonl", f"{folder}/a.csv")
        2
    """
    source, target = Path(out), Path(path)
    suffix = target.suffix.lower()
    if suffix not in SUFFIXES:
        raise RequestError(f"{path} has no suffix that says what to write", hint=f"Take {', '.join(SUFFIXES)}.")
    if source.absolute() == target.absolute():
        raise RequestError(f"{path} is the file itself", hint="Name another one.")
    count = 0
    names: dict[str, None] = {}
    for line in result_lines(source):
        count += 1
        names.update(dict.fromkeys(_decoded(line).get("row") or {}))
    if not count:
        raise RequestError(f"there are no results of {out}", hint="Name the file that a run has written to.")
    try:
        written(
            target, suffix, lambda: result_lines(source), list(names), _schema(source), quote_formulas=quote_formulas
        )
    except OSError as error:
        raise RequestError(
            f"{path} cannot be written ({error.strerror or error})",
            hint="Name a file in a folder that you can write to.",
        ) from None
    return count


def _decoded(line: bytes) -> dict[str, Any]:
    try:
        found: dict[str, Any] = msgspec.json.decode(line)
    except (msgspec.DecodeError, UnicodeDecodeError):
        found = json.loads(line)
    return found


def _schema(out: Path) -> bytes:
    """The Arrow schema of the rows, where the run has noted one."""
    journal = places_of(out)[1]
    with suppress(OSError, sqlite3.Error, ValueError), closing(_opened(journal)) as base:
        found = base.execute("SELECT value FROM facts WHERE name = 'schema'").fetchone()
        return base64.b64decode(json.loads(found[0])) if found else b""
    return b""
