"""From what went wrong to the error that is raised: in words, with the next step."""

from collections.abc import Mapping
from typing import TypeVar

from ..core.address import host_of, is_local, origin_of
from ..core.errors import (
    AddressWrong,
    AgoutiError,
    ConnectionLost,
    ContentRefused,
    ContextOverflow,
    CredentialRefused,
    ModelUnknown,
    NoAccess,
    NotRunning,
    OutOfCredit,
    Overloaded,
    ProxyFailed,
    RateLimited,
    RequestRefused,
    TimedOut,
    TLSFailed,
)
from ..credentials.sources import SignatureKey
from ..dialects.base import Fault
from ..transport.base import TransportFailure
from .target import Target

_REQUEST_IDS = ("x-request-id", "request-id", "x-amzn-requestid", "x-correlation-id", "cf-ray")


def request_id(headers: Mapping[str, str]) -> str | None:
    """The provider's own identifier of the request."""
    return next((headers[name] for name in _REQUEST_IDS if name in headers), None)


Error = TypeVar("Error", bound=AgoutiError)


def placed(error: Error, target: Target) -> Error:
    """The same error, with the entry that it is about."""
    error.provider, error.model = target.endpoint.provider.label, target.model.label
    return error


def connection_error(failure: TransportFailure, target: Target) -> AgoutiError:
    """The error for a request without a (whole) reply."""
    return placed(_connection_error(failure, target), target)


def _connection_error(failure: TransportFailure, target: Target) -> AgoutiError:
    provider = target.endpoint.provider.label
    base = target.endpoint.base
    place = f"{origin_of(base)} (provider {provider})"
    reason, detail = failure.reason, failure.detail
    if reason == "refused":
        hint = (
            f"Is the server started? Start it, or correct the port in providers.{provider}.address."
            if is_local(host_of(base))
            else f"Check host and port in providers.{provider}.address."
        )
        return NotRunning(f"nothing listens at {place}", hint=hint)
    if reason == "dns":
        return AddressWrong(
            f"there is no host {host_of(base)} (provider {provider})",
            hint=f"Check the spelling in providers.{provider}.address, and that this machine is online.",
        )
    if reason == "unreachable":
        return AddressWrong(
            f"{place} cannot be reached: {detail}",
            hint="Check the network, a VPN or firewall, and the address.",
            retryable=True,
        )
    if reason == "tls":
        return _tls_error(detail, place, provider)
    if reason == "proxy":
        return ProxyFailed(
            f"the proxy on the way to {place} failed: {detail}",
            hint="Check HTTPS_PROXY and HTTP_PROXY; to go past it for this host, add the host to NO_PROXY.",
        )
    if reason == "not http":
        return AddressWrong(
            f"what answers at {place} does not speak HTTP: {detail!r}",
            hint="Another program has that port, or the address wants https instead of http.",
        )
    if reason == "timeout":
        error = TimedOut(
            f"{place}: {detail} ({failure.phase})", hint=f"Try again, or raise timeouts in providers.{provider}."
        )
        error.phase = failure.phase
        return error
    return ConnectionLost(
        f"the connection to {place} broke: {detail}", hint="Try again; if it lasts, look at the server's log."
    )


def _tls_error(detail: str, place: str, provider: str) -> TLSFailed:
    if "WRONG_VERSION" in detail.upper() or "wrong version number" in detail:
        hint = f"The server there speaks plain http: write http:// in providers.{provider}.address."
    elif "self-signed" in detail or "unable to get local issuer" in detail or "self signed" in detail:
        hint = (
            f'If an own authority signs it, name its certificate: tls = {{ ca = "FILE.pem" }} in providers.{provider}.'
        )
    elif "expired" in detail or "not yet valid" in detail:
        hint = "The certificate's dates do not fit: check this machine's clock, or tell whoever runs the server."
    elif "mismatch" in detail.lower() or "doesn't match" in detail:
        hint = f"The certificate is for another host: check the host in providers.{provider}.address."
    else:
        hint = "Check the address, and that nothing on the way intercepts TLS."
    return TLSFailed(f"no trusted connection to {place}: {detail}", hint=hint)


