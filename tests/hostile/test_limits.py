"""Limits, retries and headers of a call and of a client; one total limit; deadlines over every effect."""

import asyncio
import gc
import socket
import threading
import time
from collections.abc import Callable
from typing import Any

import pytest

import agouti
from agouti.core.secrets.secret import SecretText
from agouti.testing import FakeTransport

from .kit import END, STREAM, Connection, answer, config, piece, reply, serving

GOOD = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}]}
KINDS = pytest.mark.parametrize("kind", ["sync", "async"])


def asked(kind: str, made: agouti.Config, client: dict[str, Any] | None = None, **options: Any) -> str:
    if kind == "sync":
        with agouti.Client(made, **(client or {})) as one:
            return one.ask("a", "x", **options).text

    async def run() -> str:
        async with agouti.AsyncClient(made, **(client or {})) as one:
            return (await one.ask("a", "x", **options)).text

    return asyncio.run(run())


def heads(connection: Connection, _: int) -> None:
    connection.write(answer(connection.request.partition(b"\r\n\r\n")[0].decode().lower()))


@KINDS
def test_headers_of_client_and_call_go_with_the_request(kind: str) -> None:
    with serving(heads) as server:
        text = asked(kind, config(server), {"headers": {"X-App": "seeds", "x-b": "1"}}, headers={"x-b": "2"})
        assert "x-app: seeds" in text
        assert "x-b: 2" in text
        assert "x-b: 1" not in text


def test_secret_header_of_a_call_goes_to_the_first_provider_only() -> None:
    first, second = FakeTransport([]), {"providers": {"p": {"address": "https://p.example"}, "q": {"address": "https://q.example"}},
        "models": {"a": {"provider": "p", "name": "m", "fallback": ["b"]}, "b": {"provider": "q", "name": "n"}}}  # fmt: skip
    first = FakeTransport([agouti.core.http.exchange.HttpReply(402, {}, b"{}"), GOOD])
    with agouti.Client(second, transport=first) as client:
        client.ask(
            "a", "x", headers={"x-user-token": "secret-77", "traceparent": "00-1", "x-odd": agouti.Secret("hid")}
        )
    one, two = (request.headers for request in first.requests)
    assert isinstance(one["x-user-token"], SecretText)
    assert (one["x-user-token"][:], one["x-odd"][:], two.get("x-user-token"), two.get("x-odd")) == (
        "secret-77",
        "hid",
        None,
        None,
    )
    assert one["traceparent"] == two["traceparent"] == "00-1"


@KINDS
def test_repeats_are_known_again_where_the_provider_can(kind: str) -> None:
    keys: list[bytes] = []

    def behave(connection: Connection, number: int) -> None:
        keys.append(
            next(line for line in connection.request.split(b"\r\n") if line.lower().startswith(b"idempotency-key"))
        )
        connection.write(answer("x") if number % 2 else reply(b"{}", "503 Busy"))

    with serving(behave) as server:
        made = config(server, idempotency_header="Idempotency-Key")
        for _ in range(2):
            asked(kind, made)
    assert keys[0] == keys[1] != keys[2] == keys[3]
    with serving(lambda connection, _: connection.write(answer("x"))) as server:
        asked(kind, config(server))
        assert b"idempotency" not in server.requests[0].lower()  # a server that does not know it may refuse it


@KINDS
@pytest.mark.parametrize(
    ("client", "options", "tries"),
    [
        ({}, {}, 3),
        ({}, {"retries": {"max": 0}}, 1),
        ({"retries": {"max": 1}}, {}, 2),
        ({"retries": {"max": 0}}, {"retries": {"max": 1}}, 2),
        ({"retries": agouti.Retries(max=1, base=0.01)}, {"retries": {"base": 0.02}}, 2),
        ({}, {"retries": agouti.Retries(max=0)}, 1),
    ],
)
def test_retries_of_client_and_call(kind: str, client: Any, options: Any, tries: int) -> None:
    def behave(connection: Connection, _: int) -> None:
        connection.write(reply(b"{}", "503 Busy"))

    with serving(behave) as server:
        with pytest.raises(agouti.Overloaded) as busy:
            asked(kind, config(server), client, **options)
        assert len(server.requests) == len(busy.value.attempts) == tries


