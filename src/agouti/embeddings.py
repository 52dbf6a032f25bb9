"""Embeddings of texts, as one array: what `Client.embed` gives."""

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from msgspec import Struct

from .core.errors import ReplyUnreadable, RequestError
from .core.usage import NO_USAGE, Usage, total_cost, total_usage
from .core.vectors import Vector
from .engine.operations.vectors import Embedded

if TYPE_CHECKING:
    import numpy
    from numpy.typing import ArrayLike, NDArray


class Near(Struct, frozen=True):
    """A text that is near a query.

    Attributes:
        index: its place among the texts.
        text: the text.
        score: the cosine of the angle between the vectors: 1 is the same direction, 0 nothing in common.
    """

    index: int
    text: str
    score: float


class Embeddings:
    """Texts and their vectors.

    Attributes:
        texts: the texts, in the order in which they were given.
        vectors: a float32 array of shape (n, d).
        label: the label that was asked.
        model: the name that the provider reports.
        provider: label of the provider.
        usage: token counts of all requests together.
        cost: in the currency of the entry's price; `None` where that is not known.
        elapsed: seconds from the call to the last vector.

    Example:
        >>> import agouti, agouti.standins
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     notes = client.embed("finder", ["Broad beans like cold soil.", "Tomatoes want warmth."])
        ...     query = client.embed("finder", "bean in cold weather")
        >>> notes.vectors.shape, notes.near(query, 1)[0].text
        ((2, 256), 'Broad beans like cold soil.')
    """

    def __init__(
        self,
        texts: Sequence[str],
        vectors: "NDArray[numpy.float32]",
        *,
        label: str = "",
        model: str | None = None,
        provider: str = "",
        usage: Usage = NO_USAGE,
        cost: float | None = None,
        elapsed: float = 0.0,
    ) -> None:
        self.texts = tuple(texts)
        self.vectors = vectors
        self.label = label
        self.model = model
        self.provider = provider
        self.usage = usage
        self.cost = cost
        self.elapsed = elapsed
        self._directions: NDArray[numpy.float32] | None = None

    @property
    def dimensions(self) -> int:
        """The length of each vector."""
        return int(self.vectors.shape[1])

    def __len__(self) -> int:
        return len(self.texts)

    def __repr__(self) -> str:
        return f"Embeddings({len(self)} texts, {self.dimensions} dimensions, model={self.model!r})"

    def normalised(self) -> "Embeddings":
        """The same with every vector of length 1 (one of zeros stays as it is)."""
        return Embeddings(
            self.texts,
            self._unit(),
            label=self.label,
            model=self.model,
            provider=self.provider,
            usage=self.usage,
            cost=self.cost,
            elapsed=self.elapsed,
        )

    def near(self, query: "Embeddings | ArrayLike", k: int = 5) -> list[Near]:
        """The texts nearest to a query, the nearest first.

        Args:
            query: embeddings of one text, or a vector of the same length.
            k: how many at most.

        Raises:
            RequestError: the query has another length, or is not one vector.
        """
        if isinstance(query, str):
            raise RequestError(
                "near takes a vector, not a text", hint="Embed it first: notes.near(client.embed(label, text))."
            )
        import numpy

        queried = query.vectors if isinstance(query, Embeddings) else query
        vector = numpy.asarray(queried, dtype=numpy.float32)
        if vector.ndim == 2 and vector.shape[0] == 1:
            vector = vector[0]
        if vector.shape != (self.dimensions,):
            raise RequestError(
                f"the query has the shape {vector.shape}, the vectors here have {self.dimensions} dimensions",
                hint="Embed the query with the same model and the same dimensions.",
            )
        if isinstance(query, Embeddings) and query.label != self.label:
            raise RequestError(
                f"the query is of {query.label!r}, the texts are of {self.label!r}: their vectors do not compare",
                hint="Embed both with one model.",
            )
        length = float(numpy.linalg.norm(vector))
        scores = self._unit() @ (vector / length if length else vector)
        count = max(0, min(k, len(self)))
        nearest = numpy.argpartition(-scores, count - 1)[:count] if 0 < count < len(self) else numpy.arange(len(self))
        # Equal scores keep the order of the texts.
        ranked = sorted(nearest.tolist(), key=lambda index: (-float(scores[index]), index))[:count]
        return [Near(index, self.texts[index], float(scores[index])) for index in ranked]

    def _unit(self) -> "NDArray[numpy.float32]":
        if self._directions is None:
            import numpy

            lengths = numpy.linalg.norm(self.vectors, axis=1, keepdims=True)
            directions = self.vectors / numpy.where(lengths == 0, 1, lengths)
            self._directions = directions.astype(numpy.float32, copy=False)
        return self._directions


def assembled(
    texts: list[str], pieces: Iterable[Embedded], *, label: str, dimensions: int | None, elapsed: float
) -> Embeddings:
    """All batches as one array.

    Raises:
        ReplyUnreadable: the vectors are not all of one length, or not of the one that was asked for.
    """
    # Not at the top: importing this module must not need what only its use needs.
    import numpy

    pieces = sorted(pieces, key=lambda piece: piece.start)
    array: NDArray[numpy.float32] | None = None
    for piece in pieces:
        vectors, provider = piece.vectors.vectors, piece.provider
        lengths = [_length(vector, piece.start + number, provider) for number, vector in enumerate(vectors)]
        if array is None:
            _check_length(lengths[0], dimensions, f"vectors of {lengths[0]} numbers", provider)
            array = numpy.empty((len(texts), lengths[0]), dtype=numpy.float32)
        size = array.shape[1]
        for number, length in enumerate(lengths, piece.start):
            if length != size:
                _check_length(
                    length, size, f"text {number} got a vector of {length} numbers, text 0 one of {size}", provider
                )
        array[piece.start : piece.start + len(vectors)] = _rows(vectors, size)
    if array is None:
        raise ReplyUnreadable("no vector came back")
    return Embeddings(
        texts,
        array,
        label=label,
        model=pieces[0].vectors.model,
        provider=pieces[0].provider,
        usage=total_usage(piece.usage for piece in pieces),
        cost=total_cost(piece.cost for piece in pieces),
        elapsed=elapsed,
    )


def _length(vector: Vector, number: int, provider: str) -> int:
    if not isinstance(vector, bytes):
        return len(vector)
    if len(vector) % 4:
        raise ReplyUnreadable(f"{provider}: the vector of text {number} is {len(vector)} bytes, not 32-bit floats")
    return len(vector) // 4


def _rows(vectors: list[Vector], size: int) -> "NDArray[numpy.float32]":
    """Vectors of one length as the rows of an array."""
    import numpy

    if all(isinstance(vector, bytes) for vector in vectors):
        # All at once: an array for each of them would cost more than what is in it.
        return numpy.frombuffer(b"".join(vectors), dtype="<f4").reshape(-1, size)  # type: ignore[arg-type]
    rows = [numpy.frombuffer(vector, dtype="<f4") if isinstance(vector, bytes) else vector for vector in vectors]
    return numpy.array(rows, dtype=numpy.float32)


def _check_length(length: int, wanted: int | None, what: str, provider: str) -> None:
    if wanted is not None and length != wanted:
        raise ReplyUnreadable(
            f"{provider}: {what}, where {wanted} were expected",
            hint="Ask for a length that the model has, or leave dimensions out.",
        )
    if length == 0:
        raise ReplyUnreadable(f"{provider}: an empty vector came back", hint="Is it a model for embeddings?")
