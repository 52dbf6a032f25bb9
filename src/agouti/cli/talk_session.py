"""A talk: turns, commands between them, and a file that has every turn before the next one begins."""

import os
import shlex
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import IO, Any

import click

from ..client.client import Client
from ..conversations.files import append_turn, lock_conversation
from ..core.canonical.events import Reasoning, Refusal, Text, ToolCallPiece
from ..core.errors import AgoutiError, RequestError
from ..core.messages.parts import text_of
from ..core.secrets.masking import printable
from ..core.text.suggest import near_hint
from ..engine.attempts.error_policy import HOLDS_FOR_ALL
from ..replies.reply import Reply
from .app import exit_code
from .line_input import Lines
from .terminal_text import paint

_COMMANDS = {
    "?": "this list",
    "??TEXT": "send a turn that begins with ?",
    "?image PATH": "send an image, or its address, with the next turn; without PATH: none of those named",
    "?file PATH": "send a PDF, text or audio file with the next turn; without PATH: none",
    "?undo": "take the last turn back",
    "?again": "ask the last turn once more",
    "?save PATH": "keep the talk in a file from now on",
    "?usage": "tokens and cost of the talk so far",
    "?end": "end the talk (Ctrl-D does too)",
}


class TalkSession:
    """A conversation, line by line.

    Args:
        options: of every turn.
        commands: lines with ``?`` are commands through a pipe as well; what is piped is data otherwise.
        resume: a file to go on from.
        lines: makes what the turns come from, of what was said before.

    Raises:
        AgoutiError: label, options or file cannot be used.
    """

    def __init__(
        self,
        client: Client,
        label: str,
        options: dict[str, Any],
        *,
        fit: str,
        commands: bool = False,
        resume: str | None,
        lines: "Callable[[Iterable[str]], Lines]",
    ) -> None:
        import warnings

        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # its remarks are told below
            self._talk = client.conversation(label, messages=resume or (), on_overflow=fit, **options)  # type: ignore[arg-type]
        self._model = client.config.model(label)
        user_lines = [text_of(message) for message in self._talk.messages if message.role == "user"]
        self._lines = lines(user_lines)
        self._commands = commands or self._lines.typed
        self._resumed = resume
        self._file: str | None = None
        self._lock_file: IO[bytes] | None = None
        self._on_disk = 0
        self._dropped = 0
        self._with: dict[str, list[str]] = {"images": [], "files": []}
        for remark in self._talk.warnings:
            _remark(remark)
        if self._lines.typed:
            _remark(f"{label}: {self._model.name} at {self._model.provider}; ? lists what can be done")
        if user_lines:
            _remark(
                f"{len(user_lines)} turn{'s' if len(user_lines) > 1 else ''} so far; the last: {user_lines[-1][:60]}"
            )

    def keep_in(self, path: str | None) -> None:
        """Keep the talk in this file from now on.

        Raises:
            RequestError: it cannot be written, or holds what would be lost.
        """
        if path is None:
            return
        if Path(path).exists() and path != self._file:
            lock_conversation(path).close()
        if path == self._resumed and self._talk.warnings:
            self._move_aside_file(Path(path))
        self._talk.save(path)
        self._file, self._on_disk = path, len(self._talk.messages)
        self._lock()

    def _move_aside_file(self, path: Path) -> None:
        """Keep a file with lines that cannot be read as it is, beside the one that goes on."""
        number = 1
        while (torn_path := path.with_name(f"{path.name}.torn{number if number > 1 else ''}")).exists():
            number += 1
        try:
            os.replace(path, torn_path)
        except OSError as error:
            raise RequestError(
                f"{path} cannot be put aside ({error.strerror or error})", hint="Save the talk to another file."
            ) from None
        _remark(f"the file as it was is kept as {torn_path.name}")

    def _lock(self) -> None:
        """See that no other talk writes the file."""
        if self._lock_file is not None:
            self._lock_file.close()
        self._lock_file = lock_conversation(self._file or "")

    def run(self) -> int:
        """Take turns until the end; return the exit code: that of the last turn that failed, through a pipe."""
        code, line, unfinished = 0, "", ""
        while True:
            try:
                typed = self._lines.next(unfinished)
                if typed is None:
                    break
                line, unfinished = typed, ""
                if not self._commands:
                    self._answer(line)
                elif line == "?end":
                    break
                elif line.startswith("?") and not line.startswith("??"):
                    self._command(line)
                else:
                    self._answer(line[1:] if line.startswith("??") else line)
            except AgoutiError as error:
                _error(error)
                code = exit_code(error)
                if self._lines.typed:
                    unfinished = "" if line.startswith("?") else line
                elif isinstance(error, HOLDS_FOR_ALL):
                    return code
            except KeyboardInterrupt:
                if not self._lines.typed:
                    raise
        return 0 if self._lines.typed else code

    def _answer(self, text: str) -> None:
        """Ask, show the answer as it comes, keep the turn."""
        media = {name: paths for name, paths in self._with.items() if paths}
        display = _Display()
        try:
            with self._talk.stream(text, **media) as stream:  # type: ignore[arg-type]
                for event in stream.events():
                    display.show(event)
            reply: Reply | None = stream.reply
        except KeyboardInterrupt:
            reply = self._talk.keep_partial()
            self._keep_partial()
            display.end()
            _remark("stopped; what came is kept" if reply else "stopped before anything came: nothing is kept")
            if not self._lines.typed:
                raise
        except AgoutiError:
            partial_reply = self._talk.keep_partial()
            display.end()
            if partial_reply is not None:
                self._keep_partial()
                _remark("what came of the answer is kept")
            raise
        else:
            display.end()
        if reply is not None:
            self._with = {"images": [], "files": []}
            self._keep_partial()
            _remark(self._status(reply))

    def _keep_partial(self) -> None:
        """See that the file has all that was said; what a full disk did not take goes with the next turn."""
        if self._file is not None and self._on_disk != len(self._talk.messages):
            try:
                if self._on_disk < 0:  # what was taken back stands there still
                    if self._lock_file is not None:
                        self._lock_file.close()
                    try:
                        self._talk.save(self._file)
                    finally:
                        self._lock()
                else:
                    append_turn(self._file, self._talk.messages[self._on_disk :])
            except RequestError as error:
                error.hint = "Make room: the turn is kept with the next one. Or ?save PATH elsewhere."
                _error(error)
            else:
                self._on_disk = len(self._talk.messages)

    def _status(self, reply: Reply) -> str:
        """Tokens, cost and room left."""
        usage, price = self._talk.replies[-1].usage, self._model.price_now
        user_lines = []
        if reply.usage.input_tokens is not None or reply.usage.output_tokens is not None:
            user_lines.append(f"{_count(reply.usage.input_tokens)} tokens in, {_count(reply.usage.output_tokens)} out")
        if price is not None and (spent := self._spent()):
            user_lines.append(f"{spent} so far")
        context = self._model.context
        if context is not None and usage.input_tokens is not None and usage.output_tokens is not None:
            user_lines.append(f"{max(context - usage.input_tokens - usage.output_tokens, 0):,} of {context:,} left")
        if reply.truncated:
            user_lines.append("cut off at its cap on tokens")
        dropped = len(self._talk.dropped)
        if dropped != self._dropped:
            self._dropped = dropped
            user_lines.append(f"the window is full: the oldest {dropped} messages are not sent any more")
        return "; ".join(user_lines) or f"{reply.elapsed:.1f} s"

    def _command(self, line: str) -> None:
        """Do what a line with ``?`` says.

        Raises:
            RequestError: there is no such command, or it cannot be done.
        """
        name, _, argument = line.partition(" ")
        argument = argument.strip()
        if name in ("?image", "?file"):
            self._attach("images" if name == "?image" else "files", argument)
        elif name == "?undo":
            removed = self._talk.undo()
            self._rewritten()
            _remark(f"taken back: {text_of(removed[0])[:60]}" if removed else "nothing has been said yet")
        elif name == "?again":
            self._repeat()
        elif name == "?save" and argument:
            argument = str(Path(argument).expanduser())
            if Path(argument).exists() and Path(argument).stat().st_size and argument != self._file:
                raise RequestError(
                    f"{argument} is there already", hint="Name another file: what is in it would be lost."
                )
            self.keep_in(argument)
            _remark(f"kept in {argument}")
        elif name == "?usage":
            self._usage()
        elif line == "?":
            for each, help_text in _COMMANDS.items():
                click.echo(f"  {each:13} {help_text}", err=True)
        else:
            known = [each.partition(" ")[0] for each in _COMMANDS]
            raise RequestError(
                f"there is no {name[:40]} here", hint=f"{near_hint(name, known, 'command')} ? lists them."
            )

    def _attach(self, kind: str, argument: str) -> None:
        try:
            paths = shlex.split(argument)
        except ValueError:
            paths = [argument]
        paths = [path if "://" in path else str(Path(path).expanduser()) for path in paths]
        for path in paths:
            if "://" not in path and not Path(path).is_file():
                raise RequestError(f"{path} is no file", hint="Give its path, in quotes where it has spaces.")
        self._with[kind] = [*self._with[kind], *paths] if paths else []
        some = ", ".join([*self._with["images"], *self._with["files"]])
        _remark(f"with the next turn: {some}" if some else "nothing goes with the next turn")

    def _repeat(self) -> None:
        removed = self._talk.undo()
        if not removed:
            raise RequestError("nothing has been said yet", hint="Say something first.")
        before = list(self._talk.messages)
        display = _Display()
        try:
            with self._talk.stream(removed[:1]) as stream:
                for event in stream.events():
                    display.show(event)
            display.end()
        except (AgoutiError, KeyboardInterrupt):
            self._talk.keep_partial()
            self._talk.messages[:] = [*before, *removed]  # the answer that was there is better than none
            display.end()
            _remark("the turn stays as it was")
            raise
        self._rewritten()
        _remark(self._status(stream.reply))

    def _spent(self) -> str:
        """What the talk has cost, as far as it is known: one answer that was stopped hides no other."""
        price = self._model.price_now
        known = [reply.cost for reply in self._talk.replies if reply.cost is not None]
        if price is None or not known:
            return ""
        at_least = "at least " if len(known) < len(self._talk.replies) else ""
        return f"{at_least}{sum(known):.6f} {price.currency}"

    def _rewritten(self) -> None:
        """See that the file has what is left; where that cannot be, the next turn writes it whole."""
        self._on_disk = -1
        self._keep_partial()

    def _usage(self) -> None:
        usage, price = self._talk.usage, self._model.price_now
        cost = "" if price is None or not (spent := self._spent()) else f"; {spent}"
        _remark(
            f"{len(self._talk.replies)} answers, {_count(usage.input_tokens)} tokens in, "
            f"{_count(usage.output_tokens)} out{cost}"
        )