WRONG: list[dict[str, Any]] = [
    {"timeouts": {"first_bite": 1}}, {"timeouts": {"connect": 0}}, {"timeouts": 5}, {"timeouts": {"total": float("nan")}},
    {"retries": {"max": -1}}, {"retries": {"max": "many"}}, {"retries": 3}, {"headers": {"x:": "a"}}, {"headers": {"host": "a"}},
    {"headers": {"x": "\u00e9"}}, {"headers": {"x": "a\r\nb: c"}}, {"headers": {"x": 5}}, {"headers": ["x"]}, {"deadline": "5"},
    {"deadline": float("nan")}, {"deadline": True},
]  # fmt: skip


@pytest.mark.parametrize("options", WRONG, ids=str)
def test_limits_that_cannot_be_are_said_before_anything_is_sent(options: Any) -> None:
    fake = FakeTransport([GOOD])
    with agouti.Client({"providers": {"p": {"address": "https://p.example"}}}, transport=fake) as client:
        with pytest.raises(agouti.RequestError) as wrong:
            client.ask("m@p", "x", **options)
        assert wrong.value.hint
        with pytest.raises(agouti.RequestError):
            client.embed("m@p", "x", **options)
    with pytest.raises(agouti.RequestError):
        agouti.Client({"providers": {}}, **options)
    assert not fake.requests


def trickled_head(connection: Connection, _: int) -> None:
    for byte in b"HTTP/1.1 200 OK\r\n" + b"x-slow: 1\r\n" * 400:
        connection.write(bytes([byte]))
        time.sleep(0.02)


def trickled_body(connection: Connection, _: int) -> None:
    connection.write(b"HTTP/1.1 200 OK\r\ncontent-length: 9000\r\n\r\n")
    for _ in range(3000):
        connection.write(b" ")
        time.sleep(0.02)


def trickled_stream(connection: Connection, _: int) -> None:
    connection.write(STREAM)
    for _ in range(3000):
        connection.write(piece("a"))
        time.sleep(0.02)


def reads_nothing(connection: Connection, _: int) -> None:
    connection.write(reply(b"{}", "503 Busy"))


@KINDS
@pytest.mark.parametrize("behave", [trickled_head, trickled_body, trickled_stream])
@pytest.mark.parametrize(
    ("limits", "error"), [({"timeouts": {"total": 0.6}}, "total"), ({"deadline": 0.6}, "deadline")]
)
def test_one_limit_for_all_of_a_reply(kind: str, behave: Callable[..., None], limits: Any, error: str) -> None:
    with serving(behave) as server:
        began = time.monotonic()
        with pytest.raises((agouti.TimedOut, agouti.DeadlineExceeded, agouti.StreamCut)) as late:
            if behave is not trickled_stream:
                asked(kind, config(server), **limits)
            elif kind == "sync":
                with agouti.Client(config(server), **limits) as client:
                    list(client.stream("a", "x"))
            else:

                async def run() -> None:
                    async with agouti.AsyncClient(config(server), **limits) as client:
                        async for _ in client.stream("a", "x"):
                            pass

                asyncio.run(run())
        assert time.monotonic() - began < 20  # the reply takes a minute
        assert len(server.requests) == 1  # it may have been paid
        if error == "total" and behave is not trickled_stream:
            assert isinstance(late.value, agouti.TimedOut)
            assert late.value.phase == "total"


@KINDS
def test_upload_that_nobody_reads_ends_with_the_deadline(kind: str) -> None:
    with socket.create_server(("127.0.0.1", 0)) as listener:
        made = {
            "providers": {"p": {"address": f"http://127.0.0.1:{listener.getsockname()[1]}/v1"}},
            "models": {"a": {"provider": "p", "name": "m"}},
        }
        began = time.monotonic()
        with pytest.raises((agouti.DeadlineExceeded, agouti.TimedOut)):
            big = "x" * 30_000_000
            if kind == "sync":
                with agouti.Client(made) as client:
                    client.ask("a", big, deadline=1)
            else:

                async def run() -> None:
                    async with agouti.AsyncClient(made) as client:
                        await client.ask("a", big, deadline=1)

                asyncio.run(run())
        assert time.monotonic() - began < 20
    gc.collect()  # a transport that still waits to be read would be told of


