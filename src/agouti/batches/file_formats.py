"""Files of results: CSV, Parquet and arrays, written from lines of JSON, a few at a time."""

import base64
import csv
import json
import re
import zipfile
from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from io import TextIOWrapper
from itertools import islice
from pathlib import Path
from typing import IO, Any, TypeAlias

import msgspec

from ..core.errors import ConfigError, RequestError
from ..runtime.atomic_files import replaced
from ..tables.table import text_of

SUFFIXES = (".jsonl", ".csv", ".parquet", ".npz", ".npy")
ARRAYS = (".npz", ".npy")
Lines: TypeAlias = Callable[[], Iterator[bytes]]
"""Gives the results from the beginning, each time."""

_PORTION = 1000
_VECTOR = "vector"
# What a result has besides the columns of its row and its value, in the order of the columns of a file.
_FACTS = (
    "answer", "finish_reason", "model", "input_tokens", "output_tokens", "cost", "currency", "seconds", "cached",
    "mended", "error",
)  # fmt: skip


def written(
    out: Path,
    suffix: str,
    lines: Lines,
    names: Sequence[str],
    schema_of_rows: bytes = b"",
    *,
    quote_formulas: bool = False,
) -> tuple[str, ...]:
    """Write results to a file; what stood there is there until then.

    Args:
        names: the columns of the rows, which come first.
        schema_of_rows: the Arrow schema of the rows, where they came out of Parquet: their types stay.
        quote_formulas: cells of CSV that a spreadsheet would run get a ' in front.

    Returns:
        what should be known of it.

    Raises:
        OSError: it cannot be written.
    """
    with replaced(out) as file:
        if suffix == ".csv":
            formulas = _csv(file, lines, names, quote=quote_formulas)
            if not formulas:
                return ()
            if quote_formulas:
                return (f"{formulas} cells begin with = + - or @: they have a ' in front",)
            return (
                f"{formulas} cells begin with = + - or @: a spreadsheet may run them; --quote-formulas "
                "(quote_formulas=True) puts a ' in front",
            )
        if suffix == ".parquet":
            _parquet(file, lines, names, schema_of_rows)
        else:
            {".npz": _npz, ".npy": _npy, ".jsonl": _jsonl}[suffix](file, lines, names)
    return ()


def flattened(result: Mapping[str, Any], names: Sequence[str] = ()) -> dict[str, Any]:
    """A result as a row of a table: the columns of its row, those of its value, and what it took.

    No name is taken twice: what would be called as something else before it gets a prefix, as often as is needed.

    >>> flattened({"key": 1, "line": 1, "row": {"text": "a"}, "value": {"text": "b", "n": 1}})
    {'line': 1, 'text': 'a', 'value_text': 'b', 'n': 1}
    """
    columns = result.get("row") or {}
    cells = {"line": result["line"], **columns} if result.get("line") is not None else dict(columns)
    if not columns and "key" in result and "line" not in cells:
        cells["key"] = result["key"]
    used = {*cells, *names, *_FACTS}
    if "value" in result:
        value = result["value"]
        for name, each in (value if isinstance(value, dict) else {"value": value}).items():
            cells[_free(str(name), "value", used)] = each
    if "vector" in result:
        cells.setdefault("text", result.get("text"))
        cells[_free(_VECTOR, "result", {*columns, *names})] = result[_VECTOR]
    for name in _FACTS:
        if name in result:
            cells[_free(name, "result", {*columns, *names})] = result[name]
    return cells


def _free(name: str, prefix: str, used: Container[str]) -> str:
    """A name that nothing else has."""
    while name in used:
        name = f"{prefix}_{name}"
    return name


def _decoded(lines: Lines) -> Iterator[dict[str, Any]]:
    for line in lines():
        try:
            yield msgspec.json.decode(line)
        except (msgspec.DecodeError, UnicodeDecodeError):
            yield json.loads(line)


def _columns(lines: Lines, names: Sequence[str]) -> list[str]:
    """All columns: the rows' own, those of the values as they first come, then what each result took."""
    found: dict[str, None] = {}
    for result in _decoded(lines):
        found.update(dict.fromkeys(flattened(result, names)))
    lead = [name for name in ("line", "key") if name in found and name not in names]
    fact_names = [_free(name, "result", names) for name in _FACTS]
    facts = [name for name in fact_names if name in found]
    inner = [name for name in found if name not in {*lead, *names, *facts}]
    return [*lead, *names, *inner, *facts]


