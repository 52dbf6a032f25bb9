"""``agouti embed``: texts into vectors, kept or searched."""

from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ...client import Client
from ...core.errors import AgoutiError
from ...core.masking import printable
from ...core.usage import total_cost, total_usage
from ..app import Settings
from ..rows import kind_of, read_rows
from ..text import paint, show_json
from ..vectors_kept import VectorsKept

if TYPE_CHECKING:
    from ...embeddings import Embeddings


# Texts that are asked for before their vectors are put on disk.
_PORTION = 1024


@click.command("embed")
@click.argument("label")
@click.argument("file")
@click.option("--column", metavar="NAME", help="Take this column of a .csv or field of a .jsonl file alone.")
@click.option("--delimiter", metavar="CHAR", help="What stands between the columns of CSV.")
@click.option("--encoding", metavar="NAME", default="", help="The encoding of the file.")
@click.option("--near", metavar="TEXT", help="Show the lines that are nearest to a text.")
@click.option("-k", "count", type=click.IntRange(1), default=5, show_default=True, help="With --near: so many.")
@click.option("--out", metavar="FILE", help="Keep the vectors: .npz or .parquet (texts and vectors), .npy (the array).")
@click.option("--anew", is_flag=True, help="With --out: ask for all lines, also those whose vectors are there.")
@click.option("--dimensions", type=click.IntRange(1), help="Length of the vectors, for models that can choose.")
@click.option("--json", "as_json", is_flag=True, help="With --near: print JSON.")
@click.pass_obj
def command(
    app: Settings,
    label: str,
    file: str,
    column: str | None,
    delimiter: str | None,
    encoding: str,
    near: str | None,
    count: int,
    out: str | None,
    anew: bool,
    dimensions: int | None,
    as_json: bool,
) -> None:
    """Turn each line of FILE (text, CSV or JSON Lines) into a vector, with the model LABEL.

    --out keeps them, --near searches them; both may be given. What came is kept at once: the same command again asks
    only for the lines whose vectors are not there yet.
    """
    if near is None and out is None:
        raise click.UsageError("say what is wanted: --near TEXT to search the lines, --out FILE to keep the vectors")
    if anew and out is None:
        raise click.UsageError("--anew goes with --out")
    kind = kind_of(out, (".npz", ".parquet", ".npy")) if out is not None else ""
    if out is not None and not Path(out).absolute().parent.is_dir():
        raise click.UsageError(f"there is no folder {Path(out).parent}")  # before anything is paid
    table = read_rows(file, column, delimiter=delimiter, encoding=encoding)
    for remark in table.remarks:
        click.echo(f"  ({printable(remark)})", err=True)
    rows = [row for row in table.rows if row.text]
    texts = [row.text for row in rows]
    if not texts:
        raise click.UsageError(f"there is nothing in the column {column} of {file}")
    with Client(app.config) as client:
        if out is None:
            embedded = client.embed(label, texts, dimensions=dimensions)
        else:
            with closing(VectorsKept(Path(out), kind, label, dimensions, anew=anew)) as kept:
                embedded = _kept(client, label, texts, dimensions, kept)
        query = client.embed(label, near, dimensions=dimensions) if near is not None else None
    if out is not None:
        price = client.config.model(label).price_now
        cost = f", {embedded.cost:.6f} {price.currency}" if embedded.cost is not None and price is not None else ""
        tokens = f", {embedded.usage.input_tokens} tokens" if embedded.usage.input_tokens is not None else ""
        click.echo(f"  {len(embedded)} vectors of {embedded.dimensions} numbers in {out}{tokens}{cost}", err=True)
    if query is not None:
        nearest = embedded.near(query, count)
        if as_json:
            shown = [
                {"line": rows[each.index].line, "score": round(each.score, 4), "text": each.text} for each in nearest
            ]
            show_json(shown)
            return
        for each in nearest:
            text = " ".join(each.text.split())
            click.echo(f"{paint(f'{each.score:6.3f}', bold=True)}  {rows[each.index].line:>5}  {printable(text)}")


def _kept(client: Client, label: str, texts: list[str], dimensions: int | None, kept: VectorsKept) -> "Embeddings":
    """The vectors of all texts, on disk portion by portion, and in the file at the end."""
    from ...embedding_batches import how_to_go_on

    usages, costs = [], []
    known = kept.known
    there = set(known.texts) if known is not None else set()
    missing = [text for text in dict.fromkeys(texts) if text not in there]
    if known is not None and len(missing) < len(set(texts)):
        click.echo(f"  {len(set(texts)) - len(missing)} of {len(set(texts))} are there already", err=True)
    for first in range(0, len(missing), _PORTION):
        try:
            came = client.embed(label, missing[first : first + _PORTION], dimensions=dimensions)
        except AgoutiError as error:
            if error.partial is None:
                raise
            kept.add(error.partial)
            hint = error.hint.removesuffix(how_to_go_on(error.partial))
            raise error.with_context(hint=f"{hint} What came is kept: the same command goes on from there.") from None
        kept.add(came)
        usages.append(came.usage)
        costs.append(came.cost)
    return kept.finish(client, texts, total_usage(usages), total_cost(costs))
