"""Embeddings: texts into vectors, in batches as large as a provider takes, each of them one exchange."""

import re
from collections.abc import Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ...core.chat import Json
from ...core.errors import AgoutiError, ContextOverflow, ReplyUnreadable, RequestError, RequestRefused
from ...core.usage import Usage
from ...core.vectors import Vectors, VectorsRequest
from ...dialects.base import Fault, Outgoing, VectorAbility
from ...reply import Attempt
from ..call import Call
from ..effects import Steps, Together
from ..exchange import exchange
from ..operation import Operation, lacks
from ..provider import Target

# Characters of one request at most: a few of them make a token, and providers limit the tokens of a request too.
_MOST_CHARACTERS = 250_000
_TOO_MANY = re.compile(r"batch|inputs?\b|too many|instances|requests|array|items|length|long", re.IGNORECASE)
_BASE64 = "encoding_format"


class Batch(Struct, frozen=True):
    """Texts of one request, and the number of the first of them among all."""

    start: int
    texts: list[str]

    def halves(self) -> "tuple[Batch, Batch]":
        """The same texts in two batches."""
        middle = len(self.texts) // 2
        return Batch(self.start, self.texts[:middle]), Batch(self.start + middle, self.texts[middle:])


class Embedded(Struct, frozen=True, kw_only=True):
    """What came for one batch.

    Attributes:
        start: the number of its first text among all.
        cost: of the request; `None` where that is not known.
    """

    start: int
    vectors: Vectors
    provider: str
    usage: Usage
    cost: float | None
    attempts: tuple[Attempt, ...]


def checked_texts(texts: Sequence[object]) -> list[str]:
    """The texts, each of which has to say something.

    Raises:
        RequestError: one is empty or no text; says which.
    """
    checked: list[str] = []
    for number, text in enumerate(texts):
        if not isinstance(text, str):
            raise RequestError(f"text {number} is a {type(text).__name__}", hint="Pass texts only.")
        if not text.strip():
            raise RequestError(
                f"text {number} is empty: there is no vector of nothing", hint="Leave empty texts out before the call."
            )
        checked.append(text)
    if not checked:
        raise RequestError("there are no texts", hint="Pass at least one.")
    return checked


def batches(texts: list[str], most: int) -> Iterator[Batch]:
    """The texts in batches of at most so many, none with much more text than a provider takes at once.

    >>> [len(batch.texts) for batch in batches(["pea"] * 5, 2)]
    [2, 2, 1]
    """
    start, size = 0, 0
    for number, text in enumerate(texts):
        if number > start and (number - start >= most or size + len(text) > _MOST_CHARACTERS):
            yield Batch(start, texts[start:number])
            start, size = number, 0
        size += len(text)
    yield Batch(start, texts[start:])


class Embed(Operation[VectorsRequest, Vectors]):
    """The vectors of one batch.

    Raises:
        RequestError: the dialect has no embeddings.
    """

    name = "embeddings"

    def __init__(self, texts: list[str], *, dimensions: int | None, extra: dict[str, Json]) -> None:
        self._texts = texts
        self._dimensions = dimensions
        self._extra = extra

    def prepare(self, call: Call, target: Target) -> Steps[VectorsRequest]:
        yield from ()
        base64 = ability_of(target).base64 and _BASE64 not in target.state.refused_parameters
        return VectorsRequest(target.model.name, self._texts, self._dimensions, base64, self._extra)

    def encode(self, request: VectorsRequest, target: Target) -> Outgoing:
        return target.provider.dialect.encode_vectors(request)

    def decode(self, body: bytes, request: VectorsRequest, target: Target) -> Vectors | Fault:
        vectors = target.provider.dialect.decode_vectors(body)
        if isinstance(vectors, Vectors) and len(vectors.vectors) != len(request.texts):
            raise ReplyUnreadable(f"{len(request.texts)} texts were sent and {len(vectors.vectors)} vectors came back")
        return vectors

    def reduced(self, error: AgoutiError, request: VectorsRequest, target: Target) -> VectorsRequest | None:
        """The request for plain numbers, where base64 was what the provider did not like; it is not asked for again."""
        if not request.base64 or not isinstance(error, RequestRefused):
            return None
        if error.parameter != _BASE64 and _BASE64 not in (error.message or ""):
            return None
        target.state.refused_parameters.add(_BASE64)
        return replace(request, base64=False)

    def usage(self, value: Vectors) -> Usage | None:
        usage = value.usage
        # Vectors are no tokens.
        return replace(usage, output_tokens=0) if usage is not None and usage.output_tokens is None else usage


def ability_of(target: Target) -> VectorAbility:
    """How the target's dialect makes vectors.

    Raises:
        RequestError: it makes none.
    """
    ability = target.provider.dialect.abilities.vectors
    if ability is None:
        raise lacks(
            target, "embeddings", "Ask a provider whose format has them: see the table of dialects in the README."
        )
    return ability


def embed(
    call: Call, texts: list[str], *, dimensions: int | None, extra: dict[str, Json], at_once: int
) -> Steps[list[Embedded]]:
    """The vectors of all texts, in batches side by side.

    Raises:
        AgoutiError: one of the batches failed.
    """
    most = ability_of(call.targets[0]).max_texts
    steps = [_of_batch(call, batch, dimensions, extra) for batch in batches(texts, most)]
    pieces: list[list[Embedded]] = yield Together(steps, at_once)
    return [piece for each in pieces for piece in each]


def _of_batch(call: Call, batch: Batch, dimensions: int | None, extra: dict[str, Json]) -> Steps[list[Embedded]]:
    """The vectors of a batch; one that is too large for the provider is asked for in halves."""
    operation = Embed(batch.texts, dimensions=dimensions, extra=extra)
    try:
        exchanged = yield from exchange(call, operation)
    except RequestRefused as error:
        if len(batch.texts) > 1 and (isinstance(error, ContextOverflow) or _TOO_MANY.search(error.message or "")):
            first, second = batch.halves()
            return (yield from _of_batch(call, first, dimensions, extra)) + (
                yield from _of_batch(call, second, dimensions, extra)
            )
        raise _explained(error, batch, call.label) from None
    vectors, target = exchanged.answer.value, exchanged.target
    usage = operation.usage(vectors) or Usage()
    price = target.model.price
    return [
        Embedded(
            start=batch.start,
            vectors=vectors,
            provider=target.provider.label,
            usage=usage,
            cost=price.cost(usage) if price is not None else None,
            attempts=exchanged.attempts,
        )
    ]


def _explained(error: RequestRefused, batch: Batch, label: str) -> RequestRefused:
    """The same error, saying which text is at fault."""
    if isinstance(error, ContextOverflow):
        return error.with_context(
            before=f"text {batch.start} ({len(batch.texts[0])} characters) is too long for {label}",
            hint="Cut it into parts and embed each, or leave it out.",
        )
    if re.search("embedding", error.message or "", re.IGNORECASE):
        return error.with_context(hint=f"Name a model that makes embeddings in the entry of {label}.")
    return error
