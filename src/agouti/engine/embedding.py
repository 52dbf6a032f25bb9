"""Texts into vectors: batches as large as a provider takes, each of them one exchange."""

import re
from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ..core.chat import Completion, Json, Request
from ..core.errors import (
    ContextOverflow,
    DeadlineExceeded,
    ReplyUnreadable,
    RequestError,
    RequestRefused,
)
from ..core.reply import Reply
from ..core.vectors import Vectors, VectorsWanted
from ..dialects.base import EmbeddingDialect, Fault, Outgoing
from ..transport.base import TransportFailure
from .effects import Steps
from .exchange import Call, ask
from .receive import Answer, Failed, Try, not_received, refusal, sent
from .target import Clock, Target
from .trouble import placed, provider_error, unexpected_reply, unreadable

# Characters of one request at most: a few of them make a token, and providers limit the tokens of a request too.
_MOST_CHARACTERS = 250_000
_TOO_MANY = re.compile(r"batch|inputs?\b|too many|instances|requests|array|items|length|long", re.IGNORECASE)


class Batch(Struct, frozen=True):
    """Texts of one request, and the place of the first of them among all."""

    start: int
    texts: list[str]

    def halves(self) -> "tuple[Batch, Batch]":
        """The same texts in two batches."""
        middle = len(self.texts) // 2
        return Batch(self.start, self.texts[:middle]), Batch(self.start + middle, self.texts[middle:])


class Embedded(Struct, frozen=True):
    """What came for one batch, and the reply that it came with (its text is empty)."""

    start: int
    vectors: Vectors
    reply: Reply


def checked_texts(texts: Sequence[object]) -> list[str]:
    """The texts, each of which has to say something.

    Raises:
        RequestError: one is empty or no text; says which.
    """
    found: list[str] = []
    for place, text in enumerate(texts):
        if not isinstance(text, str):
            raise RequestError(f"text {place} is a {type(text).__name__}", hint="Pass texts only.")
        if not text.strip():
            raise RequestError(
                f"text {place} is empty: there is no vector of nothing", hint="Leave empty texts out before the call."
            )
        found.append(text)
    if not found:
        raise RequestError("there are no texts", hint="Pass at least one.")
    return found


def batches(texts: list[str], most: int) -> Iterator[Batch]:
    """The texts in batches of at most so many, none with much more text than a provider takes at once.

    >>> [len(batch.texts) for batch in batches(["pea"] * 5, 2)]
    [2, 2, 1]
    """
    start, size = 0, 0
    for place, text in enumerate(texts):
        if place > start and (place - start >= most or size + len(text) > _MOST_CHARACTERS):
            yield Batch(start, texts[start:place])
            start, size = place, 0
        size += len(text)
    yield Batch(start, texts[start:])


class Embedding:
    """One call for vectors: how its batches are asked for.

    Raises:
        RequestError: the dialect has no vectors.
    """

    def __init__(
        self, target: Target, clock: Clock, *, dimensions: int | None, extra: dict[str, Json], deadline: float | None
    ) -> None:
        dialect = target.endpoint.dialect
        if not isinstance(dialect, EmbeddingDialect):
            raise placed(
                RequestError(
                    f"dialect {dialect.name} (provider {target.endpoint.provider.label}) has no embeddings",
                    hint="Ask a provider of dialect chat, responses, contents, lines, predict or converse.",
                ),
                target,
            )
        self._dialect: EmbeddingDialect = dialect
        self._target = target
        self._clock = clock
        self._until = None if deadline is None else clock() + deadline
        self._dimensions = dimensions
        self._extra = extra

    @property
    def most_texts(self) -> int:
        """Texts of one request at most."""
        return self._dialect.most_texts

    def steps(self, batch: Batch) -> Steps[list[Embedded]]:
        """Get the vectors of a batch; one that is too large for the provider is asked for in halves."""
        box: list[Vectors] = []
        try:
            reply = yield from ask(self._call(batch, box))
        except RequestRefused as error:
            if self._base64_refused(error):
                return (yield from self.steps(batch))
            if len(batch.texts) > 1 and (isinstance(error, ContextOverflow) or _TOO_MANY.search(error.message or "")):
                first, second = batch.halves()
                return (yield from self.steps(first)) + (yield from self.steps(second))
            if isinstance(error, ContextOverflow):
                text = batch.texts[0]
                error.what = (
                    f"text {batch.start} ({len(text)} characters) is too long for {self._name}: {error.message}"
                )
                error.hint = "Cut it into parts and embed each, or leave it out."
                error.args = (error.what,)
            elif re.search("embedding", error.message or "", re.IGNORECASE):
                error.hint = f"Name a model that makes embeddings in the entry of {self._name}."
            raise
        return [Embedded(batch.start, box[-1], reply)]

    @property
    def _name(self) -> str:
        return self._target.model.label

    def _base64_refused(self, error: RequestRefused) -> bool:
        """Whether base64 was what the provider did not like; it is not asked for again then."""
        refused = self._target.endpoint.refused_parameters
        blamed = error.parameter == "encoding_format" or "encoding_format" in (error.message or "")
        if not blamed or "encoding_format" in refused:
            return False
        refused.add("encoding_format")
        return True

    def _call(self, batch: Batch, box: list[Vectors]) -> Call:
        target, dialect = self._target, self._dialect
        base64 = dialect.base64 and "encoding_format" not in target.endpoint.refused_parameters
        wanted = VectorsWanted(target.model.name, batch.texts, self._dimensions, base64, self._extra)

        def encode(_: Target, __: Request) -> Outgoing:
            return dialect.encode_vectors(wanted)

        def receive(this: Try) -> Steps[Answer]:
            return received(this, dialect, len(batch.texts), box)

        left = None if self._until is None else self._until - self._clock()
        if left is not None and left <= 0:
            raise placed(DeadlineExceeded("the call took longer than its deadline"), target)
        return Call((target,), _nothing, self._clock, left, encode=encode, receive=receive)


def _nothing(target: Target) -> Request:
    return Request(target.model.name, [])


def received(this: Try, dialect: EmbeddingDialect, count: int, box: list[Vectors]) -> Steps[Answer]:
    """One reply with vectors, put into the box; the answer itself has no text."""
    target = this.target
    try:
        reply = yield from sent(this, this.request)
    except TransportFailure as failure:
        failed = not_received(failure, this)
    except DeadlineExceeded as late:
        failed = Failed(late, began=True)
    else:
        if not 200 <= reply.status < 300:
            raise Failed(refusal(reply.status, reply.headers, reply.body, target, this.request.url), began=True)
        found = _decoded(lambda: dialect.decode_vectors(reply.body))
        if isinstance(found, Fault):
            raise Failed(provider_error(found, reply.status, reply.headers, target), began=True)
        if isinstance(found, ReplyUnreadable):
            other = unexpected_reply(reply.status, reply.headers, reply.body, target)
            raise Failed(other or unreadable(found, target, reply.status), began=True)
        if len(found.vectors) != count:
            wrong = ReplyUnreadable(f"{count} texts were sent and {len(found.vectors)} vectors came back")
            raise Failed(unreadable(wrong, target, reply.status), began=True)
        box.append(found)
        usage = found.usage
        if usage is not None and usage.output_tokens is None:
            usage = replace(usage, output_tokens=0)  # vectors are no tokens
        return Answer(Completion((), found.model, None, usage), reply.status)
    raise failed


def _decoded(decode: Callable[[], "Vectors | Fault"]) -> "Vectors | Fault | ReplyUnreadable":
    try:
        return decode()
    except ReplyUnreadable as wrong:
        return wrong
