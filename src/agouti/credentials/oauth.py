"""Tokens from an OAuth 2 token endpoint, through Authlib: RFC 6749 sections 4.4 and 6, RFC 7523 section 2.1."""

import json
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from ..core.errors import AgoutiError, ConfigError, CredentialMissing, CredentialRefused, Overloaded, RateLimited
from ..core.http.address import parse as parse_address
from ..core.http.address import with_scheme
from ..core.http.exchange import HttpReply, HttpRequest, Tls
from ..core.http.retry_after import asked_wait
from ..core.secrets.masking import Masker
from ..core.secrets.secret import Secret, SecretText
from .command import seconds_of
from .credential import Credential
from .files import read_text
from .sources import Key, OAuthKey

SecretOf = Callable[[Key], Secret]


class _Busy(Exception):
    """The endpoint cannot answer just now."""

    def __init__(self, reply: HttpReply) -> None:
        super().__init__(reply.status)
        self.reply = reply


class _Answer:
    """A reply in the form that Authlib reads: a JSON object, or an error of the standard."""

    def __init__(self, fields: dict[str, Any], status: int) -> None:
        self.status_code = status
        self._fields = fields

    def json(self) -> Any:
        return self._fields

    def raise_for_status(self) -> None:
        pass  # what is no error of the standard has been seen before


class _Session:
    """A session in the form that Authlib uses, over one function that sends."""

    def __init__(self, post: Callable[[HttpRequest], HttpReply], tls: Tls | None) -> None:
        self._post = post
        self._tls = tls

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
        reply = self._post(HttpRequest("POST", url, dict(masked), body.encode(), tls=self._tls, confidential=True))
        if reply.status == 429 or reply.status >= 500:
            raise _Busy(reply)
        fields = _fields(reply.body, reply.status)
        if seconds_of(fields.get("expires_in")) is None:
            fields.pop("expires_in", None)
        return _Answer(fields, reply.status)

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
    address = with_scheme(address)
    display = address.partition("?")[0]
    if parse_address(address).plain_http:
        raise ConfigError(
            f"the client secret would be sent over plain http to {display}", hint="Write https:// in token_address."
        )
    failure: AgoutiError
    used: list[str] = []

    def noted(source: Key) -> Secret:
        secret = secret_of(source)
        used.append(secret.reveal())
        return secret

    try:
        token = _token(key, account, address, noted, _Session(post, key.tls))
        value = token.get("access_token")
        if not isinstance(value, str) or not value:
            raise ValueError(_reason(token) or "there is no access_token in what it answers")
    except OAuth2Error as error:
        description = error.description or ""
        failure = CredentialRefused(
            f"the token endpoint {display} refuses: {error.error} {description}".rstrip(),
            hint="Check client_id, the secret, and the scope that this client may have.",
            provider_message=description or error.error,
        )
    except AgoutiError:
        raise
    except _Busy as busy:
        kind = RateLimited if busy.reply.status == 429 else Overloaded
        failure = kind(
            f"the token endpoint {display} cannot answer now (HTTP {busy.reply.status})",
            status=busy.reply.status,
            wait=asked_wait(busy.reply.headers, busy.reply.body),
            hint="Try again later; it is the endpoint of the entry's key, not the provider itself.",
        )
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        failure = CredentialRefused(
            f"the token endpoint {display} gives no token: {error}",
            hint="Check token_address, the grant and the scope; it is to answer with JSON that has access_token.",
        )
    else:
        lifetime = seconds_of(token.get("expires_in"))
        expires = None if lifetime is None else now + lifetime
        return Credential(Secret(value), f"token from {display}", expires, renewable=True)
    # Behind the handlers: foreign exceptions hold the request, secret and all; and the endpoint may repeat it.
    Masker(used).mask_error(failure)
    raise failure


def _fields(body: bytes, status: int) -> dict[str, Any]:
    """The JSON object that an endpoint answers with.

    Raises:
        ValueError: it answers with something else, or says in words of its own what is wrong.
    """
    try:
        fields = json.loads(body)
    except (ValueError, RecursionError):
        fields = None
    if not isinstance(fields, dict):
        raise ValueError(f"it answers with no JSON object (HTTP {status})")
    if status >= 400 and not isinstance(fields.get("error"), str):
        raise ValueError(f"{_reason(fields) or 'it does not say why'} (HTTP {status})")
    return fields


def _reason(fields: Mapping[str, Any]) -> str:
    """What an endpoint says that does not answer in the form of the standard."""
    for name in ("error_description", "message", "detail", "error", "reason"):
        value = fields.get(name)
        if isinstance(value, dict):
            value = value.get("message")
        if isinstance(value, str) and value:
            return " ".join(value.split())[:300]
    return ""


# Endpoints that rotate refresh tokens take each only once: the newest one, by what it has come from.
_LATEST: dict[tuple[str, str, Secret], Secret] = {}


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
    parameters = {"audience": key.audience} if key.audience else {}
    secret = secret_of(key.client_secret).reveal() if key.client_secret is not None else None
    auth_method = (
        "none" if secret is None else "client_secret_basic" if key.client_auth == "basic" else "client_secret_post"
    )
    oauth_client = OAuth2Client(
        session, key.client_id, secret, token_endpoint_auth_method=auth_method, scope=key.scope or None
    )
    if key.oauth == "refresh_token":
        if key.refresh_token is None:
            raise CredentialMissing(
                "no token: the entry names no refresh_token", hint='Add refresh_token = { env = "..." }.'
            )
        refresh_token = secret_of(key.refresh_token)
        source = (address, key.client_id, refresh_token)
        answer = oauth_client.refresh_token(address, _LATEST.get(source, refresh_token).reveal(), **parameters)
        if isinstance(newest := answer.get("refresh_token"), str) and newest:
            _LATEST[source] = Secret(newest)
    else:
        answer = oauth_client.fetch_token(address, grant_type="client_credentials", **parameters)
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
