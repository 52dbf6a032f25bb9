"""Secrets named by place in headers, query, values and fields; key commands and token endpoints that misbehave."""

import asyncio
import json
import sys
import threading
import time
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.core.http.exchange import HttpReply, HttpRequest
from agouti.credentials.fetch import fetch
from agouti.credentials.sources import parse_key
from agouti.testing import FakeTransport

from .kit import Connection, answer, config, reply, serving

GOOD = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}]}


def script(text: str) -> list[str]:
    return [sys.executable, "-c", text]


def test_every_setting_can_name_where_a_secret_lives(tmp_path: Path) -> None:
    (tmp_path / "token").write_text("file-secret\n")
    entry = {
        "address": "https://{tenant}.p.example/v1",
        "key": {"env": "K"},
        "headers": {"x-second": {"env": "A"}, "x-mixed": "proj-{tenant}", "x-team": "beds"},
        "query": {"sig": {"file": str(tmp_path / "token")}, "v": "1"},
        "values": {"tenant": {"command": script("print('command-' + 'secret')")}},
        "add": {"login": {"env": "A"}, "deep": [{"more": {"env": "A"}}], "env": {"env": "A", "b": 1}, "safe": True},
    }
    fake = FakeTransport([GOOD, GOOD, HttpReply(401, {}, b"{}")])
    made = agouti.load_config({"providers": {"p": entry}}, environment={"K": "key-secret", "A": "env-secret"})
    with agouti.Client(made, transport=fake) as client:
        shown = agouti.explain(client, "m@p", "x")
        client.ask("m@p", "x")
        client.ask("m@p", "x")
        with pytest.raises(agouti.CredentialRefused) as refused:
            client.ask("m@p", "x")
        request = fake.requests[0]
        assert request.target[:] == "https://command-secret.p.example/v1/chat/completions?sig=file-secret&v=1"
        sent = {name: value[:] for name, value in request.headers.items()}
        assert (sent["x-second"], sent["x-mixed"], sent["x-team"]) == ("env-secret", "proj-command-secret", "beds")
        body = json.loads(request.body or b"")
        assert (body["login"], body["deep"], body["safe"]) == ("env-secret", [{"more": "env-secret"}], True)
        assert body["env"] == {"env": "A", "b": 1}  # no place: a field like others
    said = f"{shown!r} {made!r} {request.url} {request!r} {refused.value} {refused.value.hint} {refused.value.attempts}"
    assert not [each for each in ("key-secret", "env-secret", "file-secret", "command-secret") if each in said]
    with agouti.Client(agouti.load_config({"providers": {"p": entry}}, environment={"K": "k"})) as poor:
        with pytest.raises(agouti.CredentialMissing, match="A is not set"):
            poor.ask("m@p", "x")
    with pytest.raises(agouti.ConfigError, match=r"\[providers\.p\] headers\.x takes a text") as wrong:
        agouti.load_config({"providers": {"p": {"address": "https://p.example", "headers": {"x": 5}}}})
    assert "env" in wrong.value.hint
    plain = {"providers": {"p": {"address": "http://p.example/v1", "headers": {"x-two": {"env": "A"}}}}}
    with pytest.raises(agouti.ConfigError, match="plain http"):
        agouti.Client(agouti.load_config(plain, environment={"A": "s"}), transport=FakeTransport([])).ask("m@p", "x")


COMMANDS: list[tuple[str, dict[str, Any], str]] = [
    ("import time; time.sleep(90)", {"timeout": 0.3}, "did not end within 0.3"),
    ("import sys\nwhile 1: sys.stdout.write('y' * 65536)", {"timeout": 5}, "more than 200 kB"),
    ("print('tok123'); print('done')", {}, "printed 2 lines"),
    ("print('[' * 100000)", {}, ""),
    ("print('{\"a\":' * 20000)", {}, "JSON without a token"),
    ("import sys; sys.stderr.write('x' * 5000000); sys.exit(3)", {}, "failed with exit code"),
]


@pytest.mark.parametrize(("text", "more", "what"), COMMANDS)
def test_key_commands_are_bounded(text: str, more: dict[str, Any], what: str) -> None:
    began = time.monotonic()
    key = parse_key({"command": script(text), **more})
    if what:
        with pytest.raises(agouti.CredentialMissing, match=what):
            fetch(key, {}, _no_post)
    else:
        fetch(key, {}, _no_post)
    assert time.monotonic() - began < 30


