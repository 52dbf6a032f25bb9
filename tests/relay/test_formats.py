"""Every served format over every dialect: the same answer, the same tool loop; bytes untouched where both speak the same."""

import json
import time
from collections.abc import Iterator
from typing import Any

import pytest

import agouti
from agouti.core.canonical.chat import Choice, Completion, Message, ProviderTurn, ToolCall, ToolFunction
from agouti.dialects.server_registry import server_formats
from agouti.relay.turn_memory import TurnMemory
from agouti.standins import Served

from ..dialects.test_contract import MODELS
from ..dialects.test_turns import NINE, QUESTION, WITH_TOOLS, days_to_frost, options
from ..hostile.kit import Connection, serving
from .kit import POOL, Running, relaying, until

FORMS = tuple(server_formats())
BODIES: dict[str, dict[str, Any]] = {
    "chat": {"messages": [{"role": "user", "content": "When do peas go in?"}]},
    "prompt": {"prompt": "When do peas go in?"},
    "responses": {"input": "When do peas go in?"},
    "messages": {"messages": [{"role": "user", "content": "When do peas go in?"}], "max_tokens": 400},
}


@pytest.fixture(scope="module")
def relay(served: Served) -> Iterator[Running]:
    with relaying(served.config) as running:
        yield running


def client_of(relay: Running, form: str) -> agouti.Client:
    """A client that knows one format alone, as an application of somebody else's would."""
    return agouti.Client.at(relay.address + "/v1", dialect=form)


@pytest.mark.parametrize("name", NINE)
@pytest.mark.parametrize("form", FORMS)
def test_every_format_over_every_dialect(relay: Running, form: str, name: str) -> None:
    path = f"/v1{server_formats()[form].path}"
    status, plain, headers = relay.call(path, {"model": MODELS[name], **BODIES[form]})
    assert status == 200, plain
    assert headers["agouti-attempts"].endswith("answered")
    if (form, name) == ("prompt", "responses"):
        return  # the client of that format sends a stop, which that provider has not
    with client_of(relay, form) as client:
        whole = client.ask(MODELS[name], "When do peas go in?", max_tokens=400)
        with client.stream(MODELS[name], "When do peas go in?", max_tokens=400) as stream:
            text = "".join(stream)
    assert "Peas" in whole.text
    assert text == whole.text
    assert stream.reply.usage.output_tokens == whole.usage.output_tokens
    assert stream.reply.finish_reason == whole.finish_reason == "stop"


@pytest.mark.parametrize("name", WITH_TOOLS)
@pytest.mark.parametrize("form", [form for form in FORMS if form != "prompt"])
def test_conversation_thinks_calls_and_goes_on_through_the_relay(relay: Running, form: str, name: str) -> None:
    thinks = {} if name == "converse" else options(name)
    with client_of(relay, form) as client:
        talk = client.conversation(MODELS[name], tools=[days_to_frost], **thinks)
        assert talk.say(QUESTION).text == "The answer is 17."
        with talk.stream(QUESTION) as stream:
            assert "".join(stream) == "The answer is 17."
        assert talk.say("And beans?").text
    if thinks:
        assert talk.replies[0].reasoning
        assert talk.replies[0].reasoning.startswith("They ask: How many")


