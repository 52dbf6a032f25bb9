"""``agouti fill``: values from texts, one or a file full of them."""

import json
import signal
import sys
from pathlib import Path
from threading import Lock, current_thread, main_thread
from typing import TYPE_CHECKING, Any, cast

import click

from ...calls import calls_of
from ...client import Client
from ...core.errors import AgoutiError
from ...core.masking import printable
from ...core.policy import HOLDS_FOR_ALL
from ...core.structured import MEANS
from ...engine.effects import Steps, Together, attempted
from ...filled import Filled
from ...forms import Form, form_of
from ...plain_values import plain_value
from ...services import run
from ..app import Settings
from ..objects import form_named
from ..row_results import Results, flattened
from ..rows import Row, Table, kind_of, read_rows
from ..text import BLANK, blanks_given, given_text, on_terminal

if TYPE_CHECKING:
    from ...options import FillOptions


@click.command("fill")
@click.argument("label")
@click.argument("form")
@click.argument("text", required=False)
@click.option("--from", "file", metavar="FILE", help="Take the text from a file.")
@click.option("--rows", metavar="FILE", help="Fill one form for each line of a text, CSV or JSON Lines file.")
@click.option("--column", metavar="NAME", help="With --rows: take this column alone.")
@click.option("--key", metavar="NAME", help="With --rows: the column that names a row; by default its line does.")
@click.option("--delimiter", metavar="CHAR", help="With --rows: what stands between the columns of CSV.")
@click.option("--encoding", metavar="NAME", default="", help="With --rows: the encoding of the file.")
@click.option(
    "--out", metavar="FILE", help="With --rows: write to a .jsonl or .csv file; what is there is gone on with."
)
@click.option("--anew", is_flag=True, help="With --out: write it from the beginning.")
@click.option(
    "--at-once", type=click.IntRange(1, 64), default=4, show_default=True, help="With --rows: so many at a time."
)
@click.option("--image", "images", metavar="FILE", multiple=True, help="An image to fill it from; may be repeated.")
@click.option("--system", metavar="TEXT", help="System text, instead of the entry's.")
@BLANK
@click.option("--means", type=click.Choice(MEANS), help="Try only these means.")
@click.option("--repairs", type=click.IntRange(0, 9), default=1, show_default=True, help="Second chances.")
@click.pass_obj
def command(
    app: Settings,
    label: str,
    form: str,
    text: str | None,
    file: str | None,
    rows: str | None,
    column: str | None,
    key: str | None,
    delimiter: str | None,
    encoding: str,
    out: str | None,
    anew: bool,
    at_once: int,
    images: tuple[str, ...],
    system: str | None,
    blanks: tuple[str, ...],
    means: str | None,
    repairs: int,
) -> int:
    """Let the model LABEL fill FORM from TEXT; the value is printed as JSON.

    FORM is a file with a JSON Schema, or a type of your own as MODULE:CLASS (from the working folder or installed).
    With --rows, each line gives one line of JSON: its number, its text, its columns, and the value or what was wrong.
    Results are written as they come; the same command again goes on where it was stopped, and tries again what failed.
    """
    kind = form_of(form_named(form))
    options: dict[str, Any] = {"repairs": repairs}
    options |= {"system": system} if system is not None else {}
    options |= {"blanks": blanks_given(blanks)} if blanks else {}
    options |= {"means": means} if means is not None else {}
    if rows is None:
        if out is not None or column is not None or key is not None or anew:
            raise click.UsageError("--out, --column, --key and --anew go with --rows")
        if images:
            options["images"] = images
            text = text or (None if file else "Fill the form from the image.")
        with Client(app.config) as client:
            filled = client.fill(label, kind, given_text(text, file), **options)
        shown = json.dumps(plain_value(filled.value), ensure_ascii=False, indent=2)
        click.echo(printable(shown) if on_terminal() else shown)
        if len(filled.answers) > 1:
            click.echo(
                f"  (mended: the first answer did not fit: {printable(str(filled.answers[0].errors[0]))})", err=True
            )
        return 0
    if text is not None or file is not None or images:
        raise click.UsageError("with --rows the texts come from that file: leave out TEXT, --from and --image")
    if out is not None and Path(out).exists() and Path(rows).exists() and Path(out).samefile(rows):
        raise click.UsageError(f"{out} is both --rows and --out: what stands in it would be lost; name another --out")
    table = read_rows(rows, column, delimiter=delimiter, encoding=encoding)
    for remark in table.remarks:
        click.echo(f"  ({printable(remark)})", err=True)
    with Client(app.config) as client:
        client.config.model(label)  # what is wrong with the label is said before a file is touched
        filling = _Filling(client, label, kind, options, table, out)
        return filling.run(at_once, key=key, anew=anew)