def test_slow_upload_is_no_broken_connection() -> None:
    def behave(listener: socket.socket) -> None:
        sock, _ = listener.accept()
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 65536)
        with sock:
            got = b""
            while not got.endswith(b"}"):
                got = sock.recv(400_000)[-10:]
                time.sleep(0.02)
            sock.sendall(answer("x"))

    with socket.socket() as listener:
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 65536)
        listener.bind(("127.0.0.1", 0))
        listener.listen()
        threading.Thread(target=behave, args=(listener,), daemon=True).start()
        made = {"providers": {"p": {"address": f"http://127.0.0.1:{listener.getsockname()[1]}/v1"}}}
        with agouti.Client(made, timeouts={"connect": 1.0}) as client:
            assert client.ask("m@p", "x" * 8_000_000).text == "x"


@KINDS
@pytest.mark.parametrize("deadline", [None, 0.8])
def test_slow_look_up_of_a_name_is_bounded(kind: str, deadline: float | None, monkeypatch: pytest.MonkeyPatch) -> None:
    real, released = socket.getaddrinfo, threading.Event()

    def slow(host: Any, *arguments: Any, **more: Any) -> Any:
        if host == "slow.example":
            released.wait(60)
        return real("127.0.0.1", *arguments, **more)

    monkeypatch.setattr(socket, "getaddrinfo", slow)
    made = {
        "providers": {"p": {"address": "http://slow.example:9/v1", "timeouts": {"connect": 0.5}}},
        "models": {"a": {"provider": "p", "name": "m"}},
    }
    options: dict[str, Any] = {"deadline": deadline, "retries": {"max": 0}}
    began = time.monotonic()

    async def run() -> None:
        async with agouti.AsyncClient(agouti.load_config(made, environment={})) as client:
            try:
                with pytest.raises((agouti.TimedOut, agouti.DeadlineExceeded)):
                    await client.ask("a", "x", **options)
            finally:
                released.set()  # asyncio waits for its threads at the end of a program, not the call

    if kind == "async":
        asyncio.run(run())
    else:
        with pytest.raises((agouti.TimedOut, agouti.DeadlineExceeded)):
            asked(kind, agouti.load_config(made, environment={}), **options)
        released.set()
    assert time.monotonic() - began < 20


def test_silent_model_leaves_time_for_the_next() -> None:
    def behave(connection: Connection, _: int) -> None:
        if b'"silent"' in connection.request:
            connection.gone(30)
        else:
            connection.write(answer("x"))

    with serving(behave) as server:
        made = {"providers": {"p": {"address": server.address}}, "models": {
            "a": {"provider": "p", "name": "silent", "fallback": ["b"]}, "b": {"provider": "p", "name": "good"}}}  # fmt: skip
        assert asked("sync", agouti.load_config(made, environment={}), deadline=2) == "x"


def test_cause_is_told_when_nobody_can_take_over() -> None:
    made: dict[str, Any] = {"providers": {"p": {"address": "https://p.example", "retries": {"max": 0}}, "q": {"address": "https://q.example/v1/messages", "key": {"env": "NONE"}}},
        "models": {"a": {"provider": "p", "name": "m", "fallback": ["b"]}, "b": {"provider": "q", "name": "n"}}}  # fmt: skip
    busy = agouti.core.http.exchange.HttpReply(503, {}, b"{}")
    for options in ({"seed": 7}, {}):
        with agouti.Client(agouti.load_config(made, environment={}), transport=FakeTransport([busy])) as client:
            with pytest.raises(agouti.Overloaded) as told:
                client.ask("a", "x", **options)
            assert "b cannot take over" in told.value.hint
    made["models"]["a"]["fallback"] = ["bb"]
    with pytest.raises(agouti.ConfigError, match="falls back to 'bb'"):
        agouti.load_config(made)


def test_what_came_of_an_attempt_before_is_forgotten() -> None:
    def behave(connection: Connection, number: int) -> None:
        if number == 0:
            usage = b'data: {"choices": [], "usage": {"prompt_tokens": 99, "completion_tokens": 99}}\n\n'
            connection.write(STREAM + b"%x\r\n%s\r\n" % (len(usage), usage) + b"0\r\n\r\n")
        else:
            connection.write(STREAM + piece("x", "stop") + END)

    with serving(behave) as server, agouti.Client(config(server)) as client, client.stream("a", "x") as stream:
        assert "".join(stream) == "x"
        assert stream.reply.usage.input_tokens is None
        assert [each.outcome for each in stream.reply.attempts] == ["StreamCut", "answered"]
