"""Find, read, merge and check a configuration.

Order, last wins: built-in defaults, the user's file, the nearest ``agouti.toml`` upwards (or the file
that ``AGOUTI_CONFIG`` names), variables such as ``AGOUTI__PROVIDERS__NORTHBANK__ADDRESS``, arguments.
"""

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from ..core.address import parse as parse_address
from ..core.chat import Json
from ..core.declarations import Declaration
from ..core.errors import ConfigError, RequestError
from ..core.http import Tls
from ..core.masking import looks_like_a_key
from ..core.parameters import checked
from ..core.secret import Environment
from ..core.suggest import near_hint
from ..credentials.credential import parse_send_key
from ..credentials.sources import key_hook
from ..dialects.base import PATHS
from .entries import Config, Model, Provider
from .origins import Origin, Origins, Source

FILE_NAME = "agouti.toml"
_PREFIX = "AGOUTI__"
_TABLES: dict[str, type[Provider] | type[Model] | type[Declaration]] = {
    "providers": Provider,
    "models": Model,
    "dialects": Declaration,
}

_MAY_HOLD_SECRETS = frozenset({"key", "headers", "query", "add", "address", "values", "send_key"})

Entry = TypeVar("Entry", Provider, Model, Declaration)


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
    variables: Mapping[str, str] = os.environ if environment is None else environment
    sources: list[Source] = []
    beside = Path(folder) if folder is not None else Path.cwd()
    if isinstance(config, Mapping):
        sources.append(Source("argument", "", dict(config)))
    elif config is not None:
        sources.append(read_file(Path(config)))
        beside = Path(config).absolute().parent
    else:
        sources += [read_file(path) for path in find_files(beside, variables)]
        if sources:
            beside = Path(sources[-1].name).parent
    variables = with_dotenv(beside / ".env", variables)
    overrides = _overrides(variables, sources)
    if overrides is not None:
        sources.append(overrides)
    if not sources:
        raise ConfigError(
            f"no configuration: there is no {FILE_NAME} in {beside} or any folder above it",
            hint="Paste a curl command from your provider's pages into: agouti adopt --write   (or see: agouti demo)",
        )
    return _build(sources, variables)


def user_file() -> Path:
    """The user's own file, in the platform's configuration folder."""
    import platformdirs

    return platformdirs.user_config_path("agouti") / FILE_NAME


def nearest_file(folder: Path) -> Path | None:
    """The nearest ``agouti.toml`` from a folder upwards."""
    folder = folder.absolute()
    return next((each / FILE_NAME for each in (folder, *folder.parents) if (each / FILE_NAME).is_file()), None)


def find_files(folder: Path, variables: Mapping[str, str]) -> list[Path]:
    """The files that apply in a folder, the last one winning."""
    paths_found = []
    own = user_file()
    if own.is_file():
        paths_found.append(own)
    named = variables.get("AGOUTI_CONFIG")
    if named:
        return [*paths_found, Path(named).expanduser()]
    nearest = nearest_file(folder)
    if nearest is not None and nearest != own:
        paths_found.append(nearest)
    return paths_found


def read_file(path: Path) -> Source:
    """One file as a layer.

    Raises:
        ConfigError: it is not there, or is not TOML.
    """
    import tomllib

    shown = shown_path(path)
    try:
        text = path.read_text(encoding="utf-8")
    except OSError as error:
        raise ConfigError(
            f"{shown} cannot be read ({error.strerror or error})", hint="Name an existing file, or leave it out."
        ) from None
    except UnicodeDecodeError as error:
        raise ConfigError(f"{shown} is not UTF-8 text ({error.reason})", hint="Save it as UTF-8.") from None
    try:
        values = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise _at(
            ConfigError(f"{shown} is not valid TOML: {error}", hint=_toml_hint(text, str(error))),
            Origin("file", shown),
        ) from None
    return Source("file", shown, values, text)


def shown_path(path: Path) -> str:
    """The path as short as it can be said from here."""
    try:
        return str(path.absolute().relative_to(Path.cwd()))
    except ValueError:
        return str(path)


def _toml_hint(text: str, message: str) -> str:
    import re

    if ("declare" in message and "twice" in message) or "overwrite" in message:
        return "Two entries have one name; give one of them another label, or merge them."
    paths_found = re.search(r"line (\d+)", message)
    lines = text.splitlines()
    if paths_found and int(paths_found[1]) <= len(lines):
        line = lines[int(paths_found[1]) - 1].strip()
        name, equals, value = line.partition("=")
        if equals and (name.strip().split(".")[-1] in _MAY_HOLD_SECRETS or looks_like_a_key(value.strip(" \"'{}"))):
            line = f"{name.strip()} = ..."  # it may hold a key
        elif looks_like_a_key(line):
            return "Text values stand in quotes; every bracket is closed."
        return f"That line is: {line[:80]}   (text values stand in quotes)"
    return "Text values stand in quotes; every bracket is closed."


