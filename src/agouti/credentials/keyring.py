"""The operating system's keyring: keys under names of your own, its failures in our words."""

from collections.abc import Callable
from types import ModuleType
from typing import TypeVar

from ..core.errors import ConfigError
from ..core.secrets.secret import Secret

SERVICE = "agouti"
"""The name under which the keyring keeps them."""

T = TypeVar("T")


def get(name: str) -> Secret | None:
    """A key; `None` where there is none of that name.

    Raises:
        ConfigError: there is no keyring, it is locked, or its library is not installed.
    """
    value = _ask(lambda keyring: keyring.get_password(SERVICE, name))
    return Secret(str(value)) if value else None


def put(name: str, secret: Secret) -> None:
    """Store a key.

    Raises:
        ConfigError: as for `get`.
    """
    _ask(lambda keyring: keyring.set_password(SERVICE, name, secret.reveal()))


def remove(name: str) -> None:
    """Remove a key.

    Raises:
        ConfigError: as for `get`, or there is none of that name.
    """
    _ask(lambda keyring: keyring.delete_password(SERVICE, name))


def describe() -> str:
    """What keeps them on this machine."""
    return str(_ask(lambda keyring: keyring.get_keyring().name))


def _ask(question: Callable[[ModuleType], T]) -> T:
    try:
        import keyring
        import keyring.errors
    except ModuleNotFoundError:
        raise ConfigError(
            "the operating system's keyring needs the library keyring, which is not installed",
            hint="Install it: pip install 'agouti-client[keyring]'",
        ) from None
    failure = ""
    try:
        return question(keyring)
    except keyring.errors.KeyringError as error:
        failure = str(error).splitlines()[0].partition(". ")[0][:120] if str(error) else type(error).__name__
    hint = 'Unlock it; without a keyring on this machine, name a variable instead: key = { env = "NAME" }'
    if "backend" in failure.lower():
        hint = 'There is none on this machine: name a variable instead, key = { env = "NAME" }, or a file.'
    # Behind the handler: the foreign exception may hold what was to be stored.
    raise ConfigError(
        f"the keyring does not answer: {failure}",
        hint=hint,
    )
