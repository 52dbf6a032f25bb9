"""The binary event-stream encoding, decoded incrementally from bytes: frames with headers and two checksums.

A frame is: its length and that of its headers (32 bits each, big-endian), the CRC32 of these eight bytes,
the headers, the payload, the CRC32 of everything before. A header is: the length of its name (8 bits), the
name, its type (8 bits), and a value as long as the type says.

    >>> decoder = FrameDecoder()
    >>> data = frame({":event-type": "text"}, b"{}")
    >>> decoder.feed(data[:9]), decoder.feed(data[9:])
    ([], [Frame(headers={':event-type': 'text'}, payload=b'{}')])
"""

import struct
import zlib
from collections.abc import Mapping

from msgspec import Struct

from ..errors import FramingError

# The format allows 16 MB of payload and 128 KB of headers.
MAX_FRAME_BYTES = 16 * 1024 * 1024 + 128 * 1024 + 16
_PRELUDE = struct.Struct(">III")
_CRC = struct.Struct(">I")
_MIN_FRAME = _PRELUDE.size + _CRC.size
_TEXT = 7
# Bytes of a value by its type; those of types 6 and 7 have a length of their own before them.
_SIZES = {0: 0, 1: 0, 2: 1, 3: 2, 4: 4, 5: 8, 8: 8, 9: 16}


class Frame(Struct, frozen=True, gc=False):
    """One frame: the headers that hold text, and the payload."""

    headers: dict[str, str]
    payload: bytes


class FrameDecoder:
    """Feed bytes, get the frames that they complete."""

    __slots__ = ("_buffer",)

    def __init__(self) -> None:
        self._buffer = bytearray()

    def feed(self, data: bytes) -> list[Frame]:
        """Take the next bytes, cut anywhere.

        Raises:
            FramingError: a length or a checksum is wrong: nothing behind it can be trusted.
        """
        buffer = self._buffer
        buffer += data
        frames: list[Frame] = []
        position = 0
        while len(buffer) - position >= _PRELUDE.size:
            length, header_length, checksum = _PRELUDE.unpack_from(buffer, position)
            if zlib.crc32(buffer[position : position + 8]) != checksum:
                raise FramingError("the checksum of a frame's beginning is wrong")
            if not _MIN_FRAME + header_length <= length <= MAX_FRAME_BYTES:
                raise FramingError(f"a frame of {length} bytes with {header_length} bytes of headers cannot be")
            if len(buffer) - position < length:
                break
            value = bytes(buffer[position : position + length])
            position += length
            if zlib.crc32(value[:-4]) != _CRC.unpack_from(value, length - 4)[0]:
                raise FramingError("the checksum of a frame is wrong")
            start = _PRELUDE.size + header_length
            frames.append(Frame(_headers(value[_PRELUDE.size : start]), value[start:-4]))
        del buffer[:position]
        return frames


def _headers(data: bytes) -> dict[str, str]:
    complete: dict[str, str] = {}
    position = 0
    try:
        while position < len(data):
            name_end = position + 1 + data[position]
            name = data[position + 1 : name_end].decode("utf-8", "replace")
            kind = data[name_end]
            position = name_end + 1
            if kind in (6, _TEXT):
                size = int.from_bytes(data[position : position + 2], "big")
                position += 2
            else:
                size = _SIZES[kind]
            if position + size > len(data):
                raise IndexError
            if kind == _TEXT:
                complete[name] = data[position : position + size].decode("utf-8", "replace")
            position += size
    except (IndexError, KeyError):
        raise FramingError("the headers of a frame cannot be read") from None
    return complete


def frame(headers: Mapping[str, str], payload: bytes) -> bytes:
    """The bytes of one frame, for tests and stand-ins."""
    packed = b"".join(
        len(name).to_bytes(1, "big") + name + bytes([_TEXT]) + len(value).to_bytes(2, "big") + value
        for name, value in ((name.encode(), value.encode()) for name, value in headers.items())
    )
    sizes = struct.pack(">II", len(packed) + len(payload) + _MIN_FRAME, len(packed))
    body = sizes + _CRC.pack(zlib.crc32(sizes)) + packed + payload
    return body + _CRC.pack(zlib.crc32(body))
