"""Is everything in order? Per provider: address, key, whether it is accepted, the models; no tokens are spent."""

import time
from collections.abc import Iterable
from email.utils import parsedate_to_datetime
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from .config.entries import Config, Model, Provider
from .core.errors import (
    AgoutiError,
    ConnectionFailed,
    CredentialError,
    CredentialMissing,
    LabelUnknown,
    NoAccess,
    ProviderError,
    RateLimited,
    ReplyError,
    RequestError,
)
from .core.near import near
from .core.reply import Attempt
from .core.secret import looks_secret
from .credentials.sources import GivenKey, SeveralKeys, SignatureKey
from .engine.listing import Listing, listing, reaching
from .engine.target import Endpoint

if TYPE_CHECKING:
    from .client import Client

# A signature is refused when its time is further off than this.
_MOST_SKEW = 240.0


class Finding(Struct, frozen=True):
    """One thing that was looked at.

    Attributes:
        what: ``address``, ``key``, ``accepted``, ``model LABEL``, ``clock``, ``file``.
        ok: `None` where it could not be told.
        detail: what was found, one line.
        hint: what to do, where something is wrong.
    """

    what: str
    ok: bool | None
    detail: str
    hint: str = ""


class Checked(Struct, frozen=True):
    """What was found about one provider."""

    provider: str
    address: str
    findings: tuple[Finding, ...]

    @property
    def ok(self) -> bool:
        """Whether nothing is wrong."""
        return all(finding.ok is not False for finding in self.findings)


def check(client: "Client", labels: Iterable[str] = ()) -> list[Checked]:
    """Check the providers of these models (or providers), or of all.

    Raises:
        LabelUnknown: there is no such label.
    """
    config = client.config
    wanted: dict[str, list[Model]] = {}
    for label in labels or [*config.models, *config.providers]:
        if label in config.providers:
            wanted.setdefault(label, [])
        else:
            model = _model(config, label)
            wanted.setdefault(model.provider, []).append(model)
    return [_check(client, config.provider(label), models) for label, models in wanted.items()]


def _model(config: Config, label: str) -> Model:
    try:
        return config.model(label)
    except LabelUnknown as error:
        error.hint = error.hint or "Name a model or a provider of the configuration."
        raise


def _check(client: "Client", provider: Provider, models: list[Model]) -> Checked:
    findings: list[Finding] = []
    try:
        endpoint = client.endpoint(provider.label)
    except AgoutiError as error:
        return Checked(provider.label, provider.address.partition("?")[0], (_wrong("address", error),))
    found: Listing | AgoutiError
    try:
        found = client.run(listing(client.about(provider.label)))
    except RequestError:
        # The format has no list.
        return _without_list(client, endpoint, provider, models)
    except AgoutiError as error:
        found = error
    reached = found
    if isinstance(found, CredentialMissing):
        # Whether anybody answers at the address can be seen without a key.
        try:
            reached = client.run(listing(client.about(provider.label), keyless=True))
        except AgoutiError as error:
            reached = error
    findings.append(_about_address(reached))
    findings += _about_key(client.config, endpoint, found)
    findings += _about_models(models, found)
    if isinstance(endpoint.key, SignatureKey) and isinstance(found, Listing):
        findings.append(_about_clock(found.date))
    findings += _about_files(client.config, provider)
    return Checked(provider.label, endpoint.base, tuple(findings))


def _without_list(client: "Client", endpoint: Endpoint, provider: Provider, models: list[Model]) -> Checked:
    """What can be seen where there is no list of models: whether anybody answers, and turns the key away."""
    found: Attempt | AgoutiError
    try:
        found = client.run(reaching(client.about(provider.label)))
    except AgoutiError as error:
        found = error
    why = f"not tried: dialect {endpoint.dialect.name} has no list of models, and a question costs tokens"
    if isinstance(found, Attempt):
        findings = [Finding("address", True, f"answers in {found.seconds * 1000:.0f} ms (HTTP {found.status})")]
        findings.append(Finding("key", True, endpoint.key.places() if endpoint.key is not None else "none named"))
        findings += [Finding("accepted", None, why)] if endpoint.key is not None else []
    else:
        findings = [_about_address(found), *_about_key(client.config, endpoint, found)]
    findings += [Finding(f"model {model.label}", None, why) for model in models]
    findings += _about_files(client.config, provider)
    return Checked(provider.label, endpoint.base, tuple(findings))


