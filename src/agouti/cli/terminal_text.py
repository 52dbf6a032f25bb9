"""Text given to a command, and text that it shows."""

import json
import os
import sys
from pathlib import Path
from typing import Any

import click

from ..core.canonical.parameters import NAMES
from ..core.errors import RequestError
from ..core.secrets.masking import printable
from ..core.text.suggest import near_hint


def given_text(argument: str | None, file: str | None, *, question: str = "") -> str:
    """The text from an argument, ``-``, a pipe or a file.

    Args:
        question: what to say to somebody at a terminal, where text may be typed or pasted there.

    Raises:
        click.UsageError: none of them, two of them, or nothing in it.
    """
    if file is not None:
        if argument is not None and argument != "-":
            raise click.UsageError("text comes from an argument or from --from, not from both")
        try:
            text = decoded(Path(file).read_bytes(), file)
        except OSError as error:
            raise click.UsageError(f"{file} cannot be read ({error.strerror or error})") from None
    elif argument is not None and argument != "-":
        text = argument
    elif argument == "-" or question or not sys.stdin.isatty():
        if sys.stdin.isatty() and question:
            click.echo(question, err=True)
        text = decoded(sys.stdin.buffer.read(), "standard input")
    else:
        raise click.UsageError("no text: pass it as an argument, through a pipe, or with --from FILE")
    if not text.strip():
        raise click.UsageError("the text is empty")
    return text


def decoded(data: bytes, name: str) -> str:
    """The text of a file or a pipe: UTF-8, or UTF-16 with its mark; the mark itself is no part of it.

    Raises:
        click.UsageError: it is neither.
    """
    wide = data[:2] in (b"\xff\xfe", b"\xfe\xff")
    try:
        return data.decode("utf-16" if wide else "utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise click.UsageError(
            f"{name} is not UTF-8 text (line {line}). Convert it: iconv -f LATIN1 -t UTF-8 FILE"
        ) from None


def variables_given(pairs: tuple[str, ...]) -> dict[str, str]:
    """The blanks of ``--var NAME=VALUE``.

    Raises:
        click.UsageError: one of them has no ``=``.
    """
    return pairs_given("--var", pairs)


def pairs_given(option: str, pairs: tuple[str, ...]) -> dict[str, str]:
    """The values of an option that takes ``NAME=VALUE``, by their names.

    Raises:
        click.UsageError: one of them has no ``=``.
    """
    values: dict[str, str] = {}
    for pair in pairs:
        name, equals, value = pair.partition("=")
        if not equals or not name:
            raise click.UsageError(f"{option} takes NAME=VALUE, not {pair!r}")
        values[name] = value
    return values


VARIABLE = click.option(
    "--var", "variables", metavar="NAME=VALUE", multiple=True, help="A variable of the entry; may be repeated."
)


def parameters_given(settings: tuple[str, ...]) -> dict[str, Any]:
    """The parameters of ``--set NAME=VALUE``; values are JSON, or texts.

    Raises:
        click.UsageError: one of them has no ``=``.
        RequestError: there is no such parameter.
    """
    chosen: dict[str, Any] = {}
    for setting in settings:
        name, equals, value = setting.partition("=")
        if not equals:
            raise click.UsageError(f"--set takes NAME=VALUE, not {setting!r}")
        if name not in NAMES:
            raise RequestError(f"there is no parameter {name!r}", hint=near_hint(name, NAMES, "parameter"))
        try:
            chosen[name] = json.loads(value)
        except json.JSONDecodeError:
            chosen[name] = value
    return chosen


def on_terminal() -> bool:
    """Whether somebody watches standard output."""
    return sys.stdout.isatty()


def colour(*, err: bool = False) -> bool:
    """Whether to use colour: on a terminal, unless NO_COLOR is set; ``err``: of standard error."""
    return (sys.stderr.isatty() if err else on_terminal()) and not os.environ.get("NO_COLOR")


def paint(text: str, *, err: bool = False, **style: object) -> str:
    """Styled text where there is colour, plain text elsewhere; ``err``: for standard error."""
    return click.style(text, **style) if colour(err=err) else text  # type: ignore[arg-type]


def show_json(value: object) -> None:
    """Print a value as JSON; on a terminal without what could steer it."""
    text = json.dumps(value, ensure_ascii=False, indent=2)
    click.echo(printable(text) if on_terminal() else text)
