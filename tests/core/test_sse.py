"""Server-sent events: the WHATWG rules, however the bytes are cut."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from agouti.core.errors import FramingError
from agouti.core.framing.sse import ServerEvent, SseDecoder

STREAMS = [
    (b"data: a\n\ndata: b\n\n", [b"a", b"b"]),
    (b"data: a\r\n\r\ndata: b\r\rdata: c\n\n", [b"a", b"b", b"c"]),
    (b"\xef\xbb\xbfdata: a\n\n", [b"a"]),
    (b": keep-alive\n\nevent: ping\n\ndata: a\n\n", [b"a"]),
    (b"event: tick\ndata: 1\ndata:2\nid: 7\nretry: 5\n\n", [("tick", b"1\n2")]),
    (b"data\n\ndata:\n\ndata: \xe2\x80\xa8x\n\n", [b"", b"", b"\xe2\x80\xa8x"]),
    (b"\n\n\ndata: a\n\n\n\ndata: b\n\ndata: unfinished\n", [b"a", b"b"]),
]


def decode(pieces: list[bytes]) -> list[ServerEvent]:
    decoder = SseDecoder()
    return [event for piece in pieces for event in decoder.feed(piece)]


@pytest.mark.parametrize(("stream", "events"), STREAMS)
def test_same_events_whole_and_byte_by_byte(stream: bytes, events: list[ServerEvent]) -> None:
    assert decode([stream]) == events
    assert decode([stream[place : place + 1] for place in range(len(stream))]) == events


@given(st.data())
def test_same_events_at_any_split_of_anything(data: st.DataObject) -> None:
    lines = st.sampled_from([b"data: a", b"data:b", b"event: e", b": c", b"", b"", b"id: 1", b"\xff\x00", b"data"])
    ends = st.sampled_from([b"\n", b"\r\n", b"\r"])
    stream = b"".join(line + end for line, end in data.draw(st.lists(st.tuples(lines, ends), max_size=20)))
    cuts = sorted(data.draw(st.lists(st.integers(0, len(stream)), max_size=6)))
    pieces = [stream[a:b] for a, b in zip([0, *cuts], [*cuts, len(stream)], strict=True)]
    assert decode(pieces) == decode([stream])


def test_endless_event_is_refused_before_it_fills_the_memory() -> None:
    decoder = SseDecoder(limit=1000)
    with pytest.raises(FramingError, match="1000 bytes"):
        for _ in range(30):
            decoder.feed(b"data: " + b"x" * 90)