def _jsonl(file: IO[bytes], lines: Lines, names: Sequence[str]) -> None:
    for line in lines():
        file.write(line)


def _csv(file: IO[bytes], lines: Lines, names: Sequence[str], *, quote: bool) -> int:
    """How many of the cells a spreadsheet may take for formulas."""
    columns = _columns(lines, names)
    # The writer does not quote a carriage return where it is no line end of its own, and the reader takes it for one.
    lone = any(b"\\r" in line for line in lines())
    text = TextIOWrapper(file, encoding="utf-8", errors="replace", newline="", write_through=True)
    writer = csv.DictWriter(
        text, columns, lineterminator="\n", quoting=csv.QUOTE_ALL if lone else csv.QUOTE_MINIMAL, extrasaction="ignore"
    )
    writer.writerow({name: _quoted(name) if quote else name for name in columns})
    formulas = sum(map(_is_formula, columns))
    for result in _decoded(lines):
        row = flattened(_readable(result), names)
        formulas += sum(map(_is_formula, row.values()))
        writer.writerow({name: text_of(_quoted(value) if quote else value) for name, value in row.items()})
    text.detach()
    return formulas


def _quoted(value: Any) -> Any:
    return f"'{value}" if _is_formula(value) else value


def _is_formula(value: Any) -> bool:
    if not isinstance(value, str) or len(value) < 2:
        return False
    return value[:1] in ("=", "+", "@", "\t") or (value[:1] == "-" and _NUMBER.fullmatch(value) is None)


_NUMBER = re.compile(r"-\s*[\d.,]+(e[+-]?\d+)?\s*%?", re.IGNORECASE)


def _readable(result: dict[str, Any]) -> dict[str, Any]:
    return {**result, "vector": vector_of(result)} if "vector" in result else result


def vector_of(result: Mapping[str, Any]) -> list[float]:
    """The vector of a result, however it is written."""
    vector = result["vector"]
    return vector if isinstance(vector, list) else _floats(vector).tolist()


def _floats(text: str) -> Any:
    import numpy

    return numpy.frombuffer(base64.b64decode(text), dtype="<f4")


def _parquet(file: IO[bytes], lines: Lines, names: Sequence[str], schema_of_rows: bytes = b"") -> None:
    import pyarrow
    import pyarrow.parquet

    known = _types_in(pyarrow, schema_of_rows)

    columns = _columns(lines, names)
    kinds: dict[str, set[type]] = {name: set() for name in columns}
    size, about = 0, {}
    vector = _free(_VECTOR, "result", names)
    for result in _decoded(lines):
        for name, value in flattened(result, names).items():
            # What has no place among its whole numbers stands there as a text, like all that is of several kinds.
            kinds[name].add(str if type(value) is int and not -(2**63) <= value < 2**63 else type(value))
        if not size and _VECTOR in result:
            size = len(vector_of(result))
            about = {"agouti": json.dumps({"label": result.get("label", ""), "model": result.get("model")})}
    types = {name: _arrow_type(pyarrow, found - {type(None)}) for name, found in kinds.items()}
    types |= {name: kind for name, kind in known.items() if name in types and name in names}
    if size:
        types[vector] = pyarrow.list_(pyarrow.float32(), size)
    schema = pyarrow.schema(list(types.items()), metadata=about)
    with pyarrow.parquet.ParquetWriter(file, schema) as writer:
        results = _decoded(lines)
        while portion := [flattened(_readable(each), names) for each in islice(results, _PORTION)]:
            cells = [_column(pyarrow, [row.get(name) for row in portion], types[name]) for name in columns]
            writer.write_table(pyarrow.Table.from_arrays(cells, schema=schema))