def _wrong(what: str, error: AgoutiError) -> Finding:
    return Finding(what, False, error.what, error.hint)


def _about_address(found: Listing | AgoutiError) -> Finding:
    if isinstance(found, Listing):
        return Finding("address", True, f"answers in {found.attempt.seconds * 1000:.0f} ms")
    if isinstance(found, (ConnectionFailed, ReplyError)):
        return _wrong("address", found)
    if found.status is not None:
        return Finding("address", True, f"answers (HTTP {found.status})")
    return Finding("address", None, f"not tried: {found.what}", found.hint)


def _about_key(config: Config, endpoint: Endpoint, found: Listing | AgoutiError) -> list[Finding]:
    key = endpoint.key
    if key is None:
        if isinstance(found, CredentialError):
            return [
                Finding(
                    "key",
                    False,
                    "the provider wants a key, and the entry names none",
                    f'Add key = {{ env = "..." }} to [providers.{endpoint.provider.label}].',
                )
            ]
        return [Finding("key", True, "none wanted")]
    if isinstance(found, CredentialMissing):
        return [_wrong("key", found)]
    findings = [Finding("key", True, key.places())]
    if isinstance(found, Listing):
        findings.append(Finding("accepted", True, "yes"))
    elif isinstance(found, (CredentialError, NoAccess)):
        findings.append(_wrong("accepted", found))
    elif isinstance(found, RateLimited):
        findings.append(Finding("accepted", None, found.what, found.hint))
    elif isinstance(found, ProviderError):
        findings.append(_wrong("accepted", found))
    else:
        findings.append(Finding("accepted", None, "not tried"))
    return findings


def _about_models(models: list[Model], found: Listing | AgoutiError) -> list[Finding]:
    if not isinstance(found, Listing):
        return [Finding(f"model {model.label}", None, "not tried: there is no list of models") for model in models]
    names = [model.name for model in found.models]
    findings = []
    for model in models:
        if model.name in names:
            findings.append(Finding(f"model {model.label}", True, f"{model.name} is offered"))
        else:
            alike = near(model.name, names) or tuple(names[:3])
            findings.append(
                Finding(
                    f"model {model.label}",
                    False,
                    f"{model.name!r} is not in the provider's list",
                    f"It has {', '.join(alike)}{' and more' if len(names) > len(alike) else ''}." if names else "",
                )
            )
    if not models:
        some = ", ".join(names[:5])
        findings.append(Finding("models", True, f"{len(names)}: {some}{', ...' if len(names) > 5 else ''}"))
    return findings


def _about_clock(date: str) -> Finding:
    try:
        skew = time.time() - parsedate_to_datetime(date).timestamp()
    except (ValueError, TypeError):
        return Finding("clock", None, "the provider sends no date")
    if abs(skew) <= _MOST_SKEW:
        return Finding("clock", True, f"{abs(skew):.0f} s off")
    fast = "fast" if skew > 0 else "slow"
    return Finding(
        "clock", False, f"this machine's clock is {abs(skew):.0f} s {fast}", "Set it: signatures carry the time."
    )


def _about_files(config: Config, provider: Provider) -> list[Finding]:
    from .adopt.files import tracked

    findings = []
    keys = provider.key.keys if isinstance(provider.key, SeveralKeys) else (provider.key,)
    literal = [("key", "key")] if any(isinstance(key, GivenKey) for key in keys) else []
    literal += [("headers", name) for name, text in provider.headers.items() if looks_secret(name) and "{" not in text]
    for field, name in literal:
        path = ("providers", provider.label, field) if field == name else ("providers", provider.label, field, name)
        origin = config.origins.of(*path) if config.origins is not None else None
        if origin is None or origin.kind != "file":
            continue
        under_git = tracked(Path(origin.name))
        findings.append(
            Finding(
                "file",
                not under_git,
                f"a literal {name} stands in {origin}" + (", which git tracks" if under_git else ""),
                'Make a new key, put it into .env or the keyring, and write key = { env = "NAME" }.'
                if under_git
                else "",
            )
        )
    return findings
