"""From one format to another: one beginning, calls in order, failures as failures, and nothing lost without a word."""

import json
import runpy
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import agouti

from ..hostile.kit import Connection, RawServer, reply, serving
from .kit import POOL, Running, relaying

PLAY: dict[str, Any] = {}  # what the provider of each dialect does: bytes of events, or a whole answer
FORMATS = {
    "chat": ("/v1/chat/completions", {"messages": [{"role": "user", "content": "x"}]}),
    "messages": ("/v1/messages", {"max_tokens": 9, "messages": [{"role": "user", "content": "x"}]}),
    "responses": ("/v1/responses", {"input": "x"}),
    "prompt": ("/v1/completions", {"prompt": "x"}),
}
PATHS = {"chat": "/chat/", "messages": "/messages", "responses": "/responses", "contents": ":", "prompt": "/completions", "lines": "/chat"}  # fmt: skip


def behave(connection: Connection, _: int) -> None:
    path = connection.request.split(b" ")[1].decode()
    dialect = path.split("/")[1]
    play = PLAY[dialect]
    if isinstance(play, list):
        connection.write(
            b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\nconnection: close\r\n\r\n" + b"".join(play)
        )
        connection.sock.close()
    else:
        connection.write(reply(json.dumps(play).encode()))


@pytest.fixture(scope="module")
def server() -> Iterator[RawServer]:
    with serving(behave) as running:
        yield running


@pytest.fixture(scope="module")
def relay(server: RawServer) -> Iterator[Running]:
    root = server.address.removesuffix("/v1")
    providers = {
        dialect: {"address": f"{root}/{dialect}/v1", "dialect": dialect, "retries": {"max": 0}} for dialect in PATHS
    }
    models: dict[str, Any] = {f"m-{dialect}": {"provider": dialect, "name": "quill"} for dialect in PATHS}
    models["main"] = {"provider": "messages", "name": "dear", "fallback": ["m-chat"]}
    models["other"] = {"provider": "chat", "name": "dear", "fallback": ["m-messages"]}
    with relaying(agouti.load_config({"providers": providers, "models": models})) as running:
        yield running


def chunk(delta: dict[str, Any], finish: str | None = None) -> bytes:
    made = {"id": "c1", "model": "cheap", "choices": [{"index": 0, "delta": delta, "finish_reason": finish}]}
    return b"data: " + json.dumps(made).encode() + b"\n\n"


def event(kind: str, **fields: Any) -> bytes:
    return b"event: %b\ndata: %b\n\n" % (kind.encode(), json.dumps({"type": kind, **fields}).encode())


DONE = b"data: [DONE]\n\n"
GOOD = [chunk({"role": "assistant", "content": "In "}), chunk({"content": "March."}, "stop"), DONE]
START = event("message_start", message={"id": "m1", "type": "message", "role": "assistant", "model": "dear", "content": [], "usage": {"input_tokens": 1, "output_tokens": 0}})  # fmt: skip
BLOCK = event("content_block_start", index=0, content_block={"type": "text", "text": ""})
END = [event("message_delta", delta={"stop_reason": "end_turn"}, usage={"output_tokens": 2}), event("message_stop")]
TEXT = [START, BLOCK, event("content_block_delta", index=0, delta={"type": "text_delta", "text": "In March."}), event("content_block_stop", index=0), *END]  # fmt: skip


def asked(relay: Running, form: str, model: str, **more: Any) -> tuple[int, bytes, Any]:
    path, body = FORMATS[form]
    got = POOL.request("POST", relay.address + path, body=json.dumps({"model": model, **body, **more}))
    return got.status, got.data, got.headers


def events_in(data: bytes) -> list[dict[str, Any]]:
    return [json.loads(line[6:]) for line in data.split(b"\n") if line.startswith(b"data: {")]


