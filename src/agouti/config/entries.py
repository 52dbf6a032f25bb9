"""The entries of a configuration, as frozen types.

They are what ``agouti.toml`` is parsed into, and can be made in code as well:

    >>> config = Config.of(
    ...     [Provider("shed", address="http://127.0.0.1:8080/v1")],
    ...     [Model("almanac-local", provider="shed", name="loam-2b")],
    ... )
    >>> config.models["almanac-local"].name
    'loam-2b'
"""

from collections.abc import Iterable, Mapping
from datetime import UTC, date, datetime
from typing import TYPE_CHECKING, Any, Literal, TypeAlias
from urllib.parse import unquote

import msgspec
from msgspec import Struct

from .._former import FormerFields, attribute
from ..core.canonical.chat import Markers
from ..core.canonical.structured import Means
from ..core.canonical.usage import Price, price_at
from ..core.errors import ConfigError, LabelUnknown, RequestError
from ..core.http.exchange import Timeouts, Tls
from ..core.secrets.secret import MASK, Environment, Secret
from ..core.settings.declarations import Declaration, Instance
from ..core.settings.rate_limits import RateLimits
from ..core.settings.retries import Retries
from ..core.text.suggest import near_hint
from ..credentials.sources import GivenKey, Key
from .budgets import Budget, Plan
from .secret_settings import parted_address, secret_fields, secret_texts

if TYPE_CHECKING:
    from .origins import Origins
    from .tables import CacheSettings, LedgerSettings, LimitStore, RelaySettings, TelemetrySettings

    SecretText: TypeAlias = str | Key
else:
    SecretText = Any  # what it is to be is seen in `secret_texts`

_set = msgspec.structs.force_setattr


class Provider(Struct, frozen=True, forbid_unknown_fields=True):
    """Where models are reached.

    Attributes:
        label: your own name for it.
        address: base or operation address, as pasted; ``{region}`` and the like are filled from ``values``.
        dialect: name of the wire format; guessed from the address where not given.
        key: where the key lives; none for a local server.
        send_key: ``bearer``, ``basic``, ``header:NAME`` or ``query:NAME``.
        headers: further headers of every request. Here and in ``query``, ``values`` and ``add`` a value may be a place
            where a secret lives, such as ``{ env = "NAME" }``; what looks like a literal secret is held as one.
        query: further query parameters of every request.
        values: what stands for ``{NAME}`` in address, paths, headers and query.
        paths: paths of operations (``chat``, ``models``) that are not the dialect's own; ``{model}`` is
            the model's name.
        add: fields put into every request body.
        rename: body fields that this provider calls otherwise.
        drop: body fields that this provider must not get.
        override: body fields that ``extra`` of a call may set although the dialect or this entry writes them.
        plain_http: send the key over plain http to a host that is not this machine.
        unsupported: ``error`` or ``warn``: what to do about a parameter that this provider does not take.
        retries: how often and how long a failed request is repeated.
        timeouts: time limits by phase.
        limits: how many requests and tokens it allows: calls wait for their turn.
        idempotency_header: name of a header by which the provider knows a repeated request again and does it once; it
            gets a value of its own for every request, the same for its repeats.
        trace: requests carry a ``traceparent`` header, so that the provider's spans go below ours.
        instance: for dialect ``predict``: what an instance of its models looks like.
        tls: certificates beside the system's own: ``{ ca = "club-ca.pem", certificate = "me.pem" }``.
    """

    label: str
    address: str = ""
    dialect: str = ""
    key: Key | None = None
    send_key: str = "bearer"
    headers: dict[str, SecretText] = {}
    query: dict[str, SecretText] = {}
    values: dict[str, SecretText] = {}
    paths: dict[str, str] = {}
    add: dict[str, Any] = {}
    rename: dict[str, str] = {}
    drop: tuple[str, ...] = ()
    override: tuple[str, ...] = ()
    plain_http: bool = False
    unsupported: Literal["error", "warn"] = "error"
    retries: Retries = Retries()
    timeouts: Timeouts = Timeouts()
    limits: RateLimits | None = None
    tls: Tls | None = None
    idempotency_header: str = ""
    trace: bool = False
    instance: Instance | None = None

    def __post_init__(self) -> None:
        address, secret = parted_address(self.address)
        if secret and self.key is None:
            # A key in an address is the key, and travels as it stood there.
            name = next(iter(secret))
            _set(self, "key", GivenKey(Secret(unquote(secret.pop(name)))))
            _set(self, "send_key", f"query:{name}")
        if address != self.address:
            _set(self, "address", address)
        query = {**{name: GivenKey(Secret(unquote(value))) for name, value in secret.items()}, **self.query}
        for name, values in (("headers", self.headers), ("query", query), ("values", self.values)):
            if values:
                _set(self, name, secret_texts(name, values))
        if self.add:
            _set(self, "add", secret_fields(self.add))

    def __repr__(self) -> str:
        return f"Provider({self.label!r}, dialect={self.dialect!r}, key={self.key!r})"


