"""Find, read, merge and check a configuration.

Order, last wins: built-in defaults, the user's file, the nearest ``agouti.toml`` upwards (or the file
that ``AGOUTI_CONFIG`` names), variables such as ``AGOUTI__PROVIDERS__NORTHBANK__ADDRESS``, arguments.
"""

import os
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from .._former import current_settings
from ..core.canonical.chat import Json
from ..core.errors import ConfigError
from ..core.http.address import origin_of
from ..core.http.address import parse as parse_address
from ..core.http.exchange import Tls, without_traceback
from ..core.secrets.masking import looks_like_a_key
from ..core.secrets.secret import Environment
from ..core.settings.declarations import Declaration
from ..core.text.suggest import near_hint
from ..credentials.sources import key_hook
from .budgets import Budget, Plan
from .checks import check_budgets, check_dialects, check_models, check_plans, check_providers
from .entries import Config, Model, Provider
from .origins import Origin, Origins, Source, placed
from .search import FILE_NAME, find_files, shown_path
from .secret_settings import without_secrets
from .tables import SINGLE_TABLES, cache_of, ledger_of, limit_store_of, relay_of, telemetry_of
from .wrong_values import MAY_HOLD_SECRETS, what_is_wrong

_PREFIX = "AGOUTI__"
_TABLES: dict[str, type[Provider] | type[Model] | type[Declaration] | type[Budget] | type[Plan]] = {
    "providers": Provider,
    "models": Model,
    "dialects": Declaration,
    "budgets": Budget,
    "plans": Plan,
}


Entry = TypeVar("Entry", Provider, Model, Declaration, Budget, Plan)


class _LoadRequest:
    """What `load` was given: no frame below holds it as it is, because a mapping may hold a key, and variables do."""

    def __init__(self, config: Any, folder: Any, environment: Mapping[str, str] | None) -> None:
        self.config = config
        self.folder = folder
        self.environment = Environment(os.environ if environment is None else environment)


def load(
    config: "str | os.PathLike[str] | Mapping[str, Json] | Config | None" = None,
    *,
    folder: str | os.PathLike[str] | None = None,
    environment: Mapping[str, str] | None = None,
) -> Config:
    """The configuration that holds here.

    Args:
        config: a path or a mapping to take instead of looking for files; a `Config` is returned as it is.
        folder: where the search upwards starts; the working folder by default.
        environment: the variables; those of the process by default.

    Raises:
        ConfigError: there is none, or something in it is wrong: says file, line and what to write.
    """
    if isinstance(config, Config):
        return config
    request = _LoadRequest(config, folder, environment)
    del config, environment
    failure: Exception
    try:
        return _load(request)
    except Exception as error:
        # The frames below hold what the files say; crash reports would print it.
        failure = without_traceback(error)  # type: ignore[assignment]
    del request
    raise failure


def _load(request: _LoadRequest) -> Config:
    config, variables = request.config, request.environment
    sources: list[Source] = []
    base_folder = Path(request.folder) if request.folder is not None else Path.cwd()
    passed_over = ""
    if isinstance(config, Mapping):
        sources.append(Source("argument", "", dict(config)))
    elif config is not None:
        sources.append(read_file(Path(config)))
        base_folder = Path(config).absolute().parent
    else:
        paths, passed_over = find_files(base_folder, variables)
        sources += [read_file(path) for path in paths]
        if sources:
            base_folder = Path(sources[-1].name).absolute().parent
    environment = with_dotenv(base_folder / ".env", variables)
    exported = {name: value for name, value in environment.items() if environment.source(name) == "environment"}
    in_file = {name: value for name, value in environment.items() if name not in exported}
    for variables_of, file in ((in_file, environment.file), (exported, "")):
        overrides = _overrides(variables_of, sources, file)
        if overrides is not None:
            sources.append(overrides)
    if not sources:
        where = f"{base_folder} or any folder above it" + (f" ({passed_over})" if passed_over else "")
        raise ConfigError(
            f"no configuration: there is no {FILE_NAME} in {where}",
            hint="Paste a curl command from your provider's pages into: agouti adopt --write   (or see: agouti demo)",
        )
    return _build(sources, environment)