@pytest.mark.parametrize("form", ["chat", "messages", "responses"])
@pytest.mark.parametrize(("model", "first"), [("main", [START]), ("main", [START, event("error", error={"type": "overloaded_error", "message": "no"})]), ("other", [chunk({"role": "assistant"})])])  # fmt: skip
def test_what_takes_over_in_a_stream_is_its_one_beginning(
    relay: Running, form: str, model: str, first: list[bytes]
) -> None:
    PLAY.update({"messages": first, "chat": GOOD} if model == "main" else {"chat": first, "messages": TEXT})
    status, data, headers = asked(relay, form, model, stream=True)
    assert status == 200
    said = events_in(data)
    if form == "chat":
        assert [each["choices"][0]["delta"].get("role") for each in said].count("assistant") == 1
        text = "".join(each["choices"][0]["delta"].get("content") or "" for each in said if each["choices"])
        assert data.endswith(DONE)
    elif form == "messages":
        assert [each["type"] for each in said].count("message_start") == 1
        text = "".join(each.get("delta", {}).get("text", "") for each in said)
        assert said[-1]["type"] == "message_stop"
    else:
        assert [each["type"] for each in said].count("response.created") == 1
        assert [each["sequence_number"] for each in said] == list(range(len(said)))
        text = "".join(each["delta"] for each in said if each["type"] == "response.output_text.delta")
        assert said[-1]["type"] == "response.completed"
    assert text == "In March."
    assert headers["agouti-attempts"].endswith("answering")
    assert "cheap" in headers["agouti-attempts"] or model == "other"


def test_a_broken_stream_that_went_through_goes_on_counting(relay: Running) -> None:
    made = {"id": "r", "object": "response", "status": "in_progress", "output": []}
    PLAY["responses"] = [
        event("response.created", sequence_number=0, response=made),
        event("response.output_item.added", sequence_number=1, output_index=0, item={"type": "message", "id": "i"}),
        event(
            "response.output_text.delta", sequence_number=2, item_id="i", output_index=0, content_index=0, delta="In"
        ),
    ]
    data = asked(relay, "responses", "m-responses", stream=True)[1]
    last = events_in(data)[-1]
    assert (last["type"], last["sequence_number"]) == ("error", 3)


def call(index: int, arguments: str = "", **more: Any) -> dict[str, Any]:
    named = {name: more.pop(name) for name in ("id",) if name in more}
    return {"tool_calls": [{"index": index, **named, "function": {"arguments": arguments, **more}}]}


MIXED = {
    "mixed": [call(0, id="A1", name="f"), call(1, id="B1", name="g"), call(0, '{"x":1}'), call(1, '{"y":2}')],
    "text between": [call(0, '{"x"', id="A1", name="f"), {"content": "so"}, call(0, ":1}"), call(1, '{"y":2}', id="B1", name="g")],
    "said each time": [call(0, '{"x"', id="A1", name="f"), call(0, ":1}", id="A1", name="f"), call(1, '{"y":2}', id="B1", name="g")],
    "named later": [call(0, '{"x"', id="A1"), call(0, ":1}", name="f"), call(1, '{"y":2}', id="B1", name="g")],
    "nothing in it": [call(0, id="A1", name="f"), call(1, '{"y":2}', id="B1", name="g")],
}  # fmt: skip


@pytest.mark.parametrize("case", MIXED)
@pytest.mark.parametrize("form", ["messages", "responses"])
def test_calls_of_a_stream_are_whole_and_each_once(relay: Running, form: str, case: str) -> None:
    PLAY["chat"] = [*map(chunk, MIXED[case]), chunk({}, "tool_calls"), DONE]
    first = {} if case == "nothing in it" else {"x": 1}
    data = asked(relay, form, "m-chat", stream=True)[1]
    calls: list[tuple[str, Any]] = []
    text = ""
    for each in events_in(data):
        if each["type"] == "content_block_start" and each["content_block"]["type"] == "tool_use":
            calls.append((each["content_block"]["name"], ""))
        elif each["type"] == "content_block_delta" and "partial_json" in each["delta"]:
            calls[-1] = (calls[-1][0], calls[-1][1] + each["delta"]["partial_json"])
        elif each["type"] == "content_block_delta":
            text += each["delta"].get("text", "")
        elif each["type"] == "response.output_text.delta":
            text += each["delta"]
        elif each["type"] == "response.output_item.done" and each["item"]["type"] == "function_call":
            calls.append((each["item"]["name"], each["item"]["arguments"]))
        elif each["type"] == "response.function_call_arguments.done":
            assert each["arguments"] == each["arguments"].strip()
    assert [(name, json.loads(arguments or "{}")) for name, arguments in calls] == [("f", first), ("g", {"y": 2})]
    assert text == ("so" if case == "text between" else "")


