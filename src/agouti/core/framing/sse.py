"""Server-sent events, decoded incrementally from bytes.

Source: the WHATWG HTML standard, "Server-sent events", section "Interpreting an event stream".
Three rules of it are easily broken by a decoder built on a general line iterator, so this one
works on bytes: lines end at LF, CR or CRLF and at nothing else (U+2028 is text), a byte order mark
is dropped once at the start, and an event that the end of input leaves unfinished is discarded.

    >>> decoder = SseDecoder()
    >>> decoder.feed(b'data: {"a":')
    []
    >>> decoder.feed(b'1}\\n\\n: keep-alive\\n\\n')
    [b'{"a":1}']
"""

from typing import TypeAlias

from ..errors import FramingError

# The largest thing seen in one event is a whole reply that carries a base64 image: a few MB.
# Four times that is still far from what would hurt a process, and stops an endless line.
MAX_EVENT_BYTES = 16 * 1024 * 1024

_BOM = b"\xef\xbb\xbf"


ServerEvent: TypeAlias = bytes | tuple[str, bytes]
"""One dispatched event: its data, or name and data where it has a name other than ``message``.

One is made for every chunk of every stream: bare bytes cost nothing, not even to the garbage collector.
"""


class SseDecoder:
    """Feed bytes, get the events that they complete."""

    __slots__ = ("_after_cr", "_buffer", "_limit", "_searched", "_started")

    def __init__(self, limit: int = MAX_EVENT_BYTES) -> None:
        self._buffer = bytearray()
        self._searched = 0
        self._started = False
        self._after_cr = False
        self._limit = limit

    @property
    def pending(self) -> bool:
        """Whether bytes of an unfinished event are held."""
        return bool(self._buffer.strip(b"\n"))

    @property
    def empty(self) -> bool:
        """Whether nothing at all is held; costs nothing, however much is."""
        return not self._buffer

    def feed(self, data: bytes) -> list[ServerEvent]:
        """Take the next bytes of the stream, cut anywhere.

        Raises:
            FramingError: one event is larger than the limit.
        """
        if self._after_cr and data:
            # The CR has ended its line already; this LF is the second half of a CRLF.
            self._after_cr = False
            if data[0] == 0x0A:
                data = data[1:]
        if b"\r" in data:
            self._after_cr = data.endswith(b"\r")
            data = data.replace(b"\r\n", b"\n").replace(b"\r", b"\n")
        buffer = self._buffer
        if not buffer and self._started and data.endswith(b"\n\n"):
            # The usual case: a read holds whole events only, nothing need be kept.
            if data.startswith(b"data: ") and data.count(b"\n") == 2:
                return [data[6:-2]]
            return _events(data[:-2])
        buffer += data
        if not self._started:
            if len(buffer) < len(_BOM) and _BOM.startswith(buffer):
                return []
            self._started = True
            if buffer.startswith(_BOM):
                del buffer[: len(_BOM)]
        end = buffer.rfind(b"\n\n", max(self._searched - 1, 0))
        if end < 0:
            self._searched = len(buffer)
            if len(buffer) > self._limit:
                raise FramingError(f"one server-sent event is larger than {self._limit} bytes")
            return []
        block = bytes(buffer[:end])
        del buffer[: end + 2]
        self._searched = len(buffer)
        return _events(block)


def _events(block: bytes) -> list[ServerEvent]:
    """The events of a block of whole lines, separated by empty lines."""
    if block.startswith(b"data: "):
        # The usual case: one line of data each, told by there being no other line ends.
        payloads = block[6:].split(b"\n\ndata: ")
        if block.count(b"\n") == 2 * (len(payloads) - 1):
            return payloads  # type: ignore[return-value]  # a list of bytes is one of events
    return [event for lines in block.split(b"\n\n") if (event := _event(lines)) is not None]


def _event(lines: bytes) -> ServerEvent | None:
    name = ""
    data: list[bytes] = []
    for line in lines.split(b"\n"):
        field, _, value = line.partition(b":")
        if field == b"data":
            data.append(value[1:] if value.startswith(b" ") else value)
        elif field == b"event":
            value = value[1:] if value.startswith(b" ") else value
            name = value.decode("utf-8", "replace")
    if not data:
        return None
    joined = b"\n".join(data)
    return (name, joined) if name and name != "message" else joined
