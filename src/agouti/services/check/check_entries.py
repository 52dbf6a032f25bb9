"""Is everything in order? Per provider: address, key, whether it is accepted, the models; no tokens are spent."""

from collections.abc import Coroutine, Iterable
from email.utils import parsedate_to_datetime
from time import time
from typing import TYPE_CHECKING, Any, overload

from msgspec import Struct

from ...calls.calls import Calls, calls_of
from ...config.entries import Config, Model, Provider
from ...core.attempt import Attempt
from ...core.errors import (
    AgoutiError,
    ConnectionFailed,
    CredentialError,
    CredentialMissing,
    LabelUnknown,
    NoAccess,
    ProviderError,
    RateLimited,
    ReplyError,
)
from ...core.secrets.secret import Environment
from ...core.text.suggest import similar_names
from ...credentials.sources import SignatureKey
from ...engine.effects import Steps, Together, attempted
from ...engine.operations.listing import Listing, listing, path_is_there, reaching
from ...engine.providers.provider import ProviderState
from ...engine.receiving.error_messages import stands_twice
from .. import run
from .files import about_files, where_from
from .findings import Finding

if TYPE_CHECKING:
    from ...client.async_client import AsyncClient
    from ...client.client import Client

_CONCURRENT_ENTRIES = 8
# A signature is refused when its time is further off than this.
_MOST_SKEW = 240.0


class Checked(Struct, frozen=True):
    """What was found about one provider."""

    provider: str
    address: str
    findings: tuple[Finding, ...]

    @property
    def ok(self) -> bool:
        """Whether nothing is wrong."""
        return all(finding.ok is not False for finding in self.findings)


@overload
def check(client: "Client", labels: Iterable[str] = ()) -> list[Checked]: ...
@overload
def check(client: "AsyncClient", labels: Iterable[str] = ()) -> Coroutine[Any, Any, list[Checked]]: ...
def check(
    client: "Client | AsyncClient", labels: Iterable[str] = ()
) -> list[Checked] | Coroutine[Any, Any, list[Checked]]:
    """Check the providers of these models (or providers), or of all; side by side.

    Args:
        labels: of models or providers; all of the configuration where none is given.

    Returns:
        a list with the findings about each provider; with an `AsyncClient` it is awaited.

    Raises:
        LabelUnknown: there is no such label.

    Example:
        >>> import agouti, agouti.standins
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     [checked.ok for checked in agouti.check(client, ["almanac"])]
        [True]
    """
    calls = calls_of(client)
    models: dict[str, list[Model]] = {}
    for label in labels or [*calls.config.models, *calls.config.providers]:
        if label in calls.config.providers:
            models.setdefault(label, [])
        else:
            model = _model(calls.config, label)
            models.setdefault(model.provider, []).append(model)
    return run(client, _check_all(calls, models))


def _check_all(calls: Calls, models: dict[str, list[Model]]) -> Steps[list[Checked]]:
    steps = [_check(calls, calls.config.provider(label), each) for label, each in models.items()]
    checked: list[Checked] = yield Together(steps, _CONCURRENT_ENTRIES)
    return checked


def _model(config: Config, label: str) -> Model:
    try:
        return config.model(label)
    except LabelUnknown as error:
        error.hint = error.hint or "Name a model or a provider of the configuration."
        raise


def _check(calls: Calls, entry: Provider, models: list[Model]) -> Steps[Checked]:
    findings: list[Finding] = []
    try:
        provider = calls.provider(entry.label)
    except AgoutiError as error:
        return Checked(entry.label, entry.address.partition("?")[0], (_finding("address", error),))
    if provider.dialect.encode_models() is None:
        findings = yield from _without_list(calls, provider, models)
    else:
        about = calls.about(entry.label)
        listed: Listing | AgoutiError = yield from attempted(listing(about), AgoutiError)
        reached = listed
        if isinstance(listed, CredentialMissing):
            # Whether anybody answers at the address can be seen without a key.
            reached = yield from attempted(listing(about, keyless=True), AgoutiError)
        findings = [
            _about_address(reached),
            *_about_key(provider, listed, calls.config.environment),
            *_about_models(models, listed),
        ]
        if isinstance(provider.key, SignatureKey) and isinstance(listed, Listing):
            findings.append(_about_clock(listed.date))
        if isinstance(listed, Listing):
            name = next((model.name for model in models), next((each.name for each in listed.models), "x"))
            if (finding := (yield from path_is_there(about, name))) is not None:
                dialect = provider.dialect.name
                hint = f"Is {dialect} its dialect? {finding.hint}"
                findings.append(Finding("path", False, f"dialect {dialect}: {finding.message}", hint))
    if (twice := stands_twice(provider.base)) and any(each.ok is False for each in findings):  # such paths there are
        hint = f"Take one out of providers.{entry.label}.address."
        findings.insert(1, Finding("path", False, f"{twice} stands in the address twice", hint))
    findings += yield from about_files(calls.config, entry)
    findings += _about_budgets(calls.config, models)
    findings += _about_ledger(calls)
    return Checked(entry.label, provider.base, tuple(findings))