def test_a_call_that_was_cut_off_is_one_version(relay: Running) -> None:
    PLAY["chat"] = [chunk(call(0, '{"x":', id="A1", name="f")), chunk({}, "length"), DONE]
    said = {each["type"]: each for each in events_in(asked(relay, "responses", "m-chat", stream=True)[1])}
    final = said["response.incomplete"]["response"]["output"][0]
    item = said["response.output_item.done"]["item"]
    assert {said["response.function_call_arguments.done"]["arguments"], item["arguments"], final["arguments"]} == {'{"x":'}  # fmt: skip
    assert {item["status"], final["status"]} == {"incomplete"}


def test_results_go_in_the_order_of_their_calls(relay: Running, server: RawServer) -> None:
    PLAY["contents"] = {"candidates": [{"content": {"parts": [{"text": "ok"}]}, "finishReason": "STOP"}]}
    PLAY["lines"] = {"model": "quill", "message": {"role": "assistant", "content": "ok"}, "done": True}
    calls = [
        {"id": name, "type": "function", "function": {"name": "frost", "arguments": json.dumps({"at": name})}}
        for name in ("Fen", "Hill")
    ]
    results = [{"role": "tool", "tool_call_id": name, "content": f"{name}-{name}"} for name in ("Hill", "Fen")]
    turns = [{"role": "user", "content": "x"}, {"role": "assistant", "content": None, "tool_calls": calls}, *results]
    for dialect in ("contents", "lines"):
        assert asked(relay, "chat", f"m-{dialect}", messages=turns)[0] == 200
        sent = server.requests[-1].partition(b"\r\n\r\n")[2]
        assert sent.index(b"Fen-Fen") < sent.index(b"Hill-Hill")


FAILED = {"candidates": [{"content": {}, "finishReason": "MALFORMED_FUNCTION_CALL"}]}


@pytest.mark.parametrize("form", FORMATS)
@pytest.mark.parametrize("stream", [False, True])
def test_what_failed_is_never_told_as_a_good_answer(relay: Running, form: str, stream: bool) -> None:
    PLAY["contents"] = [b"data: " + json.dumps(FAILED).encode() + b"\n\n"] if stream else FAILED
    status, data, _ = asked(relay, form, "m-contents", stream=stream)
    if stream:
        assert b"error" in data.split(b"\n\n")[-2]
        assert b"[DONE]" not in data
        assert b"message_stop" not in data
        assert b"response.completed" not in data
    else:
        assert status == 502
    # With something in it, the provider's own word stays.
    if not stream:
        PLAY["chat"] = {"choices": [{"message": {"content": "In"}, "finish_reason": "eos_odd"}]}
        status, data, _ = asked(relay, form, "m-chat")
        said = json.loads(data)
        assert status == 200
        if form == "messages":
            assert said["stop_reason"] == "eos_odd"
        elif form == "responses":
            assert (said["status"], said["incomplete_details"]) == ("incomplete", {"reason": "eos_odd"})
        else:
            assert said["choices"][0]["finish_reason"] == "eos_odd"


def test_a_response_says_what_was_asked(relay: Running) -> None:
    PLAY["chat"] = {"choices": [{"message": {"content": "In"}, "finish_reason": "stop", "logprobs": {"content": [{"token": "In", "logprob": -0.5, "top_logprobs": []}]}}]}  # fmt: skip
    tools = [{"type": "function", "name": "f", "parameters": {"type": "object"}}]
    more = {"tools": tools, "tool_choice": "required", "text": {"format": {"type": "json_object"}}, "top_logprobs": 2}
    status, data, _ = asked(relay, "responses", "m-chat", **more)
    said = json.loads(data)
    assert status == 200
    assert (said["tools"], said["tool_choice"], said["text"]["format"]) == (tools, "required", {"type": "json_object"})
    assert (said["instructions"], said["usage"]) == (None, None)
    assert said["output"][0]["content"][0]["logprobs"][0]["logprob"] == -0.5
    scored = json.loads(asked(relay, "prompt", "m-chat", logprobs=1)[1])["choices"][0]["logprobs"]
    assert (scored["tokens"], scored["text_offset"]) == (["In"], [0])


