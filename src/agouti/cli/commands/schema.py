"""``agouti schema``: the JSON Schema of agouti.toml."""

from pathlib import Path

import click

from ...core.errors import RequestError


@click.command("schema")
@click.option("--out", metavar="FILE", help="Write it to a file instead.")
@click.option("--address", is_flag=True, help="Print where it lies on this machine instead.")
def command(out: str | None, address: bool) -> None:
    """Print the JSON Schema of agouti.toml, with which editors complete and check it.

    Editors that know TOML check a file that begins with the line "#:schema ./agouti.schema.json": write the schema
    beside it with --out agouti.schema.json, and everybody who has the folder has both.
    """
    from ...config import schema

    if address:
        click.echo(schema.address())
    elif out is None:
        click.echo(schema.text(), nl=False)
    else:
        try:
            Path(out).write_text(schema.text(), encoding="utf-8")
        except OSError as error:
            raise RequestError(
                f"{out} cannot be written ({error.strerror or error})", hint="Name a file in a folder of yours."
            ) from None
