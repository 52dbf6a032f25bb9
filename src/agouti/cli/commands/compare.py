"""``agouti compare``: several models, the same prompts."""

import sys
from contextlib import suppress
from pathlib import Path
from typing import Any

import click

from ...core.secrets.masking import printable
from ...services.compare.results import Comparison
from ...services.compare.rows import parameters_text
from ...tables.statistics import Estimate
from ...tables.table import SUFFIXES, check_suffix, text_of
from ..aligned_columns import show_columns
from ..app import Settings
from ..import_objects import form_named
from ..input_rows import read_rows
from ..label_completion import LABEL
from ..tags import TAG, client_of
from ..terminal_text import VARIABLE, given_text, on_terminal, parameters_given, show_json, variables_given


@click.command("compare")
@click.argument("labels", nargs=-1, required=True, metavar="LABEL... [TEXT]", type=LABEL)
@click.option("--prompts", metavar="FILE", help="Take the prompts from a text, CSV or JSON Lines file, one a row.")
@click.option("--column", metavar="NAME", help="With --prompts: take this column alone.")
@click.option("--repeats", type=click.IntRange(1, 1000), default=1, show_default=True, help="Ask each so often.")
@click.option("-t", "--temperature", "temperatures", type=float, multiple=True, help="May be repeated: each is tried.")
@click.option("-n", "--max-tokens", type=int, help="Cap on the length of each answer.")
@click.option("--set", "settings", metavar="NAME=VALUE", multiple=True, help="Any other parameter, for all.")
@click.option("--system", "systems", metavar="TEXT", multiple=True, help="System text; repeated: each is tried.")
@VARIABLE
@click.option("--image", "images", metavar="FILE", multiple=True, help="An image for every prompt; may be repeated.")
@click.option("--expect", metavar="COLUMN", help="The column of --prompts with what the answer must be; or a file.")
@click.option("--contains", metavar="TEXT", help="What must stand in every answer.")
@click.option("--pattern", metavar="RE", help="A regular expression that must be found in every answer.")
@click.option("--form", metavar="FORM", help="A JSON Schema in a file, or MODULE:CLASS, that every answer fits.")
@click.option("--judge", metavar="LABEL", type=LABEL, help="A model that scores every answer, with its reason.")
@click.option("--judge-question", metavar="TEXT", help="What it is to look at.")
@click.option("--judge-repeats", type=click.IntRange(1, 100), default=1, help="Ask it so often about each answer.")
@click.option("--judge-pairs", is_flag=True, help="Let it also choose between each two answers, in both orders.")
@click.option(
    "--similarity", metavar="LABEL", type=LABEL, help="A model for embeddings, to tell how alike answers are."
)
@click.option(
    "--concurrency", type=click.IntRange(1, 256), default=4, show_default=True, help="Requests to one provider."
)
@click.option("--out", metavar="FILE", help="Write a .html page, .csv, .jsonl, .parquet or .png file.")
@click.option("--resume", is_flag=True, help="With --out: go on with a run that was interrupted.")
@click.option("--json", "as_json", is_flag=True, help="Print answers and summary as JSON.")
@TAG
@click.pass_obj
def command(
    app: Settings,
    labels: tuple[str, ...],
    prompts: str | None,
    column: str | None,
    repeats: int,
    temperatures: tuple[float, ...],
    max_tokens: int | None,
    settings: tuple[str, ...],
    systems: tuple[str, ...],
    variables: tuple[str, ...],
    images: tuple[str, ...],
    expect: str | None,
    contains: str | None,
    pattern: str | None,
    form: str | None,
    judge: str | None,
    judge_question: str | None,
    judge_repeats: int,
    judge_pairs: bool,
    similarity: str | None,
    concurrency: int,
    out: str | None,
    resume: bool,
    as_json: bool,
) -> int:
    """Ask each model LABEL the TEXT, or every prompt of a file, and compare answers, times and cost.

    Ends with 1 where an answer failed. An interrupted run with --out keeps what it has beside that file.
    """
    from ...services.compare.compare_models import compare

    labels, texts, expected = _prompts_of(labels, prompts, column, expect)
    options: dict[str, Any] = parameters_given(settings)
    options |= {"max_tokens": max_tokens} if max_tokens is not None else {}
    options |= {"system": systems[0]} if len(systems) == 1 else {}
    options |= {"judge_repeats": judge_repeats, "judge_pairs": judge_pairs} if judge is not None else {}
    if judge is None and (judge_pairs or judge_question is not None):
        raise click.UsageError("--judge-pairs and --judge-question go with --judge LABEL")
    options |= {"variables": variables_given(variables)} if variables else {}
    options |= {"images": images} if images else {}
    options |= {"judge_question": judge_question} if judge_question is not None else {}
    keep = _checkpoint_of(out, resume)
    with client_of(app) as client:
        if prompts is None and texts[0] in client.config.models:
            raise click.UsageError(f'no prompt: {texts[0]} is a label; agouti compare LABEL... "question"')
        try:
            result = compare(
                client,
                labels,
                texts,
                repeats=repeats,
                parameters=_varied(temperatures, systems),
                expect=expected,
                contains=contains,
                pattern=pattern,
                form=None if form is None else form_named(form),
                judge=judge,
                similarity=similarity,
                concurrency=concurrency,
                checkpoint=keep,
                progress=_progress if sys.stderr.isatty() else None,
                **options,
            )
        except KeyboardInterrupt:
            _end_of_progress()
            if keep is not None and keep.exists():
                click.echo(f"  (what came is kept: the same command with --resume goes on with {out})", err=True)
            elif keep is None:
                click.echo("  (what came is gone: --out FILE keeps it)", err=True)
            raise
    _end_of_progress()
    if out is not None:
        result.save(out)
    if keep is not None:
        _put_away(keep, result)
    if as_json:
        parts: dict[str, Any] = {
            "summary": result.summary,
            "differences": result.differences,
            "prompts": result.prompts,
        }
        parts |= {"pairs": result.pairs, "preferences": result.preferences} if judge_pairs else {}
        show_json({"rows": result.records(), **{name: table.records() for name, table in parts.items()}})
    else:
        _show(result)
    for remark in result.warnings:
        click.echo(f"  ({printable(remark)})", err=True)
    if out is not None:
        click.echo(f"  ({len(result)} answers in {out})", err=True)
    return 1 if any(row.error is not None for row in result) else 0