@pytest.mark.parametrize(
    ("output", "token"),
    [
        (b"tok\n", "tok"),
        (b'"tok"\n', "tok"),
        (b"TOKEN=tok\n", "tok"),
        (b"export API_TOKEN='tok'\r\n", "tok"),
        (b"\x1b[32mtok\x1b[0m\n", "tok"),
        ("tok\n".encode("utf-16"), "tok"),
        (b'\xef\xbb\xbf{"token": "tok", "expires_in": 1e400}', "tok"),
        (b'{"token": "tok", "expiry": 4102444800000}', "tok"),
    ],
)
def test_what_stands_around_a_token_is_taken_off(tmp_path: Path, output: bytes, token: str) -> None:
    (tmp_path / "out").write_bytes(output)
    read = f"import sys; sys.stdout.buffer.write(open({str(tmp_path / 'out')!r}, 'rb').read())"
    found = fetch(parse_key({"command": script(read)}), {}, _no_post)
    assert found.secret.reveal() == token
    assert found.expires is not None
    assert found.expires < 4.2e9


def _no_post(request: HttpRequest) -> HttpReply:
    raise AssertionError(request.url)


def test_helper_that_stays_keeps_nobody_waiting() -> None:
    began = time.monotonic()
    key = parse_key({"command": ["sh", "-c", "echo tok; sleep 90 &"], "timeout": 60})
    assert fetch(key, {}, _no_post).secret.reveal() == "tok"
    assert time.monotonic() - began < 30


def test_what_a_command_has_started_ends_with_it(tmp_path: Path) -> None:
    mark = tmp_path / "mark"
    key = parse_key({"command": ["sh", "-c", f"(sleep 1; touch {mark}); true"], "timeout": 0.3})
    with pytest.raises(agouti.CredentialMissing):
        fetch(key, {}, _no_post)
    time.sleep(1.2)
    assert not mark.exists()


def test_deadline_holds_for_a_key_command() -> None:
    key = {"command": script("import time; time.sleep(90); print('tok')")}
    made = agouti.load_config({"providers": {"p": {"address": "https://p.example", "key": key}}}, environment={})
    began = time.monotonic()
    with agouti.Client(made, transport=FakeTransport([GOOD])) as client, pytest.raises(agouti.AgoutiError):
        client.ask("m@p", "x", deadline=0.5)
    assert time.monotonic() - began < 30


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_a_token_that_many_want_is_fetched_once(kind: str, tmp_path: Path) -> None:
    count = tmp_path / "count"
    text = f"import time; open({str(count)!r}, 'a').write('x'); time.sleep(0.3); print('tok')"

    def behave(connection: Connection, _: int) -> None:
        connection.write(answer("x"))

    with serving(behave) as server:
        made = config(server, key={"command": script(text)})
        if kind == "sync":
            with agouti.Client(made) as client:
                threads = [threading.Thread(target=client.ask, args=("a", "x")) for _ in range(12)]
                for each in threads:
                    each.start()
                for each in threads:
                    each.join(20)
        else:

            async def run() -> None:
                async with agouti.AsyncClient(made) as client:
                    await asyncio.gather(*[client.ask("a", "x") for _ in range(12)])

            asyncio.run(run())
        assert len(server.requests) == 12
    assert count.read_text() == "x"


def oauth(answers: list[Any], **more: Any) -> tuple[FakeTransport, agouti.Config]:
    key = {"oauth": "client_credentials", "token_address": "tokens.example/token/", "client_id": "me",
           "client_secret": {"env": "CS"}, **more}  # fmt: skip
    made = agouti.load_config(
        {"providers": {"p": {"address": "https://p.example", "key": key, "retries": {"base": 0.01}}}},
        environment={"CS": "client-secret-1", "RT": "refresh-1"},
    )
    return FakeTransport(answers), made


def token(value: str = "tok", **more: Any) -> dict[str, Any]:
    return {"access_token": value, "expires_in": 3600, **more}


