"""``agouti explain``: what would be sent, and why so."""

import json

import click
import msgspec

from ...client import Client
from ..app import Settings
from ..text import BLANK, blanks_given, paint, show_json


@click.command("explain")
@click.argument("label")
@click.argument("text", required=False, default="...")
@BLANK
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
@click.pass_obj
def command(app: Settings, label: str, text: str, blanks: tuple[str, ...], as_json: bool) -> None:
    """Show the request that the model LABEL would get for TEXT, and where each setting came from.

    Nothing is sent, no key is fetched; keys show as ***.
    """
    from ...services.explain import explain

    with Client(app.config) as client:
        explained = explain(client, label, text, blanks=blanks_given(blanks) or None)
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
        shown = setting.value if len(setting.value) <= values else setting.value[: values - 3] + "..."
        click.echo(f"{setting.name:{width}}  {shown:{values}}  {paint(setting.origin, fg='cyan')}")