def _varied(temperatures: tuple[float, ...], systems: tuple[str, ...]) -> list[dict[str, Any]]:
    """The sets of parameters: each temperature with each system text, where there are several."""
    texts: list[dict[str, Any]] = [{"system": each} for each in systems] if len(systems) > 1 else [{}]
    warmths: list[dict[str, Any]] = [{"temperature": each} for each in temperatures] or [{}]
    return [{**text, **warmth} for text in texts for warmth in warmths]


def _prompts_of(
    labels: tuple[str, ...], prompts: str | None, column: str | None, expect: str | None
) -> tuple[tuple[str, ...], list[str], list[str] | None]:
    """The labels and the prompts of the command, and what each answer must be."""
    if prompts is not None:
        table = read_rows(prompts, column)
        for remark in table.remarks:
            click.echo(f"  ({printable(remark)})", err=True)
        texts = [row.text if row.text.strip() else text_of(row.columns) for row in table.rows]
        known = table.rows[0].columns
        if expect is None or (expect not in known and Path(expect).is_file()):
            return labels, texts, None if expect is None else _lines_of(expect)
        if expect not in known:
            hint = f"it has {', '.join(known)}" if known else "it has no columns"
            raise click.UsageError(f"--expect: {prompts} has no column {expect!r}, {hint}, and there is no such file")
        if column is None:  # the answer is not told with the question
            texts = [_without(row.columns, expect) for row in table.rows]
        return labels, texts, [text_of(row.columns.get(expect)) for row in table.rows]
    if column is not None:
        raise click.UsageError("--column goes with --prompts")
    if len(labels) < 2:
        raise click.UsageError('no prompt: agouti compare LABEL... "question", or --prompts FILE')
    return labels[:-1], [given_text(labels[-1], None)], None if expect is None else _lines_of(expect)


def _without(columns: dict[str, Any], name: str) -> str:
    """A row without one of its columns, as a prompt: alone what is left, where that is one column."""
    other_columns = {each: text_of(value) for each, value in columns.items() if each != name and text_of(value).strip()}
    return (
        next(iter(other_columns.values()))
        if len(other_columns) == 1
        else "\n".join(f"{each}: {text}" for each, text in other_columns.items())
    )


def _lines_of(file: str) -> list[str]:
    """The lines of a file with one answer for each prompt."""
    table = read_rows(file)
    if any(len(row.columns) > 1 for row in table.rows):
        raise click.UsageError(
            f"{file} has several columns: put the prompts there too, and say --prompts {file} --expect COLUMN"
        )
    return [text_of(next(iter(row.columns.values()))) if row.columns else row.text for row in table.rows]