OWN = {
    "chat": (
        "/chat/completions",
        {
            "messages": [{"role": "user", "content": "Peas?", "weight": 7}],
            "weather": {"wet": True},
            "reasoning_effort": "low",
        },
        b'{"id":"c","choices":[{"index":0,"message":{"role":"assistant","content":"Peas.","odd":1},"finish_reason":"stop"}],"cost":0.5}',
    ),
    "prompt": (
        "/completions",
        {"prompt": "### Peas\n", "echo": True, "suffix": "!", "stop": "\n"},
        b'{"id":"c","choices":[{"index":0,"text":"Peas.","finish_reason":"stop","odd":1}]}',
    ),
    "responses": (
        "/responses",
        {
            "input": [{"type": "item_reference", "id": "x"}, {"role": "user", "content": "Peas?"}],
            "truncation": "auto",
            "store": False,
            "top_logprobs": 2,
            "include": ["file_search_call.results"],
            "tools": [{"type": "web_search", "filters": {}}],
        },
        b'{"id":"c","status":"completed","output":[{"type":"message","role":"assistant","content":[{"type":"output_text","text":"Peas."}],"odd":1}]}',
    ),
    "messages": (
        "/messages",
        {
            "max_tokens": 9,
            "system": [{"type": "text", "text": "Brief.", "cache_control": {"type": "ephemeral", "ttl": "1h"}}],
            "messages": [
                {"role": "user", "content": [{"type": "search_result", "title": "Almanac", "content": []}]},
                {"role": "assistant", "content": [{"type": "thinking", "thinking": "x", "signature": "eA=="}]},
                {"role": "user", "content": "Peas?"},
            ],
            "context_management": {"edits": []},
            "metadata": {"user_id": "grower-7", "bed": 3},
            "stop_sequences": ["###"],
            "service_tier": "flex_7",
            "thinking": {"type": "enabled", "budget_tokens": 3000, "display": "none"},
        },
        b'{"id":"c","type":"message","content":[{"type":"text","text":"Peas."}],"stop_reason":"end_turn","odd":1}',
    ),
}
STREAMS = {
    "chat": b'data: {"id":"c","choices":[{"index":0,"delta":{"content":"Pe"},"odd":1}]}\n\ndata: {"id":"c","choices":[{"index":0,"delta":{"content":"as."},"odd":1}]}\n\n'
    b'data: {"choices":[{"index":0,"delta":{},"finish_reason":"stop"}]}\n\ndata: [DONE]\n\n',
    "prompt": b'data: {"id":"c","choices":[{"index":0,"text":"Peas.","odd":1}]}\n\ndata: {"choices":[{"index":0,"text":"","finish_reason":"stop"}]}\n\ndata: [DONE]\n\n',
    "responses": b'event: response.created\ndata: {"type":"response.created","response":{"id":"c"},"odd":1}\n\nevent: response.output_text.delta\n'
    b'data: {"type":"response.output_text.delta","delta":"Peas."}\n\nevent: response.completed\ndata: {"type":"response.completed","response":{"status":"completed","output":[]}}\n\n',
    "messages": b'event: message_start\ndata: {"type":"message_start","message":{"id":"c"},"odd":1}\n\n: a comment\n\nevent: content_block_delta\n'
    b'data: {"type":"content_block_delta","index":0,"delta":{"type":"text_delta","text":"Peas."}}\n\n'
    b'event: message_delta\ndata: {"type":"message_delta","delta":{"stop_reason":"end_turn"}}\n\nevent: message_stop\ndata: {"type":"message_stop"}\n\n',
}


@pytest.mark.parametrize("form", FORMS)
def test_bytes_go_through_untouched_where_both_sides_speak_the_same(form: str) -> None:
    path, body, reply = OWN[form]

    def behave(connection: Connection, number: int) -> None:
        streams = json.loads(connection.request.partition(b"\r\n\r\n")[2]).get("stream")
        data = STREAMS[form] if streams else reply
        kind = b"text/event-stream" if streams else b"application/json"
        connection.write(
            b"HTTP/1.1 200 OK\r\ncontent-type: %b\r\ncontent-length: %d\r\n\r\n%b" % (kind, len(data), data)
        )

    with serving(behave) as server:
        config = {
            "providers": {"north": {"address": server.address, "dialect": form}},
            "models": {"almanac": {"provider": "north", "name": "quill-large", "system": "Never said."}},
        }
        if form == "chat":
            del config["models"]["almanac"]["system"]
        with relaying(config) as relay:
            for streams in (False, True):
                asked = {"model": "almanac", **body, **({"stream": True} if streams else {})}
                status, told, _ = relay.call(f"/v1{path}", asked)
                assert status == 200, told
                sent = json.loads(server.requests[-1].partition(b"\r\n\r\n")[2])
                sent.pop("stream_options", None)  # counts are asked for in any case
                if form == "responses":
                    assert sent.pop("instructions") == "Never said."  # of the entry, where the caller says none
                assert sent == {**asked, "model": "quill-large"}
                got = POOL.request("POST", f"{relay.address}/v1{path}", body=json.dumps(asked)).data
                assert got == (STREAMS[form] if streams else reply)


