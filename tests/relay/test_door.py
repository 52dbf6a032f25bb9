"""Who comes in: tokens, labels, limits, budgets, pages of others; and what is said to those who do not."""

import asyncio
import json
import re
import socket
import sqlite3
import stat
import threading
import time
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any

import msgspec
import pytest

import agouti
from agouti.config.tables import LedgerSettings
from agouti.core.errors import AgoutiError
from agouti.core.secrets.secret import Secret
from agouti.engine.attempts.error_policy import POLICY
from agouti.ledger.store import relay_ledger
from agouti.relay.access_control import AccessControl
from agouti.relay.access_tokens import TokenFile, new_token
from agouti.relay.application import Relay
from agouti.relay.error_responses import Refused, error_body, for_owner, retry_after, status_of
from agouti.standins import Served

from .kit import POOL, Running, relaying, until


@pytest.fixture
def tokens(tmp_path: Path) -> TokenFile:
    return TokenFile(tmp_path / "relay-tokens.json")


def token(tokens: TokenFile, name: str, **may: Any) -> str:
    text, kept = new_token(name, **may)
    tokens.add(kept)
    return text


def configured(served: Served, tmp_path: Path, more: str = "") -> agouti.Config:
    (tmp_path / "agouti.toml").write_text(served.toml + more)
    return agouti.load_config(tmp_path / "agouti.toml", environment=served.environment)


@pytest.fixture
def relay(served: Served, tmp_path: Path, tokens: TokenFile) -> Iterator[Running]:
    tokens.add(new_token("gate")[1])
    with relaying(configured(served, tmp_path)) as running:
        yield running


def requests_of(served: Served) -> int:
    return sum(served.books.requests.values())


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({}, 401),
        ({"authorization": "Bearer agouti-wrong"}, 401),
        ({"authorization": "Basic Zzo="}, 401),
        ({"authorization": "Bearer "}, 401),
        ({"x-api-key": "\udcff".encode("utf-8", "surrogateescape").decode("latin-1")}, 401),
        ({"cookie": "agouti_page=x"}, 401),
        ({"authorization": "Bearer TOKEN"}, 200),
        ({"authorization": "bearer  TOKEN "}, 200),
        ({"x-api-key": "TOKEN"}, 200),
        ({"x-api-key": "TOKEN", "authorization": "Bearer wrong"}, 401),
    ],
)
def test_a_token_is_wanted(
    relay: Running, tokens: TokenFile, served: Served, headers: dict[str, str], status: int
) -> None:
    text = token(tokens, "club")
    assert until(lambda: len(relay.relay.tokens.tokens()) == 2)
    sent = {name: value.replace("TOKEN", text) for name, value in headers.items()}
    before = requests_of(served)
    for path, kind in (
        ("/v1/chat/completions", "invalid_api_key"),
        ("/v1/messages", None),
        ("/v1/models", "invalid_api_key"),
    ):
        body = None if path.endswith("models") else {"model": "almanac", "messages": [], "max_tokens": 5}
        got, said, back = relay.call(path, body, headers=sent)
        if status == 401:
            assert got == 401
            assert back["www-authenticate"] == "Bearer"
            assert said["error"].get("code") == kind
            assert said["error"]["type"] == "authentication_error"
        else:
            assert got == (200 if body is None else 400)
    if status == 401:
        assert requests_of(served) == before
    assert relay.call("/health", headers=sent)[0] == 200


def test_tokens_are_hashes_of_a_file_of_their_own_and_can_be_taken_back(relay: Running, tokens: TokenFile) -> None:
    text = token(tokens, "club")
    assert text not in tokens.path.read_text()
    assert stat.S_IMODE(tokens.path.stat().st_mode) == 0o600
    assert until(lambda: relay.ask("almanac", token=text)[0] == 200)
    tokens.remove("club")
    assert until(lambda: relay.ask("almanac", token=text)[0] == 401)
    with pytest.raises(agouti.ConfigError, match="no token 'club'"):
        tokens.remove("club")
    with pytest.raises(agouti.ConfigError, match="already"):
        tokens.add(new_token("gate")[1])
    tokens.remove("gate")
    time.sleep(1.1)
    assert relay.ask("almanac")[0] == 401  # that the last one was taken back opens nothing


