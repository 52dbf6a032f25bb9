"""The page of the relay: one file that needs nothing else; what it shows comes from two addresses behind the token."""

from collections.abc import Awaitable, Callable
from datetime import UTC, datetime
from functools import cache
from importlib.resources import files
from typing import TYPE_CHECKING, Any
from urllib.parse import parse_qs

import msgspec

from ..core.errors import AgoutiError
from ..dialects.server_base import encode_json
from .access_control import COOKIE, NO_TOKEN
from .access_tokens import TAG, AccessToken
from .error_responses import Refused
from .http_exchange import Exchange
from .model_listing import listed
from .state import RelayState

if TYPE_CHECKING:
    from ..ledger.usage import UsageReport
    from ..ledger.usage_rows import UsageRow

Handler = Callable[[Exchange, AccessToken], Awaitable[None]]
_HTML = "text/html; charset=utf-8"
_JSON = "application/json"
# The page has all that it needs in itself, and is shown in no other one.
_SAFE = {
    "content-security-policy": (
        "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; connect-src 'self'; "
        "form-action 'self'; frame-ancestors 'none'; base-uri 'none'"
    ),
    "cache-control": "no-store",
    "referrer-policy": "same-origin",  # without any, a browser would not say where the form comes from
    "x-content-type-options": "nosniff",
}
_QUIET = 5.0


@cache
def _file(name: str) -> bytes:
    return files(__package__).joinpath(name).read_bytes()


def page(relay: RelayState) -> Handler:
    """The page."""

    async def handle(to: Exchange, token: AccessToken) -> None:
        await to.answer(200, _file("page.html"), _HTML, _SAFE)

    return handle


async def sign_in(to: Exchange) -> None:
    """The page that asks for a token."""
    await to.answer(401, _file("sign_in.html"), _HTML, _SAFE)


def session(relay: RelayState) -> Handler:
    """A token given on the page becomes a session: its cookie opens the page, and nothing else."""

    async def handle(to: Exchange, _: AccessToken) -> None:
        form = parse_qs((await to.body(10_000, 10.0)).decode("utf-8", "replace"))
        presented = form.get("token", [""])[0].strip()
        try:
            token = relay.access_control.enter(to.scope, {**to.headers, "authorization": f"Bearer {presented}"})
        except Refused as refused:
            if refused.status != 401:
                raise
            await sign_in(to)
            return
        base = to.scope.get("root_path", "")
        secure = "; Secure" if to.scope.get("scheme") == "https" else ""
        text = "" if token is NO_TOKEN else relay.access_control.session(token)
        cookie = f"{COOKIE}={text}; Path={base}/; HttpOnly; SameSite=Strict{secure}"
        await to.answer(303, b"", _HTML, {"location": f"{base}/", "set-cookie": cookie})

    return handle


def calls(relay: RelayState) -> Handler:
    """Calls as they happen, as server-sent events."""

    async def handle(to: Exchange, token: AccessToken) -> None:
        to.watch()
        own_token = None if relay.sees_all(token) else token.name
        relay.active.add(to)
        try:
            await to.begin(200, "text/event-stream; charset=utf-8", {"cache-control": "no-store"})
            async for event in relay.recent_calls.follow(_QUIET, own_token):
                relay.access_control.enter(
                    to.scope, to.headers, page=True
                )  # a token may have been taken back meanwhile
                await to.send_chunk(event)
        except Refused:
            pass
        finally:
            relay.active.discard(to)
        await to.send_chunk(b"", has_more=False)

    return handle


def facts(relay: RelayState) -> Handler:
    """What the page shows besides: models, the latest calls, what was used."""

    async def handle(to: Exchange, token: AccessToken) -> None:
        own_token = None if relay.sees_all(token) else token.name
        latest = [msgspec.to_builtins(each) for each in relay.recent_calls.latest if own_token in (None, each.token)]
        page_data = {
            "models": [msgspec.to_builtins(each) for each in listed(relay.config, token)],
            "currencies": _currencies(relay, token),
            "latest": latest,
            "usage": await _usage(relay, own_token),
            "token": token.name,
        }
        await to.answer(200, encode_json(page_data), _JSON, {"cache-control": "no-store"})

    return handle


def _currencies(relay: RelayState, token: AccessToken) -> dict[str, str]:
    models = relay.config.models.items()
    prices = {label: model.price_now for label, model in models if token.may_ask(label)}
    return {label: price.currency for label, price in prices.items() if price is not None}


async def _usage(relay: RelayState, own_token: str | None) -> dict[str, Any] | None:
    """What was used today and this month, by token; `None` where there is no ledger."""
    if relay.config.ledger is None:
        return None
    path = relay.config.ledger.path
    if path is not None and not path.exists():
        return {"today": _NO_CALLS, "month": _NO_CALLS, "tokens": []}
    today = datetime.now(UTC).date()
    by = (f"tag:{TAG}",)
    try:
        day = await relay.client.usage(since=today, until=today, by=by)
        month = await relay.client.usage(since=today.replace(day=1), until=today, by=by)
    except AgoutiError as error:
        return {"problem": error.message}
    return {"today": _sums(day, own_token), "month": _sums(month, own_token), "tokens": _by_token(month, own_token)}


def _by_token(report: "UsageReport", own_token: str | None) -> list[dict[str, Any]]:
    rows = [(row.group.get(f"tag:{TAG}") or "", row) for row in report.rows]
    return [{"token": name, **_row(row)} for name, row in rows if own_token in (None, name)]


def _sums(report: "UsageReport", own_token: str | None) -> dict[str, Any]:
    if own_token is None:
        return _row(report.total)
    return next((_row(row) for row in report.rows if row.group.get(f"tag:{TAG}") == own_token), _NO_CALLS)


_NO_CALLS: dict[str, Any] = {"calls": 0, "failures": 0, "input_tokens": 0, "output_tokens": 0, "cost": {}}


def _row(row: "UsageRow") -> dict[str, Any]:
    return {
        "calls": row.calls,
        "failures": row.failures,
        "input_tokens": row.input_tokens,
        "output_tokens": row.output_tokens,
        "cost": {currency: float(amount) for currency, amount in row.cost.items()},
    }