def with_dotenv(path: Path, variables: Mapping[str, str]) -> Mapping[str, str]:
    """The variables, and below them those of a ``.env`` file where there is one."""
    if not path.is_file():
        return variables
    from dotenv import dotenv_values

    return {**{name: value or "" for name, value in dotenv_values(path).items()}, **variables}


def _overrides(variables: Mapping[str, str], sources: list[Source]) -> Source | None:
    values: dict[str, Json] = {}
    names: dict[tuple[str, ...], str] = {}
    for variable in sorted(variables):
        if not variable.startswith(_PREFIX):
            continue
        table, *rest = (part.lower() for part in variable[len(_PREFIX) :].split("__"))
        if table not in _TABLES or len(rest) < 2 or not all(rest):
            raise ConfigError(
                f"variable {variable} names no setting",
                hint="Write it as AGOUTI__PROVIDERS__LABEL__KEY or AGOUTI__MODELS__LABEL__KEY.",
            )
        path = (table, _label(rest[0], table, sources), *rest[1:])
        into = values
        for part in path[:-1]:
            into = into.setdefault(part, {})
        into[path[-1]] = _value(variables[variable], _TABLES[table], path[2])
        names[path] = variable
    return Source("environment", "", values, "", names) if values else None


def _label(folded: str, table: str, sources: list[Source]) -> str:
    """Variables cannot hold ``-`` or ``.``: the existing label that this one stands for."""
    for source in sources:
        for label in source.values.get(table, {}):
            if label.lower().replace("-", "_").replace(".", "_") == folded:
                return str(label)
    return folded


def _value(text: str, entry: type[Provider] | type[Model] | type[Declaration], name: str) -> Json:
    kind = next((field.type for field in msgspec.structs.fields(entry) if field.name == name), None)
    if kind is str or kind == dict[str, str] or kind == (str | None):
        return text
    import tomllib

    try:
        return tomllib.loads(f"value = {text}")["value"]
    except tomllib.TOMLDecodeError:
        return text


def _build(sources: list[Source], variables: Mapping[str, str]) -> Config:
    origins = Origins(tuple(sources))
    merged: dict[str, Json] = {}
    for source in sources:
        for table in source.values:
            if table not in _TABLES:
                raise _at(
                    ConfigError(f"unknown table [{table}]", hint=near_hint(table, _TABLES, "table")), origins.of(table)
                )
        merged = _merge(merged, source.values)
    providers = {
        label: _entry(Provider, "providers", label, values, origins)
        for label, values in _entries(merged, "providers", origins)
    }
    providers = {label: _paths_beside(provider, origins) for label, provider in providers.items()}
    raw = dict(_entries(merged, "models", origins))
    models = {label: _entry(Model, "models", label, inherited(label, raw, origins), origins) for label in raw}
    dialects = {
        label: _entry(Declaration, "dialects", label, values, origins)
        for label, values in _entries(merged, "dialects", origins)
    }
    _check_dialects(dialects, origins)
    _check_providers(providers, origins)
    _check_models(models, providers, origins)
    files = tuple(s.name for s in sources if s.kind == "file")
    return Config(providers, models, Environment(variables), files, origins, dialects)


def _paths_beside(provider: Provider, origins: Origins) -> Provider:
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
    """The values of a model entry, those of the entry that it is ``like`` below its own.

    Raises:
        ConfigError: that entry does not exist, or the chain comes back to itself.
    """
    values = raw[label]
    chain = [label]
    while isinstance(like := raw[chain[-1]].get("like"), str) and like:
        origin = origins.of("models", chain[-1], "like")
        if like not in raw:
            raise _at(
                ConfigError(
                    f"[models.{chain[-1]}] is like {like!r}, which has no entry", hint=near_hint(like, raw, "label")
                ),
                origin,
            )
        if like in chain:
            circle = " -> ".join([*chain[chain.index(like) :], like])
            raise _at(ConfigError(f"like goes round in a circle: {circle}", hint="Take one of them out."), origin)
        chain.append(like)
        values = _merge(raw[like], values)
    return values


def _entries(merged: dict[str, Json], table: str, origins: Origins) -> list[tuple[str, dict[str, Json]]]:
    entries = merged.get(table, {})
    if not isinstance(entries, dict):
        raise _at(ConfigError(f"{table} is not a table", hint=f"Write [{table}.LABEL]."), origins.of(table))
    for label, values in entries.items():
        origin = origins.of(table, label)
        if not isinstance(values, dict):
            raise _at(
                ConfigError(f"{table}.{label} is not a table", hint=f"Write [{table}.LABEL] above {label} = ..."),
                origin,
            )
        if "@" in label:
            raise _at(
                ConfigError(f"label {label!r} holds an @", hint="NAME@PROVIDER means a model without entry."), origin
            )
    return list(entries.items())