def read_file(path: Path) -> Source:
    """One file as a layer.

    Raises:
        ConfigError: it is not there, or is not TOML.
    """
    import tomllib

    display_path = shown_path(path)
    try:
        text = path.read_text(encoding="utf-8-sig")
    except OSError as error:
        raise ConfigError(
            f"{display_path} cannot be read ({error.strerror or error})", hint="Name an existing file, or leave it out."
        ) from None
    except UnicodeDecodeError as error:
        raise ConfigError(f"{display_path} is not UTF-8 text ({error.reason})", hint="Save it as UTF-8.") from None
    try:
        values = tomllib.loads(text)
    except RecursionError:
        raise ConfigError(
            f"{display_path} is nested too deeply", hint="A bracket is opened again and again there."
        ) from None
    except tomllib.TOMLDecodeError as error:
        raise placed(
            ConfigError(f"{display_path} is not valid TOML: {error}", hint=_toml_hint(text, str(error))),
            Origin("file", display_path),
        ) from None
    return Source("file", display_path, values, text)


def _toml_hint(text: str, message: str) -> str:
    if "end of document" in message and (opening := _open_table_line(text)):
        return f"What begins in line {opening} is not closed: a quote, or a bracket."
    if ("declare" in message and "twice" in message) or "overwrite" in message:
        return "Two entries have one name; give one of them another label, or merge them."
    paths_found = re.search(r"line (\d+)", message)
    lines = text.splitlines()
    if paths_found and int(paths_found[1]) <= len(lines):
        line = lines[int(paths_found[1]) - 1].strip()
        name, equals, value = line.partition("=")
        if equals and (name.strip().split(".")[-1] in MAY_HOLD_SECRETS or looks_like_a_key(value.strip(" \"'{}"))):
            line = f"{name.strip()} = ..."  # it may hold a key
        elif looks_like_a_key(line):
            return "Text values stand in quotes; every bracket is closed."
        return f"That line is: {line[:80]}   (text values stand in quotes)"
    return "Text values stand in quotes; every bracket is closed."


def _open_table_line(text: str) -> int:
    """The line in which a text in three quotes begins that has no end; 0: there is none."""
    opening, mark = 0, ""
    for number, line in enumerate(text.splitlines(), 1):
        for quotes in re.findall(r'"""|\'\'\'', line):
            if not mark:
                opening, mark = number, quotes
            elif quotes == mark:
                mark = ""
    return opening if mark else 0


def with_dotenv(path: Path, variables: Mapping[str, str]) -> Environment:
    """The variables, and below them those of a ``.env`` file where there is one. Values are taken as they stand.

    Raises:
        ConfigError: it cannot be read.
    """
    if not path.is_file():
        return variables if isinstance(variables, Environment) else Environment(variables)
    from .env_file import read_dotenv

    values, remark = read_dotenv(path)
    return Environment(variables, values, shown_path(path), remark)


def _overrides(variables: Mapping[str, str], sources: list[Source], file: str = "") -> Source | None:
    values: dict[str, Json] = {}
    names: dict[tuple[str, ...], str] = {}
    for variable in sorted(variables):
        if not variable.startswith(_PREFIX):
            continue
        table, *remainder = (part.lower() for part in variable[len(_PREFIX) :].split("__"))
        if table not in _TABLES or len(remainder) < 2 or not all(remainder):
            raise ConfigError(
                f"variable {variable} names no setting",
                hint="Write it as AGOUTI__PROVIDERS__LABEL__KEY or AGOUTI__MODELS__LABEL__KEY.",
            )
        path = (table, _label(remainder[0], table, sources), *remainder[1:])
        target = values
        for part in path[:-1]:
            target = target.setdefault(part, {})
            if not isinstance(target, dict):
                raise ConfigError(
                    f"variable {variable} goes into a setting that another variable gives as a whole",
                    hint="Take one of the two out.",
                )
        target[path[-1]] = _value(variables[variable], _TABLES[table], path[2])
        names[path] = variable
    return Source("environment", file, values, "", names) if values else None


def _label(folded: str, table: str, sources: list[Source]) -> str:
    """Variables cannot hold ``-`` or ``.``: the existing label that this one stands for."""
    for source in sources:
        for label in source.values.get(table, {}):
            if label.lower().replace("-", "_").replace(".", "_") == folded:
                return str(label)
    return folded


