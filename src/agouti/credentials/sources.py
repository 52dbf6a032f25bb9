"""Where a key lives. An entry names the place; the value is fetched when it is first needed.

>>> parse_key({"env": "NORTHBANK_KEY"})
EnvKey(env=('NORTHBANK_KEY',))
"""

from collections.abc import Callable

import msgspec
from msgspec import Struct

from ..core.chat import Json
from ..core.near import near_hint
from ..core.secret import Secret


class Key:
    """Base of all places where a key can live."""

    def places(self) -> str:
        """Where this key is looked for, in order, in words."""
        raise NotImplementedError


class EnvKey(Key, Struct, frozen=True):
    """An environment variable, or the first that is set of several; ``.env`` beside the configuration counts."""

    env: tuple[str, ...]

    def places(self) -> str:
        return "environment variable " + ", then ".join(self.env)


class FileKey(Key, Struct, frozen=True):
    """A file that holds nothing but the key."""

    file: str

    def places(self) -> str:
        return f"file {self.file}"


class GivenKey(Key, Struct, frozen=True):
    """The key itself, passed in code; or written in a file, which ``agouti check`` flags."""

    value: Secret

    def places(self) -> str:
        return "given as it is"


Parser = Callable[[Json], Key]


def _names(value: Json, what: str) -> tuple[str, ...]:
    names = [value] if isinstance(value, str) else value
    if not isinstance(names, list) or not names or not all(isinstance(name, str) and name for name in names):
        raise msgspec.ValidationError(f"{what} takes a name, or a list of names")
    return tuple(names)


_KINDS: dict[str, Parser] = {
    "env": lambda value: EnvKey(_names(value["env"], "env")),
    "file": lambda value: msgspec.convert(value, FileKey),
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
    if not isinstance(value, dict):
        raise msgspec.ValidationError('expected a table such as { env = "NAME" }')
    kinds = [name for name in value if name in _KINDS]
    if len(kinds) != 1:
        unknown = next((name for name in value if name not in _KINDS), None)
        if unknown is not None:
            raise msgspec.ValidationError(f"no such kind of key: {unknown}. {near_hint(unknown, _KINDS, 'kind')}")
        raise msgspec.ValidationError(f"takes exactly one of {', '.join(_KINDS)}")
    return _KINDS[kinds[0]](value)
