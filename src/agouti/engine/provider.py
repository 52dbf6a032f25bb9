"""Providers and models made ready: what is the same for every request is done once, what is learned is kept."""

import re
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urlencode, urljoin

import msgspec

from ..config.entries import Config, Model, Provider
from ..core import address as addresses
from ..core.errors import ConfigError, ReplyUnreadable, RequestError
from ..core.http import HttpRequest
from ..core.parameters import checked
from ..core.secret import Secret, SecretText, looks_secret
from ..core.structured import Means
from ..core.suggest import near_hint
from ..credentials.credential import Credential, SigningCredential, key_header, key_query
from ..credentials.rotation import KeyRotation
from ..credentials.sources import GivenKey, SignatureKey
from ..dialects.base import Dialect, EntryOptions, Outgoing
from ..dialects.registry import DEFAULT, dialect, parse_address
from .circuit import Circuit

if TYPE_CHECKING:
    from ..core.declarations import Declaration
    from ..core.masking import Masker

USER_AGENT = "agouti"

_encode = msgspec.json.Encoder().encode


class ModelState:
    """What has been learned about one model of a provider.

    Attributes:
        refused_parameters: parameters that it has refused; they are not tried with it again.
        circuit: whether it is left alone for a while.
    """

    def __init__(self) -> None:
        self.refused_parameters: set[str] = set()
        self._refused_means: dict[Means, set[int]] = {}
        self.circuit = Circuit()

    def refuse(self, means: Means, form: int) -> None:
        """It has refused a means of structured output, with a form."""
        self._refused_means.setdefault(means, set()).add(form)

    def refuses(self, means: Means, form: int) -> bool:
        """Whether it will refuse a means with this form: it has before, or has refused the means with two others."""
        refused = self._refused_means.get(means, ())
        return form in refused or len(refused) > 1


