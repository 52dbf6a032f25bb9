"""``agouti relay``: every model at one address; ``agouti relay token``: who may call it."""

import re
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import click

from ...config.load import load
from ...config.tables import RelaySettings
from ...core.errors import AgoutiError, AgoutiWarning, ConfigError
from ...core.secrets.masking import printable
from ...relay.access_tokens import TokenFile, new_token
from ..app import Settings
from ..terminal_text import paint

PORT = 8309


@click.group("relay", invoke_without_command=True)
@click.option(
    "--host",
    default="127.0.0.1",
    show_default=True,
    help="Address to listen at; beyond this machine a token is needed.",
)
@click.option(
    "--port", type=click.IntRange(0, 65535), default=PORT, show_default=True, help="Port; 0 takes a free one."
)
@click.option("--unix", metavar="FILE", default="", help="Listen at a socket file instead of an address.")
@click.option("--workers", type=click.IntRange(1), help="Processes that serve it; as the configuration says otherwise.")
@click.option("--inherited", type=int, default=-1, hidden=True)
@click.pass_context
def command(context: click.Context, host: str, port: int, unix: str, workers: int | None, inherited: int) -> None:
    """Serve every model of the configuration at one address, until Ctrl-C.

    Programs in any language, and tools that only know an address, a key and a model, reach each model by its label.
    The page at the address shows models, calls and usage.
    """
    if context.invoked_subcommand is not None:
        return
    import socket
    import warnings

    from ...relay import Relay, end_with_parent, listening, run_workers, serve_socket
    from ...relay.request_log import end, listen

    app: Settings = context.obj
    relay = Relay(app.config)
    warnings.filterwarnings("ignore", category=AgoutiWarning)  # what they say stands in the log
    try:
        listener = listen(relay.settings)
    except OSError as error:
        raise ConfigError(
            f"[relay] log_file = {relay.settings.log_file!r} cannot be written ({error.strerror or error})",
            hint="Name a file in a folder that you can write to.",
        ) from None

    def ready(address: str) -> None:
        known = len(relay.tokens.tokens())
        keys = f"{known} access token{'' if known == 1 else 's'}" if relay.tokens.is_required else "any key"
        if unix:
            click.echo(
                f"{paint(address, bold=True)}   {len(relay.config.models)} models, {keys}   running until Ctrl-C"
            )
            return
        click.echo(f"{paint(f'{address}/v1', bold=True)}   {len(relay.config.models)} models, {keys}")
        click.echo(paint(f"page: {address}/   description: {address}/openapi.json   running until Ctrl-C", dim=True))

    bound = ""  # what another one listens at stays
    try:
        if inherited >= 0:
            relay.share(workers or 1)
            end_with_parent()
            serve_socket(relay, socket.socket(fileno=inherited), lambda _: None)
            return
        sock = listening(relay, host, port, unix)
        bound = unix
        count = workers or relay.settings.workers
        if count > 1:
            run_workers(sock, count, app.config, ready)
        else:
            serve_socket(relay, sock, ready)
    finally:
        if bound:
            Path(bound).unlink(missing_ok=True)
        end(listener)


def _moment(text: str) -> float:
    """When a token expires, in seconds since the epoch: so long from now, or a day.

    Raises:
        ConfigError: it is neither, or it is over.
    """
    match = re.fullmatch(r"(\d{1,6})\s*([dhm])", text.strip())
    if match is not None:
        moment = time.time() + int(match[1]) * {"d": 86400.0, "h": 3600.0, "m": 60.0}[match[2]]
        if moment - time.time() > 100 * 366 * 86400.0:
            raise ConfigError(f"{text!r} is too far away", hint="Write a time within a hundred years, or leave it out.")
        return moment
    try:
        at = datetime.fromisoformat(text.strip())
    except ValueError:
        raise ConfigError(f"{text!r} is no time", hint="Write 30d, 12h, or a day: 2026-12-31.") from None
    if len(text.strip()) <= len("2026-12-31"):
        at += timedelta(days=1)  # a day is good to its end
    moment = (at if at.tzinfo is not None else at.replace(tzinfo=UTC)).timestamp()
    if moment <= time.time():
        raise ConfigError(f"{text} is over already", hint="Write a time to come: 30d, or 2030-12-31.")
    return moment


