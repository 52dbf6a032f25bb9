"""Strangers at the door: odd HTTP, connections that are held, requests that stop others, and what the owner sees of it."""

import http.client
import json
import os
import socket
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.relay.access_tokens import TokenFile, new_token
from agouti.relay.connection import Connection as RelayConnection
from agouti.standins import Served

from ..hostile.kit import Connection, serving
from .kit import POOL, Running, relaying, until

ASKED = json.dumps({"model": "almanac-local", "max_tokens": 3, "messages": [{"role": "user", "content": "x"}]}).encode()


def configured(served: Served, tmp_path: Path, **relay: Any) -> agouti.Config:
    words = "".join(f"{name} = {json.dumps(value)}\n" for name, value in relay.items())
    (tmp_path / "agouti.toml").write_text(f"{served.toml}\n[relay]\n{words}")
    return agouti.load_config(tmp_path / "agouti.toml", environment=served.environment)


@pytest.fixture
def relay(served: Served, tmp_path: Path) -> Iterator[Running]:
    with relaying(configured(served, tmp_path, read_seconds=1.5, write_seconds=1.0)) as running:
        yield running


def connected(relay: Running) -> socket.socket:
    host, port = relay.address.removeprefix("http://").split(":")
    return socket.create_connection((host, int(port)), timeout=20)


def said_to(relay: Running, data: bytes) -> bytes:
    """All that comes back of a connection, until it is closed."""
    with connected(relay) as sock:
        sock.sendall(data)
        said = b""
        while piece := sock.recv(65536):
            said += piece
        return said


def post(*headers: str, body: bytes = ASKED, version: str = "1.1", path: str = "/v1/chat/completions") -> bytes:
    head = [f"POST {path} HTTP/{version}", *headers, f"content-length: {len(body)}", "", ""]
    return "\r\n".join(head).encode() + body