def test_a_response_is_there_for_its_own_token_alone(relay: Running, tokens: TokenFile) -> None:
    one, other = token(tokens, "one"), token(tokens, "other")
    assert until(lambda: len(relay.relay.tokens.tokens()) == 3)
    made = relay.call("/v1/responses", {"model": "almanac", "input": "Peas?"}, token=one)[1]
    for behind in ("", "/input_items"):
        assert relay.call(f"/v1/responses/{made['id']}{behind}", token=other)[0] == 404
    assert relay.call(f"/v1/responses/{made['id']}", token=other, method="DELETE")[0] == 404
    assert relay.call(f"/v1/responses/{made['id']}", token=one)[0] == 200


@pytest.mark.parametrize(
    ("name", "may", "words"),
    [
        ("a\nb", {}, "no name"),
        (" ", {}, "no name"),
        ("x" * 101, {}, "no name"),
        ("club", {"requests_per_minute": 0}, "out of range"),
        ("club", {"tokens_per_minute": -1}, "out of range"),
        ("club", {"calls_at_once": 0}, "out of range"),
        ("club", {"labels": []}, "no model"),
        ("club", {"per": "year"}, "out of range"),
        ("club", {"expires": float("inf")}, "no time"),
    ],
)
def test_tokens_that_cannot_be(name: str, may: dict[str, Any], words: str) -> None:
    with pytest.raises(agouti.ConfigError, match=words):
        new_token(name, **may)


@pytest.mark.parametrize("damage", ["gone", "junk", "unknown field", "folder", "deep"])
def test_nobody_comes_in_where_the_file_cannot_be_read(relay: Running, tokens: TokenFile, damage: str) -> None:
    text = token(tokens, "club")
    assert until(lambda: relay.ask("almanac", token=text)[0] == 200)
    kept = tokens.path.read_text()
    tokens.path.unlink()
    if damage == "folder":
        tokens.path.mkdir()
    elif damage != "gone":
        tokens.path.write_text(
            {"junk": "{", "unknown field": '{"tokens": [{"name": "x"}]}', "deep": "[" * 9000}[damage]
        )
    assert until(lambda: relay.ask("almanac", token=text)[0] == 503)
    assert relay.ask("almanac")[0] == 503
    if damage == "folder":
        tokens.path.rmdir()
    tokens.path.write_text(kept)
    assert until(lambda: relay.ask("almanac", token=text)[0] == 200)


def test_labels_expiry_and_what_it_says(
    relay: Running, tokens: TokenFile, served: Served, monkeypatch: pytest.MonkeyPatch
) -> None:
    local = token(tokens, "local", labels=["almanac-local"])
    over = token(tokens, "over", expires=time.time() + 600)
    assert until(lambda: relay.ask("almanac-local", token=local)[0] == 200)
    # A near name is one that the token may ask: what else there is, it is not told.
    for near in ("almanak-local", "almanak", "translater"):
        status, said, _ = relay.ask(near, token=local)
        assert (status, set(re.findall(r"[\w-]+", said["error"]["message"])) & set(served.config.models) <= {"almanac-local"}) == (404, True)  # fmt: skip
    before = served.books.requests.copy()
    for label, status in (("almanac", 403), ("quill-large@northbank", 403), ("nix", 404), ("almanac@nix", 403)):
        got, said, _ = relay.ask(label, token=local)
        assert (label, got) == (label, status)
        assert "almanac-local" in said["error"]["message"] or status == 403
    assert served.books.requests == before
    assert [each["id"] for each in relay.call("/v1/models", token=local)[1]["data"]] == ["almanac-local"]
    assert relay.call("/v1/models/almanac", token=local)[0] == 403
    assert relay.ask("almanac-local", token=over)[0] == 200
    now = time.time
    monkeypatch.setattr("time.time", lambda: now() + 601)
    assert until(lambda: relay.ask("almanac-local", token=over)[0] == 401)
    assert "expired" in relay.ask("almanac-local", token=over)[1]["error"]["message"]


