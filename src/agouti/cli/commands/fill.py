"""``agouti fill``: values from texts, one or a file full of them."""

import json
from typing import Any

import click

from ...core.canonical.structured import MEANS
from ...core.secrets.masking import printable
from ...forms.build import form_of
from ...forms.plain_values import plain_value
from ..app import Settings
from ..batch_progress import run_batch
from ..import_objects import form_named
from ..input_rows import kind_of
from ..label_completion import LABEL
from ..tags import TAG, client_of
from ..terminal_text import VARIABLE, given_text, on_terminal, variables_given


@click.command("fill")
@click.argument("label", type=LABEL)
@click.argument("form")
@click.argument("text", required=False)
@click.option("--from", "file", metavar="FILE", help="Take the text from a file.")
@click.option("--rows", metavar="FILE", help="Fill one form for each line of a text, CSV or JSON Lines file.")
@click.option("--column", metavar="NAME", help="With --rows: take this column alone.")
@click.option("--id-column", metavar="NAME", help="With --rows: the column that names a row; by default its line does.")
@click.option("--delimiter", metavar="CHAR", help="With --rows: what stands between the columns of CSV.")
@click.option("--encoding", metavar="NAME", default="", help="With --rows: the encoding of the file.")
@click.option(
    "--out", metavar="FILE", help="With --rows: write a .jsonl, .csv or .parquet file; what is there is gone on with."
)
@click.option("--restart", is_flag=True, help="With --out: write it from the beginning.")
@click.option(
    "--concurrency", type=click.IntRange(1, 1024), help="With --rows: so many at a time; found out where not given."
)
@click.option("--image", "images", metavar="FILE", multiple=True, help="An image to fill it from; may be repeated.")
@click.option("--system", metavar="TEXT", help="System text, instead of the entry's.")
@VARIABLE
@click.option("--output-method", type=click.Choice(MEANS), help="Try only these means.")
@click.option("--max-repairs", type=click.IntRange(0, 9), default=1, show_default=True, help="Second chances.")
@TAG
@click.pass_obj
def command(
    app: Settings,
    label: str,
    form: str,
    text: str | None,
    file: str | None,
    rows: str | None,
    column: str | None,
    id_column: str | None,
    delimiter: str | None,
    encoding: str,
    out: str | None,
    restart: bool,
    concurrency: int | None,
    images: tuple[str, ...],
    system: str | None,
    variables: tuple[str, ...],
    output_method: str | None,
    max_repairs: int,
) -> int:
    """Let the model LABEL fill FORM from TEXT; the value is printed as JSON.

    FORM is a file with a JSON Schema, or a type of your own as MODULE:CLASS (from the working folder or installed).
    With --rows, each row gives one line of JSON: its number, its columns, and the value or what was wrong.
    Results are written as they come; the same command again goes on where it was stopped, and tries again what failed.
    """
    kind = form_of(form_named(form))
    options: dict[str, Any] = {"max_repairs": max_repairs}
    options |= {"system": system} if system is not None else {}
    options |= {"variables": variables_given(variables)} if variables else {}
    options |= {"output_method": output_method} if output_method is not None else {}
    if rows is None:
        if out is not None or column is not None or id_column is not None or restart:
            raise click.UsageError("--out, --column, --id-column and --restart go with --rows")
        if images:
            options["images"] = images
            text = text or (None if file else "Fill the form from the image.")
        with client_of(app) as client:
            filled = client.fill(label, kind, given_text(text, file), **options)
        json_text = json.dumps(plain_value(filled.value), ensure_ascii=False, indent=2)
        click.echo(printable(json_text) if on_terminal() else json_text)
        if len(filled.answers) > 1:
            click.echo(
                f"  (mended: the first answer did not fit: {printable(str(filled.answers[0].errors[0]))})", err=True
            )
        return 0
    if text is not None or file is not None or images:
        raise click.UsageError("with --rows the texts come from that file: leave out TEXT, --from and --image")
    kind_of(out, (".jsonl", ".csv", ".parquet"))
    batch = run_batch(
        app,
        label,
        rows,
        noun="filled",
        form=kind,
        out=out,
        **{
            **options,
            **{
                name: value
                for name, value in (("column", column), ("id_column", id_column), ("concurrency", concurrency))
                if value
            },
            **({"delimiter": delimiter} if delimiter is not None else {}),
            **({"encoding": encoding} if encoding else {}),
            **({"preserve_order": True, "retry_failed": True, "restart": restart} if out is not None else {}),
        },
    )
    return 1 if batch.failed else 0