# What holds for every row: asking on would only cost, or lock the account.
class _Filling:
    """A form for each row of a table."""

    def __init__(
        self, client: Client, label: str, form: Form, options: dict[str, Any], table: Table, out: str | None
    ) -> None:
        self._client = client
        self._label = label
        self._form = form
        self._options = options
        self._table = table
        self._out = out
        self._lock = Lock()
        self._stop: AgoutiError | None = None
        self._done = 0
        self._cost: float | None = 0.0

    def run(self, at_once: int, *, key: str | None, anew: bool) -> int:
        suffix = kind_of(self._out, (".jsonl", ".csv"))
        rows = self._table.rows
        self._results = Results(self._out, suffix, rows, key=key, anew=anew, show=self._show)
        if self._results.found:
            click.echo(f"  {self._results.found} of {len(rows)} are there already, in {self._out}", err=True)
        if self._results.complete:
            return 0
        self._results.show()
        self._done = self._results.found
        wanted = self._results.wanted()
        before = signal.signal(signal.SIGTERM, _interrupt) if current_thread() is main_thread() else None
        try:
            run(self._client, self._all(wanted, at_once))
        except KeyboardInterrupt:
            where = f", in {self._out}; the same command goes on" if self._out else ""
            click.echo(f"\n  stopped: {self._done} of {len(rows)} are done{where}", err=True)
            raise
        finally:
            if before is not None:
                signal.signal(signal.SIGTERM, before)
            self._results.close(self._table.names)
        if sys.stderr.isatty():
            click.echo("\r\033[K", nl=False, err=True)
        if self._stop is not None:
            click.echo(f"  stopped after {self._done} of {len(rows)}: it holds for all of them", err=True)
            raise self._stop
        return self._summary()

    def _summary(self) -> int:
        results = self._results.all()
        failed = [each for each in results if "error" in each]
        where = f" in {self._out}" if self._out is not None else ""
        click.echo(f"  {len(results) - len(failed)} of {len(results)} filled{where}", err=True)
        for each in failed[:3]:
            click.echo(printable(f"  line {each['line']}: {each['error']}"), err=True)
        formulas = sum(_is_formula(value) for each in results for value in flattened(each).values())
        if formulas and self._out is not None and self._out.endswith(".csv"):
            click.echo(f"  ({formulas} cells begin with = + - or @: a spreadsheet may run them)", err=True)
        return 1 if failed else 0

    def _all(self, wanted: list[tuple[int, Row]], at_once: int) -> Steps[None]:
        yield Together((self._row(place, row) for place, row in wanted), at_once)

    def _row(self, place: int, row: Row) -> Steps[None]:
        if self._stop is not None:
            return
        result: dict[str, Any] = {"line": row.line, "text": row.text}
        if row.columns:
            result["row"] = row.columns
        if not row.text:
            self._add(place, {**result, "error": "the text is empty: nothing was asked"})
            return
        filled = yield from attempted(self._filled(row.text), Exception)
        if isinstance(filled, HOLDS_FOR_ALL):
            self._stop = filled
            return
        try:
            result |= (
                {"error": f"{type(filled).__name__}: {getattr(filled, 'what', filled)}"}
                if isinstance(filled, Exception)
                else {"value": plain_value(filled.value)}
            )
        except Exception as error:  # whatever the application's own types do is that row's
            result["error"] = f"{type(error).__name__}: {error}"
        self._add(place, result)

    def _filled(self, text: str) -> Steps[Filled[Any]]:
        call, _ = calls_of(self._client).form(self._label, self._form, text, cast("FillOptions", self._options))
        return (yield from call.steps())

    def _add(self, place: int, result: dict[str, Any]) -> None:
        with self._lock:
            self._done += 1
            self._results.add(place, result)
            if self._out is not None and sys.stderr.isatty():
                click.echo(f"\r  {self._done} of {len(self._table.rows)}", nl=False, err=True)

    def _show(self, result: dict[str, Any]) -> None:
        """Whoever reads the pipe can go on."""
        if self._out is None:
            shown = json.dumps(result, ensure_ascii=False)
            click.echo(printable(shown) if on_terminal() else shown.encode("utf-8", "surrogateescape"))


def _interrupt(*_: object) -> None:
    raise KeyboardInterrupt


def _is_formula(value: Any) -> bool:
    return isinstance(value, str) and value[:1] in ("=", "+", "@", "\t") and len(value) > 1
