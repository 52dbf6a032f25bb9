"""Providers and models made ready: what is the same for every request is done once, what is learned is kept."""

import re
from collections.abc import Mapping
from functools import cached_property, partial
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urljoin, urlsplit

import msgspec

from ...config.entries import Config, Model, Provider
from ...core.canonical.parameters import checked
from ...core.canonical.structured import Means
from ...core.errors import ConfigError, ReplyUnreadable, RequestError
from ...core.http import address as addresses
from ...core.http.exchange import HttpRequest
from ...core.json.encoding import encode
from ...core.messages.context_window import AnswerSize, TokenRatio
from ...core.secrets.secret import MASK, SecretText
from ...credentials.credential import Credential, SigningCredential, key_header, key_query
from ...credentials.rotation import KeyRotation
from ...credentials.sources import GivenKey, Key, SignatureKey
from ...dialects.base import Dialect, EntryOptions
from ...dialects.registry import DEFAULT, dialect
from ...dialects.wire import Outgoing
from .circuit_breaker import Circuit
from .request_settings import Filled, Settings, checked_place, places_of
from .single_flight import SingleFlight

if TYPE_CHECKING:
    from ...core.canonical.usage import Price
    from ...core.secrets.masking import Masker
    from ...core.settings.declarations import Declaration

USER_AGENT = "agouti"


# To compare an answer with its request takes a tenth of the time of a call.
_LEARNS = 32


class ModelState:
    """What has been learned about one model of a provider.

    Attributes:
        refused_parameters: parameters that it has refused; they are not tried with it again.
        circuit: whether it is left alone for a while.
        most_texts: how many texts of one request it takes, where it has refused more.
        tokens: how its counts of tokens compare to the estimate.
        answers: how many tokens answers without a cap have had.
    """

    def __init__(self) -> None:
        self.refused_parameters: set[str] = set()
        self._refused_means: dict[Means, set[int]] = {}
        self.circuit = Circuit()
        self.most_texts: int | None = None
        self.tokens = TokenRatio()
        self.answers = AnswerSize()
        self._counter = 0

    @property
    def learns(self) -> bool:
        """Whether the next answer is compared with what was expected: the first ones are, then every eighth."""
        self._counter = counter = self._counter + 1
        return counter <= _LEARNS or not counter % 8

    def refuse(self, method: Means, form: int) -> None:
        """It has refused a means of structured output, with a form."""
        self._refused_means.setdefault(method, set()).add(form)

    def refuses(self, method: Means, form: int) -> bool:
        """Whether it will refuse a means with this form: it has before, or has refused the means with two others."""
        refused = self._refused_means.get(method, ())
        return form in refused or len(refused) > 1


