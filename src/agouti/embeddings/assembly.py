"""Embeddings from the batches that came: each checked, put in the order of the texts, joined with what was there."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from msgspec import Struct

from ..core.canonical.usage import total_cost, total_usage
from ..core.canonical.vectors import Vector
from ..core.errors import AgoutiError, ReplyUnreadable, RequestError
from ..engine.operations.vectors import Embedded, Failure, Gathered
from .embeddings import Embeddings, as_floats, not_finite

if TYPE_CHECKING:
    import numpy
    from numpy.typing import NDArray


class EmbeddingRequest(Struct, frozen=True, kw_only=True):
    """What a call is to give.

    Attributes:
        texts: as the caller gave them.
        known: vectors that are there already.
        missing: the texts that were asked for, each once.
        positions: the number of each of them among the texts.
        name: of the model, as it was sent.
    """

    texts: list[str]
    known: Embeddings | None
    missing: list[str]
    positions: list[int]
    label: str
    name: str
    dimensions: int | None


def embedding_request(
    texts: list[str], known: Embeddings | None, *, label: str, name: str, dimensions: int | None
) -> EmbeddingRequest:
    """What has to be asked for: each text once, none whose vector is there."""
    answered = frozenset(known.texts) if known is not None else frozenset()
    first: dict[str, int] = {}
    for position, text in enumerate(texts):
        if text not in answered:
            first.setdefault(text, position)
    return EmbeddingRequest(
        texts=texts,
        known=known,
        missing=list(first),
        positions=list(first.values()),
        label=label,
        name=name,
        dimensions=dimensions,
    )


def assembled(request: EmbeddingRequest, gathered: Gathered, *, elapsed: float) -> Embeddings:
    """All vectors as one array.

    Raises:
        AgoutiError: some did not come, are not of one length, or of another than was asked for; ``partial`` are the
            others.
    """
    # Not at the top: importing this module must not need what only its use needs.
    import numpy

    known = request.known if request.known is not None and len(request.known) else None
    failures = list(gathered.failures)
    size = known.dimensions if known is not None else request.dimensions
    array: NDArray[numpy.float32] | None = None
    answered_rows = numpy.zeros(len(request.missing), dtype=bool)
    usable: list[Embedded] = []
    for batch in gathered.batches:
        try:
            rows = _rows(batch, size, request.positions)
        except AgoutiError as problem:
            failures.append(Failure(batch.start, problem))
            continue
        if array is None:
            size = rows.shape[1]
            array = numpy.empty((len(request.missing), size), dtype=numpy.float32)
        array[batch.start : batch.start + len(rows)] = rows
        answered_rows[batch.start : batch.start + len(rows)] = True
        usable.append(batch)
    if known is not None and usable and (mismatch := _other_model(known.model, usable[0].vectors.model)) is not None:
        failures, known = [mismatch], None
    embeddings = _joined(request, array, answered_rows, known, usable, elapsed=elapsed)
    if not failures:
        return embeddings
    error = min(failures, key=lambda failure: failure.start).error
    if len(embeddings):
        error.with_context(partial=embeddings, hint=f"{error.hint}{how_to_go_on(embeddings)}".lstrip())
    raise error from None


def how_to_go_on(partial: Embeddings) -> str:
    """What the hint of an error ends with, where some vectors came."""
    return (
        f" The vectors of {len(partial)} texts are in error.partial: pass it as only_missing=, and only the others are "
        "asked for."
    )


def _other_model(known: str | None, received: str | None) -> Failure | None:
    if not known or not received or known == received:
        return None
    failure = RequestError(
        f"the vectors in only_missing are of the model {known}, those that came of {received}: they do not compare",
        hint="Ask for all texts with one model.",
    )
    return Failure(-1, failure)


def _joined(
    request: EmbeddingRequest,
    array: "NDArray[numpy.float32] | None",
    answered_rows: "NDArray[numpy.bool_]",
    known: Embeddings | None,
    batches: list[Embedded],
    *,
    elapsed: float,
) -> Embeddings:
    """What was asked for and what was there, in the order of the texts; those without a vector are left out."""
    import numpy

    texts = request.texts
    model = batches[0].vectors.model or request.name if batches else known.model if known is not None else None
    if array is None:
        array = numpy.empty((0, known.dimensions if known is not None else 0), dtype=numpy.float32)
    if known is not None or len(request.missing) != len(texts) or not answered_rows.all():
        rows = {
            text: row
            for row, (text, answered) in enumerate(zip(request.missing, answered_rows, strict=True))
            if answered
        }
        if known is not None:
            rows |= {text: row + len(array) for row, text in enumerate(known.texts)}
            array = numpy.concatenate([array, known.vectors])
        texts = [text for text in texts if text in rows]
        array = array[[rows[text] for text in texts]]
    return Embeddings(
        texts,
        array,
        label=request.label,
        model=model,
        provider=batches[0].provider if batches else known.provider if known is not None else "",
        usage=total_usage(batch.usage for batch in batches),
        cost=total_cost(batch.cost for batch in batches),
        elapsed=elapsed,
    )


def _rows(batch: Embedded, size: int | None, positions: Sequence[int]) -> "NDArray[numpy.float32]":
    """Vectors of one length as the rows of an array.

    Raises:
        ReplyUnreadable: one of them has another length, or is no vector of finite numbers.
    """
    import numpy

    vectors, provider = batch.vectors.vectors, batch.provider
    size = _checked_lengths(
        vectors, size, [positions[batch.start + number] for number in range(len(vectors))], provider
    )
    if all(isinstance(vector, bytes) for vector in vectors):
        # All at once: an array for each of them would cost more than what is in it.
        rows = numpy.frombuffer(b"".join(vectors), dtype="<f4").reshape(-1, size)  # type: ignore[arg-type]
        _check_width(vectors[0], rows[0], provider)
    else:
        rows = as_floats(
            [numpy.frombuffer(vector, dtype="<f4") if isinstance(vector, bytes) else vector for vector in vectors]
        )
    if (failure := not_finite(rows)) is not None:
        raise ReplyUnreadable(
            f"{provider}: the vector of text {positions[batch.start + failure]} has numbers that are not "
            "finite 32-bit ones",
            hint="Ask again, or leave that text out.",
        )
    return rows


def _checked_lengths(vectors: list[Vector], size: int | None, positions: list[int], provider: str) -> int:
    lengths = [_length(vector, position, provider) for vector, position in zip(vectors, positions, strict=True)]
    _check_length(lengths[0], size, f"vectors of {lengths[0]} numbers", provider)
    for position, length in zip(positions, lengths, strict=True):
        if length != lengths[0]:
            problem = f"text {position} got a vector of {length} numbers, text {positions[0]} one of {lengths[0]}"
            _check_length(length, lengths[0], problem, provider)
    return lengths[0]


def _check_width(data: Vector, read: "NDArray[numpy.float32]", provider: str) -> None:
    """See that bytes are not numbers of another width, which would be read as a vector of another length."""
    import numpy

    for dtype, name in (("<f8", "64"), ("<f2", "16")):
        if len(data) % numpy.dtype(dtype).itemsize == 0:
            mismatch = numpy.frombuffer(data, dtype=dtype).astype(numpy.float64)  # type: ignore[arg-type]
            if _is_direction(mismatch) and not _is_direction(read.astype(numpy.float64)):
                raise ReplyUnreadable(
                    f"{provider}: the numbers that came as base64 are {name}-bit floats, not 32-bit ones",
                    hint='Ask for plain numbers: extra={"encoding_format": "float"}.',
                )


def _is_direction(vector: "NDArray[numpy.float64]") -> bool:
    """Whether a vector has the length 1, as most models give them."""
    import numpy

    with numpy.errstate(all="ignore"):
        return bool(abs(numpy.sqrt((vector * vector).sum()) - 1) < 0.01)


def _length(vector: Vector, number: int, provider: str) -> int:
    if not isinstance(vector, bytes):
        return len(vector)
    if len(vector) % 4:
        raise ReplyUnreadable(f"{provider}: the vector of text {number} is {len(vector)} bytes, not 32-bit floats")
    return len(vector) // 4


def _check_length(length: int, expected: int | None, problem: str, provider: str) -> None:
    if expected is not None and length != expected:
        raise ReplyUnreadable(
            f"{provider}: {problem}, where {expected} were expected",
            hint="Ask for a length that the model has, or leave dimensions out.",
        )
    if length == 0:
        raise ReplyUnreadable(f"{provider}: an empty vector came back", hint="Is it a model for embeddings?")