def _value(
    text: str, entry: type[Provider] | type[Model] | type[Declaration] | type[Budget] | type[Plan], name: str
) -> Json:
    kind = next((field.type for field in msgspec.structs.fields(entry) if field.name == name), None)
    if kind is str or kind == dict[str, str] or kind == (str | None):
        return text
    import tomllib

    try:
        value: Json = tomllib.loads(f"value = {text}")["value"]
    except (tomllib.TOMLDecodeError, RecursionError):
        return text
    # There only a place ({ env = "NAME" }) is more than the text that it is.
    return value if name not in ("headers", "query", "values") or isinstance(value, dict) else text


def _rename_former(source: Source) -> None:
    """Bring the settings of a layer under their names of today."""
    try:
        source.values = current_settings(source.values)
    except TypeError as error:
        raise ConfigError(f"{source.name or 'the configuration'}: {error}", hint="Keep the new name.") from None


def _check_tables(source: Source, origins: Origins) -> None:
    """See that the tables of a layer are known ones."""
    known = (*_TABLES, *SINGLE_TABLES)
    for table in source.values:
        if table not in known:
            raise placed(
                ConfigError(f"unknown table [{table}]", hint=near_hint(table, known, "table")), origins.of(table)
            )


def _build(sources: list[Source], variables: Environment) -> Config:
    origins = Origins(tuple(sources))
    merged: dict[str, Json] = {}
    for source in sources:
        _rename_former(source)
        _check_tables(source, origins)
        lower = merged
        merged = _merge(lower, source.values)
        if source.kind == "file" or (source.kind == "environment" and source.name):
            for label, values in _redirected(lower, merged, source):
                if source.kind == "environment":
                    raise ConfigError(
                        f"{source.name} sends provider {label} to another address",
                        hint=f"Addresses are not changed from there: put it into {FILE_NAME}, or export the variable.",
                    )
                merged = {**merged, "providers": {**merged["providers"], label: values}}
    providers = {
        label: _entry(Provider, "providers", label, values, origins)
        for label, values in _entries(merged, "providers", origins)
    }
    providers = {label: _absolute_paths(provider, origins) for label, provider in providers.items()}
    raw = dict(_entries(merged, "models", origins))
    models = {label: _entry(Model, "models", label, inherited(label, raw, origins), origins) for label in raw}
    dialects = {
        label: _entry(Declaration, "dialects", label, values, origins)
        for label, values in _entries(merged, "dialects", origins)
    }
    check_dialects(dialects, origins)
    check_providers(providers, dialects, origins)
    check_models(models, providers, origins)
    files = tuple(s.name for s in sources if s.kind == "file")
    ledger = ledger_of(merged, origins, variables)
    budgets = {
        label: _entry(Budget, "budgets", label, values, origins)
        for label, values in _entries(merged, "budgets", origins)
    }
    check_budgets(budgets, models, providers, origins, ledger=ledger is not None)
    plans = {
        label: _entry(Plan, "plans", label, values, origins) for label, values in _entries(merged, "plans", origins)
    }
    check_plans(plans, providers, origins)
    return Config(
        providers,
        models,
        variables,
        files,
        origins,
        dialects,
        ledger,
        budgets,
        plans,
        limit_store_of(merged, origins, variables),
        telemetry_of(merged, origins),
        cache_of(merged, origins),
        relay_of(merged, origins, files),
    )


def _redirected(lower: dict[str, Json], merged: dict[str, Json], source: Source) -> list[tuple[str, dict[str, Json]]]:
    """The providers that a file sends elsewhere than the layers below it, without the keys of those layers.

    A folder that somebody has cloned must not send the user's own key where it likes.
    """
    changed = []
    own_providers = source.values.get("providers")
    for label, values in (own_providers if isinstance(own_providers, dict) else {}).items():
        before, after = (each.get("providers", {}).get(label) for each in (lower, merged))
        if isinstance(before, dict) and isinstance(after, dict) and _goes_to(before) != _goes_to(after):
            changed.append((label, without_secrets(after, values if isinstance(values, dict) else {})))
    return changed