class ProviderState:
    """A provider made ready, shared by all its models.

    Attributes:
        entry: the provider's entry.
        dialect: its wire format, in the form that the entry gives it.
        takes: the parameters that can be expressed; `None`: all of them but those it ``lacks``.
        keys: which key is used next.
        answered: it has answered before, so that a connection may be a kept one.

    Raises:
        ConfigError: the address cannot be used, or its key would travel where others can read it.
    """

    def __init__(self, entry: Provider, declared: "Declaration | None" = None) -> None:
        text = _filled(entry.address, entry, "address")
        address = addresses.parse(text) if declared is not None else parse_address(text, entry.dialect)
        self.entry = entry
        self.label = entry.label
        self.base = address.base
        self.timeouts = entry.timeouts
        self.retries = entry.retries
        self.answered = False
        self.send_key = entry.send_key
        key = entry.key
        if key is None and address.key is not None:
            key, self.send_key = GivenKey(Secret(address.key)), f"query:{address.key_name}"
        self.key = key
        self.keys = KeyRotation(key)
        paths = {address.operation: address.path} if address.path else {}
        self._paths: dict[str, str] = {**paths, **entry.paths}
        options = EntryOptions(chat_path=self._paths.get("chat", ""), instance=entry.instance)
        self.dialect = _dialect(entry.dialect or address.dialect or DEFAULT, declared).configured(options)
        self.takes = self.dialect.abilities.takes
        self.lacks = self.dialect.abilities.lacks - entry.rename.keys()
        if key is not None and not isinstance(key, SignatureKey) and address.plain_http and not entry.plain_http:
            raise ConfigError(
                f"the key of {entry.label} would go over plain http to {addresses.host_of(self.base)}",
                hint=f"Write https:// in providers.{entry.label}.address; "
                "or plain_http = true, if nobody can listen on that network.",
                provider=entry.label,
            )
        query = {**address.query, **{name: _filled(value, entry, "query") for name, value in entry.query.items()}}
        self._query = urlencode(query)
        self._common = _common_headers(entry)
        self._changes = bool(entry.add or entry.rename or entry.drop)
        # A model that the path names must not stand in the body as well.
        self._named_in_path = {operation for operation, path in self._paths.items() if "{model}" in path}
        self._models: dict[str, ModelState] = {}
        self._urls: dict[tuple[str, str], str] = {}
        self._headers: dict[tuple[Any, ...], tuple[Credential | None, dict[str, str]]] = {}

    def model(self, name: str) -> ModelState:
        """What has been learned about a model, by the name that the provider knows; one for all threads."""
        state = self._models.get(name)
        return state if state is not None else self._models.setdefault(name, ModelState())

    def masker(self, credential: Credential | None) -> "Masker":
        """What takes the secrets in use out of foreign texts."""
        from ..core.masking import Masker

        secrets = [value.reveal() for value in self._common.values() if isinstance(value, SecretText)]
        secrets += [value for name, value in self.entry.query.items() if looks_secret(name)]
        if credential is not None:
            secrets.append(credential.secret.reveal())
            if isinstance(credential, SigningCredential) and credential.session_token is not None:
                secrets.append(credential.session_token.reveal())
        return Masker(secrets)

    def request(self, outgoing: Outgoing, model: str, credential: Credential | None) -> HttpRequest:
        """The request as it is sent, key and all."""
        cache_key = (outgoing.operation, model)
        url = self._urls.get(cache_key)
        if url is None:
            url = self._new_url(outgoing, model)
        if outgoing.query:
            url = addresses.with_query(url, outgoing.query)
        try:
            body = None if outgoing.body is None else _encode(self._changed(outgoing))
        except (TypeError, ValueError, OverflowError) as error:
            raise RequestError(
                f"the request cannot be written as JSON: {error}", hint="Pass texts, numbers, lists and dicts only."
            ) from None
        # The credential stands in the value too: an id may be used again once its object has gone.
        held, headers = self._headers.get(
            (outgoing.accept, body is None, outgoing.headers, id(credential)), (None, None)
        )
        if headers is None or held is not credential:
            headers = self._new_headers(outgoing, credential)
        return self._with_key(HttpRequest(outgoing.method, url, headers, body, None, self.entry.tls), credential)

    def request_at(self, url: str, method: str, accept: str, credential: Credential | None) -> HttpRequest:
        """A request without body to an address that the provider gave; its key goes to its own origin only.

        Raises:
            ReplyUnreadable: it is no http or https address.
        """
        absolute = urljoin(self.base + "/", url)
        if not absolute.startswith(("https://", "http://")):
            raise ReplyUnreadable(f"the provider names an address that is none: {url[:100]!r}")
        own = addresses.origin_of(absolute) == addresses.origin_of(self.base)
        headers = {"user-agent": USER_AGENT, "accept-encoding": "identity", "accept": accept}
        if not own:
            return HttpRequest(method, absolute, headers)
        outgoing = Outgoing("follow", "", None, method, accept)
        body = None if method == "GET" else b""
        headers = self._new_headers(outgoing, credential)
        return self._with_key(HttpRequest(method, absolute, headers, body, None, self.entry.tls), credential)

    def _with_key(self, request: HttpRequest, credential: Credential | None) -> HttpRequest:
        if credential is not None:
            if isinstance(credential, SigningCredential):
                return credential.sign(request)
            if self.send_key[:6] == "query:":
                return msgspec.structs.replace(request, secret_query=key_query(self.send_key, credential))
        return request

    def _changed(self, outgoing: Outgoing) -> dict[str, Any]:
        body = outgoing.body or {}
        if outgoing.operation in self._named_in_path:
            body.pop("model", None)
        if not self._changes:
            return body
        entry = self.entry
        for name in entry.drop:
            body.pop(name, None)
        for name, theirs in entry.rename.items():
            if name in body:
                body[theirs] = body.pop(name)
        return {**body, **entry.add}

    def _new_url(self, outgoing: Outgoing, model: str) -> str:
        path = self._paths.get(outgoing.operation, outgoing.path)
        path = _filled(path.replace("{model}", quote(model, safe="")), self.entry, "paths")
        url = self.base + ("" if path.startswith("/") or not path else "/") + path
        if self._query:
            url = addresses.with_query(url, self._query)
        if len(self._urls) > 1000:
            self._urls.clear()
        self._urls[outgoing.operation, model] = url
        return url

    def _new_headers(self, outgoing: Outgoing, credential: Credential | None) -> dict[str, str]:
        headers = {"user-agent": USER_AGENT, "accept-encoding": "identity"}
        if outgoing.body is not None:
            headers["content-type"] = "application/json"
        if outgoing.accept:
            headers["accept"] = outgoing.accept
        headers.update(outgoing.headers)
        headers.update(self._common)
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
    from ..dialects.declared import DeclaredDialect

    return DeclaredDialect(declared)


