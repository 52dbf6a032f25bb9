"""Embeddings of texts, as one array: what `Client.embed` gives."""

from collections.abc import Iterator, Sequence
from operator import index
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING, Any, overload

from msgspec import Struct

from ..core.canonical.usage import NO_USAGE, Usage, total_cost, total_usage
from ..core.errors import RequestError

if TYPE_CHECKING:
    import numpy
    from numpy.typing import ArrayLike, NDArray

# Rows whose scores are computed to the last digit, at a time.
_EXACT = 4096
# Scores as they are first computed differ by less than this from those to the last digit.
_ROUGH = 1e-4


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

    ``notes[3]`` is the vector of one text, ``notes[2:5]`` (also a list of places or of truth values) are the embeddings
    of some; a loop goes over the vectors; ``notes + others`` joins what one model made.

    Attributes:
        texts: the texts, in the order in which they were given.
        vectors: a float32 array of shape (n, d), finite numbers only.
        label: the label that was asked.
        model: the name that the provider reports, or the one that was sent where it reports none.
        provider: label of the provider.
        usage: token counts of all requests together.
        cost: in the currency of the entry's price; `None` where that is not known.
        elapsed: seconds from the call to the last vector.

    Raises:
        RequestError: the array does not go with the texts.

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
        vectors: "ArrayLike",
        *,
        label: str = "",
        model: str | None = None,
        provider: str = "",
        usage: Usage = NO_USAGE,
        cost: float | None = None,
        elapsed: float = 0.0,
    ) -> None:
        import numpy

        self.texts = (texts,) if isinstance(texts, str) else tuple(texts)
        self.vectors: NDArray[numpy.float32] = as_floats(vectors)
        if self.vectors.ndim != 2 or len(self.vectors) != len(self.texts):
            raise RequestError(
                f"{len(self.texts)} texts and an array of the shape {self.vectors.shape}",
                hint="Give a row of numbers for each text: the shape is (texts, dimensions).",
            )
        if (failure := not_finite(self.vectors)) is not None:
            raise RequestError(
                f"the vector of text {failure} is not all finite 32-bit numbers",
                hint="Leave it out: infinity and NaN have no direction.",
            )
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

    def __iter__(self) -> "Iterator[NDArray[numpy.float32]]":
        return iter(self.vectors)

    @overload
    def __getitem__(self, selection: int, /) -> "NDArray[numpy.float32]": ...
    @overload
    def __getitem__(self, selection: "slice | list[int] | list[bool] | NDArray[Any]", /) -> "Embeddings": ...
    def __getitem__(self, selection: Any) -> "NDArray[numpy.float32] | Embeddings":
        import numpy

        if not isinstance(selection, (slice, list, tuple, numpy.ndarray)):
            one: NDArray[numpy.float32] = self.vectors[index(selection)]
            return one
        chosen = (
            selection
            if isinstance(selection, slice)
            else numpy.asarray(selection, dtype=None if len(selection) else int)
        )
        positions = numpy.arange(len(self))[chosen]
        return Embeddings(
            [self.texts[each] for each in positions],
            self.vectors[positions],
            label=self.label,
            model=self.model,
            provider=self.provider,
        )

    def __add__(self, other: object) -> "Embeddings":
        if not isinstance(other, Embeddings):
            return NotImplemented
        import numpy

        if not len(other) or not len(self):
            return self if len(self) else other
        self._check_same(other.dimensions, other, "the others")
        return Embeddings(
            self.texts + other.texts,
            numpy.concatenate([self.vectors, other.vectors]),
            label=self.label if self.label == other.label else "",
            model=self.model or other.model,
            provider=self.provider if self.provider == other.provider else "",
            usage=total_usage([self.usage, other.usage]),
            cost=total_cost([self.cost, other.cost]),
            elapsed=self.elapsed + other.elapsed,
        )

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
        """The texts nearest to a query, the nearest first; those that are equally near in the order of the texts.

        Args:
            query: embeddings of one text, or a vector of the same length.
            k: how many at most.

        Raises:
            RequestError: the query has another length, is of another model, or is not one vector of numbers.
        """
        vectors = self._queries(query)
        if len(vectors) != 1:
            raise RequestError(
                f"the query has the shape {vectors.shape}: near takes one vector", hint="For many there is near_each."
            )
        return self._nearest(vectors[0], _count(k))

    def near_each(self, queries: "Embeddings | ArrayLike", k: int = 5) -> list[list[Near]]:
        """The texts nearest to each of many queries, in the order of the queries.

        Args:
            queries: embeddings, or an array of shape (queries, dimensions).
            k: how many at most for each.

        Raises:
            RequestError: as for `near`.
        """
        count = _count(k)
        return [self._nearest(vector, count) for vector in self._queries(queries)]

    def save(self, path: "str | PathLike[str]") -> None:
        """Write texts, vectors and what is known of them into a file; one that stood there is replaced as a whole.

        Args:
            path: ends in ``.npz`` (a zip with ``vectors.npy`` and ``about.json``) or ``.parquet`` (columns ``text`` and
                ``vector``; needs pyarrow).

        Raises:
            RequestError: it cannot be written, or has another suffix.
        """
        from .files import Facts, Stored, write

        facts = Facts(self.label, self.model, self.provider, self.usage, self.cost, self.elapsed)
        write(Path(path), Stored(list(self.texts), self.vectors, facts))

    @classmethod
    def load(cls, path: "str | PathLike[str]") -> "Embeddings":
        """What `save` has written, or ``agouti embed --out``.

        Example:
            >>> import agouti, pathlib, tempfile
            >>> notes = agouti.Embeddings(["pea", "bean"], [[1, 0], [0, 1]], model="loam-embed")
            >>> with tempfile.TemporaryDirectory() as folder:
            ...     notes.save(pathlib.Path(folder, "notes.npz"))
            ...     agouti.Embeddings.load(pathlib.Path(folder, "notes.npz"))
            Embeddings(2 texts, 2 dimensions, model='loam-embed')

        Raises:
            RequestError: it cannot be read, or holds no embeddings.
        """
        from .files import read

        stored = read(Path(path))
        facts = stored.facts
        return cls(
            stored.texts,
            stored.vectors,
            label=facts.label,
            model=facts.model,
            provider=facts.provider,
            usage=facts.usage,
            cost=facts.cost,
            elapsed=facts.elapsed,
        )

    def _check_same(self, dimensions: int, second: "Embeddings | None", subject: str) -> None:
        if dimensions != self.dimensions:
            raise RequestError(
                f"{subject} have {dimensions} dimensions, the vectors here {self.dimensions}",
                hint="Embed both with the same model and the same dimensions.",
            )
        if second is not None and second.model and self.model and second.model != self.model:
            raise RequestError(
                f"{subject} are of the model {second.model}, the texts here of {self.model}: "
                "their vectors do not compare",
                hint="Embed both with one model.",
            )

    def _queries(self, query: "Embeddings | ArrayLike") -> "NDArray[numpy.float64]":
        """Queries as rows of numbers of length 1."""
        import numpy

        if isinstance(query, (str, bytes)):
            raise RequestError(
                "near takes a vector, not a text", hint="Embed it first: notes.near(client.embed(label, text))."
            )
        query_embeddings = query if isinstance(query, Embeddings) else None
        try:
            vectors = numpy.asarray(query.vectors if query_embeddings is not None else query, dtype=numpy.float64)  # type: ignore[union-attr]
        except (TypeError, ValueError):
            raise RequestError(
                f"a query cannot be a {type(query).__name__}", hint="Pass embeddings, or a vector of numbers."
            ) from None
        if vectors.ndim == 1:
            vectors = vectors[numpy.newaxis]
        if vectors.ndim != 2:
            raise RequestError(
                f"the query has the shape {vectors.shape}", hint=f"Pass a vector of {self.dimensions} numbers."
            )
        self._check_same(vectors.shape[1], query_embeddings, "the queries")
        if not numpy.isfinite(vectors).all():
            raise RequestError("the query is not all finite numbers", hint="NaN and infinity have no direction.")
        largest = numpy.abs(vectors).max(axis=1, keepdims=True, initial=0)
        vectors = vectors / numpy.where(largest == 0, 1, largest)  # squares of huge or tiny numbers are none
        lengths = numpy.linalg.norm(vectors, axis=1, keepdims=True)
        return vectors / numpy.where(lengths == 0, 1, lengths)

    def _nearest(self, query: "NDArray[numpy.float64]", count: int) -> list[Near]:
        import numpy

        unit = self._unit()
        count = min(count, len(self))
        if not count:
            return []
        rough = unit @ query.astype(numpy.float32)
        threshold = numpy.partition(rough, len(self) - count)[len(self) - count]
        candidates = numpy.flatnonzero(rough >= threshold - _ROUGH)
        # Row by row, the same sum for the same numbers: a product of matrices may end in other digits at other places.
        scores = numpy.concatenate(
            [
                (unit[candidates[first : first + _EXACT]].astype(numpy.float64) * query).sum(axis=1)
                for first in range(0, len(candidates), _EXACT)
            ]
        )
        ranked = numpy.argsort(-scores, kind="stable")[:count].tolist()
        return [
            Near(selection, self.texts[selection], float(scores[each]))
            for each in ranked
            for selection in [int(candidates[each])]
        ]

    def _unit(self) -> "NDArray[numpy.float32]":
        if self._directions is None:
            import numpy

            lengths = numpy.sqrt(numpy.einsum("ij,ij->i", self.vectors, self.vectors, dtype=numpy.float64))[:, None]
            directions = self.vectors / numpy.where(lengths == 0, 1, lengths)
            self._directions = directions.astype(numpy.float32, copy=False)
        return self._directions


def as_floats(vectors: object) -> "NDArray[numpy.float32]":
    """Numbers as an array; what is too large for 32 bits becomes infinite.

    Raises:
        RequestError: they are no array of numbers.
    """
    import numpy

    try:
        with numpy.errstate(over="ignore", invalid="ignore"):
            return numpy.asarray(vectors, dtype=numpy.float32)
    except (TypeError, ValueError, OverflowError):
        raise RequestError(
            "the vectors are no array of numbers", hint="Give one row of numbers for each text."
        ) from None


def not_finite(rows: "NDArray[numpy.float32]") -> int | None:
    """The first row in which not all numbers are finite."""
    import numpy

    finite = numpy.isfinite(rows)
    return None if finite.all() else int(numpy.flatnonzero(~finite.all(axis=1))[0])


def _count(k: object) -> int:
    try:
        count = -1 if isinstance(k, bool) else index(k)  # type: ignore[arg-type]
    except TypeError:
        count = -1
    if count < 0:
        raise RequestError(f"k cannot be {k!r}", hint="Say how many texts are wanted: a whole number.")
    return count
