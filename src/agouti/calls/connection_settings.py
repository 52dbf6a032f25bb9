"""Settings handed over to tools that only take an address, a key and a model: of a provider, or of the relay."""

import shlex
from collections.abc import Sequence

from msgspec import Struct

from ..core.errors import ConfigError
from ..credentials.sources import CommandKey, EnvKey, FileKey, Key
from ..engine.providers.provider import Target

NAMES = ("MODEL_ADDRESS", "MODEL_KEY", "MODEL_NAME")
"""The variables that stand for address, key and model, where a tool has no names of its own for them."""

RELAY_KEY = "AGOUTI_TOKEN"
"""The variable that an access token of the relay is looked for in."""


class ModelSettings(Struct, frozen=True, kw_only=True):
    """What a tool needs to reach a model; the key itself is never in it.

    Attributes:
        address: the base address: the tool puts the path of its operation behind it.
        model: what the tool has to send as the model's name.
        dialect: the wire format that is spoken there; a tool that only knows ``chat`` needs that one.
        key: where the key lives, in words; empty where none is needed.
        key_variable: the environment variable that holds it, where it lives in one.
        headers: names of further headers that the provider wants.

    Example:
        >>> import agouti
        >>> config = {"providers": {"shed": {"address": "localhost:8080/v1"}}}
        >>> with agouti.Client(config) as client:
        ...     client.settings("loam-2b@shed").address
        'http://localhost:8080/v1'
    """

    address: str
    model: str
    dialect: str
    key: str = ""
    key_variable: str = ""
    headers: tuple[str, ...] = ()
    shell_key: str = "none"

    def environment(self, names: Sequence[str] = NAMES) -> str:
        """Lines that set them in a shell.

        Args:
            names: of the variables for address, key and model, as the tool calls them.

        Raises:
            ConfigError: they are not three names.

        >>> print(ModelSettings(address="http://localhost:8080/v1", model="loam-2b", dialect="chat").environment())
        export MODEL_ADDRESS=http://localhost:8080/v1
        export MODEL_KEY=none
        export MODEL_NAME=loam-2b
        """
        if len(names) != 3 or not all(name.isidentifier() and name.isascii() for name in names):
            raise ConfigError(
                f"{', '.join(names)} are not three names of variables", hint="Give them as ADDRESS,KEY,MODEL."
            )
        values = (shlex.quote(self.address), self.shell_key, shlex.quote(self.model))
        return "\n".join([f"export {name}={value}" for name, value in zip(names, values, strict=True)])

    def as_dict(self) -> dict[str, object]:
        """The same as JSON values."""
        return {name: getattr(self, name) for name in self.__struct_fields__ if name != "shell_key"}


def settings_of(target: Target) -> ModelSettings:
    """What a tool needs to reach a model at its provider."""
    provider = target.provider
    key = provider.key
    return ModelSettings(
        address=provider.base,
        model=target.model.name,
        dialect=provider.dialect.name,
        key="" if key is None else key.describe(),
        key_variable=key.env[0] if isinstance(key, EnvKey) else "",
        headers=tuple(provider.entry.headers),
        shell_key="none" if key is None else _in_shell(key),
    )


def relay_settings(label: str, relay: str) -> ModelSettings:
    """What a tool needs to reach a model through the relay; whatever its provider speaks."""
    address = relay.rstrip("/")
    address = address if "://" in address else f"http://{address}"
    return ModelSettings(
        address=address if address.endswith("/v1") else f"{address}/v1",
        model=label,
        dialect="chat",
        key="an access token of the relay (agouti relay token NAME); any text where it has none",
        key_variable=RELAY_KEY,
        shell_key=f'"${{{RELAY_KEY}:-none}}"',
    )


def _in_shell(key: Key) -> str:
    """The key, as a shell gets it from where it lives."""
    if isinstance(key, EnvKey):
        return f'"${key.env[0]}"'
    if isinstance(key, FileKey):
        return f'"$(cat {shlex.quote(key.file)})"'
    if isinstance(key, CommandKey):
        return f'"$({" ".join(shlex.quote(argument) for argument in key.command)})"'
    return f"'...'   # {key.describe()}"