def _without_list(calls: Calls, provider: ProviderState, models: list[Model]) -> Steps[list[Finding]]:
    """What can be seen where there is no list of models: whether anybody answers, and turns the key away."""
    reached: Attempt | AgoutiError = yield from attempted(reaching(calls.about(provider.label)), AgoutiError)
    reason = f"not tried: dialect {provider.dialect.name} has no list of models, and a question costs tokens"
    if isinstance(reached, Attempt):
        findings = [Finding("address", True, f"answers in {reached.seconds * 1000:.0f} ms (HTTP {reached.status})")]
        findings.append(Finding("key", True, where_from(provider.key, calls.config.environment)))
        findings += [Finding("accepted", None, reason)] if provider.key is not None else []
    else:
        findings = [_about_address(reached), *_about_key(provider, reached, calls.config.environment)]
    return findings + [Finding(f"model {model.label}", None, reason) for model in models]


def _finding(problem: str, error: AgoutiError) -> Finding:
    return Finding(problem, False, error.message, error.hint)


def _about_address(listed: Listing | AgoutiError) -> Finding:
    if isinstance(listed, Listing):
        return Finding("address", True, f"answers in {listed.attempt.seconds * 1000:.0f} ms")
    if isinstance(listed, (ConnectionFailed, ReplyError)):
        return _finding("address", listed)
    if listed.status is not None:
        return Finding("address", True, f"answers (HTTP {listed.status})")
    if isinstance(listed, CredentialError):
        return Finding("address", None, "not tried: there is no key")
    return _finding("address", listed)  # something of the configuration's own stands in the way, such as its ledger


def _about_ledger(calls: Calls) -> list[Finding]:
    """What stands in the way of the ledger: calls go on without it."""
    problems = [problem for each in calls.hooks if (problem := getattr(each, "problem", ""))]
    hint = "See what is the matter with it: until then nothing is written down, and no budget of a day can be kept."
    return [Finding("ledger", False, problem, hint) for problem in problems]


def _about_key(provider: ProviderState, listed: Listing | AgoutiError, environment: Environment) -> list[Finding]:
    key = provider.key
    if key is None:
        if isinstance(listed, CredentialError):
            return [
                Finding(
                    "key",
                    False,
                    "the provider wants a key, and the entry names none",
                    f'Add key = {{ env = "..." }} to [providers.{provider.label}].',
                )
            ]
        return [Finding("key", True, "none wanted")]
    if isinstance(listed, CredentialMissing):
        return [_finding("key", listed)]
    findings = [Finding("key", True, where_from(key, environment))]
    if isinstance(listed, Listing):
        findings.append(Finding("accepted", True, "yes"))
    elif isinstance(listed, CredentialError) and listed.status is None:
        # No token could be had: the provider has not been asked.
        return [_finding("key", listed)]
    elif isinstance(listed, (CredentialError, NoAccess)):
        findings.append(_finding("accepted", listed))
    elif isinstance(listed, RateLimited):
        findings.append(Finding("accepted", None, listed.message, listed.hint))
    elif isinstance(listed, ProviderError):
        findings.append(_finding("accepted", listed))
    else:
        findings.append(Finding("accepted", None, "not tried"))
    return findings


def _about_models(models: list[Model], listed: Listing | AgoutiError) -> list[Finding]:
    if not isinstance(listed, Listing):
        return [Finding(f"model {model.label}", None, "not tried: there is no list of models") for model in models]
    names = [model.name[:120] for model in listed.models]
    findings = []
    for model in models:
        if model.name not in names and not listed.whole:
            message = f"the provider's list goes on behind {len(names)} models, and its next page is not told"
            findings.append(Finding(f"model {model.label}", None, message))
        elif model.name in names:
            findings.append(Finding(f"model {model.label}", True, f"{model.name} is offered"))
        else:
            similar = similar_names(model.name, names) or tuple(names[:3])
            findings.append(
                Finding(
                    f"model {model.label}",
                    False,
                    f"{model.name!r} is not in the provider's list",
                    f"It has {', '.join(similar)}{' and more' if len(names) > len(similar) else ''}." if names else "",
                )
            )
    if not models:
        some = ", ".join(names[:5])
        findings.append(Finding("models", True, f"{len(names)}: {some}{', ...' if len(names) > 5 else ''}"))
    return findings


def _about_budgets(config: Config, models: list[Model]) -> list[Finding]:
    """Budgets in which none of their models can count, because no price of theirs is in its currency."""
    findings = []
    for budget in config.budgets.values():
        counted = [each for each in config.models.values() if budget.counts((each.label,), budget.tags)]
        priced = sorted({each.price_now.currency for each in counted if each.price_now is not None})
        if (
            priced
            and budget.currency not in priced
            and any(each.label in {one.label for one in counted} for each in models)
        ):
            problem = f"budgets.{budget.label}.currency is {budget.currency}, and its models have prices in "
            hint = f"Write currency = {priced[0]!r}, or put a price in {budget.currency} into an entry."
            findings.append(Finding(f"budget {budget.label}", False, problem + ", ".join(priced), hint))
    return findings


def _about_clock(date: str) -> Finding:
    try:
        skew = time() - parsedate_to_datetime(date).timestamp()
    except (ValueError, TypeError, OverflowError):
        return Finding("clock", None, "the provider sends no date")
    if abs(skew) <= _MOST_SKEW:
        return Finding("clock", True, f"{abs(skew):.0f} s off")
    fast = "fast" if skew > 0 else "slow"
    return Finding(
        "clock", False, f"this machine's clock is {abs(skew):.0f} s {fast}", "Set it: signatures carry the time."
    )