def _checkpoint_of(out: str | None, resume: bool) -> Path | None:
    """Where answers are kept until the run is complete; what is wrong with --out is said before anything is asked."""
    if out is None:
        if resume:
            raise click.UsageError("--resume goes with --out")
        return None
    check_suffix(out, (*SUFFIXES, ".html", ".png"))
    path = Path(out)
    if path.is_dir():
        raise click.UsageError(f"{out} is a folder")
    keep = path.with_name(f".{path.name}.part")
    if resume and path.exists() and not keep.exists():
        raise click.UsageError(f"there is nothing to go on with: {out} is complete; leave --resume out to ask anew")
    if keep.exists() and keep.stat().st_size and not resume:
        raise click.UsageError(
            f"an interrupted run has left answers for {out}: go on with it by --resume, or remove {keep}"
        )
    return keep


def _put_away(keep: Path, result: Comparison) -> None:
    """Remove what was kept, unless answers failed: then the next run asks for those alone."""
    if not any(row.error is not None for row in result):
        with suppress(OSError):
            keep.unlink(missing_ok=True)


def _progress(done: int, total: int, cost: dict[str, float]) -> None:
    spent = ", ".join(f"{amount:.4f} {currency}" for currency, amount in cost.items())
    click.echo(f"\r\033[K  {done} of {total}{f', {spent}' if spent else ''}", nl=False, err=True)


def _end_of_progress() -> None:
    if sys.stderr.isatty():
        click.echo("\r\033[K", nl=False, err=True)


def _show(result: Comparison) -> None:
    """The answers where they are few, and the summary."""
    if len(result) <= 8:
        for row in result:
            head = ", ".join(filter(None, (row.label, parameters_text(row.parameters))))
            text = row.text if row.error is None else f"({row.error})"
            click.echo(f"{head}:\n{printable(text) if on_terminal() else text}\n")
    checks = list(dict.fromkeys(name for row in result.summary for name in row.checks))
    names = [
        "model",
        "with",
        "answers",
        "failed",
        "first, s",
        "whole, s",
        "95 %, s",
        "tokens/s",
        "tokens",
        "cost",
        "distinct",
        "alike",
    ]
    rows = [
        [
            row.label,
            parameters_text(row.parameters),
            str(row.answers),
            str(row.errors or ""),
            _mean(row.first_token),
            _mean(row.seconds),
            "" if row.seconds_p95 is None or row.answers < 2 else f"{row.seconds_p95:.2f}",
            _mean(row.tokens_per_second, 0),
            _mean(row.output_tokens, 0),
            "" if row.cost is None else f"{row.cost:.6f} {row.currency or ''}".strip(),
            "" if row.distinct is None else f"{row.distinct:.2f}",
            "" if row.similarity is None else f"{row.similarity:.2f}",
            *[_share(row.checks.get(name)) for name in checks],
        ]
        for row in result.summary
    ]
    names += checks
    filled_columns = [at for at in range(len(names)) if any(row[at] for row in rows)]
    show_columns(
        [names[at] for at in filled_columns],
        [[row[at] for at in filled_columns] for row in rows],
        right=[number for number, at in enumerate(filled_columns) if at > 1],
    )
    _show_differences(result)
    spent = ", ".join(f"{amount:.6f} {currency}" for currency, amount in result.cost.items())
    if spent:
        click.echo(f"  ({spent} in all)", err=True)


def _show_differences(result: Comparison) -> None:
    """Who won side by side, and what differs by more than chance."""
    for won in result.preferences:
        click.echo(f"  {won.label} against {won.other}: {_share(won.won)} of {won.pairs} pairs, by the judge", err=True)
    clear = [row for row in result.differences if row.clear]
    for row in clear[:8]:
        by, description = row.difference, ", ".join(filter(None, (row.measure, parameters_text(row.parameters))))
        between = f"{by.value:+.3g} ({by.low:+.3g} to {by.high:+.3g})"
        click.echo(f"  {row.label} less {row.other}, {description}: {between}", err=True)
    compared = sum(row.difference.low is not None for row in result.differences)
    if clear and compared > 10:
        click.echo(f"  (of {compared} differences that were looked at, one in twenty is so by chance)", err=True)
    if len(clear) > 8:
        click.echo(f"  and {len(clear) - 8} more differences; see --json or a page", err=True)


def _mean(estimate: Estimate | None, digits: int = 2) -> str:
    return "" if estimate is None else f"{estimate.value:.{digits}f}"


def _share(estimate: Estimate | None) -> str:
    if estimate is None:
        return ""
    if estimate.low is None or estimate.high is None or estimate.count < 2:
        return f"{estimate.value:.2f}"
    return f"{estimate.value:.2f} ({max(estimate.low, 0):.2f}-{min(estimate.high, 1):.2f})"
