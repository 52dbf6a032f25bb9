"""Standard input and output of the command: what cannot be written as it is loses nothing, and is told."""

import codecs
import os
import sys
from typing import Any

_ESCAPES = "agouti-escapes"


class Output:
    """Standard output: letters that it has no place for are escaped, and what a full disk does not take is shown.

    Attributes:
        inner: the stream itself.
        escaped: how many letters were written as escapes.
        failure: why it could not be written, where it could not.
        wrote: whether anything was written.
    """

    def __init__(self, stream: Any) -> None:
        self.inner = self._stream = stream
        self._pending: list[str] = []
        self.escaped = 0
        self.failure: OSError | None = None
        self.wrote = False
        codecs.register_error(_ESCAPES, self._escape)
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors=_ESCAPES)

    def _escape(self, error: UnicodeError) -> tuple[str | bytes, int]:
        if isinstance(error, UnicodeEncodeError):
            self.escaped += error.end - error.start
        return codecs.backslashreplace_errors(error)

    def write(self, text: str) -> int:
        """Write a text; one that is lost on the way is shown on standard error."""
        if not isinstance(text, str):
            raise TypeError("texts are written here")
        self.wrote = self.wrote or bool(text)
        if self.failure is not None:
            return sys.stderr.write(text)
        self._pending.append(text)
        try:
            self._stream.write(text)
        except BrokenPipeError:
            raise
        except OSError as error:
            self._failed(error)
        return len(text)

    def flush(self) -> None:
        """See that it is out."""
        if self.failure is not None:
            return
        try:
            self._stream.flush()
        except BrokenPipeError:
            raise
        except OSError as error:
            self._failed(error)
        self._pending.clear()

    @property
    def buffer(self) -> "_Bytes":
        """The same for bytes, which go out as they are."""
        return _Bytes(self, self._stream.buffer)

    def failed(self, error: OSError, lost: str = "") -> None:
        """It could not be written: what is lost is shown."""
        self._pending.append(lost)
        self._failed(error)

    def _failed(self, error: OSError) -> None:
        self.failure = error
        # What the library has kept would be tried once more at the end, and fail once more.
        silence(self._stream)
        sys.stderr.write("".join(self._pending))
        self._pending.clear()

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


class _Bytes:
    """Standard output for bytes."""

    def __init__(self, output: Output, stream: Any) -> None:
        self._output = output
        self._stream = stream

    def write(self, data: bytes) -> int:
        """Write bytes; those that are lost on the way are shown on standard error."""
        self._output.wrote = True
        if self._output.failure is not None:
            sys.stderr.write(bytes(data).decode("utf-8", "replace"))
            return len(data)
        try:
            self._stream.write(data)
            self._stream.flush()
        except BrokenPipeError:
            raise
        except OSError as error:
            self._output.failed(error, bytes(data).decode("utf-8", "replace"))
        return len(data)

    def flush(self) -> None:
        """See that it is out: each write was."""

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def silence(stream: Any) -> None:
    """Let what is written there from now on go nowhere."""
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, stream.fileno())
    os.close(nowhere)


def opened() -> Output | None:
    """Standard output, made safe; `None` where there is none. Input and standard error that are closed are empty."""
    if sys.stdin is None:
        sys.stdin = open(os.devnull, encoding="utf-8")  # noqa: SIM115 - as long as the process
    closed = sys.stdout is None
    if closed:
        os.open(os.devnull, os.O_WRONLY)  # or the next file that is opened would be standard output
    if sys.stderr is None:
        sys.stderr = open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115
    elif hasattr(sys.stderr, "reconfigure"):
        sys.stderr.reconfigure(errors="backslashreplace")
    if closed:
        return None
    output = Output(sys.stdout)
    sys.stdout = output
    return output