ITEM = {"role": "user", "content": "Go on"}
LOST: dict[str, tuple[str, dict[str, Any]]] = {
    "an item by its name": ("responses", {"input": [{"type": "item_reference", "id": "msg_1"}, ITEM]}),
    "a screenshot": ("responses", {"input": [{"type": "computer_call_output", "call_id": "c", "output": {}}, ITEM]}),
    "an approval": ("responses", {"input": [{"type": "mcp_approval_response", "approve": True}, ITEM]}),
    "an image by its name": ("responses", {"input": [{"role": "user", "content": [{"type": "input_image", "file_id": "f"}]}]}),
    "a template": ("responses", {"prompt": {"id": "t"}}),
    "a cut": ("responses", {"truncation": "auto"}),
    "a server's tool": ("messages", {"messages": [ITEM, {"role": "assistant", "content": [{"type": "server_tool_use", "id": "s", "name": "n", "input": {}}]}, ITEM]}),
    "a file by its name": ("messages", {"messages": [{"role": "user", "content": [{"type": "image", "source": {"type": "file", "file_id": "f"}}]}]}),
    "sources": ("messages", {"messages": [{"role": "user", "content": [{"type": "document", "source": {"type": "text", "data": "x"}, "citations": {"enabled": True}}]}]}),
    "a context": ("messages", {"messages": [{"role": "user", "content": [{"type": "document", "source": {"type": "text", "data": "x"}, "context": "y"}]}]}),
    "servers": ("messages", {"mcp_servers": [{"url": "https://a.example"}]}),
    "an echo": ("prompt", {"echo": True}),
    "tokens": ("prompt", {"prompt": [1, 2]}),
}  # fmt: skip


@pytest.mark.parametrize("what", LOST)
@pytest.mark.parametrize("to", ["m-chat", "m-contents"])
def test_what_cannot_be_said_is_an_error_that_names_it(relay: Running, server: RawServer, what: str, to: str) -> None:
    form, more = LOST[what]
    before = len(server.requests)
    status, data, _ = asked(relay, form, to, **more)
    assert status == 400, data
    assert len(server.requests) == before
    assert "_images" not in data.decode()


KEPT: dict[str, tuple[str, dict[str, Any]]] = {
    "no limit": ("chat", {"top_k": -1}),
    "a file by its name": ("messages", LOST["a file by its name"][1]),
    "odd documents": ("messages", {"messages": [{"role": "user", "content": [{"type": "document", "source": {"type": "content", "content": []}}]}]}),
    "a template alone": ("responses", {"input": None, "prompt": {"id": "t"}}),
    "scores of a text": ("prompt", {"max_tokens": 0, "echo": True, "logprobs": 0}),
    "tokens": ("prompt", {"prompt": [[1, 2], [3]]}),
    "prompts": ("prompt", {"prompt": ["a", "b"]}),
    "what nobody knows": ("messages", {"weather": {"wet": True}}),
}  # fmt: skip


@pytest.mark.parametrize("what", KEPT)
def test_the_same_format_gets_it_as_it_was_said(relay: Running, server: RawServer, what: str) -> None:
    form, more = KEPT[what]
    PLAY.update(
        chat={"choices": [{"message": {"content": "ok"}, "finish_reason": "stop"}]},
        messages={"content": [{"type": "text", "text": "ok"}], "stop_reason": "end_turn"},
        responses={"id": "r9", "status": "completed", "output": [{"type": "message", "role": "assistant", "content": [{"type": "output_text", "text": "ok"}]}]},
        prompt={"choices": [{"text": "ok", "finish_reason": "stop"}]},
    )  # fmt: skip
    path, body = FORMATS[form]
    said = {name: value for name, value in {"model": f"m-{form}", **body, **more}.items() if value is not None}
    headers = {"x-club-beta": "peas-7", "cookie": "a=b", "content-type": "application/json"}
    got = POOL.request("POST", f"{relay.address}{path}?beta=true&api_key=s", body=json.dumps(said), headers=headers)
    assert got.status == 200, got.data
    head, _, sent = server.requests[-1].partition(b"\r\n\r\n")
    assert json.loads(sent) == {**said, "model": "quill"}
    assert head.split(b" ")[1].endswith(b"?beta=true")
    assert b"x-club-beta: peas-7" in head.lower()
    assert b"cookie" not in head.lower()


