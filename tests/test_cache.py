"""The cache: equal questions answered from disk, whole answers only, one request for many who ask at once."""

import asyncio
import json
import os
import sqlite3
import threading
import time
from collections.abc import Iterator
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.cache.store import AnswerStore
from agouti.core.http.exchange import HttpReply
from agouti.testing import AsyncFakeTransport, FakeTransport

from .hostile.kit import END, STREAM, Connection, RawServer, answer, piece, reply, serving


def said(text: str, reason: str = "stop", **more: Any) -> dict[str, Any]:
    return {"choices": [{"message": {"content": text, **more}, "finish_reason": reason}], "usage": {"prompt_tokens": 5, "completion_tokens": 7, "total_tokens": 12}, "model": "m-1"}  # fmt: skip


def configured(folder: Path, address: str = "https://p.example/v1", **cache: Any) -> agouti.Config:
    price = {"input": 1.0, "output": 2.0, "currency": "USD"}
    return agouti.load_config(
        {
            "providers": {"p": {"address": address, "retries": {"max": 0}}, "q": {"address": "https://q.example/v1"}},
            "models": {
                "a": {"provider": "p", "name": "m", "price": price},
                "b": {"provider": "p", "name": "m", "price": price, "system": "Brief."},
            },
            "cache": {"store": str(folder / "answers.sqlite"), **cache},
            "ledger": {"store": str(folder / "usage.sqlite")},
        }
    )


def test_equal_question_is_answered_from_disk_and_costs_nothing(tmp_path: Path) -> None:
    fake = FakeTransport([said("In March.")])
    with agouti.Client(configured(tmp_path), transport=fake) as client:
        first = client.ask("a", "When do peas go in?", temperature=0, tags={"for": "x"})
        again = client.ask("a", "When do peas go in?", temperature=0)
    with agouti.Client(configured(tmp_path), transport=FakeTransport([])) as client:
        later = client.ask("a", [{"role": "user", "content": "When do peas go in?"}], temperature=0)
        [row] = client.usage(by=["label"]).rows
    assert [(each.text, each.cached, each.cost, each.usage.output_tokens) for each in (first, again, later)] == [
        ("In March.", False, pytest.approx(19e-6), 7),
        ("In March.", True, 0.0, 7),
        ("In March.", True, 0.0, 7),
    ]
    assert again.attempts[0].outcome == "cached"
    assert again.model == "m-1"
    assert (row.calls, row.cached_answers, row.output_tokens, row.failures) == (1, 2, 7, 0)
    assert float(sum(row.cost.values())) == pytest.approx(19e-6)
    base = sqlite3.connect(tmp_path / "usage.sqlite")
    assert [found for (found,) in base.execute("SELECT outcome FROM attempts ORDER BY at")] == ["answered", "cached", "cached"]  # fmt: skip
    base.close()
    assert (tmp_path / "answers.sqlite").stat().st_mode & 0o777 == 0o600


ASKED: list[tuple[str, dict[str, Any]]] = [
    ("a", {}),
    ("b", {}),
    ("a", {"system": "Other."}),
    ("a", {"max_tokens": 5}),
    ("a", {"seed": 2}),
    ("a", {"extra": {"odd": 1}}),
    ("a", {"examples": [("x", "y")]}),
    ("a", {"tools": [{"type": "function", "function": {"name": "f", "parameters": {}}}]}),
    ("a", {"response_format": {"type": "json_object"}}),
    ("m@q", {}),
    ("n@p", {}),
    ("a", {"headers": {"x-tenant": "south"}}),
    ("a", {"headers": {"x-tenant": "north"}}),
]


def test_other_questions_are_other_questions(tmp_path: Path) -> None:
    fake = FakeTransport([said(str(number)) for number in range(len(ASKED))])
    with agouti.Client(configured(tmp_path), transport=fake) as client:
        for _ in range(2):
            answers = [client.ask(label, "Peas?", temperature=0, **options).text for label, options in ASKED]
            assert answers == [str(number) for number in range(len(ASKED))]
    assert len(fake.requests) == len(ASKED)