@pytest.mark.parametrize("end", ["error", "no line end", "cut"])
@pytest.mark.parametrize("form", FORMS)
def test_streams_that_go_through_end_well_or_say_why_not(form: str, end: str) -> None:
    """What came before an error in the same bytes is not lost; a last event without its line end is one."""
    whole = STREAMS[form]
    events = whole.split(b"\n\n")
    error = {
        "messages": b'event: error\ndata: {"type":"error","error":{"type":"overloaded_error","message":"no more peas"}}',
        "responses": b'event: error\ndata: {"type":"error","code":"server_error","message":"no more peas"}',
    }.get(form, b'data: {"error":{"message":"no more peas"}}')
    rest = b"\n\n".join(events[1:-1])
    if end == "error":
        rest = b"\n\n".join([*[each for each in events[1:] if b"Peas." in each or b"as." in each], error, b""])
    elif end == "cut":
        rest = b"\n\n".join(events[1 : {"prompt": 1, "messages": 3}.get(form, 2)])  # the next one of prompt is the last

    def behave(connection: Connection, number: int) -> None:
        connection.write(
            b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\nconnection: close\r\n\r\n" + events[0] + b"\n\n"
        )
        time.sleep(0.2)
        connection.write(rest)
        connection.sock.close()

    path = f"/v1{server_formats()[form].path}"
    config = {"providers": {"north": {"address": "", "dialect": form, "retries": {"max": 0}}}}
    with serving(behave) as server:
        config["providers"]["north"]["address"] = server.address
        with relaying(config) as relay:
            asked = {"model": "m@north", **BODIES[form], "stream": True}
            got = POOL.request("POST", relay.address + path, body=json.dumps(asked)).data
            assert got.startswith(events[0] + b"\n\n")
            assert got.endswith(b"\n\n")
            if end == "no line end":
                assert got == whole
            else:
                assert b"error" in got.split(b"\n\n")[-2]
                assert b"[DONE]" not in got
            assert b"no more peas" not in got  # a provider's words about itself are the owner's
            if end == "error" and form != "prompt":  # its one chunk stands before
                assert b"Peas." in got or b"as." in got


def test_vectors_go_through_untouched_where_both_sides_speak_the_same() -> None:
    reply = b'{"object":"list","data":[{"index":0,"embedding":[0.1,2e-1],"odd":1}],"model":"p","usage":{"prompt_tokens":3,"total_tokens":3}}'

    def behave(connection: Connection, number: int) -> None:
        connection.write(b"HTTP/1.1 200 OK\r\ncontent-length: %d\r\n\r\n%b" % (len(reply), reply))

    with serving(behave) as server:
        config = {
            "providers": {"north": {"address": server.address}},
            "models": {
                "finder": {"provider": "north", "name": "petal", "price": {"input": 1, "output": 0, "currency": "USD"}}
            },
        }
        with relaying(config) as relay:
            asked = {"model": "finder", "input": ["peas"], "weather": "wet", "dimensions": 2, "user": "grower-7"}
            got = POOL.request("POST", relay.address + "/v1/embeddings", body=json.dumps(asked))
            assert got.data == reply
            assert got.headers["agouti-attempts"] == "north/petal answered"
            assert json.loads(server.requests[-1].partition(b"\r\n\r\n")[2]) == {**asked, "model": "petal"}
            assert until(lambda: len(relay.relay.recent_calls.latest) == 1)
            seen = relay.relay.recent_calls.latest[-1]
            assert (seen.input_tokens, seen.cost, seen.currency) == (3, 3e-6, "USD")
            assert relay.call("/v1/embeddings", {**asked, "input": [" "]})[0] == 400
            assert len(server.requests) == 1


