"""``agouti embed``: texts into vectors, kept or searched."""

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ...client import Client
from ...core.errors import ConfigError
from ..app import Settings
from ..rows import kind_of, read_rows
from ..text import paint

if TYPE_CHECKING:
    from ...embeddings import Embeddings


@click.command("embed")
@click.argument("label")
@click.argument("file")
@click.option("--column", metavar="NAME", help="Take this column of a .csv or field of a .jsonl file alone.")
@click.option("--near", metavar="TEXT", help="Show the lines that are nearest to a text.")
@click.option("-k", "count", type=click.IntRange(1), default=5, show_default=True, help="With --near: so many.")
@click.option("--out", metavar="FILE", help="Keep the vectors: .npy (the array) or .parquet (texts and vectors).")
@click.option("--dimensions", type=click.IntRange(1), help="Length of the vectors, for models that can choose.")
@click.option("--json", "as_json", is_flag=True, help="With --near: print JSON.")
@click.pass_obj
def command(
    app: Settings,
    label: str,
    file: str,
    column: str | None,
    near: str | None,
    count: int,
    out: str | None,
    dimensions: int | None,
    as_json: bool,
) -> None:
    """Turn each line of FILE (text, CSV or JSON Lines) into a vector, with the model LABEL.

    --out keeps them, --near searches them; both may be given.
    """
    if near is None and out is None:
        raise click.UsageError("say what is wanted: --near TEXT to search the lines, --out FILE to keep the vectors")
    kind = kind_of(out, (".npy", ".parquet")) if out is not None else ""
    texts = read_rows(file, column)
    with Client(app.config) as client:
        embedded = client.embed(label, texts, dimensions=dimensions)
        query = client.embed(label, near, dimensions=dimensions) if near is not None else None
    if out is not None:
        _keep(embedded, out, kind)
        price = client.config.model(label).price
        cost = f", {embedded.cost:.6f} {price.currency}" if embedded.cost is not None and price is not None else ""
        tokens = f", {embedded.usage.input_tokens} tokens" if embedded.usage.input_tokens is not None else ""
        click.echo(f"  {len(embedded)} vectors of {embedded.dimensions} numbers in {out}{tokens}{cost}", err=True)
    if query is not None:
        nearest = embedded.near(query, count)
        if as_json:
            rows = [{"line": each.index + 1, "score": round(each.score, 4), "text": each.text} for each in nearest]
            click.echo(json.dumps(rows, ensure_ascii=False, indent=2))
            return
        for each in nearest:
            text = " ".join(each.text.split())
            click.echo(f"{paint(f'{each.score:6.3f}', bold=True)}  {each.index + 1:>5}  {text}")


def _keep(embedded: "Embeddings", out: str, kind: str) -> None:
    if not Path(out).absolute().parent.is_dir():
        raise click.UsageError(f"there is no folder {Path(out).parent}")
    try:
        if kind == ".npy":
            import numpy

            numpy.save(out, embedded.vectors)
        else:
            _parquet(embedded, out)
    except OSError as error:
        raise click.UsageError(f"{out} cannot be written ({error.strerror or error})") from None


def _parquet(embedded: "Embeddings", out: str) -> None:
    try:
        import pyarrow
        from pyarrow import parquet
    except ModuleNotFoundError:
        raise ConfigError(
            "Parquet files are written by pyarrow, which is not installed",
            hint="Install it: pip install 'agouti-client[parquet]'; or keep them as .npy.",
        ) from None
    flat: Any = pyarrow.array(embedded.vectors.reshape(-1))
    vectors = pyarrow.FixedSizeListArray.from_arrays(flat, embedded.dimensions)
    table = pyarrow.table({"text": list(embedded.texts), "vector": vectors})
    parquet.write_table(table.replace_schema_metadata({"model": embedded.model or embedded.label}), out)
