"""Journals: rows of JSON that are on the disk as they come, found again by the next run, for one run at a time."""

import os
from pathlib import Path
from typing import Any

import msgspec

from ...core.errors import RequestError
from ...runtime.atomic_files import Busy, opened_alone

KEY = "key"
"""The first field of every row: what it belongs to."""
_BEGINS = b'{"key":'


class Journal:
    """A file of JSON Lines that rows are added to; each begins with its `KEY`.

    Attributes:
        rows: those that an earlier run has left; a torn last line is cut off.

    Raises:
        RequestError: the file cannot be opened or written, holds something else, or another run has it.
    """

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self.path = Path(path)
        try:
            self._file = opened_alone(self.path)
        except Busy:
            raise RequestError(f"another run is writing {path}", hint="Wait for it, or name another file.") from None
        except OSError as error:
            raise _unwritable(self.path, error) from None
        try:
            self.rows = self._read()
        except BaseException:
            self._file.close()
            raise

    def _read(self) -> list[dict[str, Any]]:
        self._file.seek(0)
        rows: list[dict[str, Any]] = []
        good = 0
        for line in self._file:
            try:
                row = msgspec.json.decode(line) if line.endswith(b"\n") else None
            except (msgspec.DecodeError, UnicodeDecodeError):
                row = None
            if isinstance(row, dict) and KEY in row:
                rows.append(row)
            elif not rows and (line.endswith(b"\n") or not line.startswith(_BEGINS)):
                # Not even its first line is one of ours: it is somebody's file, and nothing is cut off of it.
                raise RequestError(f"{self.path} holds something else", hint="Name another file to keep answers in.")
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


def _unwritable(path: Path, error: OSError) -> RequestError:
    return RequestError(
        f"{path} cannot be written ({error.strerror or error})", hint="Name a file in a folder that you can write to."
    )
