"""A model entry made ready for calls: everything about a request that is the same every time, done once."""

import re
from collections.abc import Callable
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urlencode, urljoin

import msgspec

from ..config.entries import Config, Model, Provider
from ..core import address as addresses
from ..core.chat import Message, Request
from ..core.errors import ConfigError, ReplyUnreadable, RequestError
from ..core.http import HttpRequest
from ..core.near import near_hint
from ..core.secret import Secret, SecretText, looks_secret
from ..credentials.credential import Credential, SigningCredential, key_header, key_query
from ..credentials.sources import GivenKey, SignatureKey
from ..credentials.turns import Turns
from ..dialects.base import Dialect, Outgoing
from ..dialects.registry import dialect
from .circuit import Circuit

if TYPE_CHECKING:
    from ..core.shapes import Declaration

USER_AGENT = "agouti"

_encode = msgspec.json.Encoder().encode


class Endpoint:
    """A provider made ready, shared by all its models.

    Raises:
        ConfigError: the address cannot be used, or its key would travel where others can read it.
    """

    def __init__(self, provider: Provider, declared: "Declaration | None" = None) -> None:
        address = addresses.parse(_filled(provider.address, provider, "address"), provider.dialect)
        self.provider = provider
        self.base = address.base
        self.timeouts = provider.timeouts
        self.retries = provider.retries
        self.circuit = Circuit()
        self.answered = False
        self.refused_parameters: set[str] = set()
        # What a model has refused once is not tried with it again.
        self.refused_means: dict[str, frozenset[str]] = {}
        self.send_key = provider.send_key
        key = provider.key
        if key is None and address.key is not None:
            key, self.send_key = GivenKey(Secret(address.key)), f"query:{address.key_name}"
        self.key = key
        self.turns = Turns(key)
        paths = {address.operation: address.path} if address.path else {}
        self._paths: dict[str, str] = {**paths, **provider.paths}
        name = provider.dialect or address.dialect or "chat"
        self.dialect = _dialect(name, provider, self._paths.get("chat", ""), declared)
        if key is not None and not isinstance(key, SignatureKey) and address.plain_http and not provider.plain_http:
            raise ConfigError(
                f"the key of {provider.label} would go over plain http to {addresses.host_of(self.base)}",
                hint=f"Write https:// in providers.{provider.label}.address; "
                "or plain_http = true, if nobody can listen on that network.",
                provider=provider.label,
            )
        query = {**address.query, **{name: _filled(text, provider, "query") for name, text in provider.query.items()}}
        self._query = urlencode(query)
        self._common = _common_headers(provider)
        self._changes = bool(provider.add or provider.rename or provider.drop)
        # A model that the path names must not stand in the body as well.
        self._named_in_path = {operation for operation, path in self._paths.items() if "{model}" in path}
        self._urls: dict[tuple[str, str], str] = {}
        self._headers: dict[tuple[Any, ...], tuple[Credential | None, dict[str, str]]] = {}

    def request(self, outgoing: Outgoing, model: str, credential: Credential | None) -> HttpRequest:
        """The request as it is sent, key and all."""
        place = (outgoing.operation, model)
        url = self._urls.get(place)
        if url is None:
            url = self._new_url(outgoing, model)
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
        return self._with_key(HttpRequest(outgoing.method, url, headers, body, None, self.provider.tls), credential)

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
        return self._with_key(HttpRequest(method, absolute, headers, body, None, self.provider.tls), credential)

    def _with_key(self, request: HttpRequest, credential: Credential | None) -> HttpRequest:
        if credential is not None:
            if isinstance(credential, SigningCredential):
                return credential.sign(request)
            if self.send_key[:6] == "query:":
                return msgspec.structs.replace(request, secret_query=key_query(self.send_key, credential))
        return request

    def without_refused(self, request: Request) -> Request:
        """The request without the parameters that this provider has refused before."""
        if not self.refused_parameters:
            return request
        kept = {name: value for name, value in request.parameters.items() if name not in self.refused_parameters}
        return msgspec.structs.replace(request, parameters=kept)

    def _changed(self, outgoing: Outgoing) -> dict[str, Any]:
        body = outgoing.body or {}
        if outgoing.operation in self._named_in_path:
            body.pop("model", None)
        if not self._changes:
            return body
        provider = self.provider
        for name in provider.drop:
            body.pop(name, None)
        for name, theirs in provider.rename.items():
            if name in body:
                body[theirs] = body.pop(name)
        return {**body, **provider.add}

    def _new_url(self, outgoing: Outgoing, model: str) -> str:
        path = self._paths.get(outgoing.operation, outgoing.path)
        path = _filled(path.replace("{model}", quote(model, safe="")), self.provider, "paths")
        url = self.base + ("" if path.startswith("/") or not path else "/") + path
        if self._query:
            url += ("&" if "?" in url else "?") + self._query
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
        place = (outgoing.accept, outgoing.body is None, outgoing.headers, id(credential))
        self._headers[place] = (credential, headers)
        return headers


def _dialect(name: str, provider: Provider, path: str, declared: "Declaration | None") -> Dialect:
    """The dialect in the form that the entry gives it."""
    if declared is not None:
        from ..dialects.declared import DeclaredDialect

        return DeclaredDialect(declared)
    if name == "lines" and path.endswith("/api/generate"):
        from ..dialects.lines import LinesDialect

        return LinesDialect(generates=True)
    if name == "predict" and provider.instance is not None:
        from ..dialects.predict import PredictDialect

        return PredictDialect(provider.instance)
    return dialect(name)


def _common_headers(provider: Provider) -> dict[str, str]:
    found: dict[str, str] = {}
    for name, text in provider.headers.items():
        value = _filled(text, provider, "headers")
        if "\n" in value or "\r" in value:
            raise ConfigError(
                f"header {name} of provider {provider.label} holds a line end", hint="Write it in one line."
            )
        found[name.lower()] = SecretText(value) if looks_secret(name) else value
    return found


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
    """A model entry made ready."""

    def __init__(self, model: Model, endpoint: Endpoint) -> None:
        self.model = model
        self.endpoint = endpoint
        self.before: list[Message | dict[str, Any]] = [Message("system", model.system)] if model.system else []


class Targets:
    """The targets of a configuration, made when first asked for."""

    def __init__(self, config: Config) -> None:
        self.config = config
        self._targets: dict[str, Target] = {}
        self._endpoints: dict[str, Endpoint] = {}

    def of(self, label: str) -> Target:
        """The target of a label.

        Raises:
            LabelUnknown: there is no such model.
            ConfigError: its provider's entry cannot be used.
        """
        target = self._targets.get(label)
        if target is None:
            model = self.config.model(label)
            target = self._targets[label] = Target(model, self.endpoint(model.provider))
        return target

    def chain(self, label: str) -> tuple[Target, ...]:
        """The target of a label, and those that take over for it, in order; each once."""
        first = self.of(label)
        if not first.model.fallback:
            return (first,)
        found = {label: first}
        for each in first.model.fallback:
            found.setdefault(each, self.of(each))
        return tuple(found.values())

    def endpoint(self, label: str) -> Endpoint:
        """The endpoint of a provider; one for all threads, because its keys are kept there."""
        found = self._endpoints.get(label)
        if found is None:
            provider = self.config.provider(label)
            made = Endpoint(provider, self.config.dialects.get(provider.dialect))
            found = self._endpoints.setdefault(label, made)
        return found


Clock = Callable[[], float]
