"""Get a key from where it lives. This is the I/O half of credentials; `sources` says what to get."""

from collections.abc import Mapping
from pathlib import Path

from msgspec import Struct

from ..core.errors import CredentialMissing
from ..core.near import near
from ..core.secret import Secret
from .sources import EnvKey, FileKey, GivenKey, Key


class Credential(Struct, frozen=True):
    """A key in hand.

    Attributes:
        secret: the key.
        found: where it was found, in words.
        expires: when it ends, in seconds since the epoch; `None` where that is not known.
    """

    secret: Secret
    found: str
    expires: float | None = None


def fetch(key: Key, environment: Mapping[str, str]) -> Credential:
    """The key, read afresh.

    Raises:
        CredentialMissing: it is not there; says where was looked and what is named alike.
    """
    if isinstance(key, EnvKey):
        return _from_environment(key, environment)
    if isinstance(key, FileKey):
        return _from_file(key)
    if isinstance(key, GivenKey):
        return Credential(key.value, key.places())
    raise TypeError(f"no way to fetch {type(key).__name__}")


def _clean(value: str) -> str:
    # A key pasted with its quotes, its header word or a line end is the commonest near miss of all.
    value = value.strip().strip("\"'")
    return value[7:].strip() if value[:7].lower() == "bearer " else value


def _from_environment(key: EnvKey, environment: Mapping[str, str]) -> Credential:
    for name in key.env:
        value = _clean(environment.get(name, ""))
        if value:
            return Credential(Secret(value), f"{name} (environment)")
    empty = [name for name in key.env if name in environment]
    wanted = " and ".join(key.env)
    what = f"no key: {wanted} {'is empty' if empty else 'is not set'} (looked in the environment and .env)"
    alike: list[str] = []
    for name in key.env:
        alike += [each for each in near(name, environment) if each not in alike and each not in key.env]
    if alike:
        hint = f"A similar variable is set: {', '.join(alike[:3])}. Rename it, or put its name into the entry's key."
    else:
        hint = f"Set it: export {key.env[0]}=...   or write that line, without export, into .env beside agouti.toml."
    raise CredentialMissing(what, hint=hint)


def _from_file(key: FileKey) -> Credential:
    path = Path(key.file).expanduser()
    try:
        value = _clean(path.read_text())
    except OSError as error:
        raise CredentialMissing(
            f"no key: file {path} cannot be read ({error.strerror or error})",
            hint="Write the key, and nothing else, into that file; make it readable for you only (chmod 600).",
        ) from None
    except UnicodeDecodeError:
        raise CredentialMissing(
            f"no key: file {path} is not a text file", hint="Write the key, and nothing else, into that file."
        ) from None
    if not value:
        raise CredentialMissing(f"no key: file {path} is empty", hint="Write the key, and nothing else, into it.")
    return Credential(Secret(value), f"file {path}")