class _Display:
    """What is shown of an answer: its text; the thinking and calls of functions dimmed, beside it."""

    def __init__(self) -> None:
        self._kind: type[object] | None = None

    def show(self, event: object) -> None:
        """Show an event of a stream, where it is one to be seen."""
        kind = type(event)
        if kind not in (Text, Reasoning, Refusal, ToolCallPiece) or getattr(event, "choice", None):
            return
        if isinstance(event, ToolCallPiece):
            if event.name:
                self._switch(kind)
                click.echo(paint(f"  [calls {printable(event.name)}]", err=True, dim=True), err=True)
                self._kind = None
            return
        text = printable(event.text)  # type: ignore[attr-defined]
        if not text:
            return
        if isinstance(event, Reasoning):
            self._switch(kind)
            click.echo(paint(text, err=True, dim=True), nl=False, err=True)
        else:
            self._switch(Text)
            click.echo(text, nl=False)

    def _switch(self, kind: type[object]) -> None:
        if self._kind is not None and self._kind is not kind:
            self.end()
        self._kind = kind

    def end(self) -> None:
        """End the line that is begun."""
        if self._kind is not None:
            click.echo(err=self._kind is Reasoning)
        self._kind = None


def _count(tokens: int | None) -> str:
    return "?" if tokens is None else f"{tokens:,}"


def _remark(text: str) -> None:
    click.echo(paint(f"  ({printable(text)})", err=True, dim=True), err=True)


def _error(error: AgoutiError) -> None:
    click.echo(f"agouti: {printable(' '.join(error.message.split()))}", err=True)
    if error.hint:
        click.echo(f"  {printable(' '.join(error.hint.split()))}", err=True)