class Model(Struct, frozen=True, forbid_unknown_fields=True, metaclass=FormerFields):
    """A model under your own label.

    Attributes:
        label: your own name for it.
        provider: label of the provider that has it.
        name: exactly what the provider calls it.
        markers: for dialect ``prompt``: what stands around the texts in the one prompt.
        fallback: labels of the models that take over when this one cannot answer, each in its own words; those that
            an entry has from the one that it ``extends`` are asked with its system text, examples and variables.
        deadline: seconds that a whole call may take, retries and fallback included.
        extends: label of a model that this one takes everything from that it does not say itself.
        system: a system text put before every prompt.
        examples: pairs of question and answer put before every prompt; a call's own come instead.
        variables: names that stand in braces in ``system`` and ``examples``, and what they are filled with where a call
            says nothing (``variables={"language": "Italian"}``); an empty one must be given. Other braces stay braces.
        context: the context window: tokens of prompt and answer together.
        parameters: defaults, under their OpenAI-compatible names; a call overrides them.
        output_methods: structured output methods (``fill``): of ``schema``, ``tool``, ``json`` and ``prompt`` those
            that it can, the strongest first; those of its dialect where not given.
        inputs: what it takes: ``["text"]``, ``["text", "image"]``; anything else is an error before anything is sent.
        media_tokens: the most tokens that an image, a file or audio of a prompt counts, for budgets:
            ``{ image = 1600 }``; what is not named counts by its bytes.
        reasoning_tag: name of the tag between which the server leaves the thinking in the text, such as ``think``: it
            becomes ``reply.reasoning``.
        limits: besides those of the provider.
        tools: functions for ``agouti talk``, as ``MODULE:NAME``; from code, pass them to the call.
        price: per million tokens, for ``reply.cost``; several, each with the day since which it holds.
    """

    label: str
    provider: str = ""
    name: str = ""
    extends: str = ""
    system: str | None = None
    examples: tuple[tuple[str, str], ...] = ()
    variables: dict[str, str] = {}
    context: int | None = None
    parameters: dict[str, Any] = {}
    price: Price | tuple[Price, ...] | None = None
    markers: Markers = Markers()
    fallback: tuple[str, ...] = ()
    deadline: float | None = None
    output_methods: tuple[Means, ...] = ()
    inputs: tuple[str, ...] | None = None
    media_tokens: dict[str, int] = {}
    reasoning_tag: str = ""
    tools: tuple[str, ...] = ()
    limits: RateLimits | None = None

    @property
    def price_now(self) -> Price | None:
        """The price that holds today."""
        price = self.price
        return (
            price if price is None or (isinstance(price, Price) and price.since is None) else price_at(price, _today())
        )

    if not TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            return attribute(self, name)


def _today() -> date:
    return datetime.now(UTC).date()  # as all days of ledgers and budgets


