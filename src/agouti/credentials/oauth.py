"""Tokens from an OAuth 2 token endpoint, through Authlib: RFC 6749 sections 4.4 and 6, RFC 7523 section 2.1."""

import json
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from ..core.address import parse as parse_address
from ..core.errors import AgoutiError, ConfigError, CredentialMissing, CredentialRefused
from ..core.http import HttpReply, HttpRequest
from ..core.secret import Secret, SecretText
from .credential import Credential
from .files import read_text
from .sources import Key, OAuthKey

SecretOf = Callable[[Key], Secret]


class _Answer:
    """A reply in the form that Authlib reads."""

    def __init__(self, reply: HttpReply) -> None:
        self.status_code = reply.status
        self._body = reply.body

    def json(self) -> Any:
        return json.loads(self._body)

    def raise_for_status(self) -> None:
        if self.status_code >= 400:
            raise ValueError(f"HTTP {self.status_code}")


class _Session:
    """A session in the form that Authlib uses, over one function that sends."""

    def __init__(self, post: Callable[[HttpRequest], HttpReply]) -> None:
        self._post = post

    def post(self, url: str, data: Any = None, headers: Any = None, auth: Any = None, **_: Any) -> _Answer:
        body = data if isinstance(data, str) else urlencode(data or {})
        sent: Mapping[str, str] = {
            "content-type": "application/x-www-form-urlencoded",
            "accept": "application/json",
            **(headers or {}),
        }
        if auth is not None:
            url, sent, body = auth.prepare("POST", url, dict(sent), body)
        masked = {name.lower(): SecretText(value) for name, value in sent.items()}
        return _Answer(self._post(HttpRequest("POST", url, dict(masked), body.encode(), confidential=True)))

    def request(self, _method: str, url: str, **options: Any) -> _Answer:
        return self.post(url, **options)


def mint(key: OAuthKey, secret_of: SecretOf, post: Callable[[HttpRequest], HttpReply], now: float) -> Credential:
    """A new token.

    Raises:
        CredentialMissing: something that the grant needs is not there.
        CredentialRefused: the token endpoint refuses.
        ConfigError: Authlib is not installed, or the token address is not safe.
    """
    try:
        from authlib.oauth2 import OAuth2Error
    except ModuleNotFoundError:
        raise ConfigError(
            "OAuth needs Authlib, which is not installed", hint="Install it: pip install 'agouti-client[oauth]'"
        ) from None
    account = _account(key)
    address = key.token_address or account.get("token_uri", "")
    if not address:
        raise CredentialMissing("no token: the entry names no token_address", hint='Add token_address = "https://..."')
    if parse_address(address).plain_http:
        raise ConfigError(
            f"the client secret would be sent over plain http to {address}", hint="Write https:// in token_address."
        )
    try:
        token = _token(key, account, address, secret_of, _Session(post))
    except OAuth2Error as error:
        raise CredentialRefused(
            f"the token endpoint {address} refuses: {error.error} {error.description or ''}".rstrip(),
            hint="Check client_id, the secret, and the scope that this client may have.",
            message=error.description or error.error,
        ) from None
    except AgoutiError:
        raise
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise CredentialRefused(
            f"the token endpoint {address} gives no token: {error}",
            hint="Check token_address; it is to answer with JSON that has access_token.",
        ) from None
    if not token.get("access_token"):
        raise CredentialRefused(
            f"the token endpoint {address} answers without an access_token", hint="Check token_address and the grant."
        )
    lifetime = token.get("expires_in")
    expires = now + float(lifetime) if lifetime is not None else None
    return Credential(Secret(str(token["access_token"])), f"token from {address}", expires, renewable=True)


def _token(
    key: OAuthKey, account: Mapping[str, str], address: str, secret_of: SecretOf, session: _Session
) -> dict[str, Any]:
    from authlib.oauth2 import OAuth2Client
    from authlib.oauth2.rfc7521 import AssertionClient
    from authlib.oauth2.rfc7523 import JWTBearerGrant

    answer: dict[str, Any]
    if key.oauth == "assertion":
        issuer = key.issuer or account.get("client_email", "")
        private = account.get("private_key") or (
            secret_of(key.private_key).reveal() if key.private_key is not None else ""
        )
        if not issuer or not private:
            raise CredentialMissing(
                f"no token: the signed assertion needs {'an issuer' if private else 'a private key'}",
                hint='Add issuer = "..." and private_key = { file = "..." }, or account = "FILE.json".',
            )
        header = {"alg": key.algorithm}
        if key_id := key.key_id or account.get("private_key_id", ""):
            header["kid"] = key_id

        class Client(AssertionClient):  # type: ignore[misc]
            DEFAULT_GRANT_TYPE = JWTBearerGrant.GRANT_TYPE
            ASSERTION_METHODS = {JWTBearerGrant.GRANT_TYPE: JWTBearerGrant.sign}  # noqa: RUF012
            token: Any = None

        client = Client(
            session,
            address,
            issuer,
            key.subject or None,
            audience=key.audience or address,
            scope=key.scope or None,
            key=_signing_key(private, key.algorithm),
            header=header,
        )
        answer = client.refresh_token()
        return answer
    more = {"audience": key.audience} if key.audience else {}
    secret = secret_of(key.client_secret).reveal() if key.client_secret is not None else None
    way = "none" if secret is None else "client_secret_basic" if key.client_auth == "basic" else "client_secret_post"
    plain = OAuth2Client(session, key.client_id, secret, token_endpoint_auth_method=way, scope=key.scope or None)
    if key.oauth == "refresh_token":
        if key.refresh_token is None:
            raise CredentialMissing(
                "no token: the entry names no refresh_token", hint='Add refresh_token = { env = "..." }.'
            )
        answer = plain.refresh_token(address, secret_of(key.refresh_token).reveal(), **more)
    else:
        answer = plain.fetch_token(address, grant_type="client_credentials", **more)
    return answer


_KEY_KINDS = {"HS": "OctKey", "RS": "RSAKey", "PS": "RSAKey", "ES": "ECKey", "Ed": "OKPKey"}


def _signing_key(text: str, algorithm: str) -> Any:
    from joserfc import jwk
    from joserfc.errors import JoseError

    kind = _KEY_KINDS.get(algorithm[:2])
    if kind is None:
        raise ConfigError(
            f"there is no signing algorithm {algorithm!r}", hint="Usual ones: RS256, ES256, PS256, EdDSA, HS256."
        )
    try:
        return getattr(jwk, kind).import_key(text)
    except (JoseError, ValueError, TypeError):
        pass
    raise CredentialMissing(
        f"no token: the private key is not one for {algorithm}",
        hint="It is the whole text of the key file, from -----BEGIN to -----END; check algorithm too.",
    )


def _account(key: OAuthKey) -> dict[str, str]:
    if not key.account:
        return {}
    path = Path(key.account).expanduser()
    try:
        fields = json.loads(read_text(path, "service account"))
    except ValueError:
        fields = None
    if not isinstance(fields, dict):
        raise CredentialMissing(
            f"no token: {path} is not a service account file", hint="It is a JSON object with a private key in it."
        )
    return {name: value for name, value in fields.items() if isinstance(value, str)}