ENTRIES: list[dict[str, Any]] = [
    {},
    {"address": "https://other.example/v1"},
    {"headers": {"x-account": "marsh-lane"}},
    {"headers": {"x-account": "mill-lane"}},
    {"add": {"tier": "slow"}},
    {"drop": ["temperature"]},
    {"rename": {"temperature": "warmth"}},
    {"query": {"version": "2"}},
    {"paths": {"chat": "/chat"}},
    {"key": {"env": "FIRST_PASS"}},
    {"key": {"env": "OTHER_PASS"}},
    {"address": "https://p.example/{place}/v1", "values": {"place": {"env": "FIRST_PASS"}}},
    {"address": "https://p.example/{place}/v1", "values": {"place": {"env": "OTHER_PASS"}}},
    {"query": {"version": {"env": "FIRST_PASS"}}},
    {"add": {"tier": {"env": "FIRST_PASS"}}},
    {"add": {"tier": {"env": "OTHER_PASS"}}},
]


def test_entries_that_send_other_requests_share_no_answer(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever an entry adds, takes out or calls otherwise, and whose key it is: another account is another question."""
    monkeypatch.setenv("FIRST_PASS", "first-account-1234")
    monkeypatch.setenv("OTHER_PASS", "other-account-1234")
    for round_ in range(2):
        for number, more in enumerate(ENTRIES):
            entry = {"address": "https://p.example/v1", **more}
            fake = FakeTransport([said(str(number))] if not round_ else [])
            made = {"providers": {"p": entry}, "cache": {"store": str(tmp_path / "answers.sqlite")}}
            with agouti.Client(made, transport=fake) as client:
                reply = client.ask("m@p", "Peas?", temperature=0)
            assert (reply.text, reply.cached) == (str(number), bool(round_)), more


@pytest.mark.parametrize(
    ("options", "settings", "kept"),
    [
        ({"temperature": 0}, {}, True),
        ({"temperature": 0.0}, {}, True),
        ({}, {}, False),
        ({"temperature": 0.2}, {}, False),
        ({"cache": True}, {}, True),
        ({"temperature": 0, "cache": False}, {}, False),
        ({}, {"always": True}, True),
        ({"cache": False}, {"always": True}, False),
    ],
)
def test_what_is_kept(tmp_path: Path, options: dict[str, Any], settings: dict[str, Any], kept: bool) -> None:
    fake = FakeTransport([said("one"), said("two")])
    with agouti.Client(configured(tmp_path, **settings), transport=fake) as client:
        assert client.ask("a", "Peas?", **options).text == "one"
        assert client.ask("a", "Peas?", **options).cached is kept
        with pytest.raises(agouti.RequestError, match="neither True nor False"):
            client.ask("a", "Peas?", cache="yes")  # type: ignore[arg-type]


@pytest.mark.parametrize(
    "first",
    [
        said("cut", "length"),
        said("", "stop"),
        said("no", "content_filter"),
        said("", "stop", refusal="I will not."),
        said("odd", "error"),
        {"choices": [{"message": {"content": "no reason"}}]},
        HttpReply(500, {}, b"{}"),
        b"<html>",
    ],
)
def test_only_whole_answers_are_kept(tmp_path: Path, first: Any) -> None:
    fake = FakeTransport([first, said("whole")])
    with agouti.Client(configured(tmp_path), transport=fake) as client:
        with suppress(agouti.AgoutiError):
            client.ask("a", "Peas?", temperature=0)
        second = client.ask("a", "Peas?", temperature=0)
        assert (second.text, second.cached, len(fake.requests)) == ("whole", False, 2)
        assert client.ask("a", "Peas?", temperature=0).cached


def test_streams_and_json_are_answered_too(tmp_path: Path) -> None:
    call = {"id": "c1", "type": "function", "function": {"name": "f", "arguments": '{"a": 1}'}}
    fake = FakeTransport([said("In March.", reasoning_content="Cold soil."), said("", "tool_calls", tool_calls=[call])])
    with agouti.Client(configured(tmp_path), transport=fake) as client:
        with client.stream("a", "Peas?", temperature=0) as stream:
            assert "".join(stream) == "In March."
        with client.stream("a", "Peas?", temperature=0) as stream:
            assert "".join(stream) == "In March."
            assert (stream.reply.cached, stream.reply.reasoning, stream.reply.usage.total_tokens) == (True, "Cold soil.", 12)  # fmt: skip
        body = {"model": "a", "messages": [{"role": "user", "content": "Peas?"}], "temperature": 0}
        assert client.exchange(body)["choices"][0]["message"]["content"] == "In March."
        chunks = list(client.exchange_stream({**body, "stream_options": {"include_usage": True}}))
        assert chunks[-1]["usage"]["total_tokens"] == 12
        for _ in range(2):
            assert client.ask("a", "Call it.", temperature=0).calls[0].arguments == {"a": 1}
    assert len(fake.requests) == 2


def test_stream_that_is_left_or_cut_is_not_kept(tmp_path: Path) -> None:
    def behave(connection: Connection, number: int) -> None:
        connection.write(STREAM + piece("In ") + piece("March."))
        if number == 0:
            time.sleep(0.2)  # it is left meanwhile
        elif number == 1:
            connection.sock.close()
        else:
            connection.write(piece("", "stop") + END)

    with serving(behave) as server, agouti.Client(configured(tmp_path, server.address)) as client:
        with client.stream("a", "Peas?", temperature=0) as stream:
            next(iter(stream))
        with pytest.raises(agouti.StreamCut):
            with client.stream("a", "Peas?", temperature=0) as stream:
                list(stream)
        for cached in (False, True):
            with client.stream("a", "Peas?", temperature=0) as stream:
                assert "".join(stream) == "In March."
            assert stream.reply.cached is cached


@pytest.fixture
def slow() -> Iterator[RawServer]:
    def behave(connection: Connection, number: int) -> None:
        time.sleep(0.15)
        question = connection.question
        if "broken" in question and number == 0:
            connection.write(reply(b'{"error": {"message": "no"}}', "400 No"))
        else:
            connection.write(answer(f"<{question}>"))

    with serving(behave) as server:
        yield server


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_many_who_ask_the_same_at_once_ask_once(tmp_path: Path, slow: RawServer, kind: str) -> None:
    config = configured(tmp_path, slow.address)
    if kind == "sync":
        came: list[str] = []
        with agouti.Client(config) as client:
            threads = [
                threading.Thread(target=lambda n=number: came.append(client.ask("a", f"Bed {n % 3}?", temperature=0).text))
                for number in range(24)
            ]  # fmt: skip
            [thread.start() for thread in threads]
            [thread.join() for thread in threads]
    else:

        async def run() -> list[str]:
            async with agouti.AsyncClient(config) as client:
                replies = await asyncio.gather(*[client.ask("a", f"Bed {n % 3}?", temperature=0) for n in range(24)])
                return [each.text for each in replies]

        came = asyncio.run(run())
    assert sorted(came) == sorted(f"<Bed {number % 3}?>" for number in range(24))
    assert sorted(slow.questions) == ["Bed 0?", "Bed 1?", "Bed 2?"]


def test_whoever_waits_does_not_share_an_error_or_a_cancellation(tmp_path: Path, slow: RawServer) -> None:
    async def run() -> None:
        async with agouti.AsyncClient(configured(tmp_path, slow.address)) as client:
            asked = [asyncio.ensure_future(client.ask("a", "broken", temperature=0)) for _ in range(3)]
            done = await asyncio.gather(*asked, return_exceptions=True)
            assert [type(each).__name__ for each in done] == ["RequestRefused", "Reply", "Reply"]
            assert len(slow.questions) == 2
            first = asyncio.ensure_future(client.ask("a", "left", temperature=0))
            await asyncio.sleep(0.05)
            second = asyncio.ensure_future(client.ask("a", "left", temperature=0))
            await asyncio.sleep(0.02)
            first.cancel()
            assert (await second).text == "<left>"
            third = asyncio.ensure_future(client.ask("a", "late", temperature=0))
            await asyncio.sleep(0.02)
            with pytest.raises(agouti.DeadlineExceeded):
                await client.ask("a", "late", temperature=0, deadline=0.05)
            assert (await third).text == "<late>"

    asyncio.run(run())


def test_age_and_size_have_limits(tmp_path: Path) -> None:
    config = configured(tmp_path, keep_days=0.5 / 86400, max_megabytes=1)
    fake = FakeTransport([said("x" * 150_000) for _ in range(12)])
    with agouti.Client(config, transport=fake) as client:
        client.ask("a", "Peas?", temperature=0)
        assert client.ask("a", "Peas?", temperature=0).cached
        time.sleep(0.6)
        assert not client.ask("a", "Peas?", temperature=0).cached
        for number in range(10):
            client.ask("a", f"Bed {number}?", temperature=0)
    base = sqlite3.connect(tmp_path / "answers.sqlite")
    [(total, count)] = base.execute("SELECT sum(size), count(*) FROM answers")
    assert 300_000 < total <= 1_000_000
    assert count < 9
    base.close()
    with agouti.Client(configured(tmp_path, max_megabytes=1), transport=FakeTransport([])) as client:
        assert client.ask("a", "Bed 9?", temperature=0).cached  # the oldest ones go first


def test_answers_that_the_providers_memory_has_a_part_in_are_not_kept(tmp_path: Path) -> None:
    fake = FakeTransport([said("x"), said("y"), said("z")])
    with agouti.Client(configured(tmp_path, always=True), transport=fake) as client:
        for extra in ({"previous_response_id": "r7"}, {"previous_response_id": "r7"}, {}):
            assert not client.ask("a", "Peas?", temperature=0, extra=extra).cached


@pytest.mark.parametrize("what", ["text", "other database", "folder", "no folder"])
def test_file_that_is_something_else_is_an_error_and_stays(tmp_path: Path, what: str) -> None:
    path = tmp_path / "answers.sqlite"
    if what == "text":
        path.write_text("my notes, which are longer than the head of a database " * 3)
    elif what == "other database":
        base = sqlite3.connect(path)
        base.execute("CREATE TABLE beds (name)")
        base.commit()
        base.close()
    elif what == "folder":
        path.mkdir()
    folder = tmp_path / "gone" if what == "no folder" else tmp_path
    before = path.read_bytes() if path.is_file() else b""
    with pytest.raises(agouti.ConfigError, match=r"cache|answers") as caught:
        agouti.Client(configured(folder), transport=FakeTransport([said("x")]))
    assert caught.value.hint
    assert (path.read_bytes() if path.is_file() else b"") == before


def test_cache_that_breaks_or_is_busy_fails_no_call(tmp_path: Path, caplog: pytest.LogCaptureFixture) -> None:
    fake = FakeTransport([said("one"), said("two"), said("three")])
    with agouti.Client(configured(tmp_path), transport=fake) as client:
        assert client.ask("a", "Peas?", temperature=0).text == "one"
        other = sqlite3.connect(tmp_path / "answers.sqlite", isolation_level=None)
        other.execute("BEGIN IMMEDIATE")
        began = time.monotonic()
        assert client.ask("a", "Beans?", temperature=0).text == "two"  # it is not kept
        assert time.monotonic() - began < 4  # SQLite itself would wait for five
        other.execute("UPDATE answers SET answer = x'00ff'")
        other.execute("COMMIT")
        other.close()
        assert client.ask("a", "Peas?", temperature=0).text == "three"
    assert sum("cache cannot be used" in record.message for record in caplog.records) == 1


def test_fork_goes_on_with_the_same_file(tmp_path: Path) -> None:
    with agouti.Client(configured(tmp_path), transport=FakeTransport([said("one"), said("two")])) as client:
        client.ask("a", "Peas?", temperature=0)
        child = os.fork()
        if child == 0:
            told = 1
            try:
                cached = client.ask("a", "Peas?", temperature=0).cached
                fresh = client.ask("a", "Beans?", temperature=0).cached
                told = 0 if cached and not fresh else 2
            finally:
                os._exit(told)
        assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0
        assert client.ask("a", "Beans?", temperature=0).cached


def test_batch_shows_what_was_cached(tmp_path: Path) -> None:
    async def run() -> Any:
        fake = AsyncFakeTransport([said("one")])
        async with agouti.AsyncClient(configured(tmp_path), transport=fake) as client:
            return await agouti.batch(
                client, "a", ["Peas?"] * 5, temperature=0, concurrency=5, out=tmp_path / "o.jsonl"
            )

    made = asyncio.run(run())
    assert (made.done, made.costs["USD"]) == (5, pytest.approx(19e-6))
    rows = [json.loads(line) for line in (tmp_path / "o.jsonl").read_text().splitlines()]
    assert sorted(row.get("cached", False) for row in rows) == [False, True, True, True, True]


def test_age_and_size_hold_over_all_programs(tmp_path: Path) -> None:
    store = tmp_path / "answers.sqlite"
    four = [AnswerStore(store, keep_days=1, max_bytes=400_000) for _ in range(4)]
    for number in range(400):
        four[number % 4].put(number.to_bytes(24, "big"), bytes(4000))
    with closing(sqlite3.connect(store)) as base:
        [(size,)] = base.execute("SELECT sum(size) FROM answers")
        assert size <= 1.3 * 400_000
        with base:
            base.execute("UPDATE answers SET at = at - 90000")
    AnswerStore(store, keep_days=1, max_bytes=400_000).close()  # the next program that opens it
    with closing(sqlite3.connect(store)) as base:
        assert base.execute("SELECT count(*) FROM answers").fetchone() == (0,)
    for each in four:
        each.close()


@pytest.mark.parametrize("when", ["before", "while it is open"])
def test_a_damaged_cache_is_put_aside_and_begun_anew(tmp_path: Path, when: str) -> None:
    """With a warning; a file that is no database is somebody's, and stays where it is."""
    store = tmp_path / "answers.sqlite"
    opened = AnswerStore(store, keep_days=None, max_bytes=10**9)
    other = AnswerStore(store, keep_days=None, max_bytes=10**9)  # of another program
    for number in range(300):
        opened.put(number.to_bytes(24, "big"), os.urandom(4000))
    if when == "before":
        opened.close()
    else:
        opened._connection().execute("PRAGMA wal_checkpoint(TRUNCATE)")
    data = bytearray(store.read_bytes())
    data[100:] = os.urandom(len(data) - 100)
    store.write_bytes(data)
    with pytest.warns(agouti.AgoutiWarning, match="was damaged"):
        if when == "before":
            opened = AnswerStore(store, keep_days=None, max_bytes=10**9)
        else:
            opened._connection().close()
            opened._base = sqlite3.connect(store, isolation_level=None, check_same_thread=False)
            with pytest.raises(sqlite3.Error) as damaged:
                opened.get(bytes(24))
            assert opened.recover(damaged.value)
    opened.put(bytes(24), b"again")
    # The other one finds the damage later, and moves nothing that is good.
    assert other.recover(sqlite3.DatabaseError("database disk image is malformed"))
    assert (other.get(bytes(24)), opened.get(bytes(24))) == (b"again", b"again")
    opened.close()
    other.close()
    assert len([path for path in tmp_path.iterdir() if ".damaged-" in path.name]) == 1
    (tmp_path / "letters.txt").write_text("Dear club, " * 100)
    with pytest.raises(agouti.ConfigError):
        AnswerStore(tmp_path / "letters.txt", keep_days=None, max_bytes=10**9)
    assert (tmp_path / "letters.txt").read_text().startswith("Dear club")
