"""Secrets in files: literal ones in a configuration, and a ``.env`` that others can read or that git knows."""

import os
import stat
from functools import partial
from pathlib import Path
from typing import Any

import msgspec

from ...config.entries import Config, Provider
from ...config.git import could_be_committed, tracked
from ...config.origins import DEFAULT, Origins
from ...config.tables import has_password
from ...core.secrets.secret import Environment, Secret
from ...credentials.sources import EnvKey, GivenKey, Key, SeveralKeys
from ...engine.effects import RunCallable, Steps
from .findings import Finding

_MOVE = 'Make a new key, put it into .env or the keyring, and write { env = "NAME" } where it stands.'


def where_from(key: Key | None, environment: Environment) -> str:
    """Where a key is found, in words."""
    if key is None:
        return "none named"
    if isinstance(key, EnvKey):
        name = next((name for name in key.env if environment.get(name)), None)
        if name is not None:
            source = environment.source(name)
            return f"environment variable {name}" + ("" if source == "environment" else f", from {source}")
    return key.describe()


def about_files(config: Config, entry: Provider) -> Steps[list[Finding]]:
    """What is wrong with the files that hold an entry and its keys."""
    findings: list[Finding] = []
    paths = [("providers", entry.label, *path) for path in _literals(entry)]
    if entry.label == next(iter(config.providers), None):
        paths += [(table, "store") for table in _stores(config)]  # of all entries: told once
    for secret_path in paths:
        origin = config.origins.of(*secret_path) if config.origins is not None else None
        if origin is None or origin.kind != "file":
            continue
        state = yield RunCallable(partial(_state, Path(origin.name)))
        path = secret_path[2:] if secret_path[0] == "providers" else secret_path
        problem = f"a literal secret ({'.'.join(path)}) stands in {origin}"
        findings.append(Finding("file", not state, f"{problem}{state and f', {state}'}", _MOVE if state else ""))
    dotenv = config.environment.file
    if dotenv and any(config.environment.source(name) == dotenv for name in _variables(entry)):
        state = yield RunCallable(partial(_state, Path(dotenv)))
        if state:
            hint = f"Add {Path(dotenv).name} to .gitignore (and make a new key if it was ever committed); chmod 600 it."
            findings.append(Finding("file", False, f"{dotenv}, which holds its key, {_as_clause(state)}", hint))
    return findings


def _as_clause(state: str) -> str:
    return state.replace("which git tracks", "is tracked by git").replace("which", "").strip()


def _state(path: Path) -> str:
    """What is wrong with a file that holds a secret; empty where nothing is."""
    if tracked(path):
        return "which git tracks"
    if could_be_committed(path):
        return "which git does not ignore"
    try:
        mode = path.stat().st_mode
    except OSError:
        return ""
    return "which others can read" if os.name == "posix" and mode & (stat.S_IRGRP | stat.S_IROTH) else ""


def _stores(config: Config) -> list[str]:
    """The tables whose store is an address with a password in it, and not in a variable."""
    settings = {"ledger": config.ledger, "limits": config.limit_store}
    named = config.origins if config.origins is not None else Origins()
    return [
        table
        for table, each in settings.items()
        if each is not None and has_password(each.store) and named.of(table, "store", "env") is DEFAULT
    ]


def _literals(entry: Provider) -> list[tuple[str, ...]]:
    """The paths within an entry at which a secret stands itself."""
    found: list[tuple[str, ...]] = []
    for field in ("key", "headers", "query", "values", "add"):
        _note(getattr(entry, field), (field,), found)
    return found


def _note(value: Any, path: tuple[str, ...], found: list[tuple[str, ...]]) -> None:
    if isinstance(value, (GivenKey, Secret)):
        found.append(path)
    elif isinstance(value, SeveralKeys):
        for each in value.keys:
            if path not in found:
                _note(each, path, found)
    elif isinstance(value, dict):
        for name, inner in value.items():
            _note(inner, (*path, name), found)
    elif isinstance(value, msgspec.Struct) and isinstance(value, Key):
        for name in value.__struct_fields__:
            if isinstance(getattr(value, name), Key):
                _note(getattr(value, name), (*path, name), found)


def _variables(entry: Provider) -> list[str]:
    """The variables that an entry's secrets live in."""
    found: list[str] = []

    def note(value: Any) -> None:
        if isinstance(value, EnvKey):
            found.extend(value.env)
        elif isinstance(value, (list, tuple)):
            for each in value:
                note(each)
        elif isinstance(value, dict):
            for each in value.values():
                note(each)
        elif isinstance(value, msgspec.Struct) and isinstance(value, Key):
            for name in value.__struct_fields__:
                note(getattr(value, name))

    for field in ("key", "headers", "query", "values", "add"):
        note(getattr(entry, field))
    return found