def test_requests_per_minute(relay: Running, tokens: TokenFile, served: Served) -> None:
    text = token(tokens, "slow", requests_per_minute=3)
    assert until(lambda: any(each.name == "slow" for each in relay.relay.tokens.tokens()))
    before = requests_of(served)
    with ThreadPoolExecutor(16) as pool:
        got = list(pool.map(lambda _: relay.ask("almanac-local", token=text), range(16)))
    assert Counter(status for status, _, _ in got) == {200: 3, 429: 13}
    assert requests_of(served) - before == 3
    refused = next(each for each in got if each[0] == 429)
    assert refused[1]["error"]["code"] == "rate_limit_exceeded"
    assert 50 <= int(refused[2]["retry-after"]) <= 60


@pytest.mark.filterwarnings("ignore::agouti.AgoutiWarning")
def test_a_budget_is_never_exceeded_by_many_at_once(served: Served, tmp_path: Path, tokens: TokenFile) -> None:
    """64 at a time, and a relay that is started again: what was spent stays spent."""
    spent = 0.0
    text = token(tokens, "purse", budget=0.002)
    free = token(tokens, "free")
    foreign = token(tokens, "foreign", budget=5, currency="EUR")
    for _ in range(2):
        with relaying(configured(served, tmp_path, served.entry("letterbox"))) as relay:
            with ThreadPoolExecutor(64) as pool:
                got = list(pool.map(lambda _: relay.ask("almanac", token=text, max_tokens=200), range(200)))
            assert {status for status, _, _ in got} <= {200, 402}
            for status, said, _ in got:
                if status == 200:
                    usage = said["usage"]
                    spent += (usage["prompt_tokens"] * 0.27 + usage["completion_tokens"] * 0.81) / 1e6
                else:
                    assert said["error"]["code"] == "insufficient_quota"
            assert relay.ask("almanac", token=free)[0] == 200
            assert relay.ask("quill-mini@northbank", token=text)[0] == 402  # it has no price: nobody could count it
            assert relay.ask("almanac-local", token=text)[0] == 200  # a server of one's own costs nothing
            assert relay.ask("almanac", token=foreign)[0] == 402  # it is priced in another currency
            count = {"model": "envelope-2@letterbox", "messages": [{"role": "user", "content": "Peas?"}]}
            status, said, _ = relay.call("/v1/messages/count_tokens", count, headers={"x-api-key": foreign})
            assert status == 200, said  # a count costs nothing, whatever the price
    assert 0.0005 < spent <= 0.002
    assert (tmp_path / "relay-usage.sqlite").exists()


@pytest.mark.filterwarnings("ignore::agouti.AgoutiWarning")
def test_a_budget_holds_for_streams_that_are_left_and_models_that_take_over(
    served: Served, tmp_path: Path, tokens: TokenFile
) -> None:
    """With a limit, labels and an expiry at once; what is left half way is paid for what had come."""
    more = (
        '[models.shaky]\nextends = "almanac"\nname = "quill-large+status=503"\nfallback = ["almanac"]\n'
        "[providers.northbank.retries]\nmax = 0\n"
    )
    text = token(
        tokens, "all", budget=0.0015, requests_per_minute=500, labels=["shaky", "almanac"], expires=time.time() + 600
    )
    with relaying(configured(served, tmp_path, more)) as relay:

        def one(number: int) -> int:
            body = {
                "model": "shaky",
                "stream": True,
                "messages": [{"role": "user", "content": "Plan my bed."}],
                "max_tokens": 150,
            }
            reply = POOL.request(
                "POST", relay.address + "/v1/chat/completions", body=json.dumps(body), preload_content=False,
                headers={"authorization": f"Bearer {text}"},
            )  # fmt: skip
            if number % 2 and reply.status == 200:
                reply.read1(100)
                reply.close()
            else:
                reply.read()
                reply.release_conn()
            return reply.status

        with ThreadPoolExecutor(64) as pool:
            assert set(pool.map(one, range(150))) - {503} == {
                200,
                402,
            }  # 503: why the first could not, once nobody can take over
        assert until(lambda: not relay.relay.active)
        spent = float(asyncio.run(relay.relay.client.usage(by=("tag:token",))).total.cost["USD"])
        assert 0.00005 < spent <= 0.0015
        assert {each.status for each in relay.relay.recent_calls.latest} <= {200, 402, 499, 503}


