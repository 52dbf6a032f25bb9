"""Get a key from where it lives. This is the I/O half of credentials; `sources` says what to get."""

import re
import time
from collections.abc import Callable, Mapping
from pathlib import Path

from ..core.errors import CredentialMissing
from ..core.http.exchange import HttpReply, HttpRequest
from ..core.secrets.masking import looks_like_a_key
from ..core.secrets.secret import Environment, Secret
from ..core.text.suggest import similar_names
from .credential import Credential
from .files import read_text
from .sources import CommandKey, EnvKey, FileKey, GivenKey, Key, KeyringKey, OAuthKey, SignatureKey

Post = Callable[[HttpRequest], HttpReply]
"""Sends a request to a token endpoint; raises `TransportFailure` where no reply came."""


def quick(key: Key) -> bool:
    """Whether fetching a key takes no time worth a thread."""
    return isinstance(key, (EnvKey, GivenKey))


def fetch(key: Key, environment: Mapping[str, str], post: Post, seconds: float | None = None) -> Credential:
    """The key, read afresh.

    Args:
        seconds: until the deadline of the call that wants it.

    Raises:
        CredentialMissing: it is not there; says where was looked and what is named alike.
        ConfigError: a library that this kind of key needs is not installed.
    """
    match key:
        case EnvKey():
            return _from_environment(key, environment)
        case FileKey():
            return _from_file(key)
        case GivenKey():
            _check_placeholder(key.value.reveal(), "the entry")
            return Credential(key.value, key.describe())
        case KeyringKey():
            return _from_keyring(key)
        case CommandKey():
            from .command import run

            return run(key, time.time(), seconds)
        case OAuthKey():
            from .oauth import mint

            return mint(key, lambda inner: fetch(inner, environment, post, seconds).secret, post, time.time())
        case SignatureKey():
            from .profile import signing_keys

            return signing_keys(key, lambda inner: fetch(inner, environment, post, seconds).secret)
        case _:
            raise TypeError(f"no way to fetch a {type(key).__name__}")


def _clean(value: str) -> str:
    # A key pasted with its quotes, its header word or a line end is the commonest near miss of all.
    value = value.strip().strip("\"'")
    return value[7:].strip() if value[:7].lower() == "bearer " else value


def _from_environment(key: EnvKey, environment: Mapping[str, str]) -> Credential:
    for name in key.env:
        value = _clean(environment.get(name, ""))
        if value:
            source = environment.source(name) if isinstance(environment, Environment) else "environment"
            _check_placeholder(value, f"{name} ({source})")
            return Credential(Secret(value), f"{name} ({source})")
    if any(looks_like_a_key(name) for name in key.env):
        raise CredentialMissing(
            "no key: what stands in env looks like the key itself, not like the name of a variable",
            hint='Put the key into .env as NAME=..., beside agouti.toml, and write key = { env = "NAME" }.',
        )
    empty = [name for name in key.env if name in environment]
    source_names = ", then ".join(key.env)
    state = "is empty" if len(empty) == len(key.env) == 1 else "is not set" if len(key.env) == 1 else "are not set"
    problem = f"no key: {source_names} {state} (looked in the environment, then in .env)"
    similar: list[str] = []
    for name in key.env:
        similar += [each for each in similar_names(name, environment) if each not in similar and each not in key.env]
    if similar:
        hint = f"A similar variable is set: {', '.join(similar[:3])}. Rename it, or put its name into the entry's key."
    elif isinstance(environment, Environment) and environment.remark:
        hint = f"{environment.remark[0].upper()}{environment.remark[1:]}."
    else:
        hint = f"Set it: export {key.env[0]}=...   or write that line, without export, into .env beside agouti.toml."
    raise CredentialMissing(problem, hint=hint)


_PLACEHOLDER = re.compile(r"<.*>|\$\{?\w+\}?|%\w+%|\.{3}|(?:your|my|insert|paste)[-_ ].*key.*", re.IGNORECASE)


def _check_placeholder(value: str, found: str) -> None:
    if _PLACEHOLDER.fullmatch(value):
        raise CredentialMissing(
            f"no key: {found} holds a placeholder, not a key",
            hint='Put the key itself there, as the provider shows it; a variable is named as key = { env = "NAME" }.',
        )


def _from_file(key: FileKey) -> Credential:
    path = Path(key.file).expanduser()
    text = read_text(path, "key")
    # A private key has many lines; anything else is one word.
    value = text.strip() if text.lstrip().startswith("-----BEGIN") else _clean(text)
    if not value:
        raise CredentialMissing(f"no key: file {path} is empty", hint="Write the key, and nothing else, into it.")
    return Credential(Secret(value), f"file {path}", renewable=True)


def _from_keyring(key: KeyringKey) -> Credential:
    from . import keyring

    secret = keyring.get(key.keyring)
    if secret is None:
        raise CredentialMissing(
            f"no key: the keyring has no entry {key.keyring} for {keyring.SERVICE}",
            hint=f"Put it there: agouti secret put {key.keyring}",
        )
    return Credential(Secret(_clean(secret.reveal())), f"keyring entry {key.keyring}", renewable=True)
