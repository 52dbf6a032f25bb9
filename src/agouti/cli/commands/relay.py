"""``agouti relay``: every model at one address; ``agouti relay token``: who may call it."""

import re
import time
from datetime import UTC, datetime
from pathlib import Path

import click

from ...config.load import load
from ...config.singles import RelaySettings
from ...core.errors import AgoutiWarning, ConfigError
from ...relay.tokens import TokenFile, made
from ..app import Settings
from ..text import paint

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
@click.pass_context
def command(context: click.Context, host: str, port: int) -> None:
    """Serve every model of the configuration at one address, until Ctrl-C.

    Programs in any language, and tools that only know an address, a key and a model, reach each model by its label.
    The page at the address shows models, calls and usage.
    """
    if context.invoked_subcommand is not None:
        return
    import logging
    import sys
    import warnings

    from ...relay import Relay, serve

    app: Settings = context.obj
    relay = Relay(app.config)
    warnings.filterwarnings("ignore", category=AgoutiWarning)  # what they say stands in the log
    log = logging.getLogger("agouti.relay")
    if not log.hasHandlers():
        handler = logging.StreamHandler(sys.stderr)
        handler.setFormatter(logging.Formatter("%(asctime)s %(message)s", "%H:%M:%S"))
        log.addHandler(handler)
        log.setLevel(logging.INFO)

    def ready(address: str) -> None:
        known = len(relay.tokens.tokens())
        keys = f"{known} access token{'' if known == 1 else 's'}" if relay.tokens.wanted else "any key"
        click.echo(f"{paint(f'{address}/v1', bold=True)}   {len(relay.config.models)} models, {keys}")
        click.echo(paint(f"page: {address}/   description: {address}/openapi.json   running until Ctrl-C", dim=True))

    serve(relay, host, port, ready)


def _moment(text: str) -> float:
    """When a token expires, in seconds since the epoch: so long from now, or a day.

    Raises:
        ConfigError: it is neither, or it is over.
    """
    match = re.fullmatch(r"(\d+)\s*([dhm])", text.strip())
    if match is not None:
        return time.time() + int(match[1]) * {"d": 86400.0, "h": 3600.0, "m": 60.0}[match[2]]
    try:
        at = datetime.fromisoformat(text.strip())
    except ValueError:
        raise ConfigError(f"{text!r} is no time", hint="Write 30d, 12h, or a day: 2026-12-31.") from None
    moment = (at if at.tzinfo is not None else at.replace(tzinfo=UTC)).timestamp()
    if moment <= time.time():
        raise ConfigError(f"{text} is over already", hint="Write a time to come: 30d, or 2030-12-31.")
    return moment


@command.command("token")
@click.argument("name", required=False)
@click.option("--labels", metavar="A,B", help="The models that it may ask; all of them otherwise.")
@click.option("--requests-per-minute", type=click.IntRange(1), help="Never more in any minute.")
@click.option("--budget", type=click.FloatRange(0, min_open=True), help="What it may spend.")
@click.option("--currency", default="USD", show_default=True, help="Of the budget.")
@click.option(
    "--per", type=click.Choice(["day", "week", "month"]), default="month", show_default=True, help="Of the budget."
)
@click.option("--expires", metavar="WHEN", help="So long from now (30d, 12h), or a day (2026-12-31).")
@click.option("--sees-all", is_flag=True, help="It sees the calls of all tokens on the page; others their own then.")
@click.option("--remove", is_flag=True, help="Forget it: it opens nothing from now on.")
@click.pass_obj
def token_command(
    app: Settings,
    name: str | None,
    labels: str | None,
    requests_per_minute: int | None,
    budget: float | None,
    currency: str,
    per: str,
    expires: str | None,
    sees_all: bool,
    remove: bool,
) -> None:
    """Make an access token called NAME and print it once; only its hash is kept. Without NAME, list them."""
    config = load(app.config)
    file = TokenFile(Path((config.relay or RelaySettings()).tokens))
    if name is None:
        _list(file)
        return
    if remove:
        file.remove(name)
        click.echo(f"token {name} is forgotten", err=True)
        return
    wanted = None if labels is None else [each.strip() for each in labels.split(",") if each.strip()]
    for label in wanted or ():
        config.model(label)
    text, token = made(
        name,
        labels=wanted,
        requests_per_minute=requests_per_minute,
        budget=budget,
        currency=currency,
        per=per,
        expires=None if expires is None else _moment(expires),
        sees_all=sees_all,
    )
    file.add(token)
    click.echo(text)
    click.echo(paint(f"This is shown once; its hash is in {file.path}", dim=True), err=True)


def _list(file: TokenFile) -> None:
    from ..columns import show_columns

    rows = [
        [
            each.name,
            "all" if each.labels is None else ", ".join(each.labels),
            "" if each.requests_per_minute is None else f"{each.requests_per_minute}/min",
            "" if each.budget is None else f"{each.budget:g} {each.currency} a {each.per}",
            "" if each.expires is None else f"{datetime.fromtimestamp(each.expires, UTC):%Y-%m-%d %H:%M} UTC",
        ]
        for each in file.tokens()
    ]
    if not rows:
        click.echo("There is no access token yet: agouti relay token NAME", err=True)
        return
    show_columns(["token", "models", "limit", "budget", "expires"], rows)
