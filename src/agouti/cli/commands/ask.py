"""``agouti ask``: one question, one answer."""

import json
from typing import Any

import click

from ...client.client import Client
from ...core.secrets.masking import printable
from ...replies.reply import Reply
from ..app import Settings
from ..label_completion import LABEL
from ..tags import TAG, client_of
from ..terminal_text import VARIABLE, given_text, on_terminal, parameters_given, variables_given


@click.command("ask")
@click.argument("label", type=LABEL)
@click.argument("text", required=False)
@click.option("--from", "file", metavar="FILE", help="Take the text from a file.")
@click.option("--system", metavar="TEXT", help="System text, instead of the entry's.")
@VARIABLE
@click.option("-t", "--temperature", type=float, help="0 reproducible, higher more varied.")
@click.option("-n", "--max-tokens", type=int, help="Cap on the answer's length.")
@click.option("--image", "images", metavar="FILE", multiple=True, help="An image, or its address; may be repeated.")
@click.option("--file", "files", metavar="FILE", multiple=True, help="A PDF, text or audio file, or its address.")
@click.option("--save-files", metavar="FOLDER", help="Save the images and audio of the answer there.")
@click.option("--save-code", metavar="FOLDER", help="Save the code blocks of the answer there.")
@click.option("--set", "settings", metavar="NAME=VALUE", multiple=True, help="Any other parameter, such as seed=7.")
@click.option("--json", "as_json", is_flag=True, help="Print the whole reply as JSON.")
@click.option("--whole", is_flag=True, help="On a terminal: print the answer at the end, not as it comes.")
@TAG
@click.pass_obj
def command(
    app: Settings,
    label: str,
    text: str | None,
    file: str | None,
    system: str | None,
    variables: tuple[str, ...],
    temperature: float | None,
    max_tokens: int | None,
    images: tuple[str, ...],
    files: tuple[str, ...],
    save_files: str | None,
    save_code: str | None,
    settings: tuple[str, ...],
    as_json: bool,
    whole: bool,
) -> None:
    """Ask the model LABEL (or NAME@PROVIDER) the question TEXT.

    TEXT may be - or come through a pipe. The answer goes to standard output, all else to standard error.
    """
    if text is None and file is None and " " in label.strip():
        raise click.UsageError('the label is missing: agouti ask LABEL "question"')
    prompt = given_text(text, file)
    options: dict[str, Any] = parameters_given(settings)
    if temperature is not None:
        options["temperature"] = temperature
    if max_tokens is not None:
        options["max_tokens"] = max_tokens
    if system is not None:
        options["system"] = system
    if variables:
        options["variables"] = variables_given(variables)
    if images:
        options["images"] = images
    if files:
        options["files"] = files
    with client_of(app) as client:
        if on_terminal() and not as_json and not whole and (options.get("n") or 1) == 1:
            reply = _streamed(client, label, prompt, options)
        else:
            reply = client.ask(label, prompt, **options)
            text = json.dumps(reply.as_dict(), ensure_ascii=False, indent=2) if as_json else _texts(reply)
            click.echo(printable(text) if on_terminal() else text)
    if save_code is not None:
        _save(reply, save_code)
    if save_files is not None:
        _save_files(reply, save_files)
    if not as_json:
        _remark(reply)


def _texts(reply: Reply) -> str:
    """The text; where several answers were asked for, each below its number."""
    if len(reply.texts) < 2:
        return reply.text
    return "\n\n".join(f"[{number}]\n{text}" for number, text in enumerate(reply.texts, 1))


def _save(reply: Reply, folder: str) -> None:
    blocks = reply.code_blocks
    for block in blocks:
        path = block.save(folder)
        click.echo(f"  saved {path}" + ("" if block.whole else " (the answer ends within it)"), err=True)
    if not blocks:
        click.echo("  (no code in the answer: nothing saved)", err=True)


def _save_files(reply: Reply, folder: str) -> None:
    for file in reply.files:
        click.echo(f"  {printable(file.address)}" if file.address else f"  saved {file.save(folder)}", err=True)
    if not reply.files:
        click.echo("  (no file in the answer: nothing saved)", err=True)


def _streamed(client: Client, label: str, prompt: str, options: dict[str, Any]) -> Reply:
    with client.stream(label, prompt, **options) as stream:
        wrote = False
        try:
            for chunk in stream:
                click.echo(printable(chunk), nl=False)
                wrote = True
        finally:
            if wrote:
                click.echo()
        return stream.reply


def _remark(reply: Reply) -> None:
    earlier_attempts = [attempt for attempt in reply.attempts if attempt.provider != reply.provider]
    if earlier_attempts:
        answered = (
            f"answered by {reply.model or reply.provider} at {reply.provider}, because {earlier_attempts[-1].why}"
        )
        click.echo(f"  ({printable(answered)})", err=True)
    if reply.truncated:
        click.echo(
            f"  (cut off after {reply.usage.output_tokens or '?'} tokens: raise --max-tokens for more)", err=True
        )
    elif not reply.text:
        click.echo(f"  (no text; finish reason: {printable(str(reply.finish_reason))})", err=True)
