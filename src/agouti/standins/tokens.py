"""The token endpoint of a stand-in with short-lived tokens: client credentials, refresh token, signed assertion."""

import base64
from urllib.parse import parse_qsl

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from .auth import Tokens
from .providers import StandIn

REFRESH_TOKEN = "fr-refresh-4410-marsh-lane-demo"
ISSUER = "almanac@seed-library.example"


def routes(provider: StandIn) -> list[Route]:
    """The token endpoint, where a provider has one."""
    doors = [door for door in provider.doors if isinstance(door, Tokens)]
    if not doors:
        return []
    tokens = doors[0]

    async def token(request: Request) -> Response:
        form = dict(parse_qsl((await request.body()).decode()))
        wrong = _wrong(form, request, tokens)
        if wrong:
            return JSONResponse({"error": wrong, "error_description": "The token endpoint says no."}, 401)
        return JSONResponse(tokens.mint())

    return [Route(f"/{provider.label}/oauth/token", token, methods=["POST"])]


def _wrong(form: dict[str, str], request: Request, tokens: Tokens) -> str:
    grant = form.get("grant_type")
    if grant == "urn:ietf:params:oauth:grant-type:jwt-bearer":
        return "" if _assertion_holds(form.get("assertion", ""), str(request.url)) else "invalid_grant"
    basic = request.headers.get("authorization", "").removeprefix("Basic ")
    pair = base64.b64decode(basic).decode() if basic else f"{form.get('client_id')}:{form.get('client_secret')}"
    if pair != f"{tokens.client}:{tokens.secret}":
        return "invalid_client"
    if grant == "refresh_token":
        return "" if form.get("refresh_token") == REFRESH_TOKEN else "invalid_grant"
    return "" if grant == "client_credentials" else "unsupported_grant_type"


def _assertion_holds(assertion: str, address: str) -> bool:
    from joserfc import jwt
    from joserfc.errors import JoseError
    from joserfc.jwk import OctKey

    try:
        claims = jwt.decode(
            assertion, OctKey.import_key("seed-library-assertion-secret-0001"), algorithms=["HS256"]
        ).claims
    except (JoseError, ValueError):
        return False
    return claims.get("iss") == ISSUER and claims.get("aud") == address