@pytest.mark.filterwarnings("ignore::agouti.AgoutiWarning")
def test_budgets_of_the_configuration_hold_beside_those_of_tokens(
    served: Served, tmp_path: Path, tokens: TokenFile
) -> None:
    more = '[ledger]\nstore = "usage.sqlite"\n[budgets.all]\namount = 0.0004\ncurrency = "USD"\n'
    text = token(tokens, "purse", budget=0.001)
    with relaying(configured(served, tmp_path, more)) as relay:
        got = [relay.ask("almanac", token=text, max_tokens=60)[0] for _ in range(20)]
        assert Counter(got).keys() == {200, 402}
        usage = asyncio.run(relay.relay.client.usage(by=("tag:token",)))
        assert float(usage.total.cost["USD"]) <= 0.0004
        assert [row.group for row in usage.rows] == [{"tag:token": "purse"}]
        # Nothing stays put aside: what is left can be spent to the end.
        assert until(lambda: relay.relay.client._ledger.budgets().reserve([], time.time(), 0)[0] == [])


@pytest.mark.parametrize(
    ("origin", "status", "allowed"),
    [
        ("http://evil.example", 403, None),
        ("null", 403, None),
        ("http://localhost:5173.evil.example", 403, None),
        ("http://localhost:51730", 403, None),
        ("http://localhost", 403, None),
        ("https://localhost:5173", 403, None),
        ("http://localhost:5173", 200, "http://localhost:5173"),
        ("SELF", 200, None),
    ],
)
def test_pages_of_others_may_not_call(
    served: Served, tmp_path: Path, origin: str, status: int, allowed: str | None
) -> None:
    more = '[relay]\norigins = ["http://localhost:5173"]\n'
    with relaying(configured(served, tmp_path, more)) as relay:
        sent = {"origin": relay.address if origin == "SELF" else origin, "content-type": "text/plain"}
        body = {"model": "almanac-local", "messages": [{"role": "user", "content": "Peas?"}]}
        before = requests_of(served)
        got, _, headers = relay.call("/v1/chat/completions", body, headers=sent)
        assert (got, headers.get("access-control-allow-origin")) == (status, allowed)
        assert requests_of(served) - before == (status == 200)
        preflight = relay.call(
            "/v1/chat/completions", method="OPTIONS",
            headers={**sent, "access-control-request-method": "POST", "access-control-request-headers": "authorization"},
        )  # fmt: skip
        assert preflight[0] == (204 if allowed else 403 if status == 403 else 405)
        assert preflight[2].get("access-control-allow-headers") == ("authorization" if allowed else None)


def test_without_tokens_only_this_machine_by_its_own_name(served: Served) -> None:
    with relaying(served.config) as relay:
        port = relay.address.rpartition(":")[2]
        for host, status in (
            ("localhost", 200),
            ("127.0.0.1:1", 200),
            (f"rebound.example:{port}", 403),
            ("[::1]", 200),
        ):
            assert relay.call("/v1/models", headers={"host": host})[0] == status
        for name in ("x-forwarded-for", "x-real-ip", "forwarded", "via"):
            assert relay.call("/v1/models", headers={name: "192.0.2.7"})[0] == 403


