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

from ..batches.result import Batch
from ..batches.results import Unwritable
from ..batches.units import Progress
from ..client import AsyncClient
from ..core.errors import AgoutiError
from ..core.masking import printable
from ..services.batch import batch
from .app import Settings
from .text import on_terminal

# Seconds between two times that progress is shown: on a terminal, in the log of a run that nobody watches, as JSON.
_WATCHED, _LOGGED, _IN_JSON = 0.1, 30.0, 1.0
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
    shown = _Shown(out, in_json=in_json)
    if out is None:
        options["on_row"] = _print
    options["progress"] = shown
    try:
        made = asyncio.run(_run(app, label, rows, options))
    except BaseException as error:
        shown.end()
        _stopped(error, shown, out)
        if isinstance(error, KeyboardInterrupt) and options.get("deferred"):
            _ask_to_cancel(app, label, rows, options)
        raise
    shown.end()
    again = "the same command" if options.get("retry_failed") else "the same command with --retry-failed"
    _say(made, noun, again)
    return made


async def _run(app: Settings, label: str, rows: str, options: dict[str, Any]) -> Batch:
    async with AsyncClient(app.config) as whole:
        client = whole.tagged(**app.tags) if app.tags else whole
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


class _Shown:
    """Shows how far a run is, now and then."""

    def __init__(self, out: str | None, *, in_json: bool = False) -> None:
        self._in_json = in_json
        self._terminal = not in_json and sys.stderr.isatty() and (out is not None or not sys.stdout.isatty())
        self._every = _WATCHED if self._terminal else _IN_JSON if in_json else _LOGGED
        self._next = time.monotonic() + (0 if self._terminal or in_json else _LOGGED)
        self._is_shown = False
        self.last: Progress | None = None

    def __call__(self, progress: Progress) -> None:
        self.last = progress
        if (now := time.monotonic()) < self._next:
            return
        self._next = now + self._every
        if self._in_json:
            self._write_json(progress)
            return
        text = progress_text(progress)
        if self._terminal:
            self._is_shown = True
            click.echo(f"\r\033[K{text}", nl=False, err=True)
        else:
            click.echo(text, err=True)

    def _write_json(self, progress: Progress) -> None:
        facts = {name: getattr(progress, name) for name in Progress.__struct_fields__}
        click.echo(json.dumps({"progress": facts}), err=True)

    def end(self) -> None:
        if self._in_json and self.last is not None:
            self._write_json(self.last)  # a line behind the last row, whenever the one before came
        if self._is_shown:
            click.echo("\r\033[K", nl=False, err=True)


def progress_text(progress: Progress) -> str:
    """How far a run is, as one line.

    >>> progress_text(Progress(total=2000, found=0, done=500, failed=1, costs={"USD": 0.25}, rate=41.2,
    ...     seconds_left=36.4, at_once=24))
    '  501 of 2,000, 1 failed, 41/s with 24 at once, 0.25 USD, 36 s left'
    """
    through = progress.found + progress.done + progress.failed
    said = [f"{through:,}" if progress.total is None else f"{through:,} of {progress.total:,}"]
    if progress.failed:
        said.append(f"{progress.failed:,} failed")
    if progress.rate:
        rate = f"{progress.rate:.0f}/s" if progress.rate >= 2 else f"{progress.rate * 60:.0f} a minute"
        said.append(f"{rate} with {progress.at_once} at once")
    said += [f"{amount_text(amount)} {currency}" for currency, amount in progress.costs.items()]
    if progress.seconds_left is not None:
        said.append(f"{time_text(progress.seconds_left)} left")
    return "  " + ", ".join(said)


def amount_text(amount: float) -> str:
    """An amount of money, small ones to the millionth.

    >>> amount_text(2.5), amount_text(0.0123456), amount_text(0.00004)
    ('2.50', '0.012346', '0.000040')
    """
    return f"{amount:.2f}" if amount >= 0.1 else f"{amount:.6f}"


def time_text(seconds: float) -> str:
    """A span of time, as people say it.

    >>> time_text(36.4), time_text(600), time_text(9000), time_text(400000)
    ('36 s', '10 min', '2 h 30 min', '4.6 days')
    """
    if seconds < 90:
        return f"{seconds:.0f} s"
    if seconds < 5400:
        return f"{seconds / 60:.0f} min"
    if seconds < 129600:
        hours, minutes = divmod(round(seconds / 60), 60)
        return f"{hours} h {minutes} min" if minutes else f"{hours} h"
    return f"{seconds / 86400:.1f} days"


def _stopped(error: BaseException, shown: _Shown, out: str | None) -> None:
    """What is kept of a run that did not come to its end; a result that could not be written is printed."""
    if isinstance(error, Unwritable) and error.lines:
        click.echo(f"  {len(error.lines)} results could not be written; here they are:", err=True)
        for line in error.lines:
            click.echo(printable(line.decode("utf-8", "replace").rstrip("\n")) if on_terminal() else line.rstrip(b"\n"))
    progress = shown.last
    if progress is None or not isinstance(error, (AgoutiError, KeyboardInterrupt)):
        return
    where = f", in {out}; the same command goes on" if out else ""
    of = "" if progress.total is None else f" of {progress.total}"
    newline = "\n" if isinstance(error, KeyboardInterrupt) else ""
    click.echo(f"{newline}  stopped: {progress.found + progress.done}{of} are done{where}", err=True)


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


def _say(made: Batch, noun: str, again: str) -> None:
    """What came, in a few lines."""
    for remark in made.remarks:
        click.echo(f"  ({printable(remark)})", err=True)
    total = made.done + made.found + made.failed_now + made.left
    if made.found:
        click.echo(f"  {made.found:,} of {total:,} are there already, in {made.out}", err=True)
    cost = "".join(f", {amount_text(amount)} {currency}" for currency, amount in made.costs.items())
    where = f" in {made.out}" if made.out is not None else ""
    rate = f" ({made.rate:.0f} a second)" if made.seconds >= 5 and made.rate >= 2 else ""
    click.echo(f"  {made.answered:,} of {total:,} {noun}{where}, {time_text(made.seconds)}{rate}{cost}", err=True)
    if made.out is not None and made.costs_in_all != made.costs:
        amounts = ", ".join(f"{amount_text(amount)} {currency}" for currency, amount in made.costs_in_all.items())
        click.echo(f"  all runs on {made.out} together: {amounts}", err=True)
    if made.cut:
        again_cut = (
            ": --retry-cut asks them again; a higher -n, with --keep, gives them room" if made.out is not None else ""
        )
        click.echo(f"  {made.cut:,} answers end at their cap{again_cut}", err=True)
    for line, why in made.failures:
        click.echo(printable(f"  line {line}: {why}"), err=True)
    if made.left:
        click.echo(f"  {made.left:,} have no result yet: the same command asks for them", err=True)
    if made.failed and made.out is not None:
        kinds = f" ({', '.join(f'{count:,} {kind}' for kind, count in made.kinds.items())})" if made.kinds else ""
        click.echo(f"  {made.failed:,} failed{kinds}: {again} asks them again", err=True)
