"""Embeddings: texts into vectors, in batches as large as a provider takes, each of them one exchange."""

import re
from collections.abc import Iterator, Sequence
from threading import Lock

from msgspec import Struct
from msgspec.structs import replace

from ...core.attempt import Attempt
from ...core.canonical.chat import Json
from ...core.canonical.usage import Usage
from ...core.canonical.vectors import Vectors, VectorsRequest
from ...core.errors import (
    AgoutiError,
    CircuitOpen,
    ContextOverflow,
    DeadlineExceeded,
    ReplyUnreadable,
    RequestError,
    RequestRefused,
)
from ...dialects.base import VectorAbility
from ...dialects.wire import Fault, Outgoing
from ..attempts.call_loop import exchange
from ..attempts.error_policy import HOLDS_FOR_ALL
from ..call import Call
from ..effects import Steps, Together
from ..operation import unsupported_feature
from ..providers.provider import Target
from .model_operation import ModelOperation

# Characters of one request at most: a few of them make a token, and providers limit the tokens of a request too.
_MOST_CHARACTERS = 250_000
_TOO_MANY = re.compile(
    r"batch|too (?:many|large|long|big)|at most|maximum|max[ _-]|exceed|limit|(?:more|greater|less|fewer) than|up to"
    r"|instances|allowed|only (?:one|1|a single)",
    re.IGNORECASE,
)
# So many requests in a row that fail, and the rest is not asked for: it would fail as well.
_MOST_FAILURES = 3
_STOPS = (*HOLDS_FOR_ALL, CircuitOpen, DeadlineExceeded)
_BASE64 = "encoding_format"


class Batch(Struct, frozen=True):
    """Texts of one request, and the number of the first of them among all."""

    start: int
    texts: list[str]

    def parts(self, limit: int) -> "list[Batch]":
        """The same texts in batches of at most so many."""
        return [
            Batch(self.start + first, self.texts[first : first + limit]) for first in range(0, len(self.texts), limit)
        ]


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


def next_batch(texts: list[str], start: int, limit: int) -> Batch:
    """The next batch: of at most so many texts, with no more in it than a provider takes at once.

    >>> next_batch(["pea"] * 5, 3, 4)
    Batch(start=3, texts=['pea', 'pea'])
    """
    end, size = start, 0
    while end < len(texts) and end - start < limit and (end == start or size + len(texts[end]) <= _MOST_CHARACTERS):
        size += len(texts[end])
        end += 1
    return Batch(start, texts[start:end])


class Embed(ModelOperation[VectorsRequest, Vectors]):
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
        outgoing = target.provider.dialect.encode_vectors(request)
        if request.extra:
            from ..outgoing import check_overrides

            encoded = target.provider.dialect.encode_vectors(replace(request, extra={}))
            outgoing = check_overrides(outgoing, encoded, request.extra, target)
        return outgoing

    def decode(self, body: bytes, request: VectorsRequest, target: Target) -> Vectors | Fault:
        vectors = target.provider.dialect.decode_vectors(body)
        if isinstance(vectors, Vectors) and len(vectors.vectors) != len(request.texts):
            raise ReplyUnreadable(f"{len(request.texts)} texts were sent and {len(vectors.vectors)} vectors came back")
        return vectors

    def reduced(self, error: AgoutiError, request: VectorsRequest, target: Target) -> VectorsRequest | None:
        """The request for plain numbers, where base64 was what the provider did not like; it is not asked for again."""
        if not request.base64 or not isinstance(error, RequestRefused):
            return None
        if error.parameter != _BASE64 and _BASE64 not in (error.provider_message or ""):
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
        raise unsupported_feature(
            target, "embeddings", "Ask a provider whose format has them: see the table of dialects in the README."
        )
    return ability


class Failure(Struct, frozen=True):
    """Texts for which no vectors came.

    Attributes:
        start: the number of the first of them among all.
    """

    start: int
    error: AgoutiError


class Gathered(Struct, frozen=True):
    """What came for many texts, and what did not, each in the order of the texts."""

    batches: list[Embedded]
    failures: list[Failure]


def embed(
    call: Call,
    texts: list[str],
    positions: Sequence[int],
    *,
    dimensions: int | None,
    extra: dict[str, Json],
    concurrency: int,
) -> Steps[Gathered]:
    """The vectors of all texts, in batches side by side; one that fails costs only itself.

    Args:
        positions: what each text is called in errors: its number among those of the caller.
    """
    work = _Work(call, positions, dimensions, extra)
    yield Together(work.steps(texts), concurrency)
    return Gathered(
        sorted(work.batches, key=lambda embedded: embedded.start),
        sorted(work.failures, key=lambda failure: failure.start),
    )


