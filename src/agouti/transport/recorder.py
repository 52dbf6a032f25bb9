"""An archive file that grows: safe against crashes, full disks, and several clients or processes on one file."""

import logging
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from .._version import __version__
from ..core.errors import ConfigError
from ..core.http.har import TAIL, head, whole_length
from ..runtime.fork_reset import reset_after_fork

log = logging.getLogger("agouti.archive")

# What takes the place of the end when another entry follows: as long, and nothing to a reader of JSON.
_COMMA, _BLANK_TAIL = b"," + b"\n" * (len(TAIL) - 1), b"\n" * len(TAIL)


class Recorder:
    """An archive that grows; one that is there already is gone on with.

    An entry is written behind the end of the file first, and then made a part of it by one small write: a program that
    is killed meanwhile leaves all entries before it. A disk that is full costs the entry, never the call.

    Raises:
        ConfigError: the file cannot be written, or is something else than an archive.
    """

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self._path = Path(path)
        self._lock = threading.Lock()
        self._warned = False
        self._open()
        reset_after_fork(self)

    def after_fork(self) -> None:
        """A child writes through a file of its own: locks of the file are shared with the parent's."""
        self._lock = threading.Lock()
        if self._file >= 0:
            with suppress(ConfigError):
                self._open()

    def _open(self) -> None:
        flags = os.O_RDWR | os.O_CREAT | getattr(os, "O_BINARY", 0) | getattr(os, "O_CLOEXEC", 0)
        try:
            # Prompts and answers are nobody else's.
            self._file = os.open(self._path, flags, 0o600)
            with self._locked():
                self._repair()
        except OSError as error:
            raise ConfigError(
                f"{self._path} cannot be written ({error.strerror or error})",
                hint="Name a file in a folder that is there.",
            ) from None

    @contextmanager
    def _locked(self) -> Iterator[None]:
        """While the block runs, no other client or process writes the file."""
        try:
            import fcntl
        except ImportError:  # a system without such locks
            yield
            return
        fcntl.flock(self._file, fcntl.LOCK_EX)
        try:
            yield
        finally:
            fcntl.flock(self._file, fcntl.LOCK_UN)

    def _repair(self) -> int:
        """The length of the whole archive in the file, what is left of an entry behind it cut off; it may be new."""
        size = os.fstat(self._file).st_size
        if size == 0:
            self._write(head(__version__) + TAIL, 0)
            return len(head(__version__) + TAIL)
        if self._read(max(size - len(TAIL), 0)) != TAIL or not self._read(0, 64).startswith(head("")[:8]):
            length = whole_length(self._read(0, size))
            if length is None:
                raise ConfigError(
                    f"{self._path} is something else than an archive, which would be lost",
                    hint="Name another file for record=, or move that one away.",
                )
            os.ftruncate(self._file, length)
            if self._read(length - len(TAIL)) != TAIL:
                # Written by another tool, or short of its last byte: its end has other blanks.
                text = self._read(0, length).rstrip()
                text = text.removesuffix(b"}").rstrip().removesuffix(b"}").rstrip().removesuffix(b"]").rstrip()
                self._write(TAIL, len(text))
                os.ftruncate(self._file, len(text + TAIL))
                return len(text + TAIL)
            return length
        return size

    def add(self, exchange: bytes) -> None:
        """Add an entry. What goes wrong is told once, and fails no call."""
        with self._lock:
            if self._file < 0:
                return
            try:
                with self._locked():
                    self._add(exchange)
            except (OSError, ConfigError) as error:
                reason = getattr(error, "strerror", None) or error
                log.log(
                    logging.DEBUG if self._warned else logging.WARNING,
                    "%s: nothing is recorded: %s",
                    self._path,
                    reason,
                )
                self._warned = True

    def _add(self, exchange: bytes) -> None:
        size = self._repair()
        first = self._read(max(size - len(TAIL) - 2, 0), 2).rstrip().endswith(b"[")
        try:
            self._write(exchange + TAIL[:-1], size)
            self._write(_BLANK_TAIL if first else _COMMA, size - len(TAIL))
        except OSError:
            os.ftruncate(self._file, size)
            raise
        # The last byte comes last: until then the end of the file is none, so that the next one looks where it is. A
        # disk that has no room for it leaves an archive that is whole all the same.
        self._write(TAIL[-1:], size + len(exchange) + len(TAIL) - 1)

    def _read(self, offset: int, length: int | None = None) -> bytes:
        os.lseek(self._file, offset, os.SEEK_SET)
        data, length_wanted = b"", len(TAIL) if length is None else length
        while len(data) < length_wanted and (chunk := os.read(self._file, length_wanted - len(data))):
            data += chunk
        return data

    def _write(self, data: bytes, offset: int) -> None:
        os.lseek(self._file, offset, os.SEEK_SET)
        view = memoryview(data)
        while view:
            view = view[os.write(self._file, view) :]

    def close(self) -> None:
        """Close the file."""
        with self._lock:
            if self._file >= 0:
                os.close(self._file)
                self._file = -1
