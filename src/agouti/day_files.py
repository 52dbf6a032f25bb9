"""Counts of a day's requests on the disk: a byte for each, added by every process that sends one."""

import hashlib
import os
from pathlib import Path

from .core.warn import warn

_KEPT = 3


class DayFile:
    """Counts the requests of a provider's day, for limits that survive a restart.

    Args:
        folder: where the files are.
        name: of what is limited.
    """

    def __init__(self, folder: Path, name: str) -> None:
        self._folder = folder
        self._stem = hashlib.sha256(name.encode()).hexdigest()[:16]
        self._here: dict[str, int] = {}
        self._told = False

    def used(self, day: str) -> int:
        """How many requests have been sent on a day, by this process and others."""
        try:
            return self._path(day).stat().st_size
        except OSError:
            return self._here.get(day, 0)

    def add(self, day: str) -> None:
        """One more; where it cannot be written, this process counts for itself, and says so once."""
        self._here[day] = self._here.get(day, 0) + 1
        try:
            self._folder.mkdir(parents=True, exist_ok=True)
            path = self._path(day)
            new = not path.exists()
            handle = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)
            try:
                os.write(handle, b".")
            finally:
                os.close(handle)
            if new:
                self._forget()
        except OSError as error:
            if not self._told:
                self._told = True
                warn(f"the requests of the day cannot be counted in {self._folder} ({error.strerror or error})")

    def _path(self, day: str) -> Path:
        return self._folder / f"{self._stem}-{day}"

    def _forget(self) -> None:
        for old in sorted(self._folder.glob(f"{self._stem}-*"))[:-_KEPT]:
            old.unlink(missing_ok=True)
