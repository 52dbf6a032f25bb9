"""Journals: rows of JSON that are on the disk as they come, found again by the next run, for one run at a time."""

import os
from pathlib import Path
from typing import Any

import msgspec

from ..core.errors import RequestError


class Journal:
    """A file of JSON Lines that rows are added to.

    Attributes:
        rows: those that an earlier run has left; a torn last line is cut off.

    Raises:
        RequestError: the file cannot be opened or written, or another run has it.
    """

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self.path = Path(path)
        try:
            self._file = self.path.open("a+b")
        except OSError as error:
            raise _unwritable(self.path, error) from None
        if not _locked(self._file.fileno()):
            self._file.close()
            raise RequestError(f"another run is writing {path}", hint="Wait for it, or name another file.")
        self.rows = self._read()

    def _read(self) -> list[dict[str, Any]]:
        self._file.seek(0)
        rows, good = [], 0
        for line in self._file:
            try:
                row = msgspec.json.decode(line) if line.endswith(b"\n") else None
            except msgspec.DecodeError:
                row = None
            if isinstance(row, dict):
                rows.append(row)
            elif not line.endswith(b"\n"):
                break
            good += len(line)
        self._file.truncate(good)
        return rows

    def add(self, row: dict[str, Any]) -> None:
        """Add a row.

        Raises:
            RequestError: it cannot be written.
        """
        try:
            self._file.write(msgspec.json.encode(row) + b"\n")
            self._file.flush()
        except OSError as error:
            raise _unwritable(self.path, error) from None

    def close(self) -> None:
        """Let go of the file; it stays for the next run, unless nothing is in it."""
        if not self._file.closed:
            if not os.fstat(self._file.fileno()).st_size:
                self.path.unlink(missing_ok=True)
            self._file.close()

    def done(self) -> None:
        """The run is complete: the file is not needed any more."""
        self.path.unlink(missing_ok=True)
        self._file.close()


def _locked(handle: int) -> bool:
    try:
        import fcntl
    except ImportError:  # a system without such locks
        return True
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


def _unwritable(path: Path, error: OSError) -> RequestError:
    return RequestError(
        f"{path} cannot be written ({error.strerror or error})", hint="Name a file in a folder that you can write to."
    )
