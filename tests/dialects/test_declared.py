"""Dialects that a configuration declares."""

import json
from typing import Any

import pytest

import agouti
from agouti.core.canonical.chat import Choice, Completion, Usage
from agouti.core.json.pointer import MISSING, read, write
from agouti.dialects.declared import DeclaredDialect
from agouti.testing import FakeTransport
from agouti.testing.contract import Sample, check_dialect

BOARD: dict[str, Any] = {
    "path": "/engines/{model}/talk",
    "messages": "/conversation",
    "role": "/author",
    "content": "/body/text",
    "roles": {"assistant": "board"},
    "parameters": {"temperature": "/settings/heat", "max_tokens": "/settings/limit", "stop": "/settings/ends/0"},
    "fixed": {"/settings/tone": "plain"},
    "text": "/result/0/words",
    "finish_reason": "/result/0/why",
    "finish_reasons": {"full": "length", "over": "stop"},
    "reported_model": "/engine",
    "usage": {"input_tokens": "/meta/in", "output_tokens": "/meta/out"},
    "error": "/problem/said",
    "error_code": "/problem/code",
    "error_codes": {"E17": "RateLimited"},
    "models": {"path": "/engines", "list": "/engines", "name": "/id"},
    "stream": {"framing": "sse", "switch": "/live", "text": "/words", "finish_reason": "/why", "end": "BYE"},
}
REPLY = {"engine": "m", "result": [{"words": "In March.", "why": "full"}], "meta": {"in": 5, "out": 3}}
MEANS = Completion((Choice("In March.", "length"),), "m", None, Usage(5, 3, 8))
PIECES = [
    {"engine": "m", "words": "In "},
    {"words": "March."},
    {"words": "", "why": "full", "meta": {"in": 5, "out": 3}},
]


def entry(**changes: Any) -> dict[str, Any]:
    board = {**BOARD, **changes}
    return {
        "dialects": {"board": {name: value for name, value in board.items() if value is not None}},
        "providers": {"hall": {"address": "https://hall.example/v2", "dialect": "board", "retries": {"max": 0}}},
    }


def made(**changes: Any) -> DeclaredDialect:
    return DeclaredDialect(agouti.load_config(entry(**changes)).dialects["board"])


STREAMS = {
    "sse": b"".join(b"data: %s\n\n" % json.dumps(piece).encode() for piece in PIECES) + b"data: BYE\n\n",
    "lines": b"".join(json.dumps(piece).encode() + b"\n" for piece in PIECES),
    "array": json.dumps(PIECES).encode(),
}


@pytest.mark.parametrize("framing", STREAMS)
def test_declared_dialect_keeps_the_contract(framing: str) -> None:
    stream = {**BOARD["stream"], "framing": framing, **({} if framing == "sse" else {"end": ""})}
    errors = ((429, b'{"problem": {"said": "slow"}}', agouti.RateLimited),)
    check_dialect(made(stream=stream), Sample(json.dumps(REPLY).encode(), STREAMS[framing], MEANS, errors=errors))


def test_everything_is_where_the_declaration_says() -> None:
    error = {"problem": {"said": "wait a little", "code": "E17"}}
    listed = {"engines": [{"id": "m"}, {"id": "n"}]}
    fake = FakeTransport([REPLY, [STREAMS["sse"]], listed, error])
    with agouti.Client({**entry(), "models": {"x": {"provider": "hall", "name": "m"}}}, transport=fake) as client:
        reply = client.ask("x", "Peas?", system="Brief.", examples=[("Beans?", "May.")], temperature=0.5, stop="#")
        assert (reply.text, reply.truncated, reply.usage.total_tokens) == ("In March.", True, 8)
        with client.stream("x", "Peas?") as stream:
            assert "".join(stream) == "In March."
        assert [model.name for model in client.models("hall")] == ["m", "n"]
        with pytest.raises(agouti.RateLimited, match="wait a little"):
            client.ask("x", "Peas?", deadline=1)
        with pytest.raises(agouti.ParameterUnsupported, match="seed"):
            client.ask("x", "Peas?", seed=3)
    assert fake.requests[0].url == "https://hall.example/v2/engines/m/talk"
    turns = [("system", "Brief."), ("user", "Beans?"), ("board", "May."), ("user", "Peas?")]
    assert json.loads(fake.requests[0].body or b"") == {
        "settings": {"tone": "plain", "heat": 0.5, "ends": ["#"]},
        "conversation": [{"author": role, "body": {"text": text}} for role, text in turns],
    }
    assert json.loads(fake.requests[1].body or b"")["live"] is True


