"""The objects of a JSON array, each given once it is whole; decoded incrementally from bytes."""

import re

from ..errors import FramingError
from .json_lines import MAX_LINE_BYTES

_MARKS = re.compile(rb'["\\{}]')


class ArraySplitter:
    """Feed bytes, get whole objects, whatever stands between them.

    >>> objects = ArraySplitter()
    >>> objects.feed(b'[{"a": "}"'), objects.feed(b'},\\n{"b": {}}]')
    ([], [b'{"a": "}"}', b'{"b": {}}'])
    """

    __slots__ = ("_buffer", "_depth", "_limit", "_position", "_quoted")

    def __init__(self, limit: int = MAX_LINE_BYTES) -> None:
        self._buffer = bytearray()
        self._depth = 0
        self._limit = limit
        self._position = 0
        self._quoted = False

    def feed(self, data: bytes) -> list[bytes]:
        """Take the next bytes, cut anywhere.

        Raises:
            FramingError: one object is larger than the limit.
        """
        buffer = self._buffer
        buffer += data
        elements: list[bytes] = []
        start, position = 0, self._position
        while (mark := _MARKS.search(buffer, position)) is not None:
            position = mark.end()
            match mark[0]:
                case b"\\":
                    if self._quoted:
                        if position == len(buffer):
                            position -= 1  # what it escapes is still to come
                            break
                        position += 1
                case b'"':
                    self._quoted = not self._quoted and self._depth > 0
                case b"{" if not self._quoted:
                    if self._depth == 0:
                        start = mark.start()
                    self._depth += 1
                case b"}" if not self._quoted and self._depth > 0:
                    self._depth -= 1
                    if self._depth == 0:
                        elements.append(bytes(buffer[start:position]))
                        start = position
                case _:
                    pass
        else:
            position = len(buffer)
        if self._depth == 0:
            start = position
        del buffer[:start]
        self._position = position - start
        if len(buffer) > self._limit:
            raise FramingError(f"one object of the stream is larger than {self._limit} bytes")
        return elements