def test_the_ledger_begins_with_the_first_token_and_is_found_by_the_command(
    served: Served, tmp_path: Path, tokens: TokenFile, caplog: pytest.LogCaptureFixture
) -> None:
    config = configured(served, tmp_path)
    with relaying(config) as relay:
        assert relay.ask("almanac-local")[0] == 200
        assert not (tmp_path / "relay-usage.sqlite").exists()
        text = token(tokens, "late", budget=0.0005)
        assert until(relay.relay.tokens.tokens)  # before that the call is nobody's
        assert until(lambda: relay.ask("almanac", token=text, max_tokens=5)[0] == 200)
        assert until(lambda: relay.ask("almanac", token=text, max_tokens=5)[0] == 402)
        spent = asyncio.run(relay.relay.client.usage(by=("tag:token",)))
        assert [row.group["tag:token"] for row in spent] == ["late"]
    settings = relay_ledger(config)
    assert settings is not None
    assert settings.path == tmp_path / "relay-usage.sqlite"
    other = msgspec.structs.replace(config, ledger=LedgerSettings(Secret(str(tmp_path / "new.sqlite"))))
    Relay(other)
    assert "what tokens spent before stands in" in caplog.text


def test_a_ledger_that_is_locked_is_no_fault_of_the_request_and_stops_nobody_else(
    served: Served, tmp_path: Path, tokens: TokenFile
) -> None:
    text, other = token(tokens, "club", budget=5), token(tokens, "free")
    with relaying(configured(served, tmp_path, "[relay]\ndeadline = 0.5\n")) as relay:
        assert relay.ask("almanac", token=text)[0] == 200
        lock = sqlite3.connect(tmp_path / "relay-usage.sqlite", check_same_thread=False)
        lock.execute("BEGIN IMMEDIATE")
        try:
            with ThreadPoolExecutor(6) as pool:
                waiting = [pool.submit(relay.ask, "almanac", token=text) for _ in range(6)]
                assert relay.ask("almanac", token=other)[0] == 200
                assert {each.result()[0] for each in waiting} == {504}
        finally:
            lock.close()
        (tmp_path / "letter").write_bytes(b"no ledger" * 1000)
        (tmp_path / "letter").replace(tmp_path / "relay-usage.sqlite")
        for suffix in ("-wal", "-shm"):
            (tmp_path / f"relay-usage.sqlite{suffix}").unlink(missing_ok=True)
        assert until(lambda: relay.ask("almanac", token=text)[0] == 503)
        status, body, headers = relay.ask("almanac", token=text)
        assert (status, "retry-after" in headers) == (503, True)
        assert str(tmp_path) not in body["error"]["message"]


def test_metrics_and_page_say_what_the_ledger_says(served: Served, tmp_path: Path, tokens: TokenFile) -> None:
    text = token(tokens, "club", sees_all=True)
    with relaying(configured(served, tmp_path, '[cache]\nstore = "cache.sqlite"\nalways = true\n')) as relay:
        for _ in range(4):
            assert relay.ask("almanac", token=text, max_tokens=90)[0] == 200
        body = {"model": "almanac", "stream": True, "messages": [{"role": "user", "content": "Plan my bed."}]}
        cut = POOL.request(
            "POST", relay.address + "/v1/chat/completions", body=json.dumps(body), preload_content=False,
            headers={"authorization": f"Bearer {text}"},
        )  # fmt: skip
        cut.read1(50)
        cut.close()
        assert until(lambda: len(relay.relay.recent_calls.latest) == 5)
        total = asyncio.run(relay.relay.client.usage()).total
        metrics = relay.call("/metrics", token=text)[1].decode()
        told = {
            name: sum(float(value) for value in re.findall(rf"^agouti_relay_{name}_total{{.*}} (\S+)$", metrics, re.M))
            for name in ("tokens", "cost")
        }
        assert (total.calls, total.cached_answers) == (2, 3)
        assert told["tokens"] == total.input_tokens + total.output_tokens
        assert told["cost"] == pytest.approx(float(total.cost["USD"]))
        assert sum(call.cost or 0 for call in relay.relay.recent_calls.latest) == pytest.approx(told["cost"])