class ProviderState:
    """A provider made ready, shared by all its models.

    Attributes:
        entry: the provider's entry.
        dialect: its wire format, in the form that the entry gives it.
        accepted: the parameters that can be expressed; `None`: all of them but those it ``lacks``.
        keys: which key is used next.
        sources: the secrets that go into its settings.
        single_flight: what is being fetched of both.
        answered: it has answered before, so that a connection may be a kept one.
        address: where it is, as errors say it: its origin, or its socket file.

    Raises:
        ConfigError: the address cannot be used, or its key would travel where others can read it.
    """

    def __init__(self, entry: Provider, declared: "Declaration | None" = None) -> None:
        self.entry = entry
        self.label = entry.label
        self._declared = declared is not None
        self.sources = CredentialSources(places_of(entry))
        self.single_flight = SingleFlight()
        self._settings = settings = Settings(entry, {}, declared=self._declared)
        address = settings.address
        self.address = f"unix:{address.socket}" if address.socket else addresses.origin_of(self.base)
        self.timeouts = entry.timeouts
        self.retries = entry.retries
        self.answered = False
        self.send_key = entry.send_key
        self.key = key = entry.key
        self.keys = KeyRotation(key)
        paths = {address.operation: address.path} if address.path else {}
        self._paths: dict[str, str] = {**paths, **entry.paths}
        options = EntryOptions(chat_path=self._paths.get("chat", ""), instance=entry.instance)
        self.dialect = _dialect(entry.dialect or address.dialect or DEFAULT, declared).configured(options)
        self.accepted = self.dialect.abilities.takes
        self.unsupported = self.dialect.abilities.lacks - entry.rename.keys()
        travels = key is not None and (not isinstance(key, SignatureKey) or key.session_token is not None)
        if (travels or self.sources or settings.travels_secretly) and address.plain_http and not entry.plain_http:
            raise ConfigError(
                f"the key of {entry.label} would go over plain http to {addresses.host_of(self.base)}",
                hint=f"Write https:// in providers.{entry.label}.address; "
                "or plain_http = true, if nobody can listen on that network.",
                provider=entry.label,
            )
        self._changes = bool(entry.add or entry.rename or entry.drop)
        # A model that the path names must not stand in the body as well.
        self._named_in_path = {operation for operation, path in self._paths.items() if "{model}" in path}
        self._models: dict[str, ModelState] = {}
        self._urls: dict[tuple[str, str], Filled] = {}
        self._headers: dict[tuple[Any, ...], tuple[Credential | None, dict[str, str]]] = {}
        self._masker: tuple[Credential | None, Masker] | None = None

    @property
    def base(self) -> str:
        """The base address, as it can be shown."""
        return self._settings.base.display

    @cached_property
    def cap_fields(self) -> tuple[str, ...]:
        """Where caps on output tokens may stand in its bodies, as JSON Pointers: those that its entry renames too."""
        names, rename = self.dialect.abilities.cap_fields, self.entry.rename
        return (*names, *[f"/{wire_name}" for own_name, wire_name in rename.items() if f"/{own_name}" in names])

    @cached_property
    def answer_fields(self) -> tuple[str, ...]:
        """Where the number of answers may stand in its bodies."""
        return self.dialect.abilities.answer_fields

    @cached_property
    def mark(self) -> str:
        """What tells its account at its address from any other, without saying anything of either."""
        from hashlib import blake2b

        key = "" if self.key is None else self.key.describe()
        if isinstance(self.key, GivenKey):  # its place tells nothing: it stands in the program
            key = self.key.value.reveal()
        return blake2b(f"{self.entry.address}\0{key}".encode(), digest_size=9).hexdigest()

    @property
    def wants_secrets(self) -> bool:
        """Whether anything secret goes with its requests: then somebody is billed for them, in all likelihood."""
        tls = self.entry.tls
        has_certificate = tls is not None and tls.certificate
        return bool(self.key or self.sources or self._settings.travels_secretly or has_certificate)

    def store(self, source: Key, credential: Credential) -> None:
        """A secret was fetched that goes into the entry's settings.

        Raises:
            CredentialMissing: it cannot be sent.
        """
        self.sources.store(source, checked_place(source, credential))
        if self.sources.complete:
            self._settings = Settings(self.entry, self.sources.credentials, declared=self._declared)
            self._urls, self._headers, self._masker = {}, {}, None

    def model(self, name: str) -> ModelState:
        """What has been learned about a model, by the name that the provider knows; one for all threads."""
        state = self._models.get(name)
        return state if state is not None else self._models.setdefault(name, ModelState())

    def masker(self, credential: Credential | None) -> "Masker":
        """What takes the secrets in use out of foreign texts."""
        latest = self._masker
        if latest is None or latest[0] is not credential:
            from ...core.secrets.masking import Masker

            secrets = [*self._settings.secrets]
            if credential is not None:
                secrets.append(credential.secret.reveal())
                if isinstance(credential, SigningCredential) and credential.session_token is not None:
                    secrets.append(credential.session_token.reveal())
            latest = self._masker = (credential, Masker(secrets))
        return latest[1]

    def request(
        self,
        outgoing: Outgoing,
        model: str,
        credential: Credential | None,
        attempt_headers: Mapping[str, str] | None = None,
        *,
        body: bytes | None = None,
    ) -> HttpRequest:
        """The request as it is sent, key and all.

        Args:
            attempt_headers: further headers, of this request alone.
            body: its bytes, where they are written already.
        """
        if outgoing.operation == "follow" and "://" in outgoing.path:
            return self.request_at(outgoing.path, outgoing.method, outgoing.accept, credential)
        cache_key = (outgoing.operation, model)
        url = self._urls.get(cache_key)
        if url is None or outgoing.operation == "follow":  # each has a path of its own
            url = self._new_url(outgoing, model)
        if outgoing.query:
            query = outgoing.query
            url = Filled(addresses.with_query(url.real, query), addresses.with_query(url.display, query))
        if body is None:
            body = outgoing.raw if outgoing.body is None else self.encoded(self._changed(outgoing))
        # The credential stands in the value too: an id may be used again once its object has gone.
        credentials, headers = self._headers.get(
            (outgoing.accept, body is None, outgoing.headers, id(credential)), (None, None)
        )
        if headers is None or credentials is not credential:
            headers = self._new_headers(outgoing, credential)
        if attempt_headers:
            headers = {**headers, **attempt_headers}
        return self._with_key(outgoing.method, url, headers, body, credential)

    def request_at(self, url: str, method: str, accept: str, credential: Credential | None) -> HttpRequest:
        """A request without body to an address that the provider gave; its key goes to its own origin only.

        Raises:
            ReplyUnreadable: it is no http or https address.
        """
        try:
            absolute = urljoin(self._settings.base.real + "/", url)
            same_origin = addresses.origin_of(absolute) == addresses.origin_of(self._settings.base.real)
            parts = urlsplit(absolute)
            parts.port  # noqa: B018 - raises where it is none
        except ValueError:
            same_origin, parts, absolute = False, urlsplit(""), ""
        # HTTP libraries read such addresses each in its own way: what is compared here might not be where it goes.
        if not absolute.startswith(("https://", "http://")) or "@" in parts.netloc or _UNSAFE.search(absolute):
            raise ReplyUnreadable(f"the provider names an address that is none: {url[:100]!r}")
        display = self.masker(credential).mask(absolute)
        if not same_origin:
            headers = {"user-agent": USER_AGENT, "accept-encoding": "identity", "accept": accept}
            stranger = parts.hostname != addresses.host_of(self._settings.base.real)
            secret = SecretText(absolute) if absolute != display else None
            return HttpRequest(method, display, headers, secret_url=secret, public_only=stranger)
        outgoing = Outgoing("follow", "", None, method, accept)
        body = None if method == "GET" else b""
        return self._with_key(
            method, Filled(absolute, display), self._new_headers(outgoing, credential), body, credential
        )

    def _with_key(
        self, method: str, url: Filled, headers: dict[str, str], body: bytes | None, credential: Credential | None
    ) -> HttpRequest:
        secret = SecretText(url.real) if url.secret else None
        if credential is not None and self.send_key[:6] == "query:":
            query = key_query(self.send_key, credential)
            if query is not None and not isinstance(credential, SigningCredential):
                secret = SecretText(addresses.with_query(url.real, query.reveal()))
                url = Filled("", addresses.with_query(url.display, f"{query.reveal().partition('=')[0]}={MASK}"))
        socket = self._settings.address.socket
        request = HttpRequest(
            method, url.display, headers, body, secret, self.entry.tls, masker=self.masker(credential), socket=socket
        )
        return credential.sign(request) if isinstance(credential, SigningCredential) else request

    def body_of(self, outgoing: Outgoing) -> dict[str, Any]:
        """The fields of a request as they are sent, with what the entry changes."""
        return self._changed(outgoing)

    @staticmethod
    def encoded(fields: dict[str, Any]) -> bytes:
        """Fields as the bytes of a body.

        Raises:
            RequestError: they cannot be written as JSON.
        """
        try:
            return encode(fields)
        except (TypeError, ValueError, OverflowError) as error:
            raise RequestError(
                f"the request cannot be written as JSON: {error}", hint="Pass texts, numbers, lists and dicts only."
            ) from None

    def _changed(self, outgoing: Outgoing) -> dict[str, Any]:
        body = outgoing.body or {}
        if outgoing.operation in self._named_in_path:
            body.pop("model", None)
        if not self._changes or outgoing.operation == "follow":
            return body
        entry = self.entry
        for name in entry.drop:
            body.pop(name, None)
        for name, wire_name in entry.rename.items():
            if name in body:
                body[wire_name] = body.pop(name)
        added = self._settings.add
        if outgoing.keeps:
            added = {name: value for name, value in added.items() if name not in outgoing.keeps}
        return {**body, **added}

    def _new_url(self, outgoing: Outgoing, model: str) -> Filled:
        settings = self._settings
        path = self._paths.get(outgoing.operation, outgoing.path)
        filled = settings.filled(path.replace("{model}", quote(model, safe="")), "paths")
        slash = "" if path.startswith("/") or not path else "/"
        real, display = f"{settings.base.real}{slash}{filled.real}", f"{settings.base.display}{slash}{filled.display}"
        if settings.query.real:
            real = addresses.with_query(real, settings.query.real)
            display = addresses.with_query(display, settings.query.display)
        if len(self._urls) > 1000:
            self._urls.clear()
        url = self._urls[outgoing.operation, model] = Filled(real, display)
        return url

    def _new_headers(self, outgoing: Outgoing, credential: Credential | None) -> dict[str, str]:
        headers = {"user-agent": USER_AGENT, "accept-encoding": "identity"}
        if outgoing.body is not None:
            headers["content-type"] = "application/json"
        if outgoing.accept:
            headers["accept"] = outgoing.accept
        headers.update(outgoing.headers)
        headers.update(self._settings.headers)
        if credential is not None and not isinstance(credential, SigningCredential):
            carried = key_header(self.send_key, credential)
            if carried is not None:
                headers[carried[0]] = carried[1]
        if len(self._headers) > 16:
            self._headers.clear()
        cache_key = (outgoing.accept, outgoing.body is None, outgoing.headers, id(credential))
        self._headers[cache_key] = (credential, headers)
        return headers


