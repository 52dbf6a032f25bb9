"""``agouti batch``: one prompt for every row of a file."""

import time
from pathlib import Path
from typing import Any

import click

from ...batches.progress_display import time_text
from ...core.secrets.masking import printable
from ...services.batch.batch_rows import plan
from ..aligned_columns import show_columns
from ..app import Settings
from ..batch_progress import run_batch
from ..import_objects import form_named
from ..label_completion import LABEL
from ..tags import TAG, client_of
from ..terminal_text import VARIABLE, parameters_given, show_json, variables_given


@click.command("batch")
@click.argument("label", type=LABEL, required=False)
@click.argument("rows", required=False)
@click.option("--prompt", metavar="TEXT", help="What each row is asked, its columns in braces: 'Sort {note}'.")
@click.option("--prompt-from", metavar="FILE", help="Take the prompt from a file.")
@click.option("--column", metavar="NAME", help="Ask this column alone, as it is.")
@click.option("--form", metavar="FORM", help="Fill a form from each row: a JSON Schema in a file, or MODULE:CLASS.")
@click.option("--embed", is_flag=True, help="Turn each row into a vector.")
@click.option("--image", "images", metavar="COLUMN", multiple=True, help="A column that names an image; repeatable.")
@click.option("--file", "files", metavar="COLUMN", multiple=True, help="A column that names a file; may be repeated.")
@click.option("--id-column", metavar="COLUMN", help="What tells rows apart, so that rows may come and go between runs.")
@click.option("--out", metavar="FILE", help="Write a .jsonl, .csv, .parquet, .npz or .npy file; what is there is kept.")
@click.option(
    "--preserve-order", is_flag=True, help="With a .jsonl file: put it into the order of the rows at the end."
)
@click.option("--quote-formulas", is_flag=True,
              help="In .csv: put a ' in front of what a spreadsheet would run.")  # fmt: skip
@click.option("--concurrency", type=click.IntRange(1, 1024), help="So many requests at a time, instead of finding out.")
@click.option("--limit", type=click.IntRange(1), metavar="N", help="Only the first N rows.")
@click.option("--sample", type=click.IntRange(1), metavar="N", help="Only N rows, taken by chance; always the same.")
@click.option("--plan", "only_plan", is_flag=True, help="Say what it is likely to take; nothing is sent.")
@click.option(
    "--budget", type=click.FloatRange(0, min_open=True), metavar="AMOUNT", help="Spend no more than that in this run."
)
@click.option("--budget-in-all", type=click.FloatRange(0, min_open=True), metavar="AMOUNT",
              help="Spend no more than that in all runs on --out together.")  # fmt: skip
@click.option("--cluster", metavar="ADDRESS", help="Let the workers of a Dask cluster ask the rows.")
@click.option("--deferred", is_flag=True, help="Hand the rows over to be answered later, at the lower price for that.")
@click.option("--take-over", metavar="BATCH", multiple=True,
              help="With --deferred: take the answers of this batch, whose journal is lost; repeatable.")  # fmt: skip
@click.option("--retry-failed", is_flag=True, help="Ask those again that failed.")
@click.option("--retry-kind", "retry_kinds", metavar="KIND", multiple=True,
              help="Ask those again that failed in this way, such as RateLimited; repeatable.")  # fmt: skip
@click.option("--retry-cut", is_flag=True, help="Ask those again whose answer ends at its cap.")
@click.option("--restart", is_flag=True, help="Start over and delete existing results.")
@click.option("--ignore-changes", is_flag=True, help="Go on with results that were asked otherwise.")
@click.option("--max-same-failures", type=click.IntRange(0), default=25, show_default=True, metavar="N",
              help="End after N failures alone, all in the same way; 0: never.")  # fmt: skip
@click.option("--give-up-after", type=click.FloatRange(0), default=300, show_default=True, metavar="SECONDS",
              help="End after so long without a success, while the provider is away.")  # fmt: skip
@click.option("--stop-at-share", type=click.FloatRange(0, 1), metavar="SHARE",
              help="End where more than this share of rows fails, such as 0.05.")  # fmt: skip
