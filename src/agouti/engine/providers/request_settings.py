"""An entry's address, query, headers and fields with everything put in: as they are sent, and as they are shown."""

import re
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urlencode

from ...config.entries import Provider
from ...config.secret_settings import places_in, without_places
from ...core.errors import ConfigError
from ...core.http import address as addresses
from ...core.secrets.secret import MASK, SecretText, looks_secret
from ...core.text.suggest import near_hint
from ...credentials.credential import check_key
from ...credentials.sources import GivenKey, Key, SignatureKey
from ...dialects.registry import parse_address

if TYPE_CHECKING:
    from ...credentials.credential import Credential

_HEADER = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")
_TEMPLATE = re.compile(r"\{(\w+)\}")


class Filled:
    """A text with its values put in.

    Attributes:
        real: as it is sent; no struct, so that nothing that walks over fields comes upon it.
        display: with a mask for every secret in it.
        secret: whether there is a secret in it.
    """

    __slots__ = ("display", "real", "secret")

    def __init__(self, real: str, display: str) -> None:
        self.real = real
        self.display = display
        self.secret = real != display

    def __repr__(self) -> str:
        return f"Filled({self.display!r})"


class Settings:
    """What an entry says of every request.

    Attributes:
        base: base address.
        address: the same taken apart, as it is shown.
        query: further query parameters, encoded.
        headers: further headers; secret ones are `SecretText`.
        add: further fields of the body.
        secrets: every secret in them.

    Args:
        credentials: the secrets that live elsewhere, as fetched; those that are not there yet are masked.

    Raises:
        ConfigError: something in the entry cannot be used.
    """

    def __init__(self, entry: Provider, credentials: "Mapping[Key, Credential]", *, declared: bool) -> None:
        self._entry = entry
        self._credentials = credentials
        self.secrets: list[str] = []
        text = self.filled(entry.address, "address")
        parse = addresses.parse if declared else lambda value: parse_address(value, entry.dialect)
        self.address = parse(text.display)
        real = parse(text.real)
        self.base = Filled(real.base, self.address.base)
        self.query = self._query(self.address, real)
        self.headers = self._headers()
        self.add: dict[str, Any] = without_places(entry.add, self._secret)

    def __repr__(self) -> str:
        return f"Settings({self.base.display!r})"

    def filled(self, text: str, where: str) -> Filled:
        """A text of the entry with its values put in.

        Raises:
            ConfigError: a value is missing.
        """
        if "{" not in text:
            return Filled(text, text)
        values, provider = self._entry.values, self._entry
        display: dict[str, str] = {}

        def value(match: re.Match[str]) -> str:
            name = match[1]
            if name in values:
                value = values[name]
                display[name] = value if isinstance(value, str) else MASK
                return value if isinstance(value, str) else self._secret(value)
            if name == "model":
                display[name] = match[0]
                return match[0]
            raise ConfigError(
                f"{where} of provider {provider.label} wants a value for {{{name}}}",
                hint=f'Add values = {{ {name} = "..." }}. ' + (near_hint(name, values, "value") if values else ""),
                provider=provider.label,
            )

        real = _TEMPLATE.sub(value, text)
        return Filled(real, _TEMPLATE.sub(lambda match: display[match[1]], text))

    def _secret(self, source: Key) -> str:
        if isinstance(source, GivenKey):
            value = source.value.reveal()
        elif source in self._credentials:
            value = self._credentials[source].secret.reveal()
        else:
            return MASK
        if value not in self.secrets:
            self.secrets.append(value)
        return value

    def _text(self, name: str, value: "str | Key", where: str) -> Filled:
        if isinstance(value, Key):
            literal = self._secret(value)
            real = self.filled(literal, where).real if isinstance(value, GivenKey) else literal
            return Filled(real, MASK)
        text = self.filled(value, where)
        if not text.secret and looks_secret(name) and "{" in value:
            self.secrets.append(text.real)
            return Filled(text.real, MASK)
        return text

    def _query(self, display: addresses.Address, real: addresses.Address) -> Filled:
        pairs = {
            name: Filled(value, display.query.get(name, MASK))
            for name, value in {**real.query, **({real.key_name: real.key} if real.key_name else {})}.items()
            if value is not None
        }
        if real.key is not None and real.key_name is not None:
            pairs[real.key_name] = Filled(real.key, MASK)
            self.secrets.append(real.key)
        pairs |= {name: self._text(name, value, "query") for name, value in self._entry.query.items()}
        return Filled(
            urlencode({name: text.real for name, text in pairs.items()}),
            "&".join(
                f"{quote(name, safe='')}={MASK}"
                if text.secret or text.display == MASK
                else urlencode({name: text.real})
                for name, text in pairs.items()
            ),
        )

    def _headers(self) -> dict[str, str]:
        headers: dict[str, str] = {}
        label = self._entry.label
        for name, header_value in self._entry.headers.items():
            text = self._text(name, header_value, "headers")
            if not _HEADER.fullmatch(name):
                raise ConfigError(
                    f"{name[:40]!r} in headers of provider {label} is no name of a header",
                    hint="Names have letters, digits and - only, without a colon.",
                )
            value = text.real
            if "\n" in value or "\r" in value:
                raise ConfigError(f"header {name} of provider {label} holds a line end", hint="Write it in one line.")
            if not value.isprintable() or not value.isascii():
                raise ConfigError(
                    f"header {name} of provider {label} holds a character that cannot be sent",
                    hint="Write it in visible ASCII characters.",
                )
            headers[name.lower()] = SecretText(value) if text.secret or isinstance(header_value, Key) else value
        return headers

    @property
    def travels_secretly(self) -> bool:
        """Whether a secret goes with every request, the key apart."""
        return bool(
            self.base.secret
            or self.query.secret
            or any(isinstance(value, SecretText) for value in self.headers.values())
            or self.add != without_places(self._entry.add, lambda _: MASK)
        )


def places_of(entry: Provider) -> tuple[Key, ...]:
    """The places beside the key's own from which an entry takes secrets.

    Raises:
        ConfigError: one of them is of a kind that gives no text.
    """
    sources = places_in([entry.headers, entry.query, entry.values, entry.add])
    for source in sources:
        if isinstance(source, SignatureKey):
            raise ConfigError(
                f"provider {entry.label} takes a signature for a text",
                hint="Signatures go into key; a text lives in env, file, keyring or command, or comes by oauth.",
            )
    return tuple(sources)


def checked_place(source: Key, credential: "Credential") -> "Credential":
    """What was fetched for a setting, if it can be sent.

    Raises:
        CredentialMissing: it cannot.
    """
    check_key(credential.secret.reveal(), credential.found, ascii_only=True)
    return credential
