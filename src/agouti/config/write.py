"""Configuration files written: entries into `agouti.toml`, keys into `.env`. Disturbs nothing that is there."""

from collections.abc import Mapping, Sequence
from pathlib import Path

from msgspec import Struct

from ..core.canonical.chat import Json
from ..core.errors import ConfigError
from ..core.secrets.secret import Secret
from ..runtime.atomic_files import write_whole
from .env_file import parsed, read_dotenv, text_of_file
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
    text = with_entries(path, entries)
    if text is None:
        return
    try:
        write_whole(path, text)
    except OSError as error:
        raise ConfigError(f"{path} cannot be written ({error.strerror or error})", hint="Name another file.") from None


def with_entries(path: Path, entries: Sequence[NewEntry]) -> str | None:
    """The text of a file with the entries added; `None` where it has them already.

    Raises:
        ConfigError: it holds other entries under these labels, or cannot be read.
    """
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    try:
        text = path.read_text(encoding="utf-8-sig") if path.exists() else ""
        document = tomlkit.parse(text).unwrap()
    except (OSError, UnicodeDecodeError) as error:
        raise ConfigError(f"{path} cannot be read ({error})", hint="Make it readable, or name another file.") from None
    except TOMLKitError as error:
        raise ConfigError(f"{path} is not valid TOML: {error}", hint="Correct that line first.") from None
    added = []
    for entry in entries:
        table = document.get(entry.table, {})
        existing = table.get(entry.label) if isinstance(table, dict) else None
        if existing is not None and existing != entry.values:
            option = "--provider" if entry.table == "providers" else "--label"
            key = ", or --replace-key where only the key is new" if entry.table == "providers" else ""
            raise ConfigError(
                f"{path} has another entry [{entry.table}.{entry.label}]",
                hint=f"Choose another name for the new one with {option} NAME, take the old one out{key}.",
            )
        if existing is None:
            added.append(_text_of(entry))
    if not added:
        return None
    text = "\n".join([f"{text.rstrip()}\n", *added] if text.strip() else added)
    try:
        tomlkit.parse(text)
    except TOMLKitError:
        raise ConfigError(
            f"the entries cannot be added to {path}, because of how its tables are written",
            hint="Paste them in by hand: agouti adopt without --write prints them.",
        ) from None
    return text


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


def free_name(name: str, value: Secret, used: Mapping[str, str]) -> str:
    """The variable that is to hold a key: ``name``, or with a number where that holds another key already."""
    free, number = name, 1
    while used.get(free) and used[free] != value.reveal():
        number += 1
        free = f"{name}_{number}"
    return free


def write_dotenv(path: Path, secrets: Mapping[str, Secret]) -> list[str]:
    """Put keys into a ``.env`` file that only its owner can read; returns what the user should know.

    Raises:
        ConfigError: it cannot be read or written, or a key cannot stand in it.
    """
    variables, _ = read_dotenv(path) if path.exists() else ({}, "")
    text = text_of_file(path) if path.exists() else ""
    for name, secret in secrets.items():
        if variables.get(name) != secret.reveal():
            text = _with_variable(text, name, secret)
    try:
        write_whole(path, text, mode=0o600)
    except OSError as error:
        raise ConfigError(
            f"{path} cannot be written ({error.strerror or error})",
            hint="Or put the key into the keyring: --store keyring",
        ) from None
    notes = [f"{name} is in {path.name} (readable for you only)" for name in secrets]
    if could_be_committed(path):
        notes.append(f"{path.name} is not ignored by git: add it to .gitignore before you commit")
    return notes


def _with_variable(text: str, name: str, secret: Secret) -> str:
    """The text of a ``.env`` file with a variable in it, in the place of an older one of that name."""
    import io

    from dotenv.parser import parse_stream

    value = secret.reveal()
    escaped = value.replace("\\", "\\\\").replace("'", "\\'")
    line = f"{name}='{escaped}'\n"
    lines, put = [], False
    for binding in parse_stream(io.StringIO(text)):
        if binding.key == name and not binding.error:
            lines.append("" if put else line)
            put = True
        else:
            lines.append(binding.original.string)
    changed = "".join(lines)
    if not put:
        changed = f"{changed}{'' if not changed or changed.endswith(chr(10)) else chr(10)}{line}"
    if parsed(changed).get(name) != value:
        raise ConfigError(
            f"the value for {name} has characters that cannot stand in a .env file",
            hint="Put it into the keyring instead: --store keyring",
        )
    return changed