def test_whoever_is_elsewhere_needs_a_token(served: Served, tmp_path: Path, tokens: TokenFile) -> None:
    config = configured(served, tmp_path)
    assert config.relay is not None
    door = AccessControl(config, config.relay, tokens)
    here = {"client": ("127.0.0.1", 5), "scheme": "http"}
    assert door.enter(here, {"host": "localhost"}).name == ""
    for client in (("192.0.2.7", 5), ("2001:db8::7", 5), ("nobody", 5)):
        with pytest.raises(Refused, match="own machine"):
            door.enter({"client": client}, {"host": "localhost"})
    text = token(tokens, "club")
    tokens._checked_at = -1e9
    assert door.enter({"client": ("192.0.2.7", 5)}, {"x-api-key": text}).name == "club"


RAW = {
    "no JSON": (b'{"model": ', 400),
    "not UTF-8": (b'{"model": "\xff"}', 400),
    "half a letter": (b'{"model": "\\ud800", "messages": []}', 400),
    "a list": (b"[]", 400),
    "nothing": (b"", 400),
    "too deep": (b'{"model":"almanac","messages":' + b"[" * 100_000 + b"]" * 100_000 + b"}", 400),
    "wrong types": (b'{"model":"almanac","messages":[{"role":7}]}', 400),
    "no model": (b'{"messages":[]}', 400),
    "model is a number": (b'{"model":7,"messages":[]}', 400),
    "odd label": (json.dumps({"model": "a\r\nb: c" * 100, "messages": []}).encode(), 400),
    "unknown label": (b'{"model":"almanak","messages":[]}', 404),
    "no such parameter value": (
        b'{"model":"almanac","messages":[{"role":"user","content":"x"}],"prompt":"x","input":[{}],"temperature":"hot"}',
        400,
    ),
    "no messages": (b'{"model":"almanac","messages":[]}', 400),
}


@pytest.mark.parametrize(
    "path", ["/v1/chat/completions", "/v1/messages", "/responses", "/v1/completions", "/v1/embeddings"]
)
def test_bad_bodies(served: Served, path: str) -> None:
    with relaying(served.config) as relay:
        before = requests_of(served)
        for name, (body, status) in RAW.items():
            got, said, _ = relay.call(path, body)
            assert got in (400, 404), (name, said)
            assert got == status or "types" in name or "messages" in name or "value" in name, (name, said)
            assert said["error"]["message"]
            assert "Traceback" not in str(said)
        if path == "/v1/chat/completions":
            assert "almanac" in relay.call(path, RAW["unknown label"][0])[1]["error"]["message"]
        assert requests_of(served) == before


def test_too_large_too_slow_compressed(served: Served, tmp_path: Path) -> None:
    more = "[relay]\nmax_megabytes = 0.1\nread_seconds = 0.5\n"
    with relaying(configured(served, tmp_path, more)) as relay:
        big = json.dumps({"model": "almanac", "messages": [{"role": "user", "content": "x" * 200_000}]}).encode()
        assert relay.call("/v1/messages", big)[0] == 413
        host, port = relay.address.removeprefix("http://").split(":")

        def raw(data: bytes) -> bytes:
            with socket.create_connection((host, int(port)), timeout=10) as sock:
                sock.sendall(b"POST /v1/chat/completions HTTP/1.1\r\nhost: localhost\r\n" + data)
                return sock.recv(65536)

        chunk = b"%x\r\n%b\r\n" % (60_000, b" " * 60_000)
        assert b" 413 " in raw(b"transfer-encoding: chunked\r\n\r\n" + chunk * 3)
        assert b" 408 " in raw(b"content-length: 50\r\n\r\n{")
        assert b" 415 " in raw(b"content-length: 2\r\ncontent-encoding: gzip\r\n\r\n{}")
        assert b" 400 " in raw(b"content-length: nine\r\n\r\n{}")
        assert relay.call("/v1/nothing", b"{}")[0] == 404
        status, _, headers = relay.call("/v1/messages", method="GET")
        assert (status, headers["allow"]) == (405, "POST")
        assert relay.ask("almanac-local")[0] == 200


