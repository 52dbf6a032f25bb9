"""Display in notebooks: text as it comes, and tables; elsewhere the text is printed."""

import sys
import time
from collections.abc import Mapping, Sequence
from typing import Any

# A cell is drawn anew with all of its text: more often than this nobody can read it.
_DRAWN = 0.08
_ROWS = 30
_CELL = 80


def in_notebook() -> bool:
    """Whether there is a cell to draw in."""
    ipython = sys.modules.get("IPython")
    shell = None if ipython is None else ipython.get_ipython()
    return getattr(shell, "kernel", None) is not None


class Live:
    """A text that grows where somebody watches."""

    def __init__(self) -> None:
        self._text = ""
        self._drawn = 0.0
        self._display: Any = None
        if in_notebook():
            from IPython.display import Markdown, display

            self._markdown = Markdown
            self._display = display(Markdown(""), display_id=True)

    def add(self, text: str) -> None:
        """The next piece."""
        if self._display is None:
            sys.stdout.write(text)
            sys.stdout.flush()
            return
        self._text += text
        if time.monotonic() - self._drawn > _DRAWN:
            self._draw()

    def end(self) -> None:
        """There is no more."""
        if self._display is None:
            sys.stdout.write("\n")
            sys.stdout.flush()
        else:
            self._draw()

    def _draw(self) -> None:
        self._drawn = time.monotonic()
        self._display.update(self._markdown(self._text))


def markdown_table(columns: Sequence[str], records: Sequence[Mapping[str, Any]]) -> str:
    """A table in Markdown: the first rows, without columns that say nothing.

    >>> print(markdown_table(["label", "note"], [{"label": "a|b", "note": None}]))
    | label |
    |---|
    | a\\|b |
    """
    filled_columns = [name for name in columns if any(record.get(name) not in (None, "", [], {}) for record in records)]
    lines = (
        ["| " + " | ".join(filled_columns) + " |", "|" + "---|" * len(filled_columns)]
        if filled_columns
        else ["*No rows.*"]
    )
    visible = records[:_ROWS] if filled_columns else ()
    lines += ["| " + " | ".join([_cell(record.get(name)) for name in filled_columns]) + " |" for record in visible]
    if len(records) > _ROWS:
        lines.append(f"\n*{len(records) - _ROWS:,} more rows: see frame() or save().*")
    return "\n".join(lines)


def _cell(value: Any) -> str:
    if value is None:
        return ""
    text = f"{value:.6g}" if isinstance(value, float) else " ".join(str(value).split())
    text = text if len(text) <= _CELL else text[: _CELL - 1] + "…"
    for mark in "\\`*_|<>[]":
        text = text.replace(mark, f"\\{mark}")
    return text