def test_thinking_of_another_model_leaves_the_rest_as_it_came(relay: Running, server: RawServer) -> None:
    PLAY["chat"] = {"choices": [{"message": {"content": "In March.", "reasoning_content": "frost"}, "finish_reason": "stop"}]}  # fmt: skip
    blocks = json.loads(asked(relay, "messages", "m-chat")[1])["content"]
    assert blocks[0]["type"] == "thinking"
    document = {"type": "document", "source": {"type": "text", "media_type": "text/plain", "data": "x"}, "context": "y"}
    turns = [{"role": "user", "content": "x"}, {"role": "assistant", "content": blocks}, {"role": "user", "content": [document]}]  # fmt: skip
    PLAY["messages"] = {"content": [{"type": "text", "text": "ok"}], "stop_reason": "end_turn"}
    assert asked(relay, "messages", "m-messages", messages=turns)[0] == 200
    sent = json.loads(server.requests[-1].partition(b"\r\n\r\n")[2])["messages"]
    assert sent == [turns[0], {"role": "assistant", "content": blocks[1:]}, turns[2]]


@pytest.mark.filterwarnings("ignore::agouti.AgoutiWarning")
def test_a_parameter_that_is_refused_is_left_out_in_the_callers_own_words() -> None:
    bodies: list[dict[str, Any]] = []

    def choosy(connection: Connection, _: int) -> None:
        body = json.loads(connection.request.partition(b"\r\n\r\n")[2])
        bodies.append(body)
        if "user_id" in (body.get("metadata") or {}):
            wrong = {
                "error": {"type": "invalid_request_error", "message": "no such field", "param": "metadata.user_id"}
            }
            connection.write(reply(json.dumps(wrong).encode(), "400 Bad Request"))
        else:
            connection.write(reply(json.dumps({"content": [{"type": "text", "text": "ok"}], "stop_reason": "end_turn"}).encode()))  # fmt: skip

    with serving(choosy) as server:
        provider = {"address": server.address, "dialect": "messages", "unsupported": "warn", "retries": {"max": 0}}
        with relaying({"providers": {"p": provider}}) as relay:
            for _ in range(2):
                path, body = FORMATS["messages"]
                assert relay.call(path, {"model": "m@p", **body, "metadata": {"user_id": "u", "odd": 1}})[0] == 200
    assert [each["metadata"] for each in bodies[1:]] == [{"odd": 1}] * 2


def test_an_answer_from_the_cache_is_the_same_one(tmp_path: Path) -> None:
    made = {"content": [{"type": "text", "text": "ok"}], "stop_reason": "stop_sequence", "stop_sequence": "END", "odd": 1}  # fmt: skip

    def once(connection: Connection, _: int) -> None:
        connection.write(reply(json.dumps(made).encode()))

    with serving(once) as server:
        config = {
            "providers": {"p": {"address": server.address, "dialect": "messages"}},
            "cache": {"store": str(tmp_path / "answers.sqlite")},
        }
        with relaying(config) as relay:
            path, body = FORMATS["messages"]
            said = [relay.call(path, {"model": "m@p", "temperature": 0, **body})[1] for _ in range(2)]
        assert said == [made, made]
        assert len(server.requests) == 1


def test_older_functions_are_answered_as_such(relay: Running) -> None:
    PLAY["contents"] = {"candidates": [{"content": {"parts": [{"functionCall": {"name": "f", "args": {"x": 1}}}]}, "finishReason": "STOP"}]}  # fmt: skip
    functions = [{"name": "f", "parameters": {"type": "object"}}]
    said = json.loads(asked(relay, "chat", "m-contents", functions=functions)[1])["choices"][0]
    assert (said["message"]["function_call"]["name"], said["finish_reason"]) == ("f", "function_call")
    assert "tool_calls" not in said["message"]


