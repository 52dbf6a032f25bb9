"""Put adopted entries where they belong: `agouti.toml`, `.env`, the keyring. Disturbs nothing that is there."""

import os
import subprocess
from collections.abc import Mapping
from pathlib import Path

from ..core.chat import Json
from ..core.errors import ConfigError
from ..core.secret import Secret
from ..credentials.sources import KEYRING_SERVICE
from .entries import Adopted


def as_toml(adopted: Adopted) -> str:
    """The entries as they stand in a file."""
    return "\n".join(_entry(*entry) for entry in _entries(adopted))


def write_toml(path: Path, adopted: Adopted) -> None:
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
    for table, label, values in _entries(adopted):
        existing = document.get(table, {}).get(label)
        if existing is not None and existing != values:
            option = "--provider" if table == "providers" else "--label"
            raise ConfigError(
                f"{path} has another entry [{table}.{label}]",
                hint=f"Choose another name for the new one with {option} NAME, or take the old one out.",
            )
        if existing is None:
            added.append(_entry(table, label, values))
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


def _entries(adopted: Adopted) -> list[tuple[str, str, dict[str, Json]]]:
    found = [("providers", adopted.provider_label, adopted.provider)]
    if adopted.model_label:
        found.append(("models", adopted.model_label, adopted.model))
    return found


def _entry(table: str, label: str, values: dict[str, Json]) -> str:
    lines = [f"[{table}.{_key(label)}]", *(f"{_key(name)} = {_value(value)}" for name, value in values.items())]
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
    found, number = name, 1
    while found in taken and taken[found] != value.reveal():
        number += 1
        found = f"{name}_{number}"
    return found


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
    if tracked_or_not_ignored(path):
        notes.append(f"{path.name} is not ignored by git: add it to .gitignore before you commit")
    return notes


def write_keyring(secrets: Mapping[str, Secret]) -> list[str]:
    """Put keys into the operating system's keyring; returns what the user should know.

    Raises:
        ConfigError: there is none, or its library is not installed.
    """
    for name, secret in secrets.items():
        keyring_call("set_password", KEYRING_SERVICE, name, secret.reveal())
    return [f"{name} is in the keyring" for name in secrets]


def keyring_call(method: str, *arguments: str) -> str | None:
    """Call the keyring library, its failures in our words.

    Raises:
        ConfigError: there is no keyring, or its library is not installed.
    """
    try:
        import keyring
        import keyring.errors
    except ModuleNotFoundError:
        raise ConfigError(
            "the keyring needs the library keyring, which is not installed",
            hint="Install it: pip install 'agouti-client[keyring]'",
        ) from None
    failure = ""
    try:
        found: str | None = getattr(keyring, method)(*arguments)
        return found
    except keyring.errors.PasswordDeleteError:
        return "absent"
    except keyring.errors.KeyringError as error:
        failure = str(error).splitlines()[0].partition(". ")[0][:120] if str(error) else type(error).__name__
    raise ConfigError(
        f"the keyring does not answer: {failure}", hint="Unlock it, or keep the key in .env (agouti adopt --store env)."
    )


def _git(path: Path, *arguments: str) -> int:
    try:
        return subprocess.run(  # noqa: S603
            ["git", *arguments, path.name],  # noqa: S607
            cwd=path.absolute().parent,
            capture_output=True,
            check=False,
            timeout=10,
        ).returncode
    except (OSError, subprocess.TimeoutExpired):
        return -1


def tracked(path: Path) -> bool:
    """Whether git tracks a file."""
    return _git(path, "ls-files", "--error-unmatch") == 0


def tracked_or_not_ignored(path: Path) -> bool:
    """Whether a file is in a git checkout and could be committed."""
    return _git(path, "check-ignore", "-q") == 1
