"""The dialect ``chat``: what servers send, and what is made of it."""

import json
from typing import Any

import pytest

from agouti.core.canonical.chat import Message, Request, Usage
from agouti.core.canonical.events import Finished, Reasoning, Started, Text, ToolCallPiece, UsageTold
from agouti.core.errors import ContextOverflow, ModelUnknown, OutOfCredit, ReplyUnreadable, RequestRefused
from agouti.dialects.chat.dialect import ChatDialect
from agouti.dialects.chat.stream import ChatStream
from agouti.dialects.wire import Fault

CHAT = ChatDialect()


def test_request_is_the_canonical_form_with_extra_fields_last() -> None:
    request = Request("m", (Message("user", "Hi"),), {"temperature": 0.5}, {"top_k": 3}, stream=True)
    outgoing = CHAT.encode_chat(request)
    assert outgoing.path == "/chat/completions"
    assert outgoing.body == {
        "model": "m",
        "messages": [{"role": "user", "content": "Hi"}],
        "temperature": 0.5,
        "stream": True,
        "stream_options": {"include_usage": True},
        "top_k": 3,
    }


@pytest.mark.parametrize(
    ("choice", "text", "reason"),
    [
        ({"message": {"content": "Hi"}, "finish_reason": "stop"}, "Hi", "stop"),
        ({"message": {"content": None}, "finish_reason": "function_call"}, "", "tool_calls"),
        ({"message": {"content": [{"type": "text", "text": "a"}, {"text": None}]}}, "a", None),
        ({"message": {"content": 5, "refusal": "No."}, "finish_reason": "stop"}, "5", "refusal"),
        ({"message": None, "finish_reason": "length", "index": "0"}, "", "length"),
        ({}, "", None),
    ],
)
def test_reply_of_any_shape(choice: dict[str, Any], text: str, reason: str | None) -> None:
    usage = {"prompt_tokens": 3.0, "completion_tokens": 4, "prompt_tokens_details": {"cached_tokens": 2}, "odd": []}
    body = json.dumps({"choices": [choice], "usage": usage, "model": "m", "unknown": {}}).encode()
    completion = CHAT.decode_chat(body)
    assert not isinstance(completion, Fault)
    assert (completion.choices[0].text, completion.choices[0].finish_reason) == (text, reason)
    assert completion.usage == Usage(3, 4, 7, 2, None)


@pytest.mark.parametrize("body", [b"", b"[]", b"nonsense", b'{"greeting": 1}', b'{"choices": 3}', b"null", b"\xff"])
def test_what_is_no_reply_says_so(body: bytes) -> None:
    with pytest.raises(ReplyUnreadable):
        CHAT.decode_chat(body)


EVENTS = [
    ({"model": "m", "id": "1", "choices": [{"delta": {"role": "assistant", "content": ""}}]}, [Started("m", "1")]),
    (None, []),
    ({"choices": [{"index": 0, "delta": {"content": "Hi"}}]}, [Text("Hi")]),
    ({"choices": [{"index": 1, "delta": {"content": "Ho", "reasoning": "hm"}}]}, [Reasoning("hm", 1), Text("Ho", 1)]),
    (
        {
            "choices": [
                {"delta": {"tool_calls": [{"index": 2, "id": "c", "function": {"name": "f", "arguments": "{"}}]}}
            ]
        },
        [ToolCallPiece(0, "c", "f", "{")],
    ),
    ({"choices": [{"delta": {"content": 7}, "finish_reason": None}]}, [Text("7")]),
    ({"choices": [{"delta": {}, "finish_reason": "stop"}]}, [Finished("stop")]),
    ({"choices": [], "usage": {"prompt_tokens": 1, "completion_tokens": 2}}, [UsageTold(Usage(1, 2, 3))]),
]


def test_stream_gives_the_same_events_at_every_split() -> None:
    stream = b": hello\n\n" + b"".join(b"data: %s\n\n" % json.dumps(data).encode() for data, _ in EVENTS)
    stream += b"data: [DONE]\n\ndata: {}\n\n"
    expected = [event for _, events in EVENTS for event in events]
    for size in (len(stream), 1, 7, 64):
        decoder = CHAT.stream_decoder()
        pieces = (stream[place : place + size] for place in range(0, len(stream), size))
        assert [event for piece in pieces for event in decoder.feed(piece)] == expected
        assert decoder.done
        assert decoder.end()


@pytest.mark.parametrize(
    ("stream", "complete", "failure"),
    [
        (b'data: {"choices":[{"delta":{"content":"a"},"finish_reason":"stop"}]}\n\n', True, None),
        (b'data: {"choices":[{"delta":{"content":"a"}}]}\n\n', False, None),
        (b'data: {"choices":[{"delta":{"content":"a"}}]}\n\ndata: {"error": "credit balance"}\n\n', False, OutOfCredit),
        (b'data: {"choices":[{"delta":{"content":"a"}}]}\n\nevent: error\ndata: gone\n\n', False, object),
        (b'data: {"choices":[{"delta":{"content":"a"}}]}\n\ndata: {garbage\n\n', False, ReplyUnreadable),
    ],
)
def test_how_a_stream_ends(stream: bytes, complete: bool, failure: type | None) -> None:
    decoder = CHAT.stream_decoder()
    assert Text("a") in decoder.feed(stream)
    assert decoder.end() is complete
    if failure is None:
        assert decoder.failure is None
    else:
        assert decoder.failure is not None
        assert issubclass(decoder.failure.kind, failure)


@pytest.mark.parametrize(
    ("status", "body", "kind", "parameter"),
    [
        (404, b'{"error": {"message": "gone", "code": "model_not_found"}}', ModelUnknown, None),
        (400, b'{"error": {"message": "x", "param": "top_q"}}', RequestRefused, "top_q"),
        (400, b'{"detail": [{"msg": "Unexpected field \'top_q\'"}]}', RequestRefused, "top_q"),
        (
            400,
            b'{"error":{"code":400,"message":"the request exceeds the available context size"}}',
            ContextOverflow,
            None,
        ),
        (
            429,
            b'{"error": {"message": "You exceeded your current quota", "type": "insufficient_quota"}}',
            OutOfCredit,
            None,
        ),
        (404, b"<html><title>Not found</title>", RequestRefused, None),
        (422, b"", RequestRefused, None),
    ],
)
def test_errors_of_any_shape(status: int, body: bytes, kind: type, parameter: str | None) -> None:
    fault = CHAT.classify(status, {}, body)
    assert (fault.kind, fault.parameter) == (kind, parameter)
    assert fault.message


@pytest.mark.parametrize("cut", [1400, 17_000])
def test_a_megabyte_in_one_event_is_put_together_once(cut: int) -> None:
    """Also where a stream goes through as it came: what waits for its end is not copied for every piece."""
    decoder = ChatDialect().verbatim_decoder()

    def chunk(text: str) -> bytes:
        return b"data: %b\n\n" % json.dumps({"id": "c", "choices": [{"index": 0, "delta": {"content": text}}]}).encode()

    data = chunk("peas") * 5 + chunk("x" * 1_000_000) + chunk("kale") * 3
    text, passed = "", b""
    for at in range(0, len(data), cut):
        for event in decoder.feed(data[at : at + cut]):
            text += getattr(event, "text", "")
            passed += getattr(event, "payload", b"")
        assert isinstance(decoder, ChatStream)
        assert len(decoder._unparsed or b"") <= 16 * 1024
    assert text == "peas" * 5 + "x" * 1_000_000 + "kale" * 3
    assert passed.count(b"peas") == 5
    assert passed.count(b"kale") == 3