THINKING = [
    ({"thinking": {"type": "enabled", "budget_tokens": 1500}}, "low"),
    ({"thinking": {"type": "enabled", "budget_tokens": 31999}}, "high"),
    ({"thinking": {"type": "enabled", "budget_tokens": 4096}}, "medium"),
    ({"thinking": {"type": "adaptive"}}, None),
    ({"thinking": {"type": "adaptive"}, "output_config": {"effort": "max"}}, "high"),
    ({"thinking": {"type": "disabled"}}, "none"),
]


@pytest.mark.parametrize(("said", "effort"), THINKING)
def test_thinking_is_said_in_words_that_the_provider_has(said: dict[str, Any], effort: str | None) -> None:
    def behave(connection: Connection, number: int) -> None:
        connection.write(b"HTTP/1.1 200 OK\r\ncontent-length: %d\r\n\r\n%b" % (len(OWN["chat"][2]), OWN["chat"][2]))

    down = {"address": "http://127.0.0.1:9/v1", "dialect": "messages", "retries": {"max": 0}}
    models = {"almanac": {"provider": "down", "name": "m", "fallback": ["m@north"]}}
    with (
        serving(behave) as server,
        relaying({"providers": {"north": {"address": server.address}, "down": down}, "models": models}) as relay,
    ):
        body = {"model": "m@north", "max_tokens": 64_000, "messages": [{"role": "user", "content": "Peas?"}], **said}
        status, told, _ = relay.call("/v1/messages", body)
        assert (status, told["content"]) == (200, [{"type": "text", "text": "Peas."}])
        sent = json.loads(server.requests[-1].partition(b"\r\n\r\n")[2])
        assert sent.get("reasoning_effort") == effort
        assert sent.keys() - {"reasoning_effort"} == {"model", "messages", "max_tokens"}
        # Also where it takes over from a model of the caller's own format.
        assert relay.call("/v1/messages", {**body, "model": "almanac"})[0] == 200
        assert json.loads(server.requests[-1].partition(b"\r\n\r\n")[2]) == sent


def test_what_the_entry_says_holds_for_callers(served: Served) -> None:
    """Its system text, defaults, price and fallback."""
    models = {
        "down": {"provider": "shed", "name": "loam-2b+status=503", "fallback": ["terse"]},
        "terse": {"provider": "northbank", "name": "quill-large", "parameters": {"max_tokens": 3}, "system": "Brief.",
                  "price": {"input": 1, "output": 2, "currency": "USD"}},
    }  # fmt: skip
    entries: Any = {"retries": {"max": 0}}
    import tomllib

    providers = {
        label: {**tomllib.loads(served.entry(label))["providers"][label], **entries} for label in ("northbank", "shed")
    }
    config = agouti.load_config({"providers": providers, "models": models}, environment=served.environment)
    with relaying(config) as relay:
        for form in FORMS:
            path = f"/v1{server_formats()[form].path}"
            body = {"model": "down", **BODIES[form]}
            body.pop("max_tokens", None)
            status, _, headers = relay.call(path, body)
            assert status == 200
            assert (
                headers["agouti-attempts"] == "shed/loam-2b+status=503 Overloaded 503, northbank/quill-large answered"
            )
            assert until(lambda: relay.relay.recent_calls.latest and relay.relay.recent_calls.latest[-1].form == form)  # noqa: B023
            seen = relay.relay.recent_calls.latest[-1]
            assert (seen.label, seen.output_tokens, seen.status, seen.form) == ("down", 3, 200, form)
            assert seen.cost is not None
            assert seen.cost > 0