class _Work:
    """Texts on their way to a model, and what has come of them."""

    def __init__(self, call: Call, positions: Sequence[int], dimensions: int | None, extra: dict[str, Json]) -> None:
        self.batches: list[Embedded] = []
        self.failures: list[Failure] = []
        self._call = call
        self._positions = positions
        self._dimensions = dimensions
        self._extra = extra
        self._target = call.targets[0]
        self._max_texts = ability_of(self._target).max_texts
        self._in_a_row = 0
        self._stopped = False
        self._lock = Lock()

    def steps(self, texts: list[str]) -> Iterator[Steps[None]]:
        """Each batch as there is room for it, of the size that is known to be taken then."""
        start = 0
        while start < len(texts) and not self._stopped:
            batch = next_batch(texts, start, self._most_now())
            start += len(batch.texts)
            yield self._embed_batch(batch)

    def _most_now(self) -> int:
        return min(self._max_texts, self._target.state.most_texts or self._max_texts)

    def _embed_batch(self, batch: Batch) -> Steps[None]:
        """The vectors of a batch; of one that is too large for the provider part by part."""
        waiting = [batch]
        while waiting and not self._stopped:
            part = waiting.pop(0)
            if len(part.texts) > self._most_now():  # others have found that out meanwhile
                waiting[:0] = part.parts(self._most_now())
                continue
            try:
                embedded = yield from self._request_batch(part)
            except RequestRefused as error:
                if (limit := self._smaller(part, error)) is not None:
                    waiting[:0] = part.parts(limit)
                else:
                    self._failed(part, _explained(error, part, self._positions[part.start], self._call.label))
            except AgoutiError as error:
                self._failed(part, error)
            else:
                with self._lock:
                    self.batches.append(embedded)
                    self._in_a_row = 0

    def _request_batch(self, batch: Batch) -> Steps[Embedded]:
        operation = Embed(batch.texts, dimensions=self._dimensions, extra=self._extra)
        exchanged = yield from exchange(self._call, operation)
        vectors, target = exchanged.answer.value, exchanged.target
        usage = operation.usage(vectors) or Usage()
        price = target.price
        return Embedded(
            start=batch.start,
            vectors=vectors,
            provider=target.provider.label,
            usage=usage,
            cost=price.cost(usage) if price is not None else None,
            attempts=exchanged.attempts,
        )

    def _smaller(self, batch: Batch, error: RequestRefused) -> int | None:
        """How many texts to send at once after a refusal; `None` where fewer would not help."""
        count = len(batch.texts)
        if count == 1:
            return None
        if isinstance(error, ContextOverflow):
            return (count + 1) // 2  # one of them is too long, or all together: the next batch may be of short ones
        if not _TOO_MANY.search(error.provider_message or ""):
            return None
        state = self._target.state
        with self._lock:
            if state.most_texts is None or state.most_texts >= count:
                facts = {
                    int(number)
                    for number in re.findall(r"(?<![\w.,-])\d{1,4}(?!\w|[.,]\d)", error.provider_message or "")
                }
                smaller = [number for number in facts if 1 <= number < count]
                # Where it says how many it takes that is tried; what has other small numbers in it is halved.
                state.most_texts = smaller[0] if len(smaller) == 1 else count // 2
            return state.most_texts

    def _failed(self, batch: Batch, error: AgoutiError) -> None:
        with self._lock:
            self.failures.append(Failure(batch.start, error))
            if isinstance(error, ContextOverflow):
                return
            self._in_a_row += 1
            self._stopped |= isinstance(error, _STOPS) or self._in_a_row >= _MOST_FAILURES


def _explained(error: RequestRefused, batch: Batch, position: int, label: str) -> RequestRefused:
    """The same error, saying which text is at fault."""
    if isinstance(error, ContextOverflow):
        return error.with_context(
            before=f"text {position} ({len(batch.texts[0])} characters) is too long for {label}",
            hint="Cut it into parts and embed each, or leave it out.",
        )
    if re.search("embedding", error.provider_message or "", re.IGNORECASE):
        return error.with_context(hint=f"Name a model that makes embeddings in the entry of {label}.")
    return error