def _dialect(name: str, declared: "Declaration | None") -> Dialect:
    if declared is None:
        return dialect(name)
    from ...dialects.declared import DeclaredDialect

    return DeclaredDialect(declared)


# What no address has that is written as it should be.
_UNSAFE = re.compile(r"[\\\\\s\x00-\x20\x7f]")


class CredentialSources:
    """The secrets that go into an entry's settings: where they live, and what has been fetched."""

    def __init__(self, sources: tuple[Key, ...]) -> None:
        self._sources = sources
        self.credentials: dict[Key, Credential] = {}

    def __bool__(self) -> bool:
        return bool(self._sources)

    @property
    def complete(self) -> bool:
        """Whether every one has been fetched."""
        return len(self.credentials) == len(self._sources)

    def missing(self, now: float) -> list[Key]:
        """Those that have to be fetched: they have not been, or will not be good for much longer."""
        credentials = self.credentials
        return [source for source in self._sources if source not in credentials or not credentials[source].fresh(now)]

    def store(self, source: Key, credential: Credential) -> None:
        """One was fetched."""
        self.credentials = {**self.credentials, source: credential}

    def refused(self) -> None:
        """The provider refuses the request for its key: those that may have changed are fetched again."""
        self.credentials = {source: each for source, each in self.credentials.items() if not each.renewable}


