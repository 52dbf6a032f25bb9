"""Where a key lives. An entry names the place; the value is fetched when it is first needed.

    >>> parse_key({"env": "NORTHBANK_KEY"})
    EnvKey(env=('NORTHBANK_KEY',))

In a file each is a table with one of these names in it: ``env``, ``file``, ``keyring``, ``command``,
``oauth``, ``signature``; a list of tables is several keys, used in turn.
"""

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import msgspec
from msgspec import Struct
from msgspec.structs import force_setattr

from ..core.canonical.chat import Json
from ..core.http.exchange import Tls
from ..core.secrets.masking import looks_like_a_key
from ..core.secrets.secret import MASK, Secret
from ..core.text.suggest import near_hint


class Key:
    """Base of all places where a key can live."""

    def describe(self) -> str:
        """Where this key is looked for, in order, in words."""
        raise NotImplementedError

    def resolved_in(self, folder: Path) -> "Key":
        """The same key, with relative paths taken from a folder: that of the configuration file."""
        return self


class EnvKey(Key, Struct, frozen=True):
    """An environment variable, or the first that is set of several; ``.env`` beside the configuration counts.

    Attributes:
        env: its name, or the names.

    >>> EnvKey("NORTHBANK_KEY") == EnvKey(("NORTHBANK_KEY",))
    True
    """

    env: tuple[str, ...]

    if TYPE_CHECKING:

        def __init__(self, env: str | tuple[str, ...]) -> None: ...

    def __post_init__(self) -> None:
        env: object = self.env
        if isinstance(env, str):
            force_setattr(self, "env", (env,))

    def describe(self) -> str:
        return "environment variable " + ", then ".join(self.env)


class FileKey(Key, Struct, frozen=True, forbid_unknown_fields=True):
    """A file that holds nothing but the key."""

    file: str

    def describe(self) -> str:
        return f"file {self.file}"

    def resolved_in(self, folder: Path) -> "FileKey":
        return FileKey(_in_folder(self.file, folder))


class KeyringKey(Key, Struct, frozen=True, forbid_unknown_fields=True):
    """The operating system's keyring, under a name of your own: put it there with ``agouti secret put NAME``."""

    keyring: str

    def describe(self) -> str:
        return f"keyring entry {self.keyring}"


class CommandKey(Key, Struct, frozen=True, forbid_unknown_fields=True):
    """A command that prints a token: as plain text, or as JSON with an expiry.

    Attributes:
        command: program and arguments. It is never run through a shell.
        timeout: seconds after which it is given up.
        lifetime: seconds that a token without an expiry of its own is kept.
    """

    command: tuple[str, ...]
    timeout: float = 30.0
    lifetime: float = 300.0

    def describe(self) -> str:
        shown_command = [
            MASK if looks_like_a_key(argument.partition("=")[2] or argument) else argument for argument in self.command
        ]
        return f"command {' '.join(shown_command)[:60]}"

    def resolved_in(self, folder: Path) -> "CommandKey":
        # A plain name is looked for on PATH; one with folders in it stands beside the file that names it.
        program = self.command[0] if self.command else ""
        if "/" not in program:
            return self
        return msgspec.structs.replace(self, command=(_in_folder(program, folder), *self.command[1:]))


class OAuthKey(Key, Struct, frozen=True, forbid_unknown_fields=True):
    """A token from an OAuth 2 token endpoint (RFC 6749, RFC 7523).

    Attributes:
        oauth: the grant: ``client_credentials``, ``refresh_token``, or ``assertion`` (a signed one, for a
            service account).
        token_address: the token endpoint.
        client_id, client_secret: who asks; the secret is a key source of its own.
        client_auth: how they are sent: ``basic`` (a header) or ``body``.
        refresh_token: for that grant, where the refresh token lives.
        issuer, subject, audience, private_key, key_id, algorithm: for ``assertion``.
        account: for ``assertion``, a JSON file that holds issuer, private key and token address together.
        tls: certificates beside the system's own, as for a provider.
    """

    oauth: Literal["client_credentials", "refresh_token", "assertion"]
    token_address: str = ""
    client_id: str = ""
    client_secret: Key | None = None
    client_auth: Literal["basic", "body"] = "basic"
    refresh_token: Key | None = None
    scope: str = ""
    audience: str = ""
    issuer: str = ""
    subject: str = ""
    private_key: Key | None = None
    key_id: str = ""
    algorithm: str = "RS256"
    account: str = ""
    tls: Tls | None = None

    def describe(self) -> str:
        return f"token from {self.token_address.partition('?')[0] or self.account} ({self.oauth})"

    def resolved_in(self, folder: Path) -> "OAuthKey":
        inner = _inner_resolved(self, folder)
        account = _in_folder(self.account, folder) if self.account else ""
        tls = self.tls
        if tls is not None:
            tls = Tls(*[_in_folder(path, folder) if path else "" for path in msgspec.structs.astuple(tls)])
        return msgspec.structs.replace(self, account=account, tls=tls, **inner)