def _common_headers(provider: Provider) -> dict[str, str]:
    headers: dict[str, str] = {}
    for name, text in provider.headers.items():
        value = _filled(text, provider, "headers")
        if not _HEADER.fullmatch(name):
            raise ConfigError(
                f"{name[:40]!r} in headers of provider {provider.label} is no name of a header",
                hint="Names have letters, digits and - only, without a colon.",
            )
        if not value.isprintable() and "\n" not in value and "\r" not in value:
            raise ConfigError(
                f"header {name} of provider {provider.label} holds a character that cannot be sent",
                hint="Write it in visible characters.",
            )
        if "\n" in value or "\r" in value:
            raise ConfigError(
                f"header {name} of provider {provider.label} holds a line end", hint="Write it in one line."
            )
        headers[name.lower()] = SecretText(value) if looks_secret(name) else value
    return headers


_HEADER = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")
_TEMPLATE = re.compile(r"\{(\w+)\}")


def _filled(text: str, provider: Provider, where: str) -> str:
    if "{" not in text:
        return text

    def value(match: re.Match[str]) -> str:
        name = match[1]
        if name in provider.values:
            return provider.values[name]
        if name == "model":
            return match[0]
        raise ConfigError(
            f"{where} of provider {provider.label} wants a value for {{{name}}}",
            hint=f'Add values = {{ {name} = "..." }}. '
            + (near_hint(name, provider.values, "value") if provider.values else ""),
            provider=provider.label,
        )

    return _TEMPLATE.sub(value, text)


class Target:
    """A model entry made ready.

    Attributes:
        model: the entry.
        provider: the provider made ready.
        parameters: the entry's own parameters, checked.
        state: what has been learned about the model.

    Raises:
        ConfigError: a parameter of the entry is wrong.
    """

    def __init__(self, model: Model, provider: ProviderState) -> None:
        self.model = model
        self.provider = provider
        self.state = provider.model(model.name)
        try:
            self.parameters = checked(model.parameters)
        except RequestError as error:
            raise ConfigError(
                f"models.{model.label}.parameters: {error.what}", hint=error.hint, model=model.label
            ) from None


class Targets:
    """The targets of a configuration, made when first asked for.

    Args:
        only: label of the one provider that every name is sent to as it is.
    """

    def __init__(self, config: Config, only: str | None = None) -> None:
        self.config = config
        self._only = only
        self._targets: dict[str, Target] = {}
        self._providers: dict[str, ProviderState] = {}

    def of(self, label: str) -> Target:
        """The target of a label; one for all threads.

        Raises:
            LabelUnknown: there is no such model.
            ConfigError: its entry or its provider's cannot be used.
        """
        target = self._targets.get(label)
        if target is None:
            if self._only is None:
                model = self.config.model(label)
            else:
                model = Model(label, self._only, label.removesuffix(f"@{self._only}"))
            target = self._targets.setdefault(label, Target(model, self.provider(model.provider)))
        return target

    def about(self, provider: str) -> Target:
        """The target of no model, where only the provider matters."""
        return Target(Model("", provider), self.provider(provider))

    def chain(self, label: str) -> tuple[Target, ...]:
        """The target of a label, and those that take over for it, in order; each once."""
        first = self.of(label)
        if not first.model.fallback:
            return (first,)
        targets = {label: first}
        for each in first.model.fallback:
            targets.setdefault(each, self.of(each))
        return tuple(targets.values())

    def provider(self, label: str) -> ProviderState:
        """A provider made ready; one for all threads, because its keys are kept there."""
        state = self._providers.get(label)
        if state is None:
            entry = self.config.provider(label)
            made = ProviderState(entry, self.config.dialects.get(entry.dialect))
            state = self._providers.setdefault(label, made)
        return state
