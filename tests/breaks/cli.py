"""Breaks of promises of `cli`: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('--set takes a plain text', 'cli/text.py', '            chosen[name] = value', '            chosen[name] = None', 'tests/cli/test_ask.py'),
    Row('a turn is on the disk before the next prompt', 'cli/talking.py', '                append_turn(self._file, self._talk.messages[self._on_disk :])', '                pass', 'tests/cli/test_terminal.py'),
]  # fmt: skip
