"""Small things that surprised: socket files, counts of less than nothing, errors in the place of events, hints."""

import asyncio
import copy
import json
import os
import pickle
import socket
import socketserver
import subprocess
import sys
import threading
from collections.abc import AsyncIterator, Iterator
from http.server import BaseHTTPRequestHandler
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.testing import FakeTransport, scripted
from agouti.testing.script import Script
from agouti.tools.tool import result_text

from ..hostile.kit import Connection, answer, serving


def good(text: str = "ok", **more: Any) -> HttpReply:
    body = {"choices": [{"message": {"content": text}, "finish_reason": "stop"}], **more}
    return HttpReply(200, {}, json.dumps(body).encode())


def config(dialect: str = "chat", address: str = "https://one.example/v1", **entry: Any) -> dict[str, Any]:
    provider = {"address": address, "dialect": dialect, "retries": {"max": 2, "base": 0.001}, **entry}
    return {"providers": {"p": provider}, "models": {"m": {"provider": "p", "name": "x"}}}


@pytest.fixture
def at_socket(tmp_path: Path) -> Iterator[str]:
    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def address_string(self) -> str:
            return "socket"

        def log_message(self, *_: Any) -> None:
            pass

        def do_POST(self) -> None:
            self.rfile.read(int(self.headers["content-length"]))
            out = json.dumps({"choices": [{"message": {"content": self.path}, "finish_reason": "stop"}]}).encode()
            self.send_response(200)
            self.send_header("content-type", "application/json")
            self.send_header("content-length", str(len(out)))
            self.end_headers()
            self.wfile.write(out)

    class Server(socketserver.ThreadingMixIn, socketserver.UnixStreamServer):
        daemon_threads = True

    # The name of a socket file may have a hundred letters.
    path = os.path.relpath(tmp_path / "model.sock")
    path = str(tmp_path / "model.sock") if len(str(tmp_path)) < 80 else os.path.abspath(path)
    server = Server(path, Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield path
    server.shutdown()
    server.server_close()


def test_a_socket_file_is_an_address(at_socket: str) -> None:
    async def ask(address: str) -> str:
        async with agouti.AsyncClient(config(address=address)) as client:
            return (await client.ask("m", "x")).text

    for address, path in (
        (f"unix:{at_socket}:/v1", "/v1/chat/completions"),
        (f"unix://{at_socket}", "/chat/completions"),
        (f"unix:{at_socket}:/v1/chat/completions", "/v1/chat/completions"),
    ):
        with agouti.Client(config(address=address, key="sk-0123456789")) as client:
            assert [client.ask("m", "x").text for _ in range(2)] == [path] * 2
            assert "".join(client.stream("m", "x")) == path
        assert asyncio.run(ask(address)) == path
    with agouti.Client(config(address="unix:/nowhere/m.sock:/v1", retries={"max": 0})) as client:
        with pytest.raises(agouti.NotRunning, match=r"unix:/nowhere/m\.sock"):
            client.ask("m", "x")
    for wrong in ("unix:relative", "unix:", "http:/host/v1"):
        with pytest.raises(agouti.ConfigError):
            agouti.Client(config(address=wrong))


def test_counts_of_less_than_nothing_are_none() -> None:
    usage = {"prompt_tokens": -1, "completion_tokens": 5, "total_tokens": -1}
    with agouti.Client(config(), transport=FakeTransport([good(usage=usage)])) as client:
        told = client.ask("m", "x").usage
    assert (told.input_tokens, told.output_tokens, told.total_tokens) == (None, 5, None)


def test_an_error_in_the_place_of_events_is_the_providers_own() -> None:
    body = b'{"error": {"message": "Rate limit", "code": 429}}'
    fake = FakeTransport([HttpReply(200, {"content-type": "text/event-stream"}, body)] * 3)
    with agouti.Client(config(), transport=fake) as client, pytest.raises(agouti.RateLimited, match="Rate limit"):
        list(client.stream("m", "x"))


def test_answers_without_any_are_told_and_not_paid_again() -> None:
    nothing = json.dumps({"candidates": [], "usageMetadata": {"promptTokenCount": 3}}).encode()
    with agouti.Client(config("contents"), transport=FakeTransport([HttpReply(200, {}, nothing)])) as client:
        with pytest.raises(agouti.ReplyUnreadable):
            client.ask("m", "x")


def test_a_kept_turn_changes_neither_who_speaks_nor_what_was_edited() -> None:
    turn = {"dialect": "chat", "blocks": [{"role": "system", "content": "old", "reasoning_details": ["sealed"]}]}
    fake = FakeTransport([good()])
    with agouti.Client(config(), transport=fake) as client:
        client.ask("m", [{"role": "user", "content": "Q"}, {"role": "assistant", "content": "edited", "provider_turn": turn}, {"role": "user", "content": "R"}])  # fmt: skip
    said = json.loads(fake.requests[0].body or b"")["messages"][1]
    assert (said["role"], said["content"]) == ("assistant", "edited")


def test_a_question_can_be_said() -> None:
    fake = FakeTransport([good(), good()])
    with agouti.Client(config(), transport=fake) as client:
        talk = client.conversation("m", temperature=0.5)
        talk.say(agouti.Question.of("Peas?", system="Brief.", max_tokens=7))
        talk.say("Beans?")
    first, second = (json.loads(request.body or b"") for request in fake.requests)
    assert ([each["content"] for each in first["messages"]], first["max_tokens"]) == (["Brief.", "Peas?"], 7)
    assert ([each["content"] for each in second["messages"]], "max_tokens" in second) == (
        ["Peas?", "ok", "Beans?"],
        False,
    )


def test_clients_say_that_they_are_not_copied() -> None:
    with agouti.Client(config()) as client:
        for copies in (copy.deepcopy, pickle.dumps):
            with pytest.raises(TypeError, match="make one there"):
                copies(client)
        assert client.tagged(a="b").config is client.config


def test_results_of_functions_are_told_as_they_are() -> None:
    assert result_text(float("nan")) == "nan"
    assert result_text(float("inf")) == "inf"
    assert result_text(each for each in (1, 2)) == "[1,2]"


def test_another_event_loop_is_told_what_is_wanted() -> None:
    client = agouti.AsyncClient(config())
    steps = client.ask("m", "x")
    with pytest.raises(agouti.RequestError, match="event loop of asyncio"):
        steps.send(None)


def test_a_call_at_the_very_end_of_a_program_comes_back(tmp_path: Path) -> None:
    with serving(lambda connection, number: connection.write(answer("late"))) as server:
        code = (
            "import agouti\nclass Late:\n    def __init__(self, client): self.client = client\n    def __del__(self):\n"
            "        try: print(self.client.ask('m', 'x', deadline=5).text)\n        except BaseException as error: print(type(error).__name__)\n"
            f"late = Late(agouti.Client({config(address=server.address)!r}))\nimport sys; sys.late = late\n"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == 0


HINTS: list[tuple[dict[str, Any], str]] = [
    ({"address": "https://one.example/v1/v1"}, "/v1 stands in it twice"),
    ({"address": "https://one.example/v1/chat/completions/chat/completions"}, "/chat/completions stands in it twice"),
    ({}, "is /v1 missing?"),
]


@pytest.mark.parametrize(("entry", "words"), HINTS)
def test_hints_of_paths_that_are_not_there(entry: dict[str, Any], words: str) -> None:
    with agouti.Client(config(**entry), transport=FakeTransport([HttpReply(404, {}, b"{}")])) as client:
        with pytest.raises(agouti.AddressWrong) as wrong:
            client.ask("m", "x")
    assert words in wrong.value.hint


def test_hints_of_keys_that_are_names(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("NORTHBANK_KEY", "sk-real-0123456789")
    for key in ("NORTHBANK_KEY", "NORTHBANK_KEY=sk-real-0123456789"):
        refused = HttpReply(401, {}, b'{"error": {"message": "no"}}')
        with agouti.Client(config(key=agouti.Secret(key)), transport=FakeTransport([refused])) as client:
            with pytest.raises(agouti.CredentialError) as wrong:
                client.ask("m", "x")
        assert ('key = { env = "NAME" }' in wrong.value.hint) == ("=" not in key)
        assert "sk-real" not in wrong.value.hint


def test_assignments_are_no_addresses_and_no_keys(monkeypatch: pytest.MonkeyPatch) -> None:
    for address in ("BASE_URL=https://one.example/v1", "export API_BASE = 'https://one.example/v1'"):
        with pytest.raises(agouti.ConfigError, match="assignment"):
            agouti.Client(config(address=address))
    monkeypatch.setenv("NB_KEY", "NB_API_KEY=sk-0123456789")
    with agouti.Client(config(key={"env": "NB_KEY"}), transport=FakeTransport([])) as client:
        with pytest.raises(agouti.CredentialMissing, match="assignment") as wrong:
            client.ask("m", "x")
    assert "sk-0123" not in str(wrong.value)


def test_a_turn_can_be_left_behind_on_purpose() -> None:
    turn = {"dialect": "chat", "blocks": [{"reasoning_details": ["sealed"]}]}
    fake = FakeTransport([good()])
    with agouti.Client(config(), transport=fake) as client:
        talk = client.conversation("m", messages=[{"role": "user", "content": "Q"}, {"role": "assistant", "content": "A", "provider_turn": turn}])  # fmt: skip
        assert talk.messages[1].provider_turn is not None
        talk.messages[:] = [message.plain for message in talk.messages]
        talk.say("R")
    assert b"sealed" not in (fake.requests[0].body or b"")


def test_hints_of_https_and_http() -> None:
    def silent(connection: Connection, number: int) -> None:
        connection.gone(5)

    with socket.create_server(("127.0.0.1", 0)) as listener:
        port = listener.getsockname()[1]
        entry = config(
            address=f"https://127.0.0.1:{port}/v1", timeouts={"connect": 0.3, "first_byte": 0.3}, retries={"max": 0}
        )
        with agouti.Client(entry) as client, pytest.raises(agouti.AgoutiError) as late:
            client.ask("m", "x")
        assert "http://" in late.value.hint

        async def go() -> None:
            async with agouti.AsyncClient(entry) as client:
                await client.ask("m", "x")

        with pytest.raises(agouti.AgoutiError) as late:
            asyncio.run(go())
        assert "http://" in late.value.hint


@pytest.mark.parametrize("kind", ["iterator", "async iterator"])
@pytest.mark.parametrize("count", [3, 20_000])
def test_items_of_a_function_are_taken_where_it_runs_and_none_is_lost_unsaid(kind: str, count: int) -> None:
    threads: set[str] = set()

    def numbers() -> Iterator[int]:
        """All numbers."""
        for number in range(count):
            threads.add(threading.current_thread().name)
            yield number

    async def awaited() -> AsyncIterator[int]:
        """All numbers."""
        for number in range(count):
            yield number

    async def go() -> str:
        function: Any = numbers if kind == "iterator" else awaited
        seen: list[str] = []

        def last(sent: Any) -> str:
            seen.append(sent.messages[-1]["content"])
            return "done"

        with scripted() as script:
            script.reply("", calls=[(function.__name__, {})], times=1)
            script.reply(last)
            async with agouti.AsyncClient({"providers": {"p": {"address": "https://p.example/v1"}}}) as client:
                await client.conversation("x@p", tools=[function]).say("Count.")
        return seen[0]

    said = json.loads(asyncio.run(go()).partition("\n")[0]) if count == 3 else asyncio.run(go())
    if count == 3:
        assert said == [0, 1, 2]
    else:
        assert "there are more than these 10,000" in said
    assert threading.current_thread().name not in threads  # the event loop went on


def test_hooks_that_were_given_stay_open_and_what_is_refused_has_opened_nothing(tmp_path: Path) -> None:
    closed: list[str] = []
    config: dict[str, Any] = {"providers": {"p": {"address": "https://p.example/v1"}}}

    class Own(Script):
        def close(self) -> None:
            closed.append("own")

    Own.__module__ = "agouti.testing.own"  # one that comes with Agouti, passed by hand
    hook = Own()
    hook.reply("Hi")
    for _ in range(2):
        with agouti.Client(config, hooks=[hook]) as client:
            assert client.ask("x@p", "Hi?").text == "Hi"
    assert closed == []
    cache = {**config, "cache": {"store": str(tmp_path / "c.sqlite")}}
    with pytest.raises(agouti.ConfigError, match="is a class"):
        agouti.Client(cache, hooks=[Own])  # type: ignore[list-item]
    assert list(tmp_path.iterdir()) == []
