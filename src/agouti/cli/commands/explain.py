"""``agouti explain``: what would be sent, and why so."""

import json

import click
import msgspec

from ...calls.connection_settings import NAMES
from ...client.client import Client
from ...dialects.registry import DEFAULT
from ..app import Settings
from ..label_completion import LABEL
from ..terminal_text import VARIABLE, paint, show_json, variables_given


@click.command("explain")
@click.argument("label", type=LABEL)
@click.argument("text", required=False, default="...")
@VARIABLE
@click.option("--settings", is_flag=True, help="Show what a tool needs that only takes an address, a key and a model.")
@click.option("--relay", metavar="ADDRESS", help="With --settings: reach it through the relay at this address.")
@click.option("--names", metavar="ADDRESS,KEY,MODEL", help="With --settings: what the tool calls its three variables.")
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
@click.pass_obj
def command(
    app: Settings,
    label: str,
    text: str,
    variables: tuple[str, ...],
    settings: bool,
    relay: str | None,
    names: str | None,
    as_json: bool,
) -> None:
    """Show the request that the model LABEL would get for TEXT, and where each setting came from.

    Nothing is sent, no key is fetched; keys show as ***.
    """
    if (relay or names) and not settings:
        raise click.UsageError("--relay and --names go with --settings")
    if settings:
        _settings(app, label, relay, names, as_json)
        return
    from ...services.explain import explain

    with Client(app.config) as client:
        explained = explain(client, label, text, variables=variables_given(variables) or None)
    if as_json:
        show_json(msgspec.to_builtins(explained))
        return
    click.echo(paint(f"{explained.method} {explained.address}", bold=True))
    for name, value in explained.headers.items():
        click.echo(f"{name}: {value}")
    if explained.body is not None:
        click.echo()
        click.echo(json.dumps(explained.body, ensure_ascii=False, indent=2))
    click.echo()
    width = max(len(setting.name) for setting in explained.settings)
    values = min(max(len(setting.value) for setting in explained.settings), 52)
    for setting in explained.settings:
        display = setting.value if len(setting.value) <= values else setting.value[: values - 3] + "..."
        click.echo(f"{setting.name:{width}}  {display:{values}}  {paint(setting.origin, fg='cyan')}")


def _settings(app: Settings, label: str, relay: str | None, names: str | None, as_json: bool) -> None:
    """Lines for a shell; what a tool should know besides goes beside them."""
    with Client(app.config) as client:
        found = client.settings(label, relay=relay)
    if as_json:
        show_json(found.as_dict())
        return
    click.echo(found.environment(NAMES if names is None else [each.strip() for each in names.split(",")]))
    if found.key:
        click.echo(paint(f"# key: {found.key}", err=True, dim=True), err=True)
    if relay is None and (found.dialect != DEFAULT or found.headers):
        header_text = f", and headers {', '.join(found.headers)}" if found.headers else ""
        lines = (
            f"# the address speaks {found.dialect}{header_text}: a tool that does not goes through agouti relay, "
            "and --relay"
        )
        click.echo(paint(lines, err=True, dim=True), err=True)
