"""The request of an attempt as it goes out, and what follows from it: who is asked what, and what it may cost.

Limits, budgets, ledger, cache and journals go by this and nothing else. What an entry adds, renames and leaves out,
what a caller puts into ``extra`` and what came in the caller's own format is all in it: nothing here is a picture of
the request before it was written.
"""

from collections.abc import Mapping
from hashlib import blake2b
from typing import TYPE_CHECKING, Any, ClassVar, Protocol

import msgspec
from msgspec.structs import replace

from ..core.canonical.chat import Json, Request
from ..core.canonical.vectors import VectorsRequest
from ..core.errors import RequestError
from ..core.http.exchange import HttpRequest
from ..core.messages.paid_units import MEDIA_WORDS, Caps, Media, caps_of, has_stored_context, media_of
from ..core.messages.token_estimate import estimate_text, estimate_tokens
from ..core.secrets.secret import SecretText
from ..credentials.sources import CommandKey, OAuthKey, SignatureKey
from ..dialects.wire import Outgoing

if TYPE_CHECKING:
    from ..core.canonical.usage import Price
    from ..credentials.credential import Credential
    from .providers.provider import Target

NO_ANSWER = frozenset(
    {
        "accept", "accept-encoding", "baggage", "connection", "content-length", "content-type", "idempotency-key",
        "traceparent", "tracestate", "user-agent", "x-client-request-id", "x-request-id",
    }
)  # fmt: skip
"""Headers that may differ without changing the answer: who traces the request, and how it is packed."""
NO_ANSWER_FIELDS = frozenset({"stream", "stream_options"})
"""Fields of the body that may differ so: whether the answer comes in pieces."""

PAID = frozenset({"chat", "embeddings"})
"""Operations that cost something; lists of models and counts of tokens do not."""

# Bodies without a cap are reckoned with so many tokens of answer where nothing is known of the window.
UNCAPPED = 1024
# A picture or file that the provider fetches itself has no bytes here. Nobody's counts for one are higher than that.
_LINKED = 20_000


class Encoder(Protocol):
    """What writes a request: an `Operation`."""

    name: ClassVar[str]

    def encode(self, request: Any, target: "Target") -> Outgoing:
        """The request as the provider's dialect writes it."""

    def speaks_for_itself(self, target: "Target") -> bool:
        """Whether the body that goes out is in the caller's own words, as it came."""