def test_heads_without_end(served: Served, monkeypatch: pytest.MonkeyPatch) -> None:
    """Too large, or trickling: the first of a connection, and a later one."""
    monkeypatch.setattr("agouti.relay.connection._HEAD_SECONDS", 0.6)
    good = b"GET /health HTTP/1.1\r\nhost: localhost\r\n\r\n"
    with relaying(served.config) as relay:
        host, port = relay.address.removeprefix("http://").split(":")
        for before in (b"", good):
            with socket.create_connection((host, int(port)), timeout=10) as sock:
                sock.sendall(before)
                while before and b'{"status":"ok"}' not in sock.recv(65536):
                    pass
                said = b""
                try:
                    sock.sendall(b"GET /health HTTP/1.1\r\nx: ")
                    for _ in range(400):
                        sock.sendall(b"a" * 65536)
                    said = sock.recv(65536)
                except TimeoutError:
                    pytest.fail("a head without end is read on and on")
                except OSError:
                    pass  # closed while it was still being sent
                assert not said or b" 431 " in said
            with socket.create_connection((host, int(port)), timeout=10) as sock:
                sock.sendall(before)
                while before and b'{"status":"ok"}' not in sock.recv(65536):
                    pass
                began = time.monotonic()
                with suppress(OSError):
                    for letter in b"GET /health HTTP/1.1\r\nhost: localhost\r\n" * 12:
                        sock.sendall(bytes([letter]))
                        time.sleep(0.05)
                assert time.monotonic() - began < 20
        assert relay.call("/health")[0] == 200


_THEIRS = (agouti.RequestError, agouti.LabelUnknown, agouti.RequestRefused)
_OWNERS = (agouti.BudgetExceeded, agouti.LimitReached, agouti.LedgerUnavailable)


@pytest.mark.parametrize("kind", POLICY, ids=lambda kind: kind.__name__)
def test_every_error_has_a_status_and_words(kind: type[AgoutiError]) -> None:
    error = kind("no more peas", hint="Sow some.", wait=1.2)
    said = error_body(error, "abc")
    assert said.status == POLICY[kind].status == status_of(error)
    assert 400 <= said.status < 600
    if kind is agouti.LedgerUnavailable:  # where the owner keeps it is nobody else's business
        assert (
            "the disk is full"
            in error_body(kind("ledger /home/bo is out of reach (database or disk is full)"), "").message
        )
    callers = issubclass(kind, (agouti.RequestError, agouti.LabelUnknown)) and kind is not agouti.LedgerUnavailable
    assert (said.message == "no more peas. Sow some.") is callers
    assert ("peas" in said.message) is callers
    # The owner reads all of it, but for what may be somebody's words.
    assert ("Sow some." in for_owner(error)) is (not issubclass(kind, _THEIRS) or issubclass(kind, _OWNERS))
    assert retry_after(error) == "2"
    for wait, said_wait in ((float("inf"), "86400"), (float("nan"), "1"), (-5.0, "1"), (1e300, "86400")):
        assert retry_after(kind("no more peas", wait=wait)) == said_wait


