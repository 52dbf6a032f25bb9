"""Whatever bytes come: nothing but documented errors, and the same result at every split."""

import itertools
import json
from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from agouti.core.errors import AgoutiError, ReplyUnreadable
from agouti.core.json.lenient import lenient
from agouti.dialects.chat.dialect import ChatDialect
from agouti.dialects.shared.error_mapping import parse_error
from agouti.dialects.wire import Fault

CHAT = ChatDialect()

SCALARS = (
    st.none()
    | st.booleans()
    | st.integers(-5, 5)
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text(max_size=8)
)
VALUES = st.recursive(
    SCALARS, lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3)
)
CALLS = (
    st.lists(
        st.fixed_dictionaries({}, optional={"index": VALUES, "id": VALUES, "function": VALUES}) | VALUES, max_size=2
    )
    | VALUES
)
MESSAGES = st.fixed_dictionaries(
    {},
    optional=dict.fromkeys(("role", "content", "refusal", "reasoning", "reasoning_content"), VALUES) | {"tool_calls": CALLS},
) | VALUES  # fmt: skip
CHOICES = st.lists(
    st.fixed_dictionaries({}, optional={"index": VALUES, "message": MESSAGES, "delta": MESSAGES, "finish_reason": VALUES}) | VALUES,
    max_size=3,
) | VALUES  # fmt: skip
REPLIES = st.fixed_dictionaries(
    {}, optional={"id": VALUES, "model": VALUES, "choices": CHOICES, "usage": VALUES, "error": VALUES, "other": VALUES}
)


@given(REPLIES.map(json.dumps).map(str.encode) | st.binary(max_size=60) | VALUES.map(json.dumps).map(str.encode))
def test_reply_decoder_raises_only_what_it_says(body: bytes) -> None:
    try:
        completion = CHAT.decode_chat(body)
    except ReplyUnreadable:
        pass
    else:
        if not isinstance(completion, Fault):
            for choice in completion.choices:
                assert isinstance(choice.text, str)
                assert all(call.function.arguments is not None for call in choice.tool_calls)


@given(st.lists(REPLIES, max_size=4), st.binary(max_size=40), st.booleans(), st.lists(st.integers(0, 2000), max_size=8))
def test_stream_decoder_never_raises_and_does_not_mind_splits(
    chunks: list[Any], noise: bytes, done: bool, cuts: list[int]
) -> None:
    stream = b"".join(b"data: %s\n\n" % json.dumps(chunk).encode() for chunk in chunks) + noise
    stream += b"\n\ndata: [DONE]\n\n" if done else b""
    whole = CHAT.stream_decoder()
    expected = whole.feed(stream)
    split = CHAT.stream_decoder()
    found = []
    places = sorted({0, len(stream), *(cut for cut in cuts if cut < len(stream))})
    for start, end in itertools.pairwise(places):
        found += split.feed(stream[start:end])
    assert found == expected
    assert (split.done, split.end(), split.failure) == (whole.done, whole.end(), whole.failure)


@given(st.integers(200, 599), VALUES.map(json.dumps).map(str.encode) | st.binary(max_size=80))
def test_every_error_body_means_something(status: int, body: bytes) -> None:
    fault = CHAT.classify(status, {}, body)
    assert issubclass(fault.kind, AgoutiError)
    assert fault.message
    assert isinstance(parse_error(body).message, str)


class Inner(msgspec.Struct):
    count: int | None = None
    word: str | None = None


class Outer(msgspec.Struct):
    inner: Inner | None = None
    inners: list[Inner] | None = None
    word: str | None = None


@given(st.fixed_dictionaries({}, optional={"inner": VALUES, "inners": VALUES, "word": VALUES, "more": VALUES}))
def test_lenient_keeps_what_fits_and_never_fails_on_an_object(value: dict[str, Any]) -> None:
    found = lenient(value, Outer)
    assert msgspec.convert(msgspec.to_builtins(found), Outer) == found
    if isinstance(value.get("word"), str):
        assert found.word == value["word"]


@pytest.mark.parametrize("value", [None, 3, [], "text"])
def test_lenient_wants_an_object(value: Any) -> None:
    with pytest.raises(msgspec.ValidationError):
        lenient(value, Outer)
