"""A key in hand, and how it is put on a request."""

import re
import unicodedata
from base64 import b64encode
from functools import lru_cache
from urllib.parse import quote

import msgspec
from msgspec import Struct

from ..core.errors import ConfigError, CredentialMissing
from ..core.http.exchange import HttpRequest
from ..core.secrets.masking import looks_like_a_key
from ..core.secrets.secret import Secret, SecretText

# A token is not used in its last minute: it must live until the provider has looked at it.
_MARGIN = 60.0


@lru_cache(maxsize=16)
def _fingerprint(key: str) -> str:
    """Asked for with every attempt."""
    import hashlib

    return hashlib.sha256(b"agouti fingerprint " + key.encode()).hexdigest()[:12]


class Credential(Struct, frozen=True):
    """A key in hand.

    Attributes:
        secret: the key.
        found: where it was found, in words.
        expires: when it ends, in seconds since the epoch; `None` where that is not known.
        renewable: whether fetching it again may give another one.
    """

    secret: Secret
    found: str
    expires: float | None = None
    renewable: bool = False

    @property
    def fingerprint(self) -> str:
        """What tells keys apart without saying anything of them."""
        return _fingerprint(self.secret.reveal())

    def fresh(self, now: float) -> bool:
        """Whether it can still be used; ``now`` in seconds since the epoch."""
        return self.expires is None or now < self.expires - _MARGIN


class SigningCredential(Credential, frozen=True):
    """Keys that sign requests. ``secret`` is the signing key, which never travels."""

    access_key: str = ""
    region: str = ""
    service: str = ""
    session_token: Secret | None = None

    def sign(self, request: HttpRequest) -> HttpRequest:
        """The request with the headers that sign it: method, path, headers and body together.

        Raises:
            ConfigError: the library that signs is not installed.
        """
        try:
            from botocore.auth import SigV4Auth
            from botocore.awsrequest import AWSRequest as Signable
            from botocore.credentials import Credentials
        except ModuleNotFoundError:
            raise ConfigError(
                "signing requests needs botocore, which is not installed",
                hint="Install it: pip install 'agouti-client[signature]'",
            ) from None
        token = self.session_token.reveal() if self.session_token is not None else None
        signable = Signable(request.method, "".join((request.target,)), _revealed(request.headers), request.body or b"")
        SigV4Auth(Credentials(self.access_key, self.secret.reveal(), token), self.service, self.region).add_auth(
            signable
        )
        headers = {}
        for name, value in signable.headers.items():
            text = value.reveal() if isinstance(value, SecretText) else str(value)
            # The signature proves the key for this one request; the session token is a secret of its own.
            secret = (
                name.lower() == "authorization" or text == token or isinstance(request.headers.get(name), SecretText)
            )
            headers[name.lower()] = SecretText(text) if secret else text
        return msgspec.structs.replace(request, headers=headers)


_ASSIGNED = re.compile(r"(?:export\s+)?[A-Z][A-Z0-9_]*(?:KEY|TOKEN|SECRET)[A-Z0-9_]*=")
_NAME = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")


def parse_send_key(text: str) -> tuple[str, str]:
    """How a key travels: ``bearer``, ``basic``, ``header:NAME`` or ``query:NAME``.

    Raises:
        ConfigError: it is none of these.

    >>> parse_send_key("header:x-api-key")
    ('header', 'x-api-key')
    """
    scheme, _, name = text.partition(":")
    if (scheme in ("bearer", "basic") and not name) or (scheme in ("header", "query") and _NAME.fullmatch(name)):
        return scheme, name
    if scheme in ("header", "query") and _NAME.fullmatch(name.strip()):
        raise ConfigError(
            f"send_key = {text!r} names no {scheme}: there are blanks in it", hint=f'Write "{scheme}:{name.strip()}".'
        )
    if looks_like_a_key(text):
        raise ConfigError(
            "send_key holds what looks like a key itself",
            hint='Write "bearer", "basic", "header:NAME" or "query:NAME"; the key goes into key = { env = "NAME" }.',
        )
    raise ConfigError(
        f"send_key = {text!r} is not a way to send a key",
        hint='Write "bearer", "basic", "header:NAME" or "query:NAME".',
    )


def _revealed(headers: dict[str, str]) -> dict[str, str]:
    """Headers as they are sent: a signature holds for their real values."""
    return {name: value.reveal() if isinstance(value, SecretText) else value for name, value in headers.items()}


def check_key(value: str, found: str, *, ascii_only: bool) -> None:
    """See that a key can be sent: one line of visible characters.

    Args:
        found: where it was found, for the error, which never shows the key.
        ascii_only: it goes into a header as it is.

    Raises:
        CredentialMissing: it cannot; says which character, and where.
    """
    if (assigned := _ASSIGNED.match(value)) is not None:
        raise CredentialMissing(
            f"the key from {found} begins with {assigned[0]}: it is an assignment",
            hint="Only what stands behind the equals sign is the key: write that alone there.",
        )
    for position, letter in enumerate(value, 1):
        code = ord(letter)
        if 32 <= code < 127 or (not ascii_only and code > 160 and not 0xD800 <= code < 0xE000):
            continue
        name = unicodedata.name(letter, f"U+{code:04X}").lower() if code > 127 else f"a control character ({code})"
        if letter in "\r\n":
            name = "a line end"
        raise CredentialMissing(
            f"the key from {found} cannot be sent: its character {position} is {name}",
            hint="It was copied with something around it: write the key alone there, in one line.",
        )


def key_header(send_key: str, credential: Credential) -> tuple[str, SecretText] | None:
    """The header that carries a key, or `None` where it travels in the query."""
    scheme, name = parse_send_key(send_key)
    value = credential.secret.reveal()
    check_key(value, credential.found, ascii_only=scheme in ("bearer", "header"))
    if scheme == "bearer":
        return "authorization", SecretText(f"Bearer {value}")
    if scheme == "basic":
        return "authorization", SecretText(f"Basic {b64encode(value.encode()).decode()}")
    if scheme == "header":
        return name.lower(), SecretText(value)
    return None


def key_query(send_key: str, credential: Credential) -> SecretText | None:
    """The part of the query that carries a key, or `None` where it travels in a header."""
    scheme, name = parse_send_key(send_key)
    if scheme != "query":
        return None
    check_key(credential.secret.reveal(), credential.found, ascii_only=False)
    return SecretText(f"{quote(name, safe='')}={quote(credential.secret.reveal(), safe='')}")