def _goes_to(values: dict[str, Json]) -> str:
    """Where an entry's requests go: scheme, host and port, with its values put in."""
    address, slots = values.get("address"), values.get("values")
    if not isinstance(address, str):
        return ""
    for name, value in (slots if isinstance(slots, dict) else {}).items():
        address = address.replace("{" + str(name) + "}", str(value))
    try:
        return origin_of(parse_address(address).base)
    except (ConfigError, ValueError):
        return address


def _absolute_paths(provider: Provider, origins: Origins) -> Provider:
    """The provider with relative paths of key and certificates taken from the folder of the file that names them."""
    origin = origins.of("providers", provider.label, "key")
    if provider.key is not None and origin.kind == "file":
        provider = msgspec.structs.replace(provider, key=provider.key.resolved_in(Path(origin.name).absolute().parent))
    origin = origins.of("providers", provider.label, "tls")
    if provider.tls is not None and origin.kind == "file":
        folder = Path(origin.name).absolute().parent
        ca, certificate = (
            str(folder / Path(path).expanduser()) if path else "" for path in msgspec.structs.astuple(provider.tls)
        )
        provider = msgspec.structs.replace(provider, tls=Tls(ca, certificate))
    return provider


def inherited(label: str, raw: Mapping[str, dict[str, Json]], origins: Origins) -> dict[str, Json]:
    """The values of a model entry, those of the entry that it ``extends`` below its own.

    Raises:
        ConfigError: that entry does not exist, or the chain comes back to itself.
    """
    values = raw[label]
    chain = [label]
    while isinstance(parent := raw[chain[-1]].get("extends"), str) and parent:
        origin = origins.of("models", chain[-1], "extends")
        if parent not in raw:
            raise placed(
                ConfigError(
                    f"[models.{chain[-1]}] extends {parent!r}, which has no entry", hint=near_hint(parent, raw, "label")
                ),
                origin,
            )
        if parent in chain:
            circle = " -> ".join([*chain[chain.index(parent) :], parent])
            raise placed(ConfigError(f"extends goes round in a circle: {circle}", hint="Take one of them out."), origin)
        chain.append(parent)
        values = _merge(raw[parent], values)
    return values


def _entries(merged: dict[str, Json], table: str, origins: Origins) -> list[tuple[str, dict[str, Json]]]:
    entries = merged.get(table, {})
    if not isinstance(entries, dict):
        raise placed(ConfigError(f"{table} is not a table", hint=f"Write [{table}.LABEL]."), origins.of(table))
    for label, values in entries.items():
        origin = origins.of(table, label)
        if not isinstance(values, dict):
            raise placed(
                ConfigError(f"{table}.{label} is not a table", hint=f"Write [{table}.LABEL] above {label} = ..."),
                origin,
            )
        if "@" in label:
            raise placed(
                ConfigError(f"label {label!r} holds an @", hint="NAME@PROVIDER means a model without entry."), origin
            )
    return list(entries.items())


def _merge(lower: dict[str, Json], upper: Mapping[str, Json]) -> dict[str, Json]:
    merged = dict(lower)
    for name, value in upper.items():
        if isinstance(value, Mapping) and isinstance(merged.get(name), dict) and name != "key":
            merged[name] = _merge(merged[name], value)
        else:
            merged[name] = value
    return merged


def _entry(kind: type[Entry], table: str, label: str, values: dict[str, Json], origins: Origins) -> Entry:
    _check_currency(table, label, values.get("price") if kind is Model else None, origins)
    try:
        return msgspec.convert({**values, "label": label}, kind, dec_hook=key_hook)
    except msgspec.ValidationError as error:
        raise what_is_wrong(kind, table, label, values, origins, error) from None
    except ConfigError as error:
        path = error.message.partition(" ")[0].split(".", 1)
        raise placed(
            ConfigError(f"[{table}.{label}] {error.message}", hint=error.hint), origins.of(table, label, *path)
        ) from None


def _check_currency(table: str, label: str, price: Json, origins: Origins) -> None:
    """See that a price says its currency: amounts without one would be added up with others."""
    for each in price if isinstance(price, list) else [price]:
        if isinstance(each, Mapping) and "currency" not in each:
            raise placed(
                ConfigError(f"[{table}.{label}] price has no currency", hint='Add currency = "USD", or what it is.'),
                origins.of(table, label, "price"),
            )