@pytest.mark.parametrize("offer", ["h2c", "websocket"])
@pytest.mark.parametrize("pieces", [1, 7])
def test_an_upgrade_that_is_offered_is_not_taken(relay: Running, offer: str, pieces: int) -> None:
    data = post("Host: localhost", "Connection: Upgrade, HTTP2-Settings, close", f"Upgrade: {offer}", "HTTP2-Settings: AAMAAABk")  # fmt: skip
    with connected(relay) as sock:
        for at in range(pieces):
            sock.sendall(data[at * len(data) // pieces : (at + 1) * len(data) // pieces])
            time.sleep(0.02)
        said = b""
        while piece := sock.recv(65536):
            said += piece
    assert said.startswith(b"HTTP/1.1 200")
    assert said.count(b"HTTP/1.1") == 1


def test_http_as_it_is_written(relay: Running, served: Served) -> None:
    close = "Connection: close"
    for wrong in (
        post("Host: localhost", "host: far.example", close),
        post("Host: localhost", "Authorization: a", "authorization: b", close),
        post(close),
    ):
        assert said_to(relay, wrong).startswith(b"HTTP/1.1 400")
    trailer = b"POST /v1/chat/completions HTTP/1.1\r\nHost: far.example\r\nConnection: close\r\ntransfer-encoding: chunked\r\n\r\n%x\r\n%b\r\n0\r\nhost: localhost\r\n\r\n"  # fmt: skip
    assert said_to(relay, trailer % (len(ASKED), ASKED)).startswith(b"HTTP/1.1 403")
    stream = json.dumps({**json.loads(ASKED), "stream": True}).encode()
    old = said_to(relay, post("Host: localhost", body=stream, version="1.0"))
    head, _, body = old.partition(b"\r\n\r\n")
    assert b"chunked" not in head.lower()
    assert body.startswith(b"data: {")
    assert body.endswith(b"data: [DONE]\n\n")
    for path in ("/v1/chat/completions/", "/v1/models/"):
        method = "GET" if "models" in path else "POST"
        assert relay.call(path, None if method == "GET" else ASKED)[0] == 200
    assert relay.call("/v1/chat/completions", b"\xef\xbb\xbf" + ASKED)[0] == 200


@pytest.mark.parametrize("held", ["crlf", "slow body", "slow chunks", "unread", "half a head", "nothing"])
def test_nobody_holds_a_connection_for_ever(
    served: Served, tmp_path: Path, held: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whatever was asked on it, and whatever was answered."""
    other = 60.0 if held == "unread" else 1.0  # what is not taken has a time of its own
    monkeypatch.setattr("agouti.relay.connection._HEAD_SECONDS", other)
    monkeypatch.setattr("agouti.relay.connection._IDLE_SECONDS", other)
    monkeypatch.setattr("agouti.relay.connection._REST_SECONDS", 0.5)
    # Everything is a refusal.
    with relaying(configured(served, tmp_path, read_seconds=1.5, write_seconds=1.0, require_tokens=True)) as relay:
        hold(relay, held)


def test_a_body_may_take_longer_than_a_head(served: Served, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("agouti.relay.connection._HEAD_SECONDS", 0.5)
    data = post("Host: localhost", "Connection: close")
    with relaying(configured(served, tmp_path, read_seconds=5)) as relay, connected(relay) as sock:
        sock.sendall(data[:-20])
        time.sleep(1.2)
        sock.sendall(data[-20:])
        assert sock.recv(65536).startswith(b"HTTP/1.1 200")


def hold(relay: Running, held: str) -> None:
    began, sock = time.monotonic(), connected(relay)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
    try:
        if held == "unread":
            sock.sendall(b"GET /openapi.json HTTP/1.1\r\nhost: localhost\r\n\r\n" * 2000)
        elif held == "slow body":
            sock.sendall(b"POST /v1/models HTTP/1.1\r\nhost: localhost\r\ncontent-length: 1000\r\n\r\n")
        elif held == "slow chunks":
            sock.sendall(b"POST /v1/models HTTP/1.1\r\nhost: localhost\r\ntransfer-encoding: chunked\r\n\r\n")
        elif held == "half a head":
            sock.sendall(b"GET /v1/models HTTP/1.1\r\nhost: ")
        elif held == "crlf":
            sock.sendall(b"GET /v1/models HTTP/1.1\r\nhost: localhost\r\n\r\n")
        drip = {
            "crlf": b"\r\n",
            "slow body": b"a",
            "slow chunks": b"1\r\na\r\n",
            "half a head": b"a",
            "unread": b"GET",
        }.get(held, b"")
        while time.monotonic() - began < 15:
            try:
                sock.sendall(drip)
                time.sleep(0.2)
                sock.settimeout(0.05)
                if held != "unread" and sock.recv(65536) == b"":
                    break
            except TimeoutError:
                continue
            except OSError:
                break
        else:
            pytest.fail(f"{held}: it is held still")
    finally:
        sock.close()


def test_connections_and_calls_have_a_number(served: Served, tmp_path: Path) -> None:
    waiting = threading.Event()

    def slow(connection: Connection, _: int) -> None:
        waiting.wait(20)

    with serving(slow) as server:
        config = {
            "providers": {"p": {"address": server.address, "retries": {"max": 0}}},
            "models": {"m": {"provider": "p", "name": "m"}},
            "relay": {"connections": 12, "connections_each": 8, "calls_each": 3, "calls_to_provider": 2},
        }
        with relaying(config) as relay:
            calls = [threading.Thread(target=relay.ask, args=("m",), daemon=True) for _ in range(2)]
            for each in calls:
                each.start()
            assert until(lambda: len(server.requests) == 2)
            status, said, headers = relay.ask("m")
            assert (status, headers["retry-after"]) == (503, "1")
            assert "p" not in said["error"]["message"].split()
            strangers = [connected(relay) for _ in range(12)]
            answers = []
            for each in strangers:
                each.settimeout(0.5)
                try:
                    answers.append(each.recv(100))
                except TimeoutError:
                    answers.append(b"")
            assert any(each.startswith(b"HTTP/1.1 503") for each in answers)
            for each in strangers:
                each.close()
            assert until(lambda: relay.call("/health")[0] == 200)
            waiting.set()
            for each in calls:
                each.join(20)
    with relaying({**config, "relay": {"calls_each": 1}}) as relay:
        with relay.relay.access_control.under_way(new_token("x")[1]):
            pass
        with relay.relay.access_control.under_way(agouti.relay.access_control.NO_TOKEN):
            assert relay.ask("m")[0] == 429


def test_a_token_has_tokens_a_minute_and_calls_at_once(served: Served, tmp_path: Path) -> None:
    tokens = TokenFile(tmp_path / "relay-tokens.json")
    text, kept = new_token("club", tokens_per_minute=5)
    tokens.add(kept)
    with relaying(configured(served, tmp_path)) as relay:
        assert relay.ask("almanac-local", token=text)[0] == 200
        status, said, headers = relay.ask("almanac-local", token=text)
        assert (status, said["error"]["code"]) == (429, "rate_limit_exceeded")
        assert int(headers["retry-after"]) <= 60
        fresh = tokens.rotate("club")
        assert until(lambda: relay.call("/v1/models", token=text)[0] == 401)
        assert relay.call("/v1/models", token=fresh)[0] == 200


def test_large_requests_are_told_so_and_stop_nobody(relay: Running) -> None:
    slowest: list[float] = []
    done = threading.Event()

    def beat() -> None:
        while not done.is_set():
            began = time.monotonic()
            relay.call("/health")
            slowest.append(time.monotonic() - began)
            time.sleep(0.01)

    thread = threading.Thread(target=beat)
    thread.start()
    try:
        for body, status in (
            (b'{"model":"nosuch","messages":[' + b"{}," * 3_000_000 + b"{}]}", 404),
            (b'{"model":"almanac-local","messages":[' + b"{}," * 3_000_000 + b"{}]}", 413),
            (
                json.dumps(
                    {"model": "almanac-local", "messages": [{"role": "user", "content": "x"}] * 20_000}
                ).encode(),
                400,
            ),
            (b'{"model":"' + b"x" * 40_000_000 + b'"}', 413),
        ):
            port = int(relay.address.rpartition(":")[2])
            caller = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
            caller.request("POST", "/v1/chat/completions", body, {"content-type": "application/json"})
            got = caller.getresponse()
            assert got.status == status, got.read()
            caller.close()
    finally:
        done.set()
        thread.join()
    assert max(slowest) < 2.0  # the benchmark has the bound; a loaded machine has its own pace


BODIES: list[tuple[str, dict[str, Any]]] = [
    ("/v1/responses", {"input": [{"role": "assistant", "content": [{"text": "a"}]}]}),
    ("/v1/responses", {"input": "x", "tool_choice": {"type": "allowed_tools", "tools": 5}}),
    (
        "/v1/chat/completions",
        {
            "messages": [
                {"role": "user", "content": "x"},
                {
                    "role": "assistant",
                    "tool_calls": [
                        {"id": "a", "type": "function", "function": {"name": "f", "arguments": "[" * 5000 + "]" * 5000}}
                    ],
                },
            ]
        },
    ),
    ("/v1/chat/completions", {"model": "../../../admin/keys@shed", "messages": [{"role": "user", "content": "x"}]}),
    ("/v1/chat/completions", {"model": "q" * 5000 + "@shed", "messages": [{"role": "user", "content": "x"}]}),
]


@pytest.mark.parametrize(("path", "body"), BODIES)
def test_wrong_bodies_are_the_callers_fault(relay: Running, served: Served, path: str, body: dict[str, Any]) -> None:
    labels = [f"quill@{name}" for name in served.config.providers]
    for label in [body["model"]] if "model" in body else labels:
        status, said, _ = relay.call(path, {"max_tokens": 5, **body, "model": label})
        assert status in (200, 400, 402, 404, 502), (label, said)
        assert status != 500
    if "model" in body:
        assert status == 400
        assert len(json.dumps(list(relay.relay.recent_calls.latest[-1].label))) < 3000


def test_who_is_let_in_without_a_token(served: Served, tmp_path: Path) -> None:
    with relaying(configured(served, tmp_path)) as relay:
        for headers in ({"host": "far.example"}, {"host": "localhost", "x-forwarded-for": "10.0.0.1"}):
            assert "examples" not in json.dumps(relay.call("/openapi.json", headers=headers)[1])
        assert "examples" in json.dumps(relay.call("/openapi.json")[1])
        named = {"host": "testserver", "origin": "http://testserver:80"}
        assert relay.call("/v1/models", headers=named)[0] == 403
    with relaying(configured(served, tmp_path, require_tokens=True)) as relay:
        assert relay.call("/v1/models")[0] == 401
        assert relay.call("/health")[0] == 200


def test_a_token_file_that_is_no_good_is_seen(served: Served, tmp_path: Path, caplog: pytest.LogCaptureFixture) -> None:
    tokens = TokenFile(tmp_path / "relay-tokens.json")
    text, kept = new_token("club")
    tokens.add(kept)
    with relaying(configured(served, tmp_path)) as relay, caplog.at_level("INFO", "agouti.relay"):
        assert relay.call("/ready")[1]["ready"] is True
        good = tokens.path.read_bytes()
        tokens.path.chmod(0o666)
        assert until(lambda: relay.call("/health")[0] == 503)
        assert caplog.text.count("can be written by others") == 1
        tokens.path.chmod(0o600)
        tokens.path.write_bytes(b"{")
        assert until(lambda: relay.call("/ready")[1]["tokens"] == "cannot be read" and relay.call("/ready")[0] == 503)
        assert relay.call("/v1/models", token=text)[0] == 503
        assert relay.call("/openapi.json")[0] == 200
        tokens.path.write_bytes(good)
        assert until(lambda: relay.call("/v1/models", token=text)[0] == 200)


def test_refusals_stand_in_log_and_metrics(relay: Running, caplog: pytest.LogCaptureFixture) -> None:
    with caplog.at_level("INFO", "agouti.relay"):
        identifiers = [
            relay.call(path, method=method)[2]["x-request-id"]
            for path, method in (("/nope", "GET"), ("/v1/chat/completions", "GET"), ("/v1/models", "GET"))
        ]
        assert until(lambda: all(each in caplog.text for each in identifiers))
    assert caplog.text.count("/nope") == 2  # the path, and what was said of it
    assert 'form="other",label="",status="404"' in relay.call("/metrics")[1].decode()


def test_a_secret_of_the_owner_is_told_to_nobody(tmp_path: Path, caplog: pytest.LogCaptureFixture) -> None:
    command = [sys.executable, "-c", "import sys; sys.exit('vault token s.HUSH expired')"]
    providers: dict[str, Any] = {
        "dead": {"address": "http://127.0.0.1:9/v1", "retries": {"max": 0}},
        "vault": {"address": "https://hub.example/v1", "key": {"command": command}},
        "missing": {"address": "https://hub.example/v1", "key": {"env": "SECRET_CLUB_KEY"}},
        "file": {"address": "https://hub.example/v1", "key": {"file": str(tmp_path / "keys" / "club")}},
    }
    with relaying({"providers": providers}) as relay, caplog.at_level("INFO", "agouti.relay"):
        for name in providers:
            status, said, _ = relay.ask(f"m@{name}")
            text = json.dumps(said)
            assert status == 502
            for hidden in ("127.0.0.1:9", "HUSH", "SECRET_CLUB_KEY", str(tmp_path), "hub.example", "agouti"):
                assert hidden not in text
        assert until(lambda: "SECRET_CLUB_KEY" in caplog.text and "127.0.0.1:9" in caplog.text)


@pytest.mark.parametrize("path", ["/v1/chat/completions", "/v1/messages", "/v1/responses"])
def test_a_stream_shows_that_it_lives_while_a_model_thinks(path: str) -> None:
    go = threading.Event()

    def thinking(connection: Connection, _: int) -> None:
        go.wait(20)
        text = b'data: {"choices":[{"index":0,"delta":{"content":"In March."}}]}\n\n'
        connection.write(b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\nconnection: close\r\n\r\n" + text)
        time.sleep(0.6)
        connection.write(b'data: {"choices":[{"index":0,"delta":{},"finish_reason":"stop"}]}\n\ndata: [DONE]\n\n')
        connection.sock.close()

    with serving(thinking) as server:
        config = {"providers": {"p": {"address": server.address}}, "relay": {"quiet_seconds": 0.2}}
        with relaying(config) as relay:
            body = {"model": "m@p", "max_tokens": 5, "stream": True, "messages": [{"role": "user", "content": "x"}], "input": "x"}  # fmt: skip
            if path == "/v1/responses":
                del body["messages"]
            else:
                del body["input"]
            got = POOL.request("POST", relay.address + path, body=json.dumps(body), preload_content=False)
            assert got.status == 200
            first = got.read1(1000)
            assert first.startswith(b": ")
            go.set()
            rest = got.read()
            assert b"In March." in rest
            assert rest.count(b"\n\n: ") >= 1  # and between two pieces
            assert b"event: error" not in rest


def test_origins_are_as_browsers_send_them(served: Served, tmp_path: Path) -> None:
    config = configured(served, tmp_path, origins=["HTTP://LocalHost:5173/", "https://club.example:443"])
    with relaying(config) as relay:
        for origin in ("http://localhost:5173", "https://club.example"):
            status, _, headers = relay.call("/v1/models", headers={"origin": origin})
            assert status == 200
            assert "retry-after" in headers["access-control-expose-headers"]
    for wrong in ("*", "localhost:5173", "http://club.example/page"):
        with pytest.raises(agouti.ConfigError, match="is no origin"):
            configured(served, tmp_path, origins=[wrong])


def test_a_changed_configuration_is_read_again_and_a_wrong_one_is_not(
    served: Served, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    for name, value in served.environment.items():
        monkeypatch.setenv(name, value)
    file = tmp_path / "agouti.toml"
    file.write_text(served.toml)
    with relaying(str(file)) as relay, caplog.at_level("INFO", "agouti.relay"):
        assert relay.ask("almanac-local")[0] == 200
        file.write_text(served.toml + '\n[models.late]\nprovider = "shed"\nname = "loam-2b"\n')
        assert until(lambda: relay.ask("late", max_tokens=3)[0] == 200)
        file.write_text("[models.late]\nprovder = 1\n")
        assert until(lambda: "cannot be used" in caplog.text)
        assert relay.ask("late", max_tokens=3)[0] == 200


def test_connections_are_counted_whatever_becomes_of_them(relay: Running) -> None:
    kinds = [each for each in RelayConnection.__subclasses__() if each.counts.settings is relay.relay.settings]
    counts = kinds[-1].counts
    socks = [connected(relay) for _ in range(20)]
    assert until(lambda: counts.open >= 20)
    for each in socks[::2]:
        each.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\1\0\0\0\0\0\0\0")
    for each in socks:
        each.close()
    POOL.clear()
    assert until(lambda: counts.open == 0)
    assert counts.by_address == {}
    assert os.getpid()
