"""``agouti fill``: values from texts, one or a file full of them."""

import json
import sys
from importlib import import_module
from pathlib import Path
from threading import Lock
from typing import TYPE_CHECKING, Any, cast

import click
import msgspec

from ...calls import calls_of
from ...client import Client
from ...core.errors import AgoutiError
from ...core.structured import MEANS
from ...engine.effects import Steps, Together, attempted
from ...filled import Filled
from ...forms import Form, form_of
from ...services import run
from ..app import Settings
from ..rows import as_csv, kind_of, read_rows
from ..text import given_text

if TYPE_CHECKING:
    from ...options import FillOptions


@click.command("fill")
@click.argument("label")
@click.argument("form")
@click.argument("text", required=False)
@click.option("--from", "file", metavar="FILE", help="Take the text from a file.")
@click.option("--rows", metavar="FILE", help="Fill one form for each line of a text, CSV or JSON Lines file.")
@click.option("--column", metavar="NAME", help="With --rows: take this column alone.")
@click.option("--out", metavar="FILE", help="With --rows: write to a .jsonl or .csv file.")
@click.option(
    "--at-once", type=click.IntRange(1, 64), default=4, show_default=True, help="With --rows: so many at a time."
)
@click.option("--image", "images", metavar="FILE", multiple=True, help="An image to fill it from; may be repeated.")
@click.option("--system", metavar="TEXT", help="System text, instead of the entry's.")
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
    out: str | None,
    at_once: int,
    images: tuple[str, ...],
    system: str | None,
    means: str | None,
    repairs: int,
) -> int:
    """Let the model LABEL fill FORM from TEXT; the value is printed as JSON.

    FORM is a file with a JSON Schema, or a type of your own as MODULE:CLASS (from the working folder or installed).
    With --rows, each line gives one line of JSON: its number, its text, and the value or what was wrong.
    """
    kind = form_of(_form(form))
    options: dict[str, Any] = {"repairs": repairs}
    options |= {"system": system} if system is not None else {}
    options |= {"means": means} if means is not None else {}
    if rows is None:
        if out is not None or column is not None:
            raise click.UsageError("--out and --column go with --rows")
        if images:
            options["images"] = images
            text = text or (None if file else "Fill the form from the image.")
        with Client(app.config) as client:
            filled = client.fill(label, kind, given_text(text, file), **options)
        click.echo(json.dumps(_plain(filled.value), ensure_ascii=False, indent=2))
        if len(filled.answers) > 1:
            click.echo(f"  (mended: the first answer did not fit: {filled.answers[0].errors[0]})", err=True)
        return 0
    if text is not None or file is not None or images:
        raise click.UsageError("with --rows the texts come from that file: leave out TEXT, --from and --image")
    return _table(app, label, kind, read_rows(rows, column), out, at_once, options)


def _table(
    app: Settings, label: str, kind: Form, texts: list[str], out: str | None, at_once: int, options: dict[str, Any]
) -> int:
    suffix = kind_of(out, (".jsonl", ".csv"))
    if out is not None:
        _write(out, "")  # what cannot be written must not be paid for first
    lines: list[dict[str, Any]] = []
    try:
        _fill(app, label, kind, texts, at_once, options, lines, shows=out is None and suffix == ".jsonl")
    except KeyboardInterrupt:
        click.echo(f"\n  stopped: {len(lines)} of {len(texts)} are done" + (f", in {out}" if out else ""), err=True)
        raise
    finally:
        if out is not None:
            as_json = "".join(json.dumps(line, ensure_ascii=False) + "\n" for line in lines)
            _write(out, as_csv(map(_flat, lines)) if suffix == ".csv" else as_json)
    if sys.stderr.isatty():
        click.echo("\r\033[K", nl=False, err=True)
    failed = [line for line in lines if "error" in line]
    where = f" in {out}" if out is not None else ""
    click.echo(f"  {len(lines) - len(failed)} of {len(lines)} filled{where}", err=True)
    for line in failed[:3]:
        click.echo(f"  line {line['line']}: {line['error']}", err=True)
    return 1 if failed else 0


def _fill(
    app: Settings,
    label: str,
    kind: Form,
    texts: list[str],
    at_once: int,
    options: dict[str, Any],
    lines: list[dict[str, Any]],
    shows: bool,
) -> None:
    """Fill a form for each text; ``lines`` has those that are done at every moment, in the order of the texts."""
    done: dict[int, dict[str, Any]] = {}
    lock = Lock()

    def add(number: int, line: dict[str, Any]) -> None:
        with lock:
            done[number] = line
            while (following := done.pop(len(lines) + 1, None)) is not None:
                lines.append(following)
                if shows:
                    # As it comes: whoever reads the pipe can go on.
                    click.echo(json.dumps(following, ensure_ascii=False))
                elif sys.stderr.isatty():
                    click.echo(f"\r  {len(lines)} of {len(texts)}", nl=False, err=True)

    with Client(app.config) as client:

        def filled(text: str) -> Steps[Filled[Any]]:
            call, _ = calls_of(client).form(label, kind, text, cast("FillOptions", options))
            return (yield from call.steps())

        def row(number: int, text: str) -> Steps[None]:
            result = yield from attempted(filled(text), AgoutiError)
            if isinstance(result, AgoutiError):
                add(number, {"line": number, "text": text, "error": f"{type(result).__name__}: {result.what}"})
            else:
                add(number, {"line": number, "text": text, "value": _plain(result.value)})

        def all_rows() -> Steps[None]:
            yield Together([row(number, text) for number, text in enumerate(texts, 1)], at_once)

        run(client, all_rows())


def _write(out: str, text: str) -> None:
    try:
        Path(out).write_text(text, encoding="utf-8")
    except OSError as error:
        raise click.UsageError(f"{out} cannot be written ({error.strerror or error})") from None


def _flat(line: dict[str, Any]) -> dict[str, Any]:
    value = line.get("value")
    inner = value if isinstance(value, dict) else {"value": value}
    loaded = {"line": line["line"], "text": line["text"], **({} if "error" in line else inner)}
    return {**loaded, "error": line["error"]} if "error" in line else loaded


def _plain(value: Any) -> Any:
    if hasattr(value, "model_dump"):
        return value.model_dump(mode="json", by_alias=True)
    if isinstance(value, (list, tuple, set, frozenset)):
        return [_plain(each) for each in value]
    return msgspec.to_builtins(value)


def _form(form: str) -> Any:
    module, colon, name = form.partition(":")
    if colon and not Path(form).exists():
        if str(Path.cwd()) not in sys.path:
            sys.path.insert(0, str(Path.cwd()))
        try:
            loaded: Any = import_module(module)
        except ImportError as error:
            raise click.UsageError(f"{module} cannot be imported: {error}") from None
        for part in name.split("."):
            if not hasattr(loaded, part):
                raise click.UsageError(f"there is no {name} in {module}")
            loaded = getattr(loaded, part)
        return loaded
    try:
        schema = json.loads(Path(form).read_text(encoding="utf-8"))
    except OSError as error:
        raise click.UsageError(
            f"{form} is neither a file with a JSON Schema ({error.strerror or error}) nor MODULE:CLASS"
        ) from None
    except ValueError as error:
        raise click.UsageError(f"{form} is not JSON: {error}") from None
    if not isinstance(schema, dict):
        raise click.UsageError(f"{form} holds no JSON Schema: that is an object")
    return schema