def test_embeddings_models_and_counts(relay: Running) -> None:
    status, body, _ = relay.call("/v1/embeddings", {"model": "finder", "input": ["peas", "kale"]})
    by_index = {each["index"]: each["embedding"] for each in body["data"]}
    assert (status, by_index.keys()) == (200, {0, 1})
    _, packed, _ = relay.call("/v1/embeddings", {"model": "finder", "input": "peas", "encoding_format": "base64"})
    import base64

    import numpy

    vector = numpy.frombuffer(base64.b64decode(packed["data"][0]["embedding"]), dtype="<f4")
    assert vector.tolist() == pytest.approx(by_index[0])
    _, lists, _ = relay.call("/v1/models")
    assert [each["id"] for each in lists["data"]] == ["almanac", "finder", "almanac-local"]
    assert lists["data"][0]["pricing"] == {"prompt": "0.00000027", "completion": "0.00000081"}
    # Of a provider that says it otherwise, in another number of requests or another form.
    status, other, _ = relay.call("/v1/embeddings", {"model": "lock-embed-1@canal", "input": ["peas", "kale"]})
    assert (status, [each["index"] for each in other["data"]]) == (200, [0, 1])
    none = {"model": "lock-embed-1@canal", "input": "peas", "dimensions": 0}
    status, said, _ = relay.call("/v1/embeddings", none)
    assert (status, said["error"]["message"].partition(".")[0]) == (400, "dimensions takes a whole number from 1")
    asked = {"model": "lock-embed-1@canal", "input": ["peas", "kale"], "encoding_format": "base64"}
    _, translated, _ = relay.call("/v1/embeddings", asked)
    for each, plain in zip(translated["data"], other["data"], strict=True):
        floats = numpy.frombuffer(base64.b64decode(each["embedding"]), dtype="<f4").tolist()
        assert floats == pytest.approx(plain["embedding"], rel=1e-6)
    with agouti.Client.at(relay.address + "/v1") as client:
        assert client.models("here")[0].name == "almanac"
        assert client.embed("finder", ["peas"]).dimensions == len(vector)
    assert relay.call("/v1/models/almanac")[1]["owned_by"] == "northbank"
    count = relay.call("/v1/messages/count_tokens", {"model": "almanac", **BODIES["messages"]})
    exact = relay.call("/v1/messages/count_tokens", {"model": MODELS["messages"], **BODIES["messages"]})
    assert count[1]["input_tokens"] > 0
    assert exact[1]["input_tokens"] > 0


def test_remembered_turns_are_their_owners_alone_and_have_an_end() -> None:
    now = [0.0]
    memory = TurnMemory(lambda: now[0])

    def replied(number: int, size: int = 10) -> Completion:
        call = ToolCall(ToolFunction("frost", '{"b": 1, "a": 2}'), f"call-{number:016}")
        return Completion(
            (Choice("", "tool_calls", tool_calls=(call,), provider_turn=ProviderTurn("lines", ["x" * size])),)
        )

    def asked(number: int, arguments: str = '{"a":2,"b":1}') -> list[Message]:
        return [Message("assistant", tool_calls=(ToolCall(ToolFunction("frost", arguments), f"call-{number:016}"),))]

    memory.keep("club", replied(1))
    (found,) = memory.with_turns("club", asked(1))
    assert found.provider_turn == ProviderTurn("lines", ["x" * 10])
    for owner, messages in (
        ("", asked(1)),
        ("other", asked(1)),
        ("club", asked(2)),
        ("club", asked(1, "{}")),
        ("club", asked(1, "no")),
    ):
        assert memory.with_turns(owner, messages)[0].provider_turn is None
    for number in range(6000):
        memory.keep("club", replied(number))
    assert len(memory._by_call) == 5000
    for number in range(10):
        memory.keep("club", replied(number, 10_000_000))
    assert memory._bytes <= 64_000_000
    assert memory._bytes == sum(size for _, size, _ in memory._by_call.values())
    now[0] = 1e6
    memory.keep("club", replied(7))
    assert len(memory._by_call) == 1
