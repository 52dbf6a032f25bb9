"""Tables on the terminal: aligned columns, cut to its width."""

import shutil
from collections.abc import Sequence

import click

from ..core.secrets.masking import printable
from .terminal_text import on_terminal, paint

_GAP = 2
_MIN_WIDTH = 8


def show_columns(names: Sequence[str], rows: Sequence[Sequence[str]], *, right: Sequence[int] = ()) -> None:
    """Print rows under the names of their columns.

    Args:
        right: numbers of the columns that stand on the right of their place.
    """
    cells = [[printable(cell).replace("\n", " ") for cell in row] for row in rows]
    widths = [max(len(name), *(len(row[at]) for row in cells)) if cells else len(name) for at, name in enumerate(names)]
    if on_terminal():
        widths = _fitted(widths, shutil.get_terminal_size().columns)
    click.echo(paint(_line(names, widths, right), bold=True))
    for row in cells:
        click.echo(_line(row, widths, right))


def _line(cells: Sequence[str], widths: Sequence[int], right: Sequence[int]) -> str:
    parts = []
    for at, (cell, width) in enumerate(zip(cells, widths, strict=True)):
        cut = cell if len(cell) <= width else cell[: width - 1] + "…"
        parts.append(cut.rjust(width) if at in right else cut.ljust(width))
    return (" " * _GAP).join(parts).rstrip()


def _fitted(widths: list[int], room: int) -> list[int]:
    """The widths, the widest made smaller until all go into a line."""
    widths = list(widths)
    while sum(widths) + _GAP * (len(widths) - 1) > room and max(widths) > _MIN_WIDTH:
        widths[widths.index(max(widths))] -= 1
    return widths