class OutgoingRequest:
    """The request of one attempt.

    Attributes:
        target: who is asked.
        paid: whether it costs anything.
    """

    __slots__ = (
        "_attempt_headers",
        "_body",
        "_caps",
        "_credential",
        "_estimated",
        "_fields",
        "_fingerprint",
        "_media",
        "_operation",
        "_request",
        "_written",
        "paid",
        "target",
    )  # fmt: skip

    def __init__(self, operation: Encoder, request: Any, target: "Target") -> None:
        self._operation = operation
        self._request = request
        self.target = target
        self.paid = operation.name in PAID
        self._written: Outgoing | None = None
        self._fields: dict[str, Any] | None = None
        self._body: bytes | None = None
        self._caps: Caps | None = None
        self._media: list[Media] | None = None
        self._estimated: int | None = None
        self._credential: Credential | None = None
        self._attempt_headers: Mapping[str, str] = {}
        self._fingerprint = ""

    def __repr__(self) -> str:
        return f"OutgoingRequest({self.method!r}, {self.address!r}, {len(self.body or b'')} bytes)"

    @property
    def written(self) -> Outgoing:
        """The request in the dialect's words.

        Raises:
            RequestError: the dialect cannot express it, or what was asked for contradicts itself.
        """
        if self._written is None:
            self._written = self._operation.encode(self._request, self.target)
        return self._written

    @property
    def method(self) -> str:
        """The method."""
        return self.written.method

    @property
    def fields(self) -> dict[str, Any]:
        """The fields of the JSON body, with what the entry changes; empty where it has none."""
        if self._fields is None:
            self._fields = {} if self.written.body is None else self.target.provider.body_of(self.written)
        return self._fields

    @property
    def body(self) -> bytes | None:
        """The bytes of the body.

        Raises:
            RequestError: it cannot be written as JSON.
        """
        if self._body is None and self.written.body is not None:
            self._body = self.target.provider.encoded(self.fields)
        return self._body if self._body is not None else self.written.raw

    def http(self, credential: "Credential | None", attempt_headers: Mapping[str, str] | None = None) -> HttpRequest:
        """The request with address, headers and key.

        Args:
            attempt_headers: further headers, of this request alone.
        """
        return self.target.provider.request(
            self.written, self.target.model.name, credential, attempt_headers, body=self.body
        )

    @property
    def address(self) -> str:
        """The whole address, as it can be shown."""
        return self.http(None).url

    @property
    def path(self) -> str:
        """The path of the address."""
        return "/" + self.address.partition("?")[0].partition("://")[2].partition("/")[2]

    @property
    def query(self) -> str:
        """The query of the address."""
        return self.address.partition("?")[2]

    @property
    def headers(self) -> Mapping[str, str]:
        """The headers, without those of the key; what is secret prints as a mask."""
        return {**self.http(None).headers, **self._attempt_headers}

    # Who is asked what.

    def identify(self, credential: "Credential | None", attempt_headers: Mapping[str, str] | None) -> None:
        """The key that goes with it, and the headers of the call: from now on its fingerprint can be told."""
        self._credential, self._attempt_headers, self._fingerprint = credential, attempt_headers or {}, ""

    @property
    def fingerprint(self) -> str:
        """A digest of all that is sent, and of the account: the same for two requests that must have the same answer.

        Secrets are in it by their digest. Whether the answer comes in pieces makes no difference. A hook that goes by
        it before the request is sent says so (`AnsweringHook.identifies`): the key is not known before.
        """
        if not self._fingerprint:
            account = account_of(self.target, self._credential)
            self._fingerprint = blake2b(f"{self.content}\0{account}".encode(), digest_size=24).hexdigest()
        return self._fingerprint

    @property
    def content(self) -> str:
        """The same without the account: for what is kept of a request by the application itself."""
        self.body  # noqa: B018  # what cannot be written is an error that says so
        simple = self._without_credential()
        http = simple.target.provider.request(simple.written, self.target.model.name, None, None, body=b"")
        idempotency = self.target.provider.entry.idempotency_header.lower()
        headers = {
            name.lower(): _revealed(value)
            for name, value in {**http.headers, **self._attempt_headers}.items()
            if name.lower() not in NO_ANSWER and name.lower() != idempotency
        }
        fields = {name: value for name, value in simple.fields.items() if name not in NO_ANSWER_FIELDS}
        identity = [http.method, _revealed(http.target), sorted(headers.items()), fields, simple.written.raw or b""]
        return blake2b(msgspec.json.encode(identity, order="sorted"), digest_size=24).hexdigest()

    def _without_credential(self) -> "OutgoingRequest":
        """The same for a whole answer: some formats have another address for pieces."""
        if not getattr(self._request, "stream", False):
            return self
        return OutgoingRequest(self._operation, replace(self._request, stream=False), self.target)

    # What it may cost.

    @property
    def price(self) -> "Price | None":
        """The price of the model; of one without an entry, that of the entry which is the same model."""
        return self.target.price

    @property
    def caps(self) -> Caps:
        """The cap on output tokens and the number of answers, as they stand in the body.

        Raises:
            RequestError: two of them contradict each other.
        """
        if self._caps is None:
            if self._operation.name != "chat":
                self._caps = Caps(0, 1)
            else:
                self._caps = caps_in(self.fields, self.target)
        return self._caps

    @property
    def media(self) -> list[Media]:
        """The pictures, files and sounds in it."""
        if self._media is None:
            self._media = list(media_of(self.fields)) if MEDIA_WORDS.search(self.body or b"") else []
        return self._media

    @property
    def images(self) -> int:
        """How many pictures it has."""
        return sum(each.kind == "image" for each in self.media)

    @property
    def expected(self) -> int:
        """How many tokens of prompt it is likely to have, by what the provider has counted of others."""
        return self.target.state.tokens.learned(self.estimated) if self.estimated else 0

    @property
    def estimated(self) -> int:
        """The same by the text alone."""
        if self._estimated is None:
            own_form = self._operation.speaks_for_itself(self.target)
            self._estimated = expected_of(self._request, self.fields, own_form=own_form)
        return self._estimated

    @property
    def at_most(self) -> int:
        """A number of prompt tokens that it cannot exceed: no text has more tokens than bytes.

        Pictures, files and sounds count as the entry or the dialect says that they can cost, else by their bytes.
        What the provider keeps itself (an earlier response, a cached prompt) is as large as the context window.
        """
        size = len(self.body or b"")
        model = self.target.model
        if self.media:
            size += self._media_at_most()
        if has_stored_context(self.fields) and model.context is not None:
            size = max(size, model.context)
        return size

    def _media_at_most(self) -> int:
        """What pictures, files and sounds add to the bytes of the body at most, or take off."""
        bounds: Mapping[str, int] = {
            **self.target.provider.dialect.abilities.media_tokens,
            **self.target.model.media_tokens,
        }
        price = self.price
        if price is not None and price.image:
            bounds = {"image": 0, **bounds}  # they are paid by the piece
        attempt_headers = 0
        for each in self.media:
            bound = bounds.get(each.kind)
            if bound is not None:
                attempt_headers += bound - each.size
            elif not each.size:
                attempt_headers += _LINKED
        return attempt_headers

    @property
    def answer_at_most(self) -> int:
        """The tokens of all its answers at most; without a cap so many as are reckoned with."""
        caps = self.caps
        cap = caps.output_tokens
        if cap is None:
            context = self.target.model.context
            cap = UNCAPPED if context is None else max(min(context - self.expected, 4 * UNCAPPED), 1)
        return cap * caps.answers

    @property
    def answer_expected(self) -> int:
        """The tokens that its answers are likely to have: the cap, else what answers without one have had so far."""
        caps = self.caps
        cap = caps.output_tokens if caps.output_tokens is not None else self.target.state.answers.expected
        return cap * caps.answers