class Target:
    """A model entry made ready.

    Attributes:
        model: the entry.
        provider: the provider made ready.
        parameters: the entry's own parameters, checked.
        state: what has been learned about the model.

    Args:
        same: the entry of the same model, where it is asked by its name.

    Raises:
        ConfigError: a parameter of the entry is wrong.
    """

    def __init__(self, model: Model, provider: ProviderState, same: Model | None = None) -> None:
        self.model = model
        self.provider = provider
        self.state = provider.model(model.name)
        self._priced = model if same is None else same
        try:
            self.parameters = checked(model.parameters)
        except RequestError as error:
            raise ConfigError(
                f"models.{model.label}.parameters: {error.message}", hint=error.hint, model=model.label
            ) from None

    @property
    def price(self) -> "Price | None":
        """What it costs; of a model that is asked by its name, what the entry of the same model says."""
        return self._priced.price_now


class Targets:
    """The targets of a configuration, made when first asked for.

    Args:
        only: label of the one provider that every name is sent to as it is.
    """

    def __init__(self, config: Config, only: str | None = None) -> None:
        self.config = config
        self._only = only
        self._targets: dict[str, Target] = {}
        self._personas: dict[tuple[str, str], Target] = {}
        self._providers: dict[str, ProviderState] = {}

    def of(self, label: str) -> Target:
        """The target of a label; one for all threads.

        Raises:
            LabelUnknown: there is no such model.
            ConfigError: its entry or its provider's cannot be used.
        """
        target = self._targets.get(label) if isinstance(label, str) else None
        if target is None:
            if not isinstance(label, str) or not label:
                raise RequestError(
                    f"the label of a model cannot be {label!r:.80}",
                    hint="Pass a label of agouti.toml, or NAME@PROVIDER.",
                )
            if self._only is None:
                model = self.config.model(label)
            else:
                model = Model(label, self._only, label.removesuffix(f"@{self._only}"))
            target = self._targets.setdefault(label, Target(model, self.provider(model.provider), self._same(model)))
        return target

    def _same(self, model: Model) -> Model | None:
        """The first entry with a price that is the same model, where this one has no entry."""
        if model.label in self.config.models:
            return None
        named = (model.provider, model.name)
        return next(
            (e for e in self.config.models.values() if (e.provider, e.name) == named and e.price is not None), None
        )

    def about(self, provider: str) -> Target:
        """The target of no model, where only the provider matters."""
        return Target(Model("", provider), self.provider(provider))

    def chain(self, label: str) -> tuple[Target, ...]:
        """The target of a label, and those that take over for it, in order; each once."""
        first = self.of(label)
        if not first.model.fallback:
            return (first,)
        targets = {label: first}
        of = partial(self._in_words_of, first.model) if self._passes_on(first.model) else self.of
        for each in first.model.fallback:
            targets.setdefault(each, of(each))
        return tuple(targets.values())

    def _passes_on(self, persona: Model) -> bool:
        """Whether an entry has its ``fallback`` from the one that it is ``like``: then its words go along."""
        parent = self.config.models.get(persona.extends)
        return parent is not None and parent.fallback == persona.fallback

    def _in_words_of(self, persona: Model, label: str) -> Target:
        """A model that takes over for a persona: asked with its system text, examples and blanks."""
        target = self._personas.get((persona.label, label))
        if target is None:
            same_origin = self.of(label)
            model = msgspec.structs.replace(
                same_origin.model, system=persona.system, examples=persona.examples, variables=persona.variables
            )
            target = Target(model, same_origin.provider, self._same(same_origin.model))
            target = self._personas.setdefault((persona.label, label), target)
        return target

    def provider(self, label: str) -> ProviderState:
        """A provider made ready; one for all threads, because its keys are kept there."""
        state = self._providers.get(label) if isinstance(label, str) else None
        if state is None:
            entry = self.config.provider(label)
            provider_state = ProviderState(entry, self.config.dialects.get(entry.dialect))
            state = self._providers.setdefault(label, provider_state)
        return state