def _types_in(pyarrow: Any, schema: bytes) -> dict[str, Any]:
    """The types that columns of rows had, of those that come back as they were."""
    if not schema:
        return {}
    read = pyarrow.ipc.read_schema(pyarrow.py_buffer(schema))
    kinds = pyarrow.types
    simple_kinds = (kinds.is_date, kinds.is_timestamp, kinds.is_time, kinds.is_decimal, kinds.is_nested)
    return {each.name: each.type for each in read if any(is_kind(each.type) for is_kind in simple_kinds)}


def _arrow_type(pyarrow: Any, kinds: set[type]) -> Any:
    if kinds == {bool}:
        return pyarrow.bool_()
    if kinds == {int}:
        return pyarrow.int64()
    if kinds and kinds <= {int, float}:
        return pyarrow.float64()
    return pyarrow.string()


def _column(pyarrow: Any, values: list[Any], kind: Any) -> Any:
    if kind == pyarrow.string():
        texts = [None if value is None else text_of(value) for value in values]
        return pyarrow.array(
            [None if each is None else each.encode("utf-8", "replace").decode() for each in texts], kind
        )
    try:
        if pyarrow.types.is_nested(kind) or not any(isinstance(each, str) for each in values):
            return pyarrow.array(values, kind)
        # As texts of JSON have them: days, times, exact numbers.
        return pyarrow.array([None if each is None else text_of(each) for each in values], pyarrow.string()).cast(kind)
    except (pyarrow.ArrowException, OverflowError, TypeError, ValueError) as error:
        raise RequestError(
            f"Parquet has no place for a value ({error})", hint="Write to .jsonl; what came is kept."
        ) from None


def _shape(lines: Lines, *, gaps: bool) -> tuple[int, int]:
    count = size = 0
    for result in _decoded(lines):
        count += gaps or "vector" in result
        if not size and "vector" in result:
            size = len(vector_of(result))
    return count, size


def _array(file: IO[bytes], lines: Lines, *, gaps: bool) -> None:
    """The array; where there are ``gaps``, a row without a vector keeps its place, with no numbers in it."""
    import numpy

    count, size = _shape(lines, gaps=gaps)
    empty_vector = numpy.full(size, numpy.nan, dtype="<f4").tobytes()
    numpy.lib.format.write_array_header_1_0(file, {"descr": "<f4", "fortran_order": False, "shape": (count, size)})
    for result in _decoded(lines):
        if "vector" not in result:
            file.write(empty_vector if gaps else b"")
            continue
        vector = numpy.asarray(vector_of(result), dtype="<f4")
        if len(vector) != size:
            raise RequestError(
                f"row {result.get('key')} has {len(vector)} numbers, others have {size}: they do not compare",
                hint="What came is kept; begin again with one model: --restart.",
            )
        file.write(vector.tobytes())


def _npy(file: IO[bytes], lines: Lines, names: Sequence[str]) -> None:
    _array(file, lines, gaps=True)


def _npz(file: IO[bytes], lines: Lines, names: Sequence[str]) -> None:
    """The array, and the texts and what is known of them, as `agouti.Embeddings.load` reads it."""
    with zipfile.ZipFile(file, "w") as archive:
        with archive.open("vectors.npy", "w", force_zip64=True) as member:
            _array(member, lines, gaps=False)
        with archive.open("about.json", "w", force_zip64=True) as member:
            about: dict[str, Any] = {}
            lead = b'{"texts": ['
            for result in _decoded(lines):
                if "vector" in result:
                    member.write(lead + json.dumps(result["text"]).encode())
                    lead = b", "
                    about = about or {"label": result.get("label", ""), "model": result.get("model")}
            member.write((b"" if lead == b", " else lead) + b"], ")
            member.write(json.dumps({"label": "", **about}).encode()[1:])


def check_installed(suffix: str) -> None:
    """See that what writes a kind of file is there, before anything is paid.

    Raises:
        ConfigError: it is not.
    """
    from importlib.util import find_spec

    needs = {".parquet": ("pyarrow", "parquet"), ".npz": ("numpy", "arrays"), ".npy": ("numpy", "arrays")}.get(suffix)
    if needs is not None and find_spec(needs[0]) is None:
        raise ConfigError(
            f"{suffix} needs {needs[0]}, which is not installed",
            hint=f"Install it: pip install 'agouti-client[{needs[1]}]'.",
        )
