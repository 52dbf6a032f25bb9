"""What a provider demands before it answers: a key, a header, a region, credit. One small class per kind of door."""

import base64
import hmac
import time
from dataclasses import dataclass, field
from typing import Any, Protocol

from starlette.requests import Request


@dataclass(frozen=True)
class Refusal:
    """Why a request is turned away; a dialect puts it into its own words."""

    status: int
    message: str
    code: str | None = None
    headers: dict[str, str] = field(default_factory=dict)


class Door(Protocol):
    """Looks at a request before anything else does."""

    def refuse(self, request: Request, body: bytes) -> Refusal | None:
        """Why the request is turned away; `None` lets it in."""


@dataclass(frozen=True)
class Bearer:
    """A key as a bearer token."""

    key: str

    def refuse(self, request: Request, body: bytes) -> Refusal | None:
        return _compare(request.headers.get("authorization"), f"Bearer {self.key}", "authorization")


@dataclass(frozen=True)
class KeyHeader:
    """A key in a header of its own."""

    name: str
    key: str

    def refuse(self, request: Request, body: bytes) -> Refusal | None:
        return _compare(request.headers.get(self.name), self.key, self.name)


@dataclass(frozen=True)
class KeyQuery:
    """A key in the query."""

    name: str
    key: str

    def refuse(self, request: Request, body: bytes) -> Refusal | None:
        return _compare(request.query_params.get(self.name), self.key, f"?{self.name}")


@dataclass(frozen=True)
class UserPassword:
    """A user name and a password."""

    pair: str

    def refuse(self, request: Request, body: bytes) -> Refusal | None:
        expected = "Basic " + base64.b64encode(self.pair.encode()).decode()
        return _compare(request.headers.get("authorization"), expected, "authorization")


@dataclass(frozen=True)
class WantsHeader:
    """A header that must be there: a version, a project."""

    name: str
    values: tuple[str, ...]

    def refuse(self, request: Request, body: bytes) -> Refusal | None:
        sent = request.headers.get(self.name)
        if sent is None:
            return Refusal(400, f"The header {self.name} is required.", "missing_header")
        if sent not in self.values:
            return Refusal(403, f"You do not have access to {sent!r} ({self.name}).", "permission_error")
        return None


@dataclass(frozen=True)
class WantsQuery:
    """A query parameter that must be there."""

    name: str
    value: str

    def refuse(self, request: Request, body: bytes) -> Refusal | None:
        if request.query_params.get(self.name) != self.value:
            return Refusal(400, f"The query parameter {self.name}={self.value} is required.", "missing_version")
        return None


@dataclass(frozen=True)
class Either:
    """One of two ways in: the first, where the request looks like it."""

    mark: str
    first: "Door"
    second: "Door"

    def refuse(self, request: Request, body: bytes) -> Refusal | None:
        first = request.headers.get("authorization", "").startswith(self.mark)
        return (self.first if first else self.second).refuse(request, body)


@dataclass(frozen=True)
class NoCredit:
    """An account that has run out."""

    def refuse(self, request: Request, body: bytes) -> Refusal | None:
        return Refusal(429, "You exceeded your current quota, please check your plan.", "insufficient_quota")


class Tokens:
    """Short-lived tokens, minted at a token endpoint (RFC 6749, RFC 7523)."""

    def __init__(self, client: str, secret: str, lifetime: float = 3600.0) -> None:
        self.client = client
        self.secret = secret
        self.lifetime = lifetime
        self.minted = 0
        self._valid: dict[str, float] = {}

    def mint(self) -> dict[str, Any]:
        """A new token, as the endpoint answers."""
        self.minted += 1
        token = f"ferry-token-{self.minted:04d}-a7c3"
        self._valid[token] = time.monotonic() + self.lifetime
        return {"access_token": token, "token_type": "Bearer", "expires_in": 3600}

    def expire(self) -> None:
        """End all tokens now, whatever their lifetime said."""
        self._valid.clear()

    def refuse(self, request: Request, body: bytes) -> Refusal | None:
        token = request.headers.get("authorization", "").removeprefix("Bearer ")
        if self._valid.get(token, 0.0) > time.monotonic():
            return None
        if not token.startswith("ferry-token-"):
            return Refusal(401, "This is not a token of ours.", "invalid_api_key")
        challenge = {"www-authenticate": 'Bearer error="invalid_token"'}
        return Refusal(401, "The token has expired.", "token_expired", challenge)


@dataclass(frozen=True)
class Signed:
    """A signature (version 4) over method, path, headers and body, bound to a region."""

    access_key: str
    secret_key: str
    region: str
    service: str

    def refuse(self, request: Request, body: bytes) -> Refusal | None:
        sent = request.headers.get("authorization", "")
        if "Signature=" not in sent:
            return Refusal(403, "Missing authentication token: the request is not signed.", "missing_signature")
        scope = sent.partition("Credential=")[2].partition(",")[0].split("/")
        if scope[0] != self.access_key:
            return Refusal(
                403, "The security token included in the request is invalid: no such api key.", "invalid_api_key"
            )
        if len(scope) != 5 or scope[2] != self.region:
            return Refusal(403, f"Credential should be scoped to region {self.region}.", "invalid_api_key")
        if not hmac.compare_digest(self._expected(request, body), sent):
            return Refusal(403, "The request signature we calculated does not match.", "invalid_api_key")
        return None

    def _expected(self, request: Request, body: bytes) -> str:
        from botocore.auth import SigV4Auth
        from botocore.awsrequest import AWSRequest as Signable
        from botocore.credentials import Credentials

        stamp = next(value for name, value in request.headers.items() if name.endswith("-date") and name != "date")
        names = request.headers["authorization"].partition("SignedHeaders=")[2].partition(",")[0].split(";")
        signed = {name: request.headers[name] for name in names if name not in ("host",)}
        # The path as it was sent: a model's name may hold what has been decoded since.
        sent = request.scope["raw_path"].decode()
        url = f"{request.url.scheme}://{request.url.netloc}{sent}"
        signable = Signable(request.method, url + (f"?{request.url.query}" if request.url.query else ""), signed, body)
        signable.context["timestamp"] = stamp
        auth = SigV4Auth(Credentials(self.access_key, self.secret_key), self.service, self.region)
        canonical = auth.canonical_request(signable)
        to_sign = auth.string_to_sign(signable, canonical)
        signature = auth.signature(to_sign, signable)
        return request.headers["authorization"].rpartition("Signature=")[0] + f"Signature={signature}"


def _compare(sent: str | None, wanted: str, where: str) -> Refusal | None:
    if not sent:
        return Refusal(401, f"No key was sent ({where}).", "missing_api_key")
    if not hmac.compare_digest(sent.encode(), wanted.encode()):
        return Refusal(401, "Incorrect API key provided.", "invalid_api_key")
    return None
