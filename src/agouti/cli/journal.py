"""A file that results are added to while a run lasts, by one run at a time."""

from pathlib import Path
from typing import IO

import click

from ..config import files


def opened_alone(journal: Path, out: Path) -> IO[bytes]:
    """Open a file to read and to add to, before anything in it is looked at or cut off.

    Args:
        out: what the file is for, as errors call it.

    Raises:
        click.UsageError: another run has it.
        OSError: it cannot be opened.
    """
    try:
        return files.opened_alone(journal)
    except files.Busy:
        raise click.UsageError(f"another run is writing {out}: wait for it, or name another file") from None