@click.option("--until", metavar="TIME", help="Begin no row after this time: 07:00, or 2026-03-01T07:00.")
@click.option("--system", metavar="TEXT", help="System text, instead of the entry's.")
@VARIABLE
@click.option("-t", "--temperature", type=float, help="For all rows.")
@click.option("-n", "--max-tokens", type=int, help="Cap on the length of each answer.")
@click.option("--set", "settings", metavar="NAME=VALUE", multiple=True, help="Any other parameter, for all rows.")
@click.option("--dimensions", type=click.IntRange(1), help="With --embed: length of the vectors.")
@click.option("--delimiter", metavar="CHAR", help="What stands between the columns of CSV.")
@click.option("--encoding", metavar="NAME", help="The encoding of the rows.")
@click.option("--accept", metavar="RE", help="An answer in which this regular expression is not found has failed.")
@click.option(
    "--report", metavar="FILE", help="Write what became of the run, however it ends: a .json file, or a .html page."
)
@click.option("--progress", type=click.Choice(["json"]), help="Say how far it is in lines of JSON, once a second.")
@click.option("--status", is_flag=True, help="Say how far the deferred batches of --out are; nothing is fetched.")
@click.option("--export", metavar="FILE", help="Write the results of --out into this file, too; nothing is asked.")
@click.option("--json", "as_json", is_flag=True, help="With --plan and --status: print JSON.")
@TAG
@click.pass_obj
def command(
    app: Settings,
    /,
    label: str | None,
    rows: str | None,
    prompt: str | None,
    prompt_from: str | None,
    form: str | None,
    images: tuple[str, ...],
    files: tuple[str, ...],
    only_plan: bool,
    system: str | None,
    variables: tuple[str, ...],
    temperature: float | None,
    max_tokens: int | None,
    settings: tuple[str, ...],
    as_json: bool,
    status: bool,
    export: str | None,
    retry_kinds: tuple[str, ...],
    progress: str | None,
    **further: Any,
) -> int:
    """Ask the model LABEL about every row of ROWS: .jsonl, .csv, .parquet, lines of text, or - for standard input
    (of CSV: say its --delimiter).

    Each result is written before the next one is waited for. The same command again goes on where it was stopped, also
    after a kill: no row that has its result is asked again. Lines of an OpenAI-compatible batch need no prompt.
    """
    if export is not None:
        return _export(further.get("out"), export, quote_formulas=bool(further.get("quote_formulas")))
    if status:
        return _status(app, label, further.get("out"), as_json=as_json)
    if label is None or rows is None:
        raise click.UsageError(f"Missing argument '{'LABEL' if label is None else 'ROWS'}'.")
    if prompt is not None and prompt_from is not None:
        raise click.UsageError("--prompt and --prompt-from exclude each other")
    if as_json and not only_plan:
        raise click.UsageError("--json goes with --plan; results are JSON Lines anyway")
    options: dict[str, Any] = {
        name: value for name, value in further.items() if value is not None and value is not False and value != ()
    }
    if retry_kinds:
        if options.get("retry_failed"):
            raise click.UsageError("--retry-failed and --retry-kind exclude each other")
        options["retry_failed"] = retry_kinds
    options |= parameters_given(settings)
    options |= {
        name: value
        for name, value in (
            ("prompt", _text_in(prompt_from) if prompt_from is not None else prompt),
            ("form", form_named(form) if form is not None else None),
            ("image_columns", images or None),
            ("file_columns", files or None),
            ("system", system),
            ("variables", variables_given(variables) or None),
            ("temperature", temperature),
            ("max_tokens", max_tokens),
        )
        if value is not None
    }
    if only_plan:
        return _plan(app, label, rows, options, as_json=as_json)
    noun = "embedded" if options.get("embed") else "filled" if form is not None else "answered"
    batch = run_batch(app, label, rows, noun=noun, in_json=progress == "json", **options)
    return 1 if batch.failed or batch.left else 0


def _export(out: str | None, path: str, *, quote_formulas: bool) -> int:
    from ...batches.export import export

    if out is None:
        raise click.UsageError("--export goes with --out: the file that a run has written to")
    count = export(out, path, quote_formulas=quote_formulas)
    click.echo(f"{count:,} results of {printable(out)} are in {printable(path)}", err=True)
    return 0


def _status(app: Settings, label: str | None, out: str | None, *, as_json: bool) -> int:
    import msgspec

    from ...services.batch.status import batch_status

    if label is None or out is None:
        raise click.UsageError("--status goes with LABEL and --out: the file that the run writes to")
    with client_of(app) as client:
        batches = batch_status(client, label, out)
    if as_json:
        show_json([msgspec.to_builtins(each) for each in batches])
    elif not batches:
        click.echo(f"  nothing of {printable(out)} is at the provider", err=True)
    else:
        now = time.time()
        show_columns(
            ("BATCH", "STATE", "DONE", "OF", "FOR", ""),
            [
                (
                    each.name,
                    each.state,
                    f"{each.done:,}",
                    f"{each.total:,}",
                    time_text(max(now - each.since, 0)),
                    each.why,
                )
                for each in batches
            ],
            right=(2, 3, 4),
        )
    return 1 if any(each.state in ("failed", "gone") for each in batches) else 0


def _text_in(file: str) -> str:
    try:
        return Path(file).read_text(encoding="utf-8")
    except OSError as error:
        raise click.UsageError(f"{file} cannot be read ({error.strerror or error})") from None
    except UnicodeDecodeError:
        raise click.UsageError(f"{file} is not UTF-8 text") from None


def _plan(app: Settings, label: str, rows: str, options: dict[str, Any], *, as_json: bool) -> int:
    import msgspec

    with client_of(app) as client:
        batch = plan(client, label, rows, **options)
    if as_json:
        show_json(msgspec.to_builtins(batch))
        return 0
    already_done = batch.rows - batch.to_ask - batch.unusable
    of = f" ({already_done:,} of {batch.rows:,} are there)" if already_done else ""
    about = "at most" if batch.at_most else "about"
    lines = [f"rows to ask      {batch.to_ask:,}{of}"]
    if batch.unusable:
        lines.append(f"cannot be asked  {batch.unusable:,}")
    lines.append(f"tokens in        about {batch.input_tokens:,}")
    if batch.output_tokens is None:
        lines.append("tokens out       not known: cap them with -n, or run a --sample first")
    elif batch.output_tokens:
        lines.append(f"tokens out       {about} {batch.output_tokens:,}")
    cost = (
        "not known"
        if batch.cost is None
        else f"{'at most' if batch.at_most else 'about'} {batch.cost:.4g} {batch.currency}"
    )
    lines.append(f"cost             {cost}")
    if batch.seconds is not None:
        lines.append(f"time             at least {time_text(batch.seconds)}, under the limits of the entries")
    lines.append(f"first prompt     {printable(' '.join(batch.example.split()))[:100]}")
    click.echo("\n".join(lines))
    return 0