def test_several_prompts_are_answered_in_their_order(relay: Running) -> None:
    PLAY["chat"] = {"choices": [{"message": {"content": "ok"}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 2, "completion_tokens": 1}}  # fmt: skip
    said = json.loads(asked(relay, "prompt", "m-chat", prompt=["a", "b", "c"])[1])
    assert [each["index"] for each in said["choices"]] == [0, 1, 2]
    assert said["usage"]["prompt_tokens"] == 6
    data = asked(relay, "prompt", "m-chat", prompt=["a", "b"], stream=True)[1]
    assert {each["choices"][0]["index"] for each in events_in(data) if each["choices"]} == {0, 1}


def test_an_answer_without_a_word_has_a_block_all_the_same(relay: Running) -> None:
    """Programs read the first block of a message."""
    PLAY["chat"] = {"choices": [{"message": {"content": ""}, "finish_reason": "stop"}]}
    assert json.loads(asked(relay, "messages", "m-chat")[1])["content"] == [{"type": "text", "text": ""}]


def test_a_completion_has_no_calls_and_stops_where_one_was_made(relay: Running) -> None:
    """A program of that format knows ``stop`` and ``length`` alone."""
    call = {"id": "c1", "type": "function", "function": {"name": "f", "arguments": "{}"}}
    PLAY["chat"] = {"choices": [{"message": {"content": "", "tool_calls": [call]}, "finish_reason": "tool_calls"}]}
    assert json.loads(asked(relay, "prompt", "m-chat")[1])["choices"][0]["finish_reason"] == "stop"
    PLAY["chat"] = [chunk({"tool_calls": [{"index": 0, **call}]}), chunk({}, "tool_calls"), DONE]
    reasons = [
        each["choices"][0]["finish_reason"] for each in events_in(asked(relay, "prompt", "m-chat", stream=True)[1])
    ]
    assert reasons[-1] == "stop"
    assert "tool_calls" not in reasons


def test_responses_by_their_identifier(relay: Running, server: RawServer) -> None:
    PLAY["chat"] = {"choices": [{"message": {"content": "ok"}, "finish_reason": "stop"}]}
    made = json.loads(asked(relay, "responses", "m-chat")[1])
    place = f"/v1/responses/{made['id']}"
    assert relay.call(place)[1] == made
    items = relay.call(f"{place}/input_items")[1]
    assert items["data"][0]["content"] == [{"type": "input_text", "text": "x"}]
    assert relay.call(f"{place}/cancel", {})[0] == 400
    assert relay.call(place, method="DELETE")[1]["deleted"] is True
    assert relay.call(place)[0] == 404
    unkept = json.loads(asked(relay, "responses", "m-chat", store=False)[1])
    assert relay.call(f"/v1/responses/{unkept['id']}")[0] == 404
    # Where the provider keeps them, it is asked.
    PLAY["responses"] = {"id": "resp/7", "status": "completed", "output": []}
    PLAY["responses"]["output"] = [{"type": "message", "role": "assistant", "content": [{"type": "output_text", "text": "ok"}]}]  # fmt: skip
    assert asked(relay, "responses", "m-responses", background=True)[0] == 200
    assert relay.call("/v1/responses/resp%2F7")[0] == 404  # no such path: a slash in an identifier is none
    PLAY["responses"]["id"] = "resp_7"
    assert asked(relay, "responses", "m-responses")[0] == 200
    for method, behind in (("GET", ""), ("GET", "/input_items?limit=5"), ("POST", "/cancel"), ("DELETE", "")):
        body = {} if method == "POST" else None
        assert relay.call(f"/v1/responses/resp_7{behind}", body, method=method)[0] == 200
        assert server.requests[-1].startswith(f"{method} /responses/v1/responses/resp_7{behind} ".encode())


MEASURE = runpy.run_path(str(Path(__file__).parents[2] / "docs" / "translation.py"))
# Nothing is asked for: a model that does not think need not be told so.
NEUTRAL = {("messages", "thinking: disabled")}


@pytest.mark.parametrize("form", MEASURE["FIELDS"])
def test_no_field_vanishes_on_its_way_to_another_format(form: str) -> None:
    measure = MEASURE["Measure"]()
    fates = {
        (field, dialect): measure.fate(form, field, dialect)
        for field in MEASURE["FIELDS"][form]
        for dialect in MEASURE["DIALECTS"]
    }
    assert {field for (field, _), fate in fates.items() if not fate and (form, field) not in NEUTRAL} == set()
    # In its own format it is said as it was.
    assert all(fates[field, form] != "400" for field in MEASURE["FIELDS"][form])
    guide = (Path(__file__).parents[2] / "docs" / "relay.md").read_text()
    assert MEASURE["table"](form, measure) in guide, "write it anew: python docs/translation.py"