def caps_in(fields: Mapping[str, Any], target: "Target") -> Caps:
    """The caps of a body that goes to a target.

    Raises:
        RequestError: two of them contradict each other.
    """
    return caps_of(fields, target.provider.cap_fields, target.provider.answer_fields)


def expected_of(request: object, fields: Mapping[str, Any] = {}, *, own_form: bool = False) -> int:
    """The tokens of prompt that a request is likely to have, without the model's own tokenizer.

    Args:
        fields: of its body.
        own_form: the body came in the caller's own words: it is what counts.
    """
    if own_form:
        return 3 + _tokens_in(fields)
    if isinstance(request, Request):
        further = sum(_tokens_in(value) for value in request.extra.values()) if request.extra else 0
        return estimate_tokens(request) + further
    if isinstance(request, VectorsRequest):
        return sum(estimate_text(text) for text in request.texts)
    return 0


def _tokens_in(value: Json) -> int:
    """The tokens of all texts in a JSON value, media by the piece."""
    if isinstance(value, str):
        return 800 if len(value) > 2000 and value.startswith("data:") else estimate_text(value)
    if isinstance(value, Mapping):
        return sum(map(_tokens_in, value.values())) + (4 if "role" in value else 0)
    return sum(map(_tokens_in, value)) if isinstance(value, list) else 0


def account_of(target: "Target", credential: "Credential | None") -> str:
    """Whose account a request is paid from: a digest that tells one from another.

    Tokens that are renewed are told apart by where they come from, all other keys by what they are.
    """
    key = target.provider.key
    if credential is None:
        return "none"
    if isinstance(key, (OAuthKey, CommandKey)) and credential.expires is not None:
        return f"source {blake2b(repr(key).encode(), digest_size=12).hexdigest()}"
    if isinstance(key, SignatureKey):
        return f"signature {getattr(credential, 'access_key', '')} {credential.fingerprint}"
    return f"key {credential.fingerprint}"


def check_overrides(
    written: Outgoing, without_extra: Outgoing, extra: Mapping[str, Json], target: "Target"
) -> Outgoing:
    """See that ``extra`` changes nothing that the dialect or the entry has written, unless the entry allows it.

    Args:
        written: the request with ``extra``; ``without_extra``: the same without.

    Raises:
        RequestError: it does; names the field.
    """
    entry = target.provider.entry
    allowed = frozenset(entry.override)
    for name, before in (without_extra.body or {}).items():
        field = _changed_at(before, (written.body or {}).get(name), name)
        if field and name not in allowed and field not in allowed:
            raise RequestError(
                f"extra sets {field}, which dialect {target.provider.dialect.name} has written already",
                hint=f'{_instead(field, target)} Or allow it in providers.{entry.label}: override = ["{name}"].',
            )
    for name in extra.keys() & entry.add.keys() - allowed:
        if extra[name] != entry.add[name]:
            raise RequestError(
                f"extra sets {name}, which the entry of {entry.label} sets itself (add)",
                hint=f'Leave it out, or allow it in providers.{entry.label}: override = ["{name}"].',
            )
    overridden = allowed & extra.keys() & entry.add.keys()
    return replace(written, keeps=overridden) if overridden else written


def _instead(field: str, target: "Target") -> str:
    own_names = target.provider.dialect.abilities.ours(field)
    return f"Pass {own_names}=... instead of extra." if own_names != "messages" else "Pass it as the prompt."


def _changed_at(before: Json, after: Json, name: str) -> str:
    """Where two values differ, leaving out what one has more; empty where they do not."""
    if isinstance(before, Mapping) and isinstance(after, Mapping):
        for key, value in before.items():
            if where := _changed_at(value, after.get(key), f"{name}.{key}"):
                return where
        return ""
    return "" if before == after else name


def _revealed(value: str) -> str:
    """A text that may be secret, by its digest where it is."""
    if not isinstance(value, SecretText):
        return value
    return "secret " + blake2b(value.reveal().encode("utf-8", "surrogatepass"), digest_size=24).hexdigest()
