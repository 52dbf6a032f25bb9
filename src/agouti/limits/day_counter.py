"""Counts of a day's requests on the disk: a byte for each, added by every process that sends one."""

import hashlib
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from ..core.warn import warn
from ..runtime.atomic_files import locked

_DAYS_STORED = 3


class DayFile:
    """Counts the requests of a provider's day, for limits that survive a restart.

    Args:
        folder: where the files are.
        name: of what is limited.
    """

    def __init__(self, folder: Path, name: str) -> None:
        self._folder = folder
        self._stem = hashlib.sha256(name.encode()).hexdigest()[:16]
        self._local_counts: dict[str, int] = {}
        self._warned = False

    def used(self, day: str) -> int:
        """How many requests have had their turn on a day, in this process and others."""
        try:
            return self._path(day).stat().st_size
        except OSError:
            return self._local_counts.get(day, 0)

    def count(self, day: str, limit: int) -> bool:
        """Count one more, unless there are so many already; whether it was counted.

        Where it cannot be written, this process counts for itself, and says so once.
        """
        try:
            with self._locked(day) as handle:
                if os.fstat(handle).st_size >= limit:
                    return False
                os.write(handle, b".")
        except OSError as error:
            if not self._warned:
                self._warned = True
                warn(f"the requests of the day cannot be counted in {self._folder} ({error.strerror or error})")
            if self._local_counts.get(day, 0) >= limit:
                return False
        self._local_counts[day] = self._local_counts.get(day, 0) + 1
        return True

    def give_back(self, day: str) -> None:
        """One was not sent."""
        self._local_counts[day] = max(self._local_counts.get(day, 0) - 1, 0)
        with suppress(OSError), self._locked(day) as handle:
            os.ftruncate(handle, max(os.fstat(handle).st_size - 1, 0))

    @contextmanager
    def _locked(self, day: str) -> Iterator[int]:
        """The file of a day, while nobody else counts in it."""
        self._folder.mkdir(parents=True, exist_ok=True)
        path = self._path(day)
        new = not path.exists()
        handle = os.open(path, os.O_RDWR | os.O_APPEND | os.O_CREAT, 0o600)
        try:
            with locked(handle):
                yield handle
        finally:
            os.close(handle)
        if new:
            self._forget()

    def _path(self, day: str) -> Path:
        return self._folder / f"{self._stem}-{day}"

    def _forget(self) -> None:
        for old in sorted(self._folder.glob(f"{self._stem}-*"))[:-_DAYS_STORED]:
            old.unlink(missing_ok=True)
