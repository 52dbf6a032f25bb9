"""Lines of a talk: typed with line editing and history, or read from a pipe."""

import sys
from collections.abc import Iterable
from typing import TYPE_CHECKING, Protocol

from ..core.errors import RequestError

if TYPE_CHECKING:
    from prompt_toolkit.key_binding import KeyBindings
    from prompt_toolkit.key_binding.key_processor import KeyPressEvent


class Lines(Protocol):
    """What a talk gets its turns from.

    Attributes:
        typed: somebody types them, and may try again.
    """

    typed: bool

    def next(self, typed: str) -> str | None:
        """The next turn; `None` at the end. ``typed`` is text to start with: a turn that failed."""


class PipedLines:
    """Turns from standard input, a line each; empty ones are passed over."""

    typed = False

    def __init__(self, lines: Iterable[str]) -> None:
        self._number = 0

    def next(self, typed: str) -> str | None:
        for line in sys.stdin.buffer:
            self._number += 1
            try:
                text = line.decode("utf-8-sig" if self._number == 1 else "utf-8").strip()
            except UnicodeDecodeError:
                raise RequestError(
                    f"line {self._number} of standard input is not UTF-8 text, and was not sent",
                    hint="Convert it: iconv -f LATIN1 -t UTF-8 FILE",
                ) from None
            if text:
                return text
        return None


class TypedLines:
    """Turns typed at a terminal.

    Args:
        lines: what was said before, for the history; it lives as long as the talk, on no disk.
    """

    typed = True

    def __init__(self, lines: Iterable[str]) -> None:
        from prompt_toolkit import PromptSession
        from prompt_toolkit.history import InMemoryHistory

        self._session: PromptSession[str] = PromptSession(
            multiline=True,
            key_bindings=_keys(),
            history=InMemoryHistory(list(lines)),
            prompt_continuation="  ",
            enable_open_in_editor=True,
        )

    def next(self, typed: str) -> str | None:
        while True:
            try:
                text = self._session.prompt("> ", default=typed).strip()
            except KeyboardInterrupt:  # throws away the line, not the talk
                typed = ""
                continue
            except EOFError:
                return None
            if text:
                return text


def _keys() -> "KeyBindings":
    """Enter sends; Alt-Enter, or Enter behind a backslash, begins a new line."""
    from prompt_toolkit.key_binding import KeyBindings

    keys = KeyBindings()

    @keys.add("enter")
    def send(event: "KeyPressEvent") -> None:
        buffer = event.current_buffer
        if buffer.document.char_before_cursor == "\\":
            buffer.delete_before_cursor()
            buffer.insert_text("\n")
        else:
            buffer.validate_and_handle()

    @keys.add("escape", "enter")
    @keys.add("escape", "c-j")  # what was typed ahead, before line editing began
    def new_line(event: "KeyPressEvent") -> None:
        event.current_buffer.insert_text("\n")

    return keys
