"""What a token may spend: by every way that a caller's request could cost more than it looks."""

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.relay.access_tokens import TokenFile, new_token

from ..hostile.kit import Connection, RawServer, reply, serving
from .kit import Running, relaying, until

DEAR = {"input": 1000.0, "output": 1000.0, "currency": "USD"}  # a thousandth a token
ANSWERS: dict[str, Any] = {
    "/chat/completions": {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 9, "completion_tokens": 1}},
    "/responses": {"status": "completed", "output": [{"type": "message", "role": "assistant", "content": [{"type": "output_text", "text": "x"}]}], "usage": {"input_tokens": 9, "output_tokens": 1}},
    "/messages": {"content": [{"type": "text", "text": "x"}], "stop_reason": "end_turn", "usage": {"input_tokens": 9, "output_tokens": 1}},
    "/completions": {"choices": [{"text": "x", "finish_reason": "stop"}], "usage": {"prompt_tokens": 9, "completion_tokens": 1}},
    "/predictions": {"id": "j", "status": "succeeded", "output": "x"},
}  # fmt: skip


def behave(connection: Connection, _: int) -> None:
    head, _, body = connection.request.partition(b"\r\n\r\n")
    path = head.split(b" ")[1].decode()
    if json.loads(body).get("stream"):
        asked = (json.loads(body).get("stream_options") or {}).get("include_usage")
        usage = {"prompt_tokens": 9, "completion_tokens": 300} if asked else None
        events = [{"choices": [{"index": 0, "delta": {"content": "x"}, "finish_reason": "stop"}]}, {"choices": [], "usage": usage}]  # fmt: skip
        data = b"".join(b"data: %s\n\n" % json.dumps(event).encode() for event in events) + b"data: [DONE]\n\n"
        connection.write(b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\ncontent-length: %d\r\n\r\n%s" % (len(data), data))  # fmt: skip
        return
    answer = next(each for ending, each in ANSWERS.items() if path.endswith(ending))
    connection.write(reply(json.dumps(answer).encode()))


@pytest.fixture
def server() -> Iterator[RawServer]:
    with serving(behave) as running:
        yield running


@pytest.fixture
def relay(server: RawServer, tmp_path: Path) -> Iterator[Running]:
    providers: dict[str, Any] = {
        dialect: {"address": server.address, "dialect": dialect, "retries": {"max": 0}}
        for dialect in ("chat", "responses", "messages", "prompt")
    }
    providers["alone"] = {"address": server.address + "/predictions", "retries": {"max": 0}}
    providers["club"] = {"address": server.address, "headers": {"x-member": {"env": "CLUB_MEMBER"}}, "plain_http": True}
    models: dict[str, Any] = {f"m-{name}": {"provider": name, "name": "m", "price": DEAR} for name in providers}
    models["big"] = {"provider": "club", "name": "big"}
    config = agouti.load_config(
        {"providers": providers, "models": models, "relay": {"tokens": str(tmp_path / "tokens.json")}},
        environment={"CLUB_MEMBER": "member-secret-1234"},
    )
    text, kept = new_token("purse", budget=1)
    TokenFile(tmp_path / "tokens.json").add(kept)
    with relaying(config) as running:
        assert until(lambda: running.call("/v1/models", token=text)[0] == 200)
        running.token = text  # type: ignore[attr-defined]
        yield running


PROMPT = [{"role": "user", "content": "Peas?"}]
LONG = "word " * 4000  # 4,000 tokens, and 20,000 bytes
WAYS: list[tuple[str, dict[str, Any]]] = [
    ("/v1/responses", {"model": "m-chat", "input": "x", "max_output_tokens": 10, "max_tokens": 100_000}),
    ("/v1/responses", {"model": "m-chat", "input": "x", "messages": [{"role": "user", "content": LONG}]}),
    ("/v1/chat/completions", {"model": "m-responses", "messages": PROMPT, "max_output_tokens": 100_000}),
    ("/v1/chat/completions", {"model": "m-chat", "messages": PROMPT, "max_tokens": 10, "max_completion_tokens": 100_000}),
    ("/v1/chat/completions", {"model": "m-messages", "messages": PROMPT, "max_tokens": 5, "system": LONG}),
    ("/v1/chat/completions", {"model": "m-prompt", "messages": PROMPT, "max_tokens": 5, "prompt": LONG}),
    ("/v1/messages", {"model": "m-chat", "messages": PROMPT, "max_tokens": 200, "n": 10}),
    ("/v1/messages", {"model": "m-messages", "messages": PROMPT, "max_tokens": 200, "n": 10}),
    ("/v1/responses", {"model": "m-responses", "input": [{"type": "shelf_item", "text": LONG}], "max_output_tokens": 5}),
    ("/v1/chat/completions", {"model": "m-chat", "max_tokens": 5, "messages": [{"role": "user", "content": "x", "name": LONG}]}),
    ("/v1/chat/completions", {"model": "m-chat", "max_tokens": 5, "messages": [{"role": "user", "content": "x", "shelf": LONG}]}),
    ("/v1/chat/completions", {"model": "m-chat", "max_tokens": 5, "messages": [{"role": "user", "content": [
        {"type": "file", "file": {"filename": "a.txt", "file_data": "data:text/plain;base64," + "eHh4" * 5000}}]}]}),
    ("/v1/chat/completions", {"model": "m-chat", "messages": PROMPT}),  # no cap at all
    ("/v1/completions", {"model": "m-prompt", "prompt": "x", "max_tokens": 100, "best_of": 20}),
    ("/v1/chat/completions", {"model": "m-alone", "messages": PROMPT, "max_tokens": 5, "input": {"max_tokens": 100_000}}),
    ("/v1/chat/completions", {"model": "big", "messages": PROMPT, "max_tokens": 5}),  # no price, and a secret goes along
    ("/v1/chat/completions", {"model": "anything@club", "messages": PROMPT, "max_tokens": 5}),
]  # fmt: skip


@pytest.mark.parametrize(("path", "body"), WAYS, ids=[str(number) for number in range(len(WAYS))])
def test_no_way_around_a_budget(relay: Running, server: RawServer, path: str, body: dict[str, Any]) -> None:
    status, said, _ = relay.call(path, body, token=relay.token)  # type: ignore[attr-defined]
    assert status in (400, 402), said
    assert server.requests == []
    assert said["error"]["message"]


@pytest.mark.filterwarnings("ignore:budget of token purse is nearly spent")
@pytest.mark.parametrize(
    ("label", "extra"),
    [
        ("m-chat", {"stream_options": {"include_usage": False}}),
        ("m-chat", {}),
        ("m-prompt", {"stream_options": {"include_usage": False}}),
    ],
)
def test_counts_are_asked_for_whatever_a_caller_says_and_kept_from_who_did_not(
    relay: Running, server: RawServer, label: str, extra: dict[str, Any]
) -> None:
    for status in (200, 200, 402):  # 0.309 each
        got, data, _ = relay.ask(label, token=relay.token, stream=True, max_tokens=300, **extra)  # type: ignore[attr-defined]
        assert got == status, data
        assert status != 200 or b'"usage":{' not in data.replace(b" ", b"")
    assert len(server.requests) == 2


def test_a_token_for_one_model_asks_no_other(relay: Running, server: RawServer) -> None:
    """What stands in the body as the model is not the caller's to say."""
    wrong = {"version": "club/dear", "model": "m-alone", "messages": PROMPT, "max_tokens": 5}
    assert relay.call("/v1/chat/completions", wrong, token=relay.token)[0] in (200, 400)  # type: ignore[attr-defined]
    assert not any(b"club/dear" in request for request in server.requests)


@pytest.mark.parametrize(
    ("path", "body", "field"),
    [
        ("/v1/responses", {"model": "m-prompt", "input": "x", "prompt": {"id": "t"}}, "prompt"),
        ("/v1/responses", {"model": "m-chat", "input": "x", "conversation": "c"}, "conversation"),
        ("/v1/responses", {"model": "m-chat", "input": "x", "background": True}, "background"),
        ("/v1/responses", {"model": "m-chat", "input": "x", "tools": [{"type": "file_search"}]}, "file_search"),
        ("/v1/completions", {"model": "m-chat", "prompt": "x", "echo": True}, "echo"),
        ("/v1/completions", {"model": "m-messages", "prompt": "x", "suffix": "y"}, "suffix"),
        ("/v1/messages", {"model": "m-chat", "messages": PROMPT, "max_tokens": 5, "container": "c"}, "container"),
        ("/v1/messages", {"model": "m-chat", "messages": PROMPT, "max_tokens": 5, "mcp_servers": []}, "mcp_servers"),
    ],
)
def test_what_another_format_cannot_say_is_named(
    relay: Running, server: RawServer, path: str, body: dict[str, Any], field: str
) -> None:
    status, said, _ = relay.call(path, body, token=relay.token)  # type: ignore[attr-defined]
    assert (status, server.requests) == (400, [])
    assert field in said["error"]["message"]
