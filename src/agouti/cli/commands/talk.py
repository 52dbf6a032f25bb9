"""``agouti talk``: a conversation in a terminal, or through a pipe."""

import sys
from pathlib import Path
from typing import Any

import click

from ..app import Settings
from ..import_objects import named_object
from ..label_completion import LABEL
from ..line_input import PipedLines, TypedLines
from ..tags import TAG, client_of
from ..talk_session import TalkSession
from ..terminal_text import VARIABLE, on_terminal, parameters_given, variables_given


@click.command("talk")
@click.argument("label", type=LABEL)
@click.option("--save", "save", metavar="FILE", help="Keep the talk in a new file, turn by turn.")
@click.option("--resume", metavar="FILE", help="Go on with a talk that was kept, and keep it there.")
@click.option(
    "--on-overflow",
    type=click.Choice(["drop_oldest", "error"]),
    default="drop_oldest",
    show_default=True,
    help="When the context window is full: leave out the oldest turns, or say so.",
)
@click.option("--system", metavar="TEXT", help="System text, instead of the entry's.")
@VARIABLE
@click.option("-t", "--temperature", type=float, help="0 reproducible, higher more varied.")
@click.option("-n", "--max-tokens", type=int, help="Cap on the length of each answer.")
@click.option("--set", "settings", metavar="NAME=VALUE", multiple=True, help="Any other parameter, such as seed=7.")
@click.option("--commands", is_flag=True, help="Through a pipe: take lines with ? as commands, not as turns.")
@TAG
@click.pass_obj
def command(
    app: Settings,
    label: str,
    save: str | None,
    resume: str | None,
    on_overflow: str,
    system: str | None,
    variables: tuple[str, ...],
    temperature: float | None,
    max_tokens: int | None,
    settings: tuple[str, ...],
    commands: bool,
) -> int:
    """Talk with the model LABEL (or NAME@PROVIDER).

    On a terminal, Enter sends and Alt-Enter begins a new line; Ctrl-C stops an answer, Ctrl-D ends the talk, and a
    line with ? alone lists what else can be done. Through a pipe each line is a turn, whatever it begins with.
    Answers go to standard output, all else to standard error.
    """
    options: dict[str, Any] = parameters_given(settings)
    options |= {"temperature": temperature} if temperature is not None else {}
    options |= {"max_tokens": max_tokens} if max_tokens is not None else {}
    options |= {"system": system} if system is not None else {}
    options |= {"variables": variables_given(variables)} if variables else {}
    if save is not None and Path(save).exists() and Path(save).stat().st_size:
        raise click.UsageError(f"{save} is there already: go on with it by --resume {save}, or name another file")
    with client_of(app) as client:
        tools = [named_object(each) for each in client.config.model(label).tools]
        options |= {"tools": tools} if tools else {}
        typed = sys.stdin.isatty() and on_terminal()
        lines = TypedLines if typed else PipedLines
        session = TalkSession(client, label, options, fit=on_overflow, commands=commands, resume=resume, lines=lines)
        session.keep_in(save or resume)
        return session.run()
