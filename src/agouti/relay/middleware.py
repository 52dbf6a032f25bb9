"""What every request passes: its head, its origin, its path; whatever goes wrong is told in the caller's format."""

import asyncio
import logging
import os
import time
import traceback
from collections.abc import Awaitable, Callable
from contextlib import suppress
from typing import TYPE_CHECKING, Any

from starlette.routing import Match, Route

from ..core.errors import AgoutiError
from ..dialects.server_base import encode_json
from ..dialects.server_registry import error_format
from . import dashboard as pages
from .access_control import NO_TOKEN
from .error_responses import Refused, error_body, for_owner, retry_after
from .http_exchange import CallerDisconnected, Exchange, Receive, Scope, Send
from .request_handlers import ATTEMPTS, JSON, PROVIDER_ID, STOPS, attempts_text
from .state import RelayState

if TYPE_CHECKING:
    from .access_tokens import AccessToken

log = logging.getLogger("agouti.relay")
Handler = Callable[["Exchange", "AccessToken"], Awaitable[None]]
_EXPOSED = f"x-request-id, {ATTEMPTS}, {PROVIDER_ID}, retry-after, www-authenticate".encode()


def _plain_path(path: str, root: str) -> str:
    """A path without slashes at its end.

    >>> _plain_path("/v1/models/", ""), _plain_path("/", ""), _plain_path("/models/", "/models")
    ('/v1/models', '/', '/models/')
    """
    relative_path = path[len(root) :]
    return path.rstrip("/") if relative_path.endswith("/") and relative_path.strip("/") else path


class Endpoint:
    """An operation, as the router calls it."""

    def __init__(self, relay: RelayState, handler: Handler, path: str) -> None:
        self.relay = relay
        self.handler = handler
        self.open = path in ("/health", "/ready", "/openapi.json", "/page")
        self.page = path == "/" or path.startswith("/page/")

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        to: Exchange = scope["agouti.exchange"]
        to.scope = scope
        access_control = self.relay.access_control
        try:
            token = NO_TOKEN if self.open else access_control.enter(scope, to.headers, page=self.page)
        except Refused as refused:
            if self.page and refused.status == 401 and to.headers.get("accept", "").startswith("text/html"):
                await pages.sign_in(to)
                return
            raise
        to.token = token.name
        await self.handler(to, token)


class Front:
    """What every request passes: the origin is looked at, and whatever goes wrong is told in the caller's format."""

    def __init__(self, relay: RelayState) -> None:
        self._relay = relay

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        to = Exchange(scope, receive, send, os.urandom(8).hex())
        started_at = time.perf_counter()
        try:
            await self._answered(scope, receive, send, to)
        except CallerDisconnected:
            pass
        except asyncio.CancelledError:
            if not to.done():
                if not self._relay.stopping or (task := asyncio.current_task()) is None:
                    raise
                task.uncancel()
                await self._failed(to, Refused(503, STOPS, wait=1.0))
        finally:
            to.done()
            if not to.logged:
                self._relay.refused(to, time.perf_counter() - started_at)

    async def _answered(self, scope: Scope, receive: Receive, send: Send, to: Exchange) -> None:
        try:
            to.check()
            scope["path"] = _plain_path(scope["path"], scope.get("root_path", ""))
            origin = self._relay.access_control.origin(to.headers)
            if origin is not None:
                to.extra += [(b"access-control-allow-origin", origin.encode("latin-1")), (b"vary", b"origin")]
                to.extra.append((b"access-control-expose-headers", _EXPOSED))
                if scope["method"] == "OPTIONS":
                    await _preflight(to)
                    return
            await self._routed(scope, receive, send, to)
        except (AgoutiError, Refused) as error:
            await self._failed(to, error)
        except CallerDisconnected:
            raise
        except Exception as error:
            # Where, and of what kind: its words may be a caller's.
            at = traceback.extract_tb(error.__traceback__)[-1]
            to.error = f"a defect: {type(error).__name__} in {at.filename}:{at.lineno}"
            log.error("%s: %s", to.identifier, to.error)
            await self._failed(to, Refused(500, "something went wrong in the relay: see its log"))

    async def _routed(self, scope: Scope, receive: Receive, send: Send, to: Exchange) -> None:
        scope["agouti.exchange"] = to
        known = None if scope.get("root_path") else self._relay.exact.get((scope["method"], scope["path"]))
        if known is not None:
            await known(scope, receive, send)
            return
        match, found = _match(self._relay.routes, scope)
        if found is None:
            if match:
                raise Refused(405, f"{scope['method']} is no method of {scope['path'][:200]}", allow=", ".join(match))
            raise Refused(404, f"there is nothing at {scope['path'][:200]}: see /openapi.json")
        await found(scope, receive, send)

    async def _failed(self, to: Exchange, error: "AgoutiError | Refused") -> None:
        if to.status is not None:
            return  # the answer had begun, and has told it
        form = error_format(to.scope["path"])
        body = error_body(error, to.identifier, form.theirs)
        to.error = to.error or for_owner(error)
        headers = {} if (wait := retry_after(error)) is None else {"retry-after": wait}
        if isinstance(error, Refused) and error.allow:
            headers["allow"] = error.allow
        if body.status == 401:
            headers["www-authenticate"] = "Bearer"
        attempts = getattr(error, "attempts", ())
        if attempts:
            headers[ATTEMPTS] = attempts_text(tuple(attempts))
        else:
            headers[ATTEMPTS] = "none"
        if getattr(error, "request_id", None):
            headers[PROVIDER_ID] = str(error.request_id)  # type: ignore[union-attr]
        if body.status in (408, 413):
            if "expect" in to.headers:
                headers["connection"] = "close"  # the rest of the request does not come
            else:
                to.linger()
        with suppress(OSError):
            await to.answer(body.status, encode_json(form.encode_error(body)), JSON, headers)


def _match(routes: list[Route], scope: Scope) -> tuple[list[str], Any]:
    """The methods of a path, and what answers this one; `None` where nothing does."""
    methods: set[str] = set()
    for route in routes:
        match, child = route.matches(scope)
        if match is Match.FULL:
            scope.update(child)
            return [], route.handle
        if match is Match.PARTIAL:
            methods |= route.methods or set()
    return sorted(methods), None


async def _preflight(to: Exchange) -> None:
    requested_headers = to.headers.get("access-control-request-headers", "authorization, content-type, x-api-key")
    headers = {
        "access-control-allow-methods": "GET, POST",
        "access-control-allow-headers": requested_headers[:1000],
        "access-control-max-age": "600",
    }
    await to.answer(204, b"", "text/plain", headers)