class SignatureKey(Key, Struct, frozen=True, forbid_unknown_fields=True):
    """Keys that sign each request (signature version 4) instead of travelling with it.

    Attributes:
        signature: the version: ``v4``.
        region, service: what the signature is bound to.
        access_key, secret_key, session_token: key sources; or
        profile_file, profile: a shared profile file, and the section of it.
    """

    signature: Literal["v4"]
    region: str
    service: str
    access_key: Key | None = None
    secret_key: Key | None = None
    session_token: Key | None = None
    profile_file: str = ""
    profile: str = "default"

    def describe(self) -> str:
        if self.profile_file:
            return f"profile {self.profile} in {self.profile_file}"
        parts = [key.describe() for key in (self.access_key, self.secret_key) if key is not None]
        return " and ".join(parts) or "nowhere: no access_key, no profile_file"

    def resolved_in(self, folder: Path) -> "SignatureKey":
        inner = _inner_resolved(self, folder)
        path = _in_folder(self.profile_file, folder) if self.profile_file else ""
        return msgspec.structs.replace(self, profile_file=path, **inner)


class GivenKey(Key, Struct, frozen=True):
    """The key itself, passed in code; or written in a file, which ``agouti check`` flags."""

    value: Secret

    def describe(self) -> str:
        return "given as it is"


class SeveralKeys(Key, Struct, frozen=True):
    """Several keys of one provider, used in turn; one that is refused is set aside."""

    keys: tuple[Key, ...]

    def describe(self) -> str:
        return "; ".join(key.describe() for key in self.keys)

    def resolved_in(self, folder: Path) -> "SeveralKeys":
        return SeveralKeys(tuple(key.resolved_in(folder) for key in self.keys))


def _inner_resolved(key: Struct, folder: Path) -> dict[str, Key]:
    """The key sources within a key source, with relative paths taken from a folder."""
    inner = {name: getattr(key, name) for name in key.__struct_fields__}
    return {name: source.resolved_in(folder) for name, source in inner.items() if isinstance(source, Key)}


def _in_folder(path: str, folder: Path) -> str:
    file = Path(path).expanduser()
    return str(file if file.is_absolute() else folder / file)


def _names(value: dict[str, Json]) -> Key:
    names = value["env"]
    names = [names] if isinstance(names, str) else names
    if not isinstance(names, list) or not names or not all(isinstance(name, str) and name for name in names):
        raise msgspec.ValidationError("env takes the name of a variable, or a list of names")
    if len(value) > 1:
        raise msgspec.ValidationError("env stands alone; nothing else goes beside it")
    return EnvKey(tuple(names))


def _as(kind: type[Any]) -> Callable[[Json], Key]:
    def parse(value: Json) -> Key:
        key_source: Key = msgspec.convert(value, kind, dec_hook=key_hook)
        return key_source

    return parse


_KINDS: dict[str, Callable[[Json], Key]] = {
    "env": _names,
    "file": _as(FileKey),
    "keyring": _as(KeyringKey),
    "command": _as(CommandKey),
    "oauth": _as(OAuthKey),
    "signature": _as(SignatureKey),
}


def parse_key(value: Json) -> Key:
    """The key source that a configuration value describes.

    Raises:
        msgspec.ValidationError: it describes none.
    """
    if isinstance(value, Key):
        return value
    if isinstance(value, Secret):
        return GivenKey(value)
    if isinstance(value, str):
        if not value:
            raise msgspec.ValidationError('an empty key; write key = { env = "NAME" }, or leave it out')
        return GivenKey(Secret(value))
    if isinstance(value, list) and value:
        return SeveralKeys(tuple(parse_key(each) for each in value))
    if not isinstance(value, dict):
        raise msgspec.ValidationError('expected a table such as { env = "NAME" }')
    kinds = [name for name in value if name in _KINDS]
    if not kinds:
        unknown = next(iter(value), "")
        raise msgspec.ValidationError(f"no such kind of key: {unknown!r}. {near_hint(unknown, _KINDS, 'kind')}")
    if len(kinds) > 1:
        raise msgspec.ValidationError(f"two kinds of key in one: {kinds[0]} and {kinds[1]}; make it a list of two")
    return _KINDS[kinds[0]](value)


def is_key_table(value: Mapping[str, Json]) -> bool:
    """Whether a table among the fields of a request body says where a secret lives: one name, of a kind that is simple.

    >>> is_key_table({"env": "SHED_KEY"}), is_key_table({"env": ["A"], "more": 1})
    (True, False)
    """
    (name, inner), *further = value.items() if value else [("", None)]
    if further or name not in ("env", "file", "keyring", "command"):
        return False
    return bool(inner) and isinstance(inner, list if name == "command" else str)


def key_hook(kind: type[Any], value: Json) -> Json:
    """Decodes the `Key` fields of a struct, for msgspec."""
    if kind is Key:
        return parse_key(value)
    raise NotImplementedError
