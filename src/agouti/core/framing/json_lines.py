"""JSON values, one to a line, decoded incrementally from bytes: each line is given once it is whole."""

from ..errors import FramingError

# As for server-sent events: several times the largest thing seen in one line.
MAX_LINE_BYTES = 16 * 1024 * 1024


class LineSplitter:
    """Feed bytes, get whole lines; empty ones are left out.

    >>> lines = LineSplitter()
    >>> lines.feed(b'{"a": 1}\\n{"b"'), lines.feed(b': 2}\\r\\n\\n')
    ([b'{"a": 1}'], [b'{"b": 2}'])
    """

    __slots__ = ("_buffer", "_limit")

    def __init__(self, limit: int = MAX_LINE_BYTES) -> None:
        self._buffer = b""
        self._limit = limit

    def feed(self, data: bytes) -> list[bytes]:
        """Take the next bytes, cut anywhere.

        Raises:
            FramingError: one line is larger than the limit.
        """
        if b"\n" not in data:
            self._buffer += data
            if len(self._buffer) > self._limit:
                raise FramingError(f"one line of the stream is larger than {self._limit} bytes")
            return []
        *lines, self._buffer = (self._buffer + data).split(b"\n")
        return [stripped for line in lines if (stripped := line.strip())]
