"""A batch on the command line: progress while it runs, what came at the end, and what is kept when it is stopped."""

import asyncio
import json
import signal
import sys
import time
from contextlib import suppress
from pathlib import Path
from typing import Any

import click

from ..batches.batch import Batch
from ..batches.progress_display import ShownProgress, amount_text, time_text
from ..batches.result_file import Unwritable
from ..batches.types import Progress
from ..client.async_client import AsyncClient
from ..core.errors import AgoutiError
from ..core.secrets.masking import printable
from ..services.batch.batch_rows import batch
from .app import Settings
from .terminal_text import on_terminal

# Seconds between two lines of progress as JSON.
_IN_JSON = 1.0
# Seconds in which a second interrupt cancels what was handed over.
_SECONDS = 5


def run_batch(
    app: Settings, label: str, rows: str, *, noun: str = "answered", in_json: bool = False, **options: Any
) -> Batch:
    """Run a batch, and say how it goes and went.

    Args:
        noun: what rows are that have their result.
        in_json: progress comes in lines of JSON.

    Raises:
        AgoutiError: it could not be begun, or was stopped by what holds for all rows.
        KeyboardInterrupt: somebody has stopped it.
    """
    out = options.get("out")
    _check_apart(rows, out)
    display = _ProgressLines(out, in_json=in_json)
    if out is None:
        options["on_row"] = _print
    options["progress"] = display
    try:
        batch = asyncio.run(_run(app, label, rows, options))
    except BaseException as error:
        display.end()
        _stopped(error, display, out)
        if isinstance(error, KeyboardInterrupt) and options.get("deferred"):
            _ask_to_cancel(app, label, rows, options)
        raise
    display.end()
    command_again = "the same command" if options.get("retry_failed") else "the same command with --retry-failed"
    _say(batch, noun, command_again)
    return batch


async def _run(app: Settings, label: str, rows: str, options: dict[str, Any]) -> Batch:
    async with AsyncClient(app.config) as async_client:
        client = async_client.tagged(**app.tags) if app.tags else async_client
        task = asyncio.current_task()
        ended = False

        def end() -> None:
            nonlocal ended
            ended = True
            if task is not None:
                task.cancel()

        with suppress(NotImplementedError):  # a system without such signals
            asyncio.get_running_loop().add_signal_handler(signal.SIGTERM, end)
        try:
            return await batch(client, label, rows, **options)
        except asyncio.CancelledError:
            if ended:
                raise KeyboardInterrupt from None
            raise


def _check_apart(rows: str, out: str | None) -> None:
    if out is not None and Path(out).exists() and Path(rows).exists() and Path(out).samefile(rows):
        raise click.UsageError(f"{out} is also where the rows are: what stands in it would be lost; name another --out")


def _print(result: dict[str, Any]) -> None:
    """Whoever reads the pipe can go on."""
    text = json.dumps(result, ensure_ascii=False)
    click.echo(printable(text) if on_terminal() else text.encode("utf-8", "surrogateescape"))


class _ProgressLines(ShownProgress):
    """Shows how far a run is, now and then; in lines of JSON where that is wanted."""

    def __init__(self, out: str | None, *, in_json: bool = False) -> None:
        super().__init__(watched=sys.stderr.isatty() and (out is not None or not sys.stdout.isatty()))
        self._in_json = in_json
        if in_json:
            self.every(_IN_JSON, immediately=True)

    def show(self, progress: Progress) -> None:
        """Say it."""
        if self._in_json:
            facts = {name: getattr(progress, name) for name in Progress.__struct_fields__}
            click.echo(json.dumps({"progress": facts}), err=True)
        else:
            super().show(progress)

    def end(self) -> None:
        """There is no more."""
        if not self._in_json:
            super().end()
        elif self.last is not None:
            self.show(self.last)  # a line behind the last row, whenever the one before came


def _stopped(error: BaseException, display: _ProgressLines, out: str | None) -> None:
    """What is kept of a run that did not come to its end; a result that could not be written is printed."""
    if isinstance(error, Unwritable) and error.lines:
        click.echo(f"  {len(error.lines)} results could not be written; here they are:", err=True)
        for line in error.lines:
            click.echo(printable(line.decode("utf-8", "replace").rstrip("\n")) if on_terminal() else line.rstrip(b"\n"))
    progress = display.last
    if progress is None or not isinstance(error, (AgoutiError, KeyboardInterrupt)):
        return
    where = f", in {out}; the same command goes on" if out else ""
    of = "" if progress.total is None else f" of {progress.total}"
    newline = "\n" if isinstance(error, KeyboardInterrupt) else ""
    click.echo(f"{newline}  stopped: {progress.already_done + progress.done}{of} are done{where}", err=True)


def _ask_to_cancel(app: Settings, label: str, rows: str, options: dict[str, Any]) -> None:
    """What was handed over goes on, unless somebody says once more that it is not wanted."""
    click.echo(
        "  what was handed over goes on at the provider, and the same command fetches it.\n"
        f"  Cancel it there? Ctrl-C again within {_SECONDS} s cancels it.",
        err=True,
    )
    try:
        time.sleep(_SECONDS)
    except KeyboardInterrupt:
        asyncio.run(_run(app, label, rows, {**options, "deferred": False, "cancel_deferred": True}))
        click.echo("\n  cancelled; the same command fetches what was done before", err=True)


def _say(batch: Batch, noun: str, command_again: str) -> None:
    """What came, in a few lines."""
    for remark in batch.warnings:
        click.echo(f"  ({printable(remark)})", err=True)
    total = batch.done + batch.already_done + batch.failed_now + batch.left
    if batch.already_done:
        click.echo(f"  {batch.already_done:,} of {total:,} are there already, in {batch.out}", err=True)
    cost = "".join(f", {amount_text(amount)} {currency}" for currency, amount in batch.costs.items())
    where = f" in {batch.out}" if batch.out is not None else ""
    rate = f" ({batch.rate:.0f} a second)" if batch.seconds >= 5 and batch.rate >= 2 else ""
    click.echo(f"  {batch.answered:,} of {total:,} {noun}{where}, {time_text(batch.seconds)}{rate}{cost}", err=True)
    if batch.out is not None and batch.costs_in_all != batch.costs:
        amounts = ", ".join(f"{amount_text(amount)} {currency}" for currency, amount in batch.costs_in_all.items())
        click.echo(f"  all runs on {batch.out} together: {amounts}", err=True)
    if batch.cut:
        again_cut = (
            ": --retry-cut asks again; a higher -n, with --ignore-changes, gives room" if batch.out is not None else ""
        )
        click.echo(f"  {batch.cut:,} answers end at their cap{again_cut}", err=True)
    for line, reason in batch.failures:
        click.echo(printable(f"  line {line}: {reason}"), err=True)
    if batch.left:
        click.echo(f"  {batch.left:,} have no result yet: the same command asks for them", err=True)
    if batch.failed and batch.out is not None:
        kinds = f" ({', '.join(f'{count:,} {kind}' for kind, count in batch.kinds.items())})" if batch.kinds else ""
        click.echo(f"  {batch.failed:,} failed{kinds}: {command_again} asks them again", err=True)
