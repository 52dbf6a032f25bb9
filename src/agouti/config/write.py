"""Configuration files written: entries into `agouti.toml`, keys into `.env`. Disturbs nothing that is there."""

import os
from collections.abc import Mapping, Sequence
from pathlib import Path

from msgspec import Struct

from ..core.chat import Json
from ..core.errors import ConfigError
from ..core.secret import Secret
from .git import could_be_committed


class NewEntry(Struct, frozen=True):
    """An entry that is to be written: its table, its label, its values."""

    table: str
    label: str
    values: dict[str, Json]


def as_toml(entries: Sequence[NewEntry]) -> str:
    """The entries as they stand in a file."""
    return "\n".join(map(_text_of, entries))


def write_toml(path: Path, entries: Sequence[NewEntry]) -> None:
    """Add the entries at the end of a file, which may not be there yet; the rest of it is left as it is.

    Raises:
        ConfigError: it holds other entries under these labels, or cannot be read or written.
    """
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    try:
        text = path.read_text(encoding="utf-8") if path.exists() else ""
        document = tomlkit.parse(text).unwrap()
    except (OSError, UnicodeDecodeError) as error:
        raise ConfigError(f"{path} cannot be read ({error})", hint="Make it readable, or name another file.") from None
    except TOMLKitError as error:
        raise ConfigError(f"{path} is not valid TOML: {error}", hint="Correct that line first.") from None
    added = []
    for entry in entries:
        existing = document.get(entry.table, {}).get(entry.label)
        if existing is not None and existing != entry.values:
            option = "--provider" if entry.table == "providers" else "--label"
            raise ConfigError(
                f"{path} has another entry [{entry.table}.{entry.label}]",
                hint=f"Choose another name for the new one with {option} NAME, or take the old one out.",
            )
        if existing is None:
            added.append(_text_of(entry))
    if not added:
        return
    text = "\n".join([f"{text.rstrip()}\n", *added] if text.strip() else added)
    try:
        tomlkit.parse(text)
    except TOMLKitError:
        raise ConfigError(
            f"the entries cannot be added to {path}, because of how its tables are written",
            hint="Paste them in by hand: agouti adopt without --write prints them.",
        ) from None
    # Written beside it and moved over it: a crash in between leaves the old file whole.
    beside = path.with_name(f".{path.name}.new")
    try:
        beside.write_text(text, encoding="utf-8")
        os.replace(beside, path)
    except OSError as error:
        raise ConfigError(f"{path} cannot be written ({error.strerror or error})", hint="Name another file.") from None


def _text_of(entry: NewEntry) -> str:
    lines = [f"[{entry.table}.{_key(entry.label)}]"]
    lines += [f"{_key(name)} = {_value(value)}" for name, value in entry.values.items()]
    return "\n".join(lines) + "\n"


def _value(value: Json) -> str:
    import tomlkit

    if isinstance(value, dict):
        return "{ " + ", ".join(f"{_key(name)} = {_value(inner)}" for name, inner in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(_value(inner) for inner in value) + "]"
    return str(tomlkit.item(value).as_string())


def _key(name: str) -> str:
    import tomlkit

    return str(tomlkit.key(name).as_string())


def free_name(name: str, value: Secret, taken: Mapping[str, str]) -> str:
    """The variable that is to hold a key: ``name``, or with a number where that holds another key already."""
    free, number = name, 1
    while free in taken and taken[free] != value.reveal():
        number += 1
        free = f"{name}_{number}"
    return free


def write_dotenv(path: Path, secrets: Mapping[str, Secret]) -> list[str]:
    """Add keys to a ``.env`` file that only its owner can read; returns what the user should know.

    Raises:
        ConfigError: it cannot be written.
    """
    from dotenv import dotenv_values, set_key

    try:
        if not path.exists():
            path.touch(mode=0o600)
        held = dotenv_values(path)
        for name, secret in secrets.items():
            if held.get(name) != secret.reveal():
                set_key(path, name, secret.reveal())
        path.chmod(0o600)
    except OSError as error:
        raise ConfigError(
            f"{path} cannot be written ({error.strerror or error})",
            hint="Or put the key into the keyring: --store keyring",
        ) from None
    notes = [f"{name} is in {path.name} (readable for you only)" for name in secrets]
    if could_be_committed(path):
        notes.append(f"{path.name} is not ignored by git: add it to .gitignore before you commit")
    return notes
