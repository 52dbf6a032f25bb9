"""Files written whole: beside the old one and moved over it, one writer at a time, their modes and links kept."""

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO


@contextmanager
def alone_in(folder: Path) -> Iterator[None]:
    """While the block runs, no other process that asks the same writes in a folder."""
    try:
        import fcntl
    except ImportError:  # a system without such locks
        yield
        return
    handle = os.open(folder, os.O_RDONLY)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX)
        yield
    finally:
        os.close(handle)


@contextmanager
def locked(handle: int) -> Iterator[None]:
    """While the block runs, nobody else has the lock of an open file."""
    try:
        import fcntl
    except ImportError:  # a system without such locks
        yield
        return
    fcntl.flock(handle, fcntl.LOCK_EX)
    try:
        yield
    finally:
        fcntl.flock(handle, fcntl.LOCK_UN)


class Busy(Exception):
    """Somebody else has the file."""


def opened_alone(path: Path, mode: str = "a+b") -> IO[bytes]:
    """Open a file so that nobody else who asks the same can, until it is closed.

    Raises:
        Busy: somebody else has it, or has just put it away.
        OSError: it cannot be opened.
    """
    file: IO[bytes] = path.open(mode)
    try:
        import fcntl
    except ImportError:  # a system without such locks
        return file
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        is_ours = os.path.samestat(os.fstat(file.fileno()), path.stat())
    except OSError:
        is_ours = False
    if not is_ours:
        file.close()
        raise Busy
    return file


def write_whole(path: Path, text: str, *, mode: int | None = None) -> None:
    """Write a file of text as `replaced` does."""
    with replaced(path, mode=mode) as file:
        file.write(text.encode())


@contextmanager
def replaced(path: Path, *, mode: int | None = None) -> Iterator[IO[bytes]]:
    """Write a file, so that it is the old one or the new one at every moment; a link to it stays one.

    Args:
        mode: of the file; by default it keeps its own.

    Raises:
        OSError: it cannot be written; what was there is there still.
    """
    real = Path(os.path.realpath(path))
    mode_kept = mode
    if mode is None:
        with suppress(FileNotFoundError):
            mode_kept = real.stat().st_mode & 0o7777
    handle, temporary = tempfile.mkstemp(dir=real.parent, prefix=f".{real.name}.")
    try:
        with os.fdopen(handle, "wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        if mode_kept is None:
            umask = os.umask(0)
            os.umask(umask)
            mode_kept = 0o666 & ~umask
        os.chmod(temporary, mode_kept)
        os.replace(temporary, real)
    except BaseException:
        with suppress(OSError):
            os.unlink(temporary)
        raise
