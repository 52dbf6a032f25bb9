"""``agouti embed``: texts into vectors, kept or searched."""

from typing import TYPE_CHECKING, Any

import click

from ...core.secrets.masking import printable
from ..app import Settings
from ..batch_progress import run_batch
from ..input_rows import kind_of, read_rows
from ..label_completion import LABEL
from ..tags import TAG, client_of
from ..terminal_text import paint, show_json

if TYPE_CHECKING:
    from ...embeddings.embeddings import Embeddings


@click.command("embed")
@click.argument("label", type=LABEL)
@click.argument("file")
@click.option("--column", metavar="NAME", help="Take this column of a .csv or field of a .jsonl file alone.")
@click.option("--delimiter", metavar="CHAR", help="What stands between the columns of CSV.")
@click.option("--encoding", metavar="NAME", default="", help="The encoding of the file.")
@click.option("--near", metavar="TEXT", help="Show the lines that are nearest to a text.")
@click.option("-k", "count", type=click.IntRange(1), default=5, show_default=True, help="With --near: so many.")
@click.option("--out", metavar="FILE", help="Keep the vectors: .npz or .parquet (texts and vectors), .npy (the array).")
@click.option("--restart", is_flag=True, help="With --out: ask for all lines, also those whose vectors are there.")
@click.option("--dimensions", type=click.IntRange(1), help="Length of the vectors, for models that can choose.")
@click.option("--json", "as_json", is_flag=True, help="With --near: print JSON.")
@TAG
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
    restart: bool,
    dimensions: int | None,
    as_json: bool,
) -> int:
    """Turn each line of FILE (text, CSV or JSON Lines) into a vector, with the model LABEL.

    --out keeps them, --near searches them; both may be given. What came is kept at once: the same command again asks
    only for the lines whose vectors are not there yet.
    """
    if near is None and out is None:
        raise click.UsageError("say what is wanted: --near TEXT to search the lines, --out FILE to keep the vectors")
    if restart and out is None:
        raise click.UsageError("--restart goes with --out")
    if out is not None:
        kind_of(out, (".npz", ".parquet", ".npy"))
        arguments: dict[str, Any] = {
            "column": column,
            "delimiter": delimiter,
            "encoding": encoding,
            "dimensions": dimensions,
            "restart": restart,
        }
        arguments = {name: value for name, value in arguments.items() if value}
        batch = run_batch(app, label, file, noun="embedded", embed=True, out=out, retry_failed=True, **arguments)
        if near is None:
            return 1 if batch.failed else 0
    table = read_rows(file, column, delimiter=delimiter, encoding=encoding)
    for remark in table.remarks if out is None else ():
        click.echo(f"  ({printable(remark)})", err=True)
    rows = [row for row in table.rows if row.text]
    texts = [row.text for row in rows]
    if not texts:
        raise click.UsageError(f"there is nothing in the column {column} of {file}")
    with client_of(app) as client:
        embedded = client.embed(label, texts, dimensions=dimensions, only_missing=_known_embeddings(out, label, texts))
        query = client.embed(label, near, dimensions=dimensions) if near is not None else None
    if query is not None:
        nearest = embedded.near(query, count)
        if as_json:
            neighbours = [
                {"line": rows[each.index].line, "score": round(each.score, 4), "text": each.text} for each in nearest
            ]
            show_json(neighbours)
            return 0
        for each in nearest:
            text = " ".join(each.text.split())
            click.echo(f"{paint(f'{each.score:6.3f}', bold=True)}  {rows[each.index].line:>5}  {printable(text)}")
    return 0


def _known_embeddings(out: str | None, label: str, texts: list[str]) -> "Embeddings | None":
    """The vectors that were kept, so that they are searched and not asked for again."""
    from ...embeddings.embeddings import Embeddings

    if out is None:
        return None
    if not out.lower().endswith(".npy"):
        return Embeddings.load(out)
    import numpy

    vectors = numpy.load(out, allow_pickle=False)
    return Embeddings(texts, vectors, label=label) if len(vectors) == len(texts) else None
