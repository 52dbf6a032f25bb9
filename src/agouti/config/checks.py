"""What is seen of entries when they are loaded; each error names the place. All raise `ConfigError`."""

import re
from collections.abc import Iterable

from ..core.canonical.parameters import checked
from ..core.errors import ConfigError, RequestError
from ..core.http.address import parse as parse_address
from ..core.settings.declarations import Declaration
from ..core.text.suggest import near_hint
from ..credentials.credential import parse_send_key
from ..dialects.registry import brought, names
from ..dialects.wire import PATHS
from .budgets import Budget, Plan, check_budget
from .entries import Model, Provider
from .origins import Origins, placed


def check_dialects(dialects: dict[str, Declaration], origins: Origins) -> None:
    """See that declared dialects can be used."""
    if not dialects:
        return
    from ..dialects.declared import check

    for label, declaration in dialects.items():
        try:
            if label in names():
                raise ConfigError(f"{label} is a dialect that there is already", hint="Give it another label.")
            check(declaration)
        except ConfigError as error:
            raise placed(
                ConfigError(f"[dialects.{label}] {error.message}", hint=error.hint), origins.of("dialects", label)
            ) from None


def check_models(models: dict[str, Model], providers: dict[str, Provider], origins: Origins) -> None:
    """See that models name what there is."""
    for label, model in models.items():
        for name, value in (("provider", model.provider), ("name", model.name)):
            if not value:
                raise placed(
                    ConfigError(
                        f"[models.{label}] has no {name}",
                        hint=f'Add {name} = "..."'
                        + (
                            f"; known providers: {', '.join(sorted(providers))}"
                            if name == "provider" and providers
                            else ""
                        ),
                    ),
                    origins.of("models", label),
                )
        try:
            checked(model.parameters)
        except RequestError as error:
            name = next((each for each in model.parameters if each in error.message), "")
            raise placed(
                ConfigError(f"[models.{label}] parameters: {error.message}", hint=error.hint),
                origins.of("models", label, "parameters", name),
            ) from None
        if not all(name.strip() and not set(name) & set("{}") for name in model.variables):
            raise placed(
                ConfigError(
                    f"[models.{label}] variables: a name is empty or has braces",
                    hint='Write variables = { language = "English" }, and {language} in the texts.',
                ),
                origins.of("models", label, "variables"),
            )
        for each in model.tools:
            if not re.fullmatch(r"[\w.]+:[\w.]+", each):
                raise placed(
                    ConfigError(
                        f"[models.{label}] tools: {each!r} names no function",
                        hint='Write MODULE:NAME, such as tools = ["shelf:days_to_frost"].',
                    ),
                    origins.of("models", label, "tools"),
                )
        if model.context is not None and model.context < 1:
            raise placed(
                ConfigError(f"[models.{label}] context = {model.context} is out of range", hint="It counts tokens."),
                origins.of("models", label, "context"),
            )
        for each in model.fallback:
            name, at, provider = each.rpartition("@")
            if each not in models and not (at and name and provider in providers):
                raise placed(
                    ConfigError(
                        f"[models.{label}] falls back to {each!r}, which is no model",
                        hint=near_hint(each, models, "label"),
                    ),
                    origins.of("models", label, "fallback"),
                )
        if model.provider not in providers:
            raise placed(
                ConfigError(
                    f"[models.{label}] names provider {model.provider!r}, which has no entry",
                    hint=near_hint(model.provider, providers, "provider"),
                ),
                origins.of("models", label, "provider"),
            )


def check_budgets(
    budgets: dict[str, Budget],
    models: dict[str, Model],
    providers: dict[str, Provider],
    origins: Origins,
    *,
    ledger: bool,
) -> None:
    """See that budgets can be kept."""
    for label, budget in budgets.items():
        try:
            check_budget(budget, models, providers, ledger=ledger)
        except ConfigError as error:
            raise placed(error, origins.of("budgets", label)) from None


def check_plans(plans: dict[str, Plan], providers: dict[str, Provider], origins: Origins) -> None:
    """See that plans are of providers that there are."""
    for label in plans:
        if label not in providers:
            raise placed(
                ConfigError(
                    f"[plans.{label}] is of a provider that has no entry", hint=near_hint(label, providers, "provider")
                ),
                origins.of("plans", label),
            )


def check_providers(providers: dict[str, Provider], dialects: Iterable[str], origins: Origins) -> None:
    """See that providers have an address, and paths of operations."""
    for label, provider in providers.items():
        for operation in provider.paths:
            if operation not in PATHS:
                raise placed(
                    ConfigError(
                        f"[providers.{label}] gives a path to {operation!r}, which is no operation",
                        hint=near_hint(operation, PATHS, "operation"),
                    ),
                    origins.of("providers", label, "paths", operation),
                )
        if not provider.address:
            raise placed(
                ConfigError(f"[providers.{label}] has no address", hint='Add address = "https://..."'),
                origins.of("providers", label),
            )
        known = [*names(), *dialects]
        if provider.dialect and provider.dialect not in known and provider.dialect not in (plugins := brought()):
            known += plugins
            raise placed(
                ConfigError(
                    f"[providers.{label}] names dialect {provider.dialect!r}, which there is not",
                    hint=near_hint(provider.dialect, known, "dialect"),
                ),
                origins.of("providers", label, "dialect"),
            )
        if provider.idempotency_header and not re.fullmatch(r"[A-Za-z0-9-]+", provider.idempotency_header):
            raise placed(
                ConfigError(
                    f"[providers.{label}] idempotency_header is no name of a header",
                    hint='Names have letters, digits and - only: idempotency_header = "idempotency-key"',
                ),
                origins.of("providers", label, "idempotency_header"),
            )
        for name, check in (("address", parse_address), ("send_key", parse_send_key)):
            try:
                check(getattr(provider, name))
            except ConfigError as error:
                raise placed(
                    ConfigError(f"[providers.{label}] {error.message}", hint=error.hint),
                    origins.of("providers", label, name),
                ) from None