class Config(Struct, frozen=True):
    """All entries by label.

    Attributes:
        environment: variables, those of ``.env`` included, in which keys are looked up.
        files: what was read, the first one overridden by the later ones.
        origins: where each value came from.
        dialects: those that it declares itself.
        ledger: where it is kept what calls have taken.
        budgets: how much may be spent.
        plans: what the plans of providers include, by label of the provider.
        limit_store: where limits are kept that several programs share.
        telemetry: what is told to OpenTelemetry.
        cache: where answers are kept, so that equal questions are answered from there.
        relay: how its models are served to others.
    """

    providers: dict[str, Provider]
    models: dict[str, Model]
    environment: Environment = Environment({})
    files: tuple[str, ...] = ()
    origins: "Origins | None" = None
    dialects: dict[str, Declaration] = {}
    ledger: "LedgerSettings | None" = None
    budgets: dict[str, Budget] = {}
    plans: dict[str, Plan] = {}
    limit_store: "LimitStore | None" = None
    telemetry: "TelemetrySettings | None" = None
    cache: "CacheSettings | None" = None
    relay: "RelaySettings | None" = None

    @classmethod
    def of(
        cls,
        providers: Iterable[Provider],
        models: Iterable[Model] = (),
        *,
        environment: Mapping[str, str] | None = None,
    ) -> "Config":
        """A configuration made in code.

        Raises:
            ConfigError: two entries with one label.
        """
        import os

        from .origins import Origins

        config = cls(
            _by_label(providers, "provider"),
            _by_label(models, "model"),
            Environment(os.environ if environment is None else environment),
            (),
            Origins(),
        )
        for model in config.models.values():
            config.provider(model.provider)
        return config

    def keyless(self) -> "Config":
        """The same, but no provider wants a key: for answers from a record."""
        masked = GivenKey(Secret(MASK))
        providers = {
            label: msgspec.structs.replace(
                provider,
                key=None,
                headers=_all_masked(provider.headers, masked),
                query=_all_masked(provider.query, masked),
                values=_all_masked(provider.values, masked),
                add=_all_masked(provider.add, masked),
            )
            for label, provider in self.providers.items()
        }
        return msgspec.structs.replace(self, providers=providers)

    def model(self, label: str) -> Model:
        """The model of a label; ``NAME@PROVIDER`` is a model without an entry.

        Raises:
            LabelUnknown: there is none.
        """
        by_label = self.models.get(label)
        if by_label is not None:
            return by_label
        name, at, provider = label.rpartition("@")
        if at and provider in self.providers and name:
            return Model(label, provider, name)
        if at and name:
            raise LabelUnknown(
                f"there is no provider {provider!r}", hint=near_hint(provider, self.providers, "provider"), model=label
            )
        where = f" in {', '.join(self.files)}" if self.files else ""
        raise LabelUnknown(f"there is no model {label!r}{where}", hint=self._model_hint(label), model=label)

    def _model_hint(self, label: str) -> str:
        if label in self.providers:
            return f"{label} is a provider; ask for one of its models as NAME@{label}."
        if not self.models and self.providers:
            return f"There is no model entry yet; ask for a provider's model as NAME@{next(iter(self.providers))}."
        named = next((model for model in self.models.values() if model.name == label), None)
        if named is not None:
            return f"{label} is the name of a model: its label is {named.label}."
        hint = near_hint(label, self.models, "label")
        if hint.startswith("Did you mean") or " " in label or not self.providers:
            return hint
        return f"{hint} A model without an entry is asked as {label}@{next(iter(self.providers))}."

    def provider(self, label: str) -> Provider:
        """The provider of a label.

        Raises:
            LabelUnknown: there is none.
        """
        by_label = self.providers.get(label) if isinstance(label, str) else None
        if by_label is None:
            if not isinstance(label, str):
                raise RequestError(
                    f"the label of a provider cannot be {label!r:.80}", hint="Pass a label of agouti.toml, as a text."
                )
            raise LabelUnknown(
                f"there is no provider {label!r}", hint=near_hint(label, self.providers, "provider"), provider=label
            )
        return by_label


def _all_masked(values: Any, mask: Key) -> Any:
    """Settings with a mask for every secret, wherever it lives."""
    if isinstance(values, dict):
        return {name: _all_masked(each, mask) for name, each in values.items()}
    if isinstance(values, list):
        return [_all_masked(each, mask) for each in values]
    return mask if isinstance(values, Key) else values


def _by_label(entries: Iterable[Any], noun: str) -> dict[str, Any]:
    by_label: dict[str, Any] = {}
    for entry in entries:
        if entry.label in by_label:
            raise ConfigError(f"two {noun}s are called {entry.label!r}", hint="Give one of them another label.")
        by_label[entry.label] = entry
    return by_label