def provider_error(fault: Fault, status: int | None, headers: Mapping[str, str], target: Target) -> AgoutiError:
    """The error for a reply that says what is wrong."""
    provider = target.endpoint.provider.label
    name = target.model.name
    said = fault.message or "no reason given"
    what = f"{provider} {_VERBS.get(fault.kind, 'answered with an error')}"
    if status is not None and status >= 300:
        what += f" (HTTP {status})"
    error = fault.kind(
        f"{what}: {said}",
        status=status,
        request_id=request_id(headers),
        message=fault.message,
        wait=fault.wait,
    )
    if isinstance(error, RequestRefused):
        error.parameter = fault.parameter
    if isinstance(error, ModelUnknown):
        error.hint = f"Correct the name {name!r} in the entry; see the provider's names with: agouti check"
    if isinstance(error, CredentialRefused):
        error.hint = _key_hint(fault.message, target)
    if isinstance(error, NoAccess) and "region" in fault.message.lower():
        error.hint = "Take a region where the model is offered (in the entry's address or values), or another model."
    return placed(error, target)


def _key_hint(said: str, target: Target) -> str:
    endpoint, key = target.endpoint, target.endpoint.key
    entry = f"providers.{endpoint.provider.label}"
    if key is None:
        return f'The entry names no key: add key = {{ env = "NAME" }} to [{entry}].'
    used = f"The key in use: {key.places()}."
    folded = said.lower()
    if isinstance(key, SignatureKey):
        return f"{used} Check both keys, region and service in {entry}.key, and this machine's clock."
    if "expired" in folded:
        return f"{used} Get a new one; a key of kind command or oauth is renewed by itself."
    if any(words in folded for words in ("no key", "missing", "not provide", "did not send", "no api key")):
        return (
            f"{used} It was sent as {endpoint.send_key}; see in the provider's pages where it goes, and set send_key."
        )
    return f"{used} Make a new one on the provider's pages and put it there; then run: agouti check"


_VERBS: dict[type[AgoutiError], str] = {
    CredentialRefused: "does not accept the key",
    NoAccess: "gives this account no access",
    OutOfCredit: "says that the account is out of credit",
    ModelUnknown: "does not know the model",
    RequestRefused: "refuses the request",
    ContextOverflow: "says that the prompt is too long",
    ContentRefused: "refuses the prompt",
    RateLimited: "wants fewer requests",
    Overloaded: "is overloaded",
}


def unexpected_reply(status: int, headers: Mapping[str, str], body: bytes, target: Target) -> AgoutiError | None:
    """The error where something other than the dialect's server answered; `None` where it may be that server."""
    error = _unexpected_reply(status, headers, body, target)
    return placed(error, target) if error is not None else None


def _unexpected_reply(status: int, headers: Mapping[str, str], body: bytes, target: Target) -> AgoutiError | None:
    provider = target.endpoint.provider.label
    kind = headers.get("content-type", "").partition(";")[0].strip().lower()
    if 300 <= status < 400:
        to = headers.get("location", "nowhere")
        return AddressWrong(
            f"{origin_of(target.endpoint.base)} (provider {provider}) redirects (HTTP {status}) to {to[:200]}",
            hint="Keys are not sent along redirects; if that place is right, make it the provider's address.",
            status=status,
        )
    looks_html = kind == "text/html" or body[:200].lstrip()[:1] == b"<"
    if looks_html and (status < 300 or status == 404 or status == 405):
        from ..dialects.faults import parse_error

        title = parse_error(body).message[:120]
        return AddressWrong(
            f"{target.endpoint.base} (provider {provider}) answers with a web page, not with JSON: {title!r}",
            hint="The address is a page for people; take the API's base address (often ending in /v1).",
            status=status,
        )
    return None


def missing_path(status: int, fault: Fault, target: Target, url: str) -> AgoutiError | None:
    """The error for a 404 that is about the path, not about the model."""
    if status not in (404, 405) or fault.kind is not RequestRefused:
        return None
    provider = target.endpoint.provider.label
    return placed(
        AddressWrong(
            f"{provider} has nothing at {url} (HTTP {status}): {fault.message}",
            hint=f"Check the path in providers.{provider}.address (is /v1 missing?), and its dialect.",
            status=status,
            message=fault.message,
        ),
        target,
    )


def unreadable(error: Error, target: Target, status: int) -> Error:
    """The same error, with the facts."""
    provider = target.endpoint.provider.label
    error.what = f"{provider}: {error.what}"
    error.args = (error.what,)
    error.status = status
    return placed(error, target)