def test_prompt_and_system_have_places_of_their_own_and_the_end_may_be_the_connections() -> None:
    plain = made(messages=None, prompt="/in", system="/before", stream={"text": "/words"}, finish_reason=None)
    fake = FakeTransport([REPLY, [b'data: {"words": "In"}\n\n']])
    with agouti.Client(
        entry(messages=None, prompt="/in", system="/before", stream={"text": "/words"}, finish_reason=None),
        transport=fake,
    ) as client:
        client.ask("m@hall", "Peas?", system="Brief.")
        with client.stream("m@hall", "Peas?") as stream:
            assert "".join(stream) == "In"
    assert json.loads(fake.requests[0].body or b"") == {
        "settings": {"tone": "plain"},
        "in": "Peas?",
        "before": "Brief.",
    }
    decoder = plain.stream_decoder()
    assert decoder is not None
    assert not decoder.end()


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"path": "talk"}, "path"),
        ({"prompt": "/p"}, "neither or both"),
        ({"messages": None}, "neither or both"),
        ({"text": ""}, "where the answer is"),
        ({"text": "result/0"}, "JSON Pointer"),
        ({"parameters": {"temprature": "/t"}}, "temprature"),
        ({"usage": {"tokens": "/t"}}, "tokens"),
        ({"error_codes": {"E1": "RateLimit"}}, "RateLimit"),
        ({"parameters": {"seed": "/settings/tone/deep"}}, "stands behind"),
        ({"fixed": {"": 1}}, "empty pointer"),
        ({"stream": {"framing": "xml"}}, "framing"),
        ({"colour": "red"}, "colour"),
    ],
)
def test_wrong_declaration_is_refused_when_it_is_read(changes: dict[str, Any], words: str) -> None:
    with pytest.raises(agouti.ConfigError, match=words) as wrong:
        agouti.load_config(entry(**changes))
    assert wrong.value.hint
    assert "dialects.board" in wrong.value.message


def test_label_of_an_own_dialect_is_taken() -> None:
    with pytest.raises(agouti.ConfigError, match="already"):
        agouti.load_config({"dialects": {"chat": BOARD}, "providers": {}})


@pytest.mark.parametrize(
    ("reply", "words"), [({"result": []}, "/result/0/words"), ([], "nothing"), ("text", "nothing")]
)
def test_reply_of_another_shape_says_where_was_looked(reply: Any, words: str) -> None:
    with (
        agouti.Client(entry(), transport=FakeTransport([json.dumps(reply).encode()])) as client,
        pytest.raises(agouti.ReplyUnreadable, match=words),
    ):
        client.ask("m@hall", "Peas?")


@pytest.mark.parametrize(
    ("pointer", "found"),
    [("", {"a": [1, {"b/c": 2, "~": 3}]}), ("/a/1/b~1c", 2), ("/a/1/~0", 3), ("/a/2", MISSING), ("/a/x", MISSING), ("/a/0/0", MISSING)],
)  # fmt: skip
def test_pointer_reads(pointer: str, found: Any) -> None:
    assert read({"a": [1, {"b/c": 2, "~": 3}]}, pointer) == found


def test_pointer_writes_what_is_missing_on_the_way() -> None:
    body: dict[str, Any] = {}
    for place, value in (("/a/0/b", 1), ("/a/0/c", 2), ("/a/-", 3), ("/a/1", 4), ("/d", 5)):
        write(body, place, value)
    assert body == {"a": [{"b": 1, "c": 2}, 4], "d": 5}
    for wrong in ("/a/5", "/a/x", "/d/e", "a"):
        with pytest.raises(agouti.ConfigError):
            write(body, wrong, 1)
