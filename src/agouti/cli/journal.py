"""A file that results are added to while a run lasts, by one run at a time."""

import os
from pathlib import Path
from typing import IO

import click


def opened_alone(journal: Path, out: Path) -> IO[bytes]:
    """Open a file to read and to add to, before anything in it is looked at or cut off.

    Args:
        out: what the file is for, as errors call it.

    Raises:
        click.UsageError: another run has it.
        OSError: it cannot be opened.
    """
    file = journal.open("a+b")
    try:
        import fcntl
    except ImportError:  # a system without such locks
        return file
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        mine = os.path.samestat(os.fstat(file.fileno()), journal.stat())  # the other run may just have put it away
    except OSError:
        mine = False
    if not mine:
        file.close()
        raise click.UsageError(f"another run is writing {out}: wait for it, or name another file")
    return file