@command.command("token")
@click.argument("name", required=False)
@click.option("--labels", metavar="A,B", help="The models that it may ask; all of them otherwise.")
@click.option("--requests-per-minute", type=click.IntRange(1), help="Never more in any minute.")
@click.option("--tokens-per-minute", type=click.IntRange(1), help="Tokens of prompts and answers in any minute.")
@click.option("--calls-at-once", type=click.IntRange(1), help="Calls that may be under way.")
@click.option("--budget", type=click.FloatRange(0, min_open=True), help="What it may spend.")
@click.option("--currency", help="Of the budget.  [default: USD]")
@click.option("--per", type=click.Choice(["day", "week", "month"]), help="Of the budget.  [default: month]")
@click.option("--expires", metavar="WHEN", help="So long from now (30d, 12h), or a day (2026-12-31).")
@click.option("--sees-all", is_flag=True, help="It sees the calls of all tokens on the page; others their own then.")
@click.option("--remove", is_flag=True, help="Forget it: it opens nothing from now on.")
@click.option("--rotate", is_flag=True, help="A new secret under the same name; the old one opens nothing any more.")
@click.pass_obj
def token_command(
    app: Settings,
    name: str | None,
    labels: str | None,
    requests_per_minute: int | None,
    tokens_per_minute: int | None,
    calls_at_once: int | None,
    budget: float | None,
    currency: str | None,
    per: str | None,
    expires: str | None,
    sees_all: bool,
    remove: bool,
    rotate: bool,
) -> None:
    """Make an access token called NAME and print it once; only its hash is kept. Without NAME, list them."""
    config = load(app.config)
    file = TokenFile(Path((config.relay or RelaySettings()).tokens))
    arguments = {
        "--labels": labels is not None,
        "--requests-per-minute": requests_per_minute,
        "--tokens-per-minute": tokens_per_minute,
        "--calls-at-once": calls_at_once,
        "--budget": budget,
        "--currency": currency,
        "--per": per,
        "--expires": expires,
        "--sees-all": sees_all,
    }
    named = [option for option, value in arguments.items() if value]
    if name is None:
        if named or remove or rotate:
            raise ConfigError("there is no name", hint="Write the token's name: agouti relay token NAME ...")
        _list(app, file)
        return
    if (remove or rotate) and (named or (remove and rotate)):
        raise ConfigError(
            f"--{'remove' if remove else 'rotate'} goes with a name alone",
            hint=f"Leave {named[0] if named else '--rotate'} out; to change a token, remove it and make it anew.",
        )
    if budget is None and (currency or per):
        raise ConfigError(f"{'--currency' if currency else '--per'} goes with --budget", hint="Add --budget AMOUNT.")
    if rotate:
        click.echo(file.rotate(name))
        click.echo(
            paint(f"This is shown once; its hash is in {file.path}. The one before opens nothing.", dim=True), err=True
        )
        return
    if remove:
        file.remove(name)
        click.echo(f"token {name} is forgotten", err=True)
        return
    selected = None if labels is None else [each.strip() for each in labels.split(",") if each.strip()]
    for label in selected or ():
        config.model(label)
    text, token = new_token(
        name,
        labels=selected,
        requests_per_minute=requests_per_minute,
        budget=budget,
        currency=currency or "USD",
        per=per or "month",
        tokens_per_minute=tokens_per_minute,
        calls_at_once=calls_at_once,
        expires=None if expires is None else _moment(expires),
        sees_all=sees_all,
    )
    file.add(token)
    click.echo(text)
    click.echo(paint(f"This is shown once; its hash is in {file.path}", dim=True), err=True)


def _list(app: Settings, file: TokenFile) -> None:
    from ..aligned_columns import show_columns

    spent = _spent(app)
    rows = [
        [
            each.name,
            "all" if each.labels is None else ", ".join(each.labels),
            ", ".join(
                f"{limit} {noun}"
                for limit, noun in (
                    (each.requests_per_minute, "requests/min"),
                    (each.tokens_per_minute, "tokens/min"),
                    (each.calls_at_once, "at once"),
                )
                if limit is not None
            ),
            "" if each.budget is None else f"{each.budget:g} {each.currency} a {each.per}",
            *spent.get(each.name, ("", "")),
            f"{datetime.fromtimestamp(each.created, UTC):%Y-%m-%d}",
            _until(each.expires),
            "all" if each.sees_all else "its own",
        ]
        for each in file.tokens()
    ]
    if not rows:
        click.echo("There is no access token yet: agouti relay token NAME", err=True)
        return
    heads = ["token", "models", "limits", "budget", "spent this month", "last used", "made", "expires", "sees"]
    show_columns(heads, rows)


def _until(expires: float | None) -> str:
    if expires is None:
        return ""
    day = f"{datetime.fromtimestamp(expires, UTC):%Y-%m-%d %H:%M} UTC"
    return f"expired {day}" if expires <= time.time() else day


def _spent(app: Settings) -> dict[str, tuple[str, str]]:
    """What each token has spent this month, and the day of its last call, as far as there is a ledger."""
    from ...ledger.open import open_ledger
    from ...ledger.store import relay_ledger
    from ...ledger.usage import usage_of

    config = load(app.config)
    settings = config.ledger or relay_ledger(config)
    if settings is None or (settings.path is not None and not settings.path.exists()):
        return {}  # nobody has called yet
    today = datetime.now(UTC).date()
    try:
        ledger = open_ledger(settings, reading=True)
        try:
            month = usage_of(ledger, None, None, ["tag:token"])
            days = usage_of(ledger, today - timedelta(days=62), today, ["tag:token", "day"])
        finally:
            ledger.close()
    except AgoutiError as error:
        click.echo(printable(f"(what they have spent is not known: {error.message})"), err=True)
        return {}
    costs = {row.group["tag:token"] or "": row.cost for row in month.rows}
    last: dict[str, str] = {}
    for row in days.rows:
        name = row.group["tag:token"] or ""
        last[name] = max(last.get(name, ""), row.group["day"] or "")
    return {
        name: (", ".join(f"{float(amount):.4f} {currency}" for currency, amount in costs.get(name, {}).items()), day)
        for name, day in last.items()
    }
