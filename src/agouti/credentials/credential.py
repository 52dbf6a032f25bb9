"""A key in hand, and how it is put on a request."""

from base64 import b64encode
from urllib.parse import quote

import msgspec
from msgspec import Struct

from ..core.errors import ConfigError
from ..core.http import HttpRequest
from ..core.secret import Secret, SecretText

# A token is not used in its last minute: it must live until the provider has looked at it.
_MARGIN = 60.0


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
        signable = Signable(request.method, request.url, dict(request.headers), request.body or b"")
        SigV4Auth(Credentials(self.access_key, self.secret.reveal(), token), self.service, self.region).add_auth(
            signable
        )
        headers = {}
        for name, value in signable.headers.items():
            text = str(value)
            # The signature proves the key for this one request; the session token is a secret of its own.
            headers[name.lower()] = SecretText(text) if name.lower() == "authorization" or text == token else text
        return msgspec.structs.replace(request, headers=headers)


def parse_send_key(text: str) -> tuple[str, str]:
    """How a key travels: ``bearer``, ``basic``, ``header:NAME`` or ``query:NAME``.

    Raises:
        ConfigError: it is none of these.

    >>> parse_send_key("header:x-api-key")
    ('header', 'x-api-key')
    """
    way, _, name = text.partition(":")
    if (way in ("bearer", "basic") and not name) or (way in ("header", "query") and name):
        return way, name
    raise ConfigError(
        f"send_key = {text!r} is not a way to send a key",
        hint='Write "bearer", "basic", "header:NAME" or "query:NAME".',
    )


def key_header(send_key: str, credential: Credential) -> tuple[str, SecretText] | None:
    """The header that carries a key, or `None` where it travels in the query."""
    way, name = parse_send_key(send_key)
    value = credential.secret.reveal()
    if way == "bearer":
        return "authorization", SecretText(f"Bearer {value}")
    if way == "basic":
        return "authorization", SecretText(f"Basic {b64encode(value.encode()).decode()}")
    if way == "header":
        return name.lower(), SecretText(value)
    return None


def key_query(send_key: str, credential: Credential) -> SecretText | None:
    """The part of the query that carries a key, or `None` where it travels in a header."""
    way, name = parse_send_key(send_key)
    if way != "query":
        return None
    return SecretText(f"{quote(name, safe='')}={quote(credential.secret.reveal(), safe='')}")