def test_faults_of_providers_are_told_in_the_callers_form(served: Served) -> None:
    rows = {
        "status=503": (503, "overloaded_error"),
        "status=500": (502, "api_error"),
        "limit-seconds=7": (429, "rate_limit_error"),
        "status=402": (402, "billing_error"),
        "status=401": (502, "api_error"),
        "not-json": (502, "api_error"),
        "html": (502, "api_error"),
    }
    config: Any = {
        "providers": {
            "shed": {"address": served.address("shed"), "retries": {"max": 0}},
            "gone": {"address": "http://127.0.0.1:9", "retries": {"max": 0}},
        }
    }
    with relaying(config) as relay:
        for fault, (status, kind) in rows.items():
            for streams in (False, True):
                body = {
                    "model": f"loam-2b+{fault}@shed",
                    "messages": [{"role": "user", "content": "x"}],
                    "stream": streams,
                }
                got, said, headers = relay.call("/v1/messages", body)
                assert (fault, got, said["error"]["type"]) == (fault, status, kind)
                assert headers["agouti-attempts"].startswith("shed/loam-2b+")
                if status == 429:
                    assert headers["retry-after"] == "7"
        assert relay.ask("m@gone")[0] == 502
        # In the middle of a stream, it is an event of the caller's format.
        for form, body in (
            ("messages", {"messages": [{"role": "user", "content": "x"}]}),
            ("chat/completions", {"messages": [{"role": "user", "content": "x"}]}),
            ("responses", {"input": "x"}),
            ("completions", {"prompt": "x"}),
        ):
            for fault in ("error=3", "cut=3"):
                asked = {"model": f"loam-2b+{fault}@shed", "stream": True, **body}
                data = POOL.request("POST", f"{relay.address}/v1/{form}", body=json.dumps(asked)).data
                assert b"error" in data.split(b"\n\n")[-2], (form, fault, data[-300:])
                assert b"[DONE]" not in data
                assert b"message_stop" not in data


def test_the_log_has_no_secret_and_nothing_that_was_said(
    relay: Running, tokens: TokenFile, served: Served, caplog: pytest.LogCaptureFixture
) -> None:
    text = token(tokens, "logged")
    assert until(lambda: any(each.name == "logged" for each in relay.relay.tokens.tokens()))
    with caplog.at_level("DEBUG", "agouti"):
        relay.ask("almanac", "Where is the crocodile buried?", token=text)
        relay.ask("nix\nforged line", "Where is the crocodile buried?", token=text)
        relay.ask("almanac", "Where is the crocodile buried?", token=text + "x")
        assert until(lambda: "almanac" in caplog.text)
    said = caplog.text + json.dumps([str(each) for each in relay.relay.recent_calls.latest])
    for secret in (text, "crocodile", *served.environment.values()):
        assert secret not in said
    assert "logged" in said
    assert "\nforged" not in caplog.text


def test_a_defect_is_told_without_anybodys_words(
    relay: Running, tokens: TokenFile, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    text = token(tokens, "club")
    assert until(lambda: relay.ask("almanac-local", token=text)[0] == 200)

    def broken(*_: Any) -> None:
        raise KeyError("Where is the crocodile buried?")

    monkeypatch.setattr(relay.relay.answers, "call_of", broken)
    with caplog.at_level("DEBUG", "agouti"):
        status, said, _ = relay.ask("almanac-local", "Where is the crocodile buried?", token=text)
    assert (status, said["error"]["type"]) == (500, "server_error")
    assert "KeyError in " in caplog.text
    assert "crocodile" not in caplog.text + json.dumps(said)


def test_many_ask_while_tokens_change(relay: Running, tokens: TokenFile) -> None:
    text = token(tokens, "steady")
    assert until(lambda: relay.ask("almanac-local", token=text)[0] == 200)
    stop = threading.Event()

    def change() -> None:
        for number in range(30):
            tokens.add(new_token(f"other-{number}")[1])
            if number % 2:
                tokens.remove(f"other-{number}")
            if stop.wait(0.02):
                return

    thread = threading.Thread(target=change)
    thread.start()
    try:
        with ThreadPoolExecutor(8) as pool:
            assert set(pool.map(lambda _: relay.ask("almanac-local", token=text)[0], range(200))) == {200}
    finally:
        stop.set()
        thread.join()
