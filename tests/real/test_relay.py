"""One real model server asked directly and through the relay: the same replies, field by field."""

import json
import os
from collections.abc import Iterator
from typing import Any

import pytest
import urllib3

import agouti

from ..relay.kit import Running, relaying

ADDRESS = os.environ.get("AGOUTI_REAL_SERVER")
KEY = os.environ.get("AGOUTI_REAL_KEY", "x")
pytestmark = pytest.mark.skipif(not ADDRESS, reason="AGOUTI_REAL_SERVER is not set")

POOL = urllib3.PoolManager(retries=False, timeout=300)
SAID = [{"role": "user", "content": "Beans like"}]
FEW = {"temperature": 0, "seed": 7}
# Each format: the dialect of the provider that speaks it, the path, what is asked, what a refusal needs.
FORMATS: dict[str, tuple[str, str, dict[str, Any]]] = {
    "chat": ("chat", "/v1/chat/completions", {"messages": SAID, "max_tokens": 6, **FEW}),
    "completions": ("prompt", "/v1/completions", {"prompt": "Beans like", "max_tokens": 6, **FEW}),
    "messages": ("messages", "/v1/messages", {"messages": SAID, "max_tokens": 6, "temperature": 0}),
    "responses": ("responses", "/v1/responses", {"input": "Beans like", "max_output_tokens": 6, "temperature": 0}),
}
# What differs between any two calls of one server: times, and what the first call has left in its memory.
CHANGING = {"id", "item_id", "created", "created_at", "completed_at", "timings", "cached_tokens", "response_id"}
CHANGING |= {"cache_read_input_tokens", "cache_creation_input_tokens", "cache_n", "prompt_n", "input_tokens"}


@pytest.fixture(scope="module")
def relay() -> Iterator[Running]:
    """A relay that has the real server under a label for each dialect."""
    key = agouti.GivenKey(agouti.Secret(KEY))
    dialects = sorted({dialect for dialect, _, _ in FORMATS.values()})
    providers = [agouti.Provider(f"real-{dialect}", f"{ADDRESS}/v1", dialect, key) for dialect in dialects]
    models = [agouti.Model(dialect, provider=f"real-{dialect}", name="real-small") for dialect in dialects]
    with relaying(agouti.Config.of(providers, models)) as running:
        yield running


def posted(address: str, path: str, body: Any, key: str = "") -> urllib3.BaseHTTPResponse:
    headers = {"content-type": "application/json", **({"authorization": f"Bearer {key}"} if key else {})}
    return POOL.request("POST", address + path, body=json.dumps(body).encode(), headers=headers)


def compared(value: Any) -> Any:
    """A value without what differs between any two calls: its type stands for it."""
    if isinstance(value, dict):
        return {
            name: type(each).__name__ if name in CHANGING else compared(each) for name, each in sorted(value.items())
        }
    return [compared(each) for each in value] if isinstance(value, list) else value


def events(data: bytes) -> list[tuple[str, Any]]:
    """The events of a stream: the name and what they say, of each."""
    read = []
    for block in data.decode().replace("\r\n", "\n").split("\n\n"):
        lines = [line.partition(": ")[::2] for line in block.split("\n") if line and not line.startswith(":")]
        if lines:
            name = "".join(value for field, value in lines if field == "event")
            text = "\n".join(value for field, value in lines if field == "data")
            read.append((name, text if text == "[DONE]" else compared(json.loads(text))))
    return read


@pytest.mark.parametrize("format_", FORMATS)
def test_a_reply_is_the_server_s_own(relay: Running, format_: str) -> None:
    dialect, path, body = FORMATS[format_]
    direct = posted(ADDRESS or "", path, {"model": "real-small", **body}, KEY)
    relayed = posted(relay.address, path, {"model": dialect, **body})
    assert (relayed.status, relayed.headers["content-type"].partition(";")[0]) == (200, "application/json")
    assert compared(relayed.json()) == compared({**direct.json(), "model": relayed.json()["model"]})


@pytest.mark.parametrize("format_", FORMATS)
def test_a_stream_is_the_server_s_own(relay: Running, format_: str) -> None:
    dialect, path, body = FORMATS[format_]
    if "chat" in path:  # the relay asks for it where the caller does not, and leaves that chunk out
        body = {**body, "stream_options": {"include_usage": True}}
    direct = events(posted(ADDRESS or "", path, {"model": "real-small", "stream": True, **body}, KEY).data)
    relayed = events(posted(relay.address, path, {"model": dialect, "stream": True, **body}).data)
    assert relayed == direct


@pytest.mark.parametrize("format_", FORMATS)
def test_a_refusal_has_the_server_s_status(relay: Running, format_: str) -> None:
    dialect, path, body = FORMATS[format_]
    long = json.loads(json.dumps(body).replace("Beans like", "bean " * 3000))
    direct = posted(ADDRESS or "", path, {"model": "real-small", **long}, KEY)
    relayed = posted(relay.address, path, {"model": dialect, **long})
    assert relayed.status == direct.status == 400
    assert relayed.json()["error"]["message"]


@pytest.mark.parametrize(
    ("asked", "speaks"),
    [(asked, to) for asked in FORMATS for to in ("chat", "messages", "responses") if to != FORMATS[asked][0]],
)
@pytest.mark.parametrize("stream", [False, True])
def test_a_translated_answer_has_the_words_of_the_direct_one(
    relay: Running, asked: str, speaks: str, stream: bool
) -> None:
    dialect, path, body = FORMATS[asked]
    own = posted(relay.address, path, {"model": dialect, "stream": stream, **body})
    body = {name: value for name, value in body.items() if name != "seed" or speaks == "chat"}
    translated = posted(relay.address, path, {"model": speaks, "stream": stream, **body})
    assert translated.status == own.status == 200, translated.data
    assert translated.headers["content-type"] == own.headers["content-type"]
    if asked == "completions":  # a chat template stands round the same words
        assert words(translated, stream)
        return
    assert words(translated, stream) == words(own, stream)


def words(reply: urllib3.BaseHTTPResponse, stream: bool) -> str:
    """The text of an answer in any of the formats."""
    return "".join(texts(json.loads(json.dumps(events(reply.data) if stream else reply.json()))))


def texts(value: Any) -> Iterator[str]:
    """What an answer says, wherever its format has it."""
    if isinstance(value, list):
        for each in value:
            yield from texts(each)
    elif isinstance(value, dict):
        if str(value.get("type", "")).endswith(
            (".done", ".completed", ".incomplete", ".created", ".in_progress", ".added")
        ):
            return
        for name, each in value.items():
            if name in ("text", "content", "delta") and isinstance(each, str):
                yield each
            elif name not in ("usage", "error"):
                yield from texts(each)
