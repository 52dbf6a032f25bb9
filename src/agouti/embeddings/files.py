"""Embeddings on disk: ``.npz`` (needs numpy alone) and ``.parquet`` (needs pyarrow, read by every table tool)."""

import json
import zipfile
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

from msgspec import Struct, ValidationError, convert, to_builtins

from ..core.canonical.usage import NO_USAGE, Usage
from ..core.errors import ConfigError, RequestError
from ..runtime.atomic_files import replaced

if TYPE_CHECKING:
    import numpy
    from numpy.typing import NDArray

KINDS = (".npz", ".parquet")


class Facts(Struct, frozen=True):
    """What is known of vectors besides themselves."""

    label: str = ""
    model: str | None = None
    provider: str = ""
    usage: Usage = NO_USAGE
    cost: float | None = None
    elapsed: float = 0.0


class Stored(Struct, frozen=True):
    """What stands in a file."""

    texts: list[str]
    vectors: Any
    facts: Facts


def kind_of(path: Path) -> str:
    """How a file is written, by its suffix.

    Raises:
        RequestError: there is no such kind.
    """
    if path.suffix.lower() not in KINDS:
        raise RequestError(
            f"{path} is neither .npz nor .parquet", hint="Name a file that ends in one of them; texts go with both."
        )
    return path.suffix.lower()


def write(path: Path, stored: Stored) -> None:
    """Write a file whole; one that stood there is there until then.

    Raises:
        RequestError: the kind of file, or that it cannot be written.
        ConfigError: pyarrow is not installed.
    """
    write_kind = _write_npz if kind_of(path) == ".npz" else _write_parquet
    try:
        with replaced(path) as file:
            write_kind(file, stored)
    except OSError as error:
        raise RequestError(
            f"{path} cannot be written ({error.strerror or error})", hint="Name another file; nothing was changed."
        ) from None


def read(path: Path) -> Stored:
    """What `write` wrote.

    Raises:
        RequestError: it cannot be read, or is none of these files.
        ConfigError: pyarrow is not installed.
    """
    read_kind = _read_npz if kind_of(path) == ".npz" else _read_parquet
    try:
        with path.open("rb") as file:
            stored = read_kind(file)
    except OSError as error:
        raise RequestError(
            f"{path} cannot be read ({error.strerror or error})", hint="Is it the file that was saved?"
        ) from None
    except ConfigError:
        raise
    except MemoryError:
        raise RequestError(f"{path} wants more memory than there is", hint="Is it whole? Save it in parts.") from None
    except Exception as error:  # whatever a damaged file does to its reader
        raise RequestError(
            f"{path} holds no embeddings ({str(error).splitlines()[0] if str(error) else type(error).__name__})",
            hint="Name a file that Embeddings.save or agouti embed --out wrote.",
        ) from None
    return stored


def _write_npz(file: IO[bytes], stored: Stored) -> None:
    import numpy

    about = {"texts": stored.texts, **to_builtins(stored.facts)}
    with zipfile.ZipFile(file, "w") as archive:
        with archive.open("vectors.npy", "w", force_zip64=True) as member:
            numpy.lib.format.write_array(member, numpy.ascontiguousarray(stored.vectors), allow_pickle=False)
        archive.writestr("about.json", json.dumps(about))


def _read_npz(file: IO[bytes]) -> Stored:
    import numpy

    with zipfile.ZipFile(file) as archive:
        about = json.loads(archive.read("about.json"))
        with archive.open("vectors.npy") as member:
            vectors = numpy.lib.format.read_array(member, allow_pickle=False)
    texts = convert(about.pop("texts"), list[str])
    return _checked(texts, vectors, _facts(about))


def _write_parquet(file: IO[bytes], stored: Stored) -> None:
    pyarrow, parquet = _arrow()
    count, size = stored.vectors.shape
    flat = pyarrow.array(stored.vectors.reshape(-1))
    try:
        texts = pyarrow.array(stored.texts, pyarrow.string())
    except UnicodeEncodeError as error:
        raise RequestError(
            f"a text has half of a letter in it ({error.reason}), which Parquet has no place for",
            hint="Save it as .npz, or mend the text.",
        ) from None
    vectors = (
        pyarrow.FixedSizeListArray.from_arrays(flat, size)
        if count
        else pyarrow.array([], pyarrow.list_(flat.type, size))
    )
    table = pyarrow.table({"text": texts, "vector": vectors})
    parquet.write_table(table.replace_schema_metadata({"agouti": json.dumps(to_builtins(stored.facts))}), file)


def _read_parquet(file: IO[bytes]) -> Stored:
    import numpy

    _, parquet = _arrow()
    table = parquet.read_table(file)
    missing = [name for name in ("text", "vector") if name not in table.column_names]
    if missing:
        raise ValueError(f"there is no column {missing[0]}")
    table = table.filter(table["vector"].is_valid())  # a batch has rows that failed in its file
    rows = table["vector"].combine_chunks()
    size = table.schema.field("vector").type.list_size
    vectors = numpy.asarray(rows.flatten().to_numpy(zero_copy_only=False)).reshape(len(rows), size)
    metadata = (table.schema.metadata or {}).get(b"agouti", b"{}")
    return _checked(convert(table["text"].to_pylist(), list[str]), vectors, _facts(json.loads(metadata)))


def _checked(texts: list[str], vectors: "NDArray[numpy.float32]", facts: Facts) -> Stored:
    if vectors.dtype != "float32" or vectors.ndim != 2 or len(vectors) != len(texts):
        raise ValueError(f"{len(texts)} texts and an array of {vectors.dtype} of shape {vectors.shape}")
    return Stored(texts, vectors, facts)


def _facts(metadata: Any) -> Facts:
    try:
        return convert(metadata, Facts)
    except ValidationError:
        return Facts()


def _arrow() -> tuple[Any, Any]:
    try:
        import pyarrow
        from pyarrow import parquet
    except ModuleNotFoundError:
        raise ConfigError(
            "Parquet files need pyarrow, which is not installed",
            hint="Install it: pip install 'agouti-client[parquet]'; or use .npz.",
        ) from None
    return pyarrow, parquet