@pytest.mark.parametrize(
    ("answers", "ends"),
    [
        ([token(), GOOD], ""),
        ([HttpReply(503, {}, b""), HttpReply(429, {"retry-after": "0"}, b""), token(), GOOD], ""),
        ([HttpReply(503, {}, b"")] * 3, "Overloaded: the token endpoint https://tokens.example/token/ cannot answer"),
        ([HttpReply(400, {}, b'{"message": "missing scope"}')], "CredentialRefused: .*missing scope"),
        ([HttpReply(401, {}, b'{"error": "invalid_client"}')], "CredentialRefused: .*invalid_client"),
        ([HttpReply(404, {}, b"<html>")], "CredentialRefused: .*no JSON object"),
        ([HttpReply(200, {}, b"[" * 100_000)], "CredentialRefused: .*no JSON object"),
        ([HttpReply(200, {}, b'{"token_type": "x"}')], "CredentialRefused: .*no access_token"),
        ([HttpReply(200, {}, b" " * 1_100_000)], "CredentialRefused: .*more than 1 MB"),
        ([HttpReply(200, {}, b'{"access_token": "tok\\nx"}')], "CredentialMissing: .*line end"),
        ([HttpReply(200, {}, b'{"access_token": "t", "expires_in": 1e400}'), GOOD], ""),
        ([HttpReply(200, {}, b'{"access_token": "t", "expires_in": "soon"}'), GOOD], ""),
        ([HttpReply(400, {}, b'{"error": "x", "error_description": "client-secret-1 is bad"}')], "CredentialRefused: "),
    ],
)
def test_token_endpoints_of_every_kind(answers: list[Any], ends: str) -> None:
    fake, made = oauth(answers)
    with agouti.Client(made, transport=fake) as client:
        if not ends:
            client.ask("m@p", "x")
        else:
            with pytest.raises(agouti.AgoutiError) as told:
                client.ask("m@p", "x")
            import re

            assert re.match(ends, f"{type(told.value).__name__}: {told.value.message}"), told.value
            assert (
                "client-secret-1" not in f"{told.value!r} {told.value} {told.value.hint} {told.value.provider_message}"
            )
    assert fake.requests[0].url == "https://tokens.example/token/"


def test_refresh_tokens_that_rotate_are_kept() -> None:
    answers = [token("t1", refresh_token="refresh-2"), GOOD, HttpReply(401, {}, b"{}"), token("t2"), GOOD]
    fake, made = oauth(answers, oauth="refresh_token", refresh_token={"env": "RT"})
    with agouti.Client(made, transport=fake) as client:
        client.ask("m@p", "x")
        client.ask("m@p", "x")
    bodies = [(request.body or b"").decode() for request in fake.requests if "tokens" in request.url]
    assert ["refresh_token=refresh-1" in bodies[0], "refresh_token=refresh-2" in bodies[1]] == [True, True]


def test_several_keys_that_were_refused_are_tried_again() -> None:
    good = False

    def behave(connection: Connection, _: int) -> None:
        connection.write(answer("x") if good else reply(b'{"error": {"message": "no"}}', "401 No"))

    with serving(behave) as server, agouti.Client(config(server, key=["key-one-1", "key-two-2"])) as client:
        with pytest.raises(agouti.CredentialRefused):
            client.ask("a", "x")
        good = True
        assert client.ask("a", "x").text == "x"
        assert len(server.requests) == 3


@pytest.mark.parametrize(("key", "most"), [({"env": "K"}, 1), ({"command": script("print('tok')")}, 2)])
def test_refused_key_is_sent_no_more_often_than_it_can_help(key: dict[str, Any], most: int) -> None:
    def behave(connection: Connection, _: int) -> None:
        time.sleep(0.01)
        connection.write(reply(b'{"error": {"message": "revoked"}}', "401 No"))

    counts: list[int] = []
    with serving(behave) as server, agouti.Client(config(server, key=key)) as client:

        def call() -> None:
            for _ in range(3):
                with pytest.raises(agouti.CredentialRefused) as refused:
                    client.ask("a", "x")
                counts.append(len(refused.value.attempts))

        threads = [threading.Thread(target=call) for _ in range(8)]
        for each in threads:
            each.start()
        for each in threads:
            each.join(30)
        assert len(counts) == 24
        assert max(counts) <= most
        assert sum(counts) == len(server.requests)
