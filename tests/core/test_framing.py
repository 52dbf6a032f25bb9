"""Framings beside server-sent events: binary frames and JSON arrays, cut anywhere."""

import itertools
import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from agouti.core.errors import FramingError
from agouti.core.framing.binary import Frame, FrameDecoder, frame
from agouti.core.framing.json_array import ArraySplitter

TEXT = st.text(min_size=1, max_size=12)
VALUES = st.recursive(st.none() | st.integers() | st.text(max_size=9), lambda inner: st.dictionaries(TEXT, inner, max_size=3), max_leaves=6)  # fmt: skip


def fed(splitter: Any, data: bytes, cuts: list[int]) -> list[Any]:
    found: list[Any] = []
    places = sorted({0, len(data), *(cut % (len(data) + 1) for cut in cuts)})
    for start, end in itertools.pairwise(places):
        found += splitter.feed(data[start:end])
    return found


@given(
    st.lists(st.tuples(st.dictionaries(TEXT, TEXT, max_size=3), st.binary(max_size=40)), max_size=4),
    st.lists(st.integers(0)),
)
def test_frames_come_out_as_they_went_in(given: list[tuple[dict[str, str], bytes]], cuts: list[int]) -> None:
    data = b"".join(frame(headers, payload) for headers, payload in given)
    assert fed(FrameDecoder(), data, cuts) == [Frame(headers, payload) for headers, payload in given]


@given(st.binary(min_size=1, max_size=30), st.integers(0), st.integers(1, 255))
def test_one_changed_byte_is_noticed(payload: bytes, place: int, change: int) -> None:
    data = bytearray(frame({":event-type": "text"}, payload))
    data[place % len(data)] ^= change
    with pytest.raises(FramingError):
        FrameDecoder().feed(bytes(data))


def test_headers_of_other_types_are_passed_over() -> None:
    import struct
    import zlib

    headers = b"\x01a\x00" + b"\x01b\x04\x00\x00\x00\x07" + b"\x01c\x07\x00\x02hi" + b"\x01d\x06\x00\x01x"
    sizes = struct.pack(">II", 16 + len(headers), len(headers))
    body = sizes + struct.pack(">I", zlib.crc32(sizes)) + headers
    assert FrameDecoder().feed(body + struct.pack(">I", zlib.crc32(body))) == [Frame({"c": "hi"}, b"")]


@given(
    st.lists(st.dictionaries(TEXT, VALUES, max_size=3), max_size=4),
    st.lists(st.integers(0)),
    st.sampled_from([None, 1]),
)
def test_objects_of_an_array_come_out_whole(values: list[Any], cuts: list[int], indent: int | None) -> None:
    data = json.dumps(values, indent=indent, ensure_ascii=False).encode()
    assert [json.loads(each) for each in fed(ArraySplitter(), data, cuts)] == values


def test_endless_object_is_refused() -> None:
    with pytest.raises(FramingError):
        ArraySplitter(100).feed(b'[{"a": "' + b"x" * 200)