def _merge(below: dict[str, Json], above: Mapping[str, Json]) -> dict[str, Json]:
    merged = dict(below)
    for name, value in above.items():
        if isinstance(value, Mapping) and isinstance(merged.get(name), dict) and name != "key":
            merged[name] = _merge(merged[name], value)
        else:
            merged[name] = value
    return merged


def _entry(kind: type[Entry], table: str, label: str, values: dict[str, Json], origins: Origins) -> Entry:
    try:
        return msgspec.convert({**values, "label": label}, kind, dec_hook=key_hook)
    except msgspec.ValidationError as error:
        raise _what_is_wrong(kind, table, label, values, origins, error) from None


def _what_is_wrong(
    kind: type[Any],
    table: str,
    label: str,
    values: dict[str, Json],
    origins: Origins,
    error: msgspec.ValidationError,
) -> ConfigError:
    """Find the one value that does not fit, for an error that names it and its place."""
    fields = {field.name: field for field in msgspec.structs.fields(kind) if field.name != "label"}
    for name, value in values.items():
        if name not in fields:
            return _at(
                ConfigError(f"unknown key {name!r} in [{table}.{label}]", hint=near_hint(name, fields, "key")),
                origins.of(table, label, name),
            )
        try:
            msgspec.convert(value, fields[name].type, dec_hook=key_hook)
        except msgspec.ValidationError as wrong:
            inner = value if isinstance(value, dict) else {}
            deeper = next((part for part in inner if f"`{part}`" in str(wrong)), None)
            path = (table, label, name, deeper) if deeper else (table, label, name)
            shown = "" if name in _MAY_HOLD_SECRETS else f" = {value!r}"[:80]
            return _at(
                ConfigError(
                    f"{table}.{label}.{name}{shown} is wrong: {_plain(str(wrong))}",
                    hint=_type_hint(name, fields[name].type),
                ),
                origins.of(*path),
            )
    return _at(ConfigError(f"[{table}.{label}] is wrong: {_plain(str(error))}"), origins.of(table, label))


def _plain(message: str) -> str:
    return message.replace("`", "").replace("Object contains", "holds").replace(" - at $", " at ")


def _type_hint(name: str, kind: Any) -> str:
    if name == "key":
        return 'Write where the key lives: key = { env = "NAME" }'
    if kind == dict[str, str]:
        return f'Write {name} = {{ "name" = "value" }}, values in quotes.'
    if kind is str or kind == (str | None):
        return f'Write {name} = "text", in quotes.'
    return f"See the entry types in the guide for what {name} takes."


def _check_dialects(dialects: dict[str, Declaration], origins: Origins) -> None:
    if not dialects:
        return
    from ..dialects.declared import check
    from ..dialects.registry import names

    for label, declaration in dialects.items():
        try:
            if label in names():
                raise ConfigError(f"{label} is a dialect that there is already", hint="Give it another label.")
            check(declaration)
        except ConfigError as error:
            raise _at(
                ConfigError(f"[dialects.{label}] {error.what}", hint=error.hint), origins.of("dialects", label)
            ) from None


def _check_models(models: dict[str, Model], providers: dict[str, Provider], origins: Origins) -> None:
    for label, model in models.items():
        for name, value in (("provider", model.provider), ("name", model.name)):
            if not value:
                raise _at(
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
            name = next((each for each in model.parameters if each in error.what), "")
            raise _at(
                ConfigError(f"[models.{label}] parameters: {error.what}", hint=error.hint),
                origins.of("models", label, "parameters", name),
            ) from None
        if model.provider not in providers:
            raise _at(
                ConfigError(
                    f"[models.{label}] names provider {model.provider!r}, which has no entry",
                    hint=near_hint(model.provider, providers, "provider"),
                ),
                origins.of("models", label, "provider"),
            )


def _check_providers(providers: dict[str, Provider], origins: Origins) -> None:
    for label, provider in providers.items():
        for operation in provider.paths:
            if operation not in PATHS:
                raise _at(
                    ConfigError(
                        f"[providers.{label}] gives a path to {operation!r}, which is no operation",
                        hint=near_hint(operation, PATHS, "operation"),
                    ),
                    origins.of("providers", label, "paths", operation),
                )
        if not provider.address:
            raise _at(
                ConfigError(f"[providers.{label}] has no address", hint='Add address = "https://..."'),
                origins.of("providers", label),
            )
        for name, check in (("address", parse_address), ("send_key", parse_send_key)):
            try:
                check(getattr(provider, name))
            except ConfigError as error:
                raise _at(
                    ConfigError(f"[providers.{label}] {error.what}", hint=error.hint),
                    origins.of("providers", label, name),
                ) from None


def _at(error: ConfigError, origin: Origin) -> ConfigError:
    """The same error, with the place put before it."""
    if origin.kind == "file":
        error.file, error.line = origin.name, origin.line
    if origin.kind in ("file", "environment") and origin.name not in error.what:
        error.what = f"{origin}: {error.what}"
        error.args = (error.what,)
    return error
