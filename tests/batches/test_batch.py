"""Batches from code: rows of every kind, what is asked of them, what is kept, and what ends a run."""

import asyncio
import base64
import csv
import json
import os
import resource
import sqlite3
import subprocess
import sys
import textwrap
import threading
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import pandas
import pytest

import agouti
from agouti.batches.concurrency import Pace
from agouti.batches.in_memory import Memory
from agouti.batches.prompts import RowPrompt
from agouti.batches.run import Work
from agouti.batches.types import Settings, Source, Unit
from agouti.core.http.exchange import HttpReply
from agouti.engine.call import CLOCKS
from agouti.standins.server import Served
from agouti.tables.row_files import Row
from agouti.testing import AsyncFakeTransport, FakeTransport

from ..hostile.kit import Connection, RawServer, answer, config, reply, serving

NOTES = [{"id": f"n{number}", "note": f"bed {number}"} for number in range(6)]


def said(text: str) -> dict[str, Any]:
    return {"choices": [{"message": {"content": text}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 3, "completion_tokens": 2}}  # fmt: skip


def echo(connection: Connection, _: int) -> None:
    question = connection.question
    if "refused" in question:
        connection.write(reply(b'{"error": {"message": "no such words"}}', "400 No"))
    elif "locked" in question:
        connection.write(reply(b'{"error": {"message": "no"}}', "401 No"))
    else:
        connection.write(answer(f"<{question}>"))


@pytest.fixture
def server() -> Iterator[RawServer]:
    with serving(echo) as running:
        yield running


@pytest.fixture
def client(server: RawServer) -> Iterator[agouti.Client]:
    with agouti.Client(config(server)) as made:
        yield made


def written(path: Path) -> list[dict[str, Any]]:
    return [json.loads(line) for line in path.read_text().splitlines()]


def of_file(name: str, folder: Path) -> Any:
    path = folder / name
    if name == "frame":
        return pandas.DataFrame({"id": ["n0", "n1"], "note": ["bed 0", None]})
    if name == "generator":
        return (row for row in NOTES[:2])
    if name == "texts":
        return ["bed 0", "bed 1"]
    if name.endswith(".parquet"):
        pandas.DataFrame(NOTES[:2]).to_parquet(path)
    elif name.endswith(".csv"):
        path.write_text('id;note\nn0;"bed\n0"\nn1;bed 1\n')
    elif name.endswith(".jsonl"):
        path.write_text("".join(json.dumps(row) + "\n\n" for row in NOTES[:2]))
    else:
        path.write_text("bed 0\n\n bed 1 \n")
    return path


@pytest.mark.parametrize(
    ("name", "prompts"),
    [
        ("rows.jsonl", ["Is bed 0 well? {weed}", "Is bed 1 well? {weed}"]),
        ("rows.csv", ["Is bed\n0 well? {weed}", "Is bed 1 well? {weed}"]),
        ("rows.parquet", ["Is bed 0 well? {weed}", "Is bed 1 well? {weed}"]),
        ("rows.txt", ["Is bed 0 well? {weed}", "Is bed 1 well? {weed}"]),
        ("frame", ["Is bed 0 well? {weed}", "Is  well? {weed}"]),
        ("generator", ["Is bed 0 well? {weed}", "Is bed 1 well? {weed}"]),
        ("texts", ["Is bed 0 well? {weed}", "Is bed 1 well? {weed}"]),
    ],
)
def test_rows_of_every_kind(
    client: agouti.Client, server: RawServer, tmp_path: Path, name: str, prompts: list[str]
) -> None:
    column = "text" if name in ("texts", "rows.txt") else "note"
    made = agouti.batch(client, "m@p", of_file(name, tmp_path), prompt=f"Is {{{column}}} well? {{weed}}")
    assert [row.answer for row in made] == [f"<{prompt}>" for prompt in prompts]
    assert (made.done, made.failed, made.already_done, [row.key for row in made]) == (2, 0, 0, [1, 2])


def test_requests_of_the_trade_are_rows(client: agouti.Client, server: RawServer, tmp_path: Path) -> None:
    rows = tmp_path / "requests.jsonl"
    lines = [
        {"custom_id": name, "method": "POST", "url": "/v1/chat/completions",
         "body": {"model": "theirs", "messages": [{"role": "user", "content": name}], "seed": 7, "odd": [1]}}
        for name in ("a", "b")
    ]  # fmt: skip
    lines.append({"custom_id": "c", "body": {"messages": "none"}})
    rows.write_text("".join(json.dumps(line) + "\n" for line in lines))
    made = agouti.batch(client, "m@p", rows, out=tmp_path / "o.jsonl", preserve_order=True)
    assert [(row.key, row.answer) for row in made] == [("a", "<a>"), ("b", "<b>"), ("c", None)]
    found = written(tmp_path / "o.jsonl")
    assert found[0]["response"]["body"]["choices"][0]["message"]["content"] == "<a>"
    sent = json.loads(server.requests[0].partition(b"\r\n\r\n")[2])
    assert (sent["model"], sent["seed"], sent["odd"]) == ("m", 7, [1])
    assert "messages" in found[2]["error"]


def test_images_of_columns_and_rows_that_lack_theirs(client: agouti.Client, server: RawServer, tmp_path: Path) -> None:
    (tmp_path / "shelf").mkdir()
    (tmp_path / "shelf" / "a.gif").write_bytes(b"GIF89a...")
    rows = tmp_path / "shelf" / "rows.csv"
    rows.write_text("name,photo\npea,a.gif\nkale,gone.gif\nbean,\n")
    made = agouti.batch(client, "m@p", rows, prompt="What is on it, {name}?", image_columns=["photo"], out=tmp_path / "o.jsonl", preserve_order=True)  # fmt: skip
    assert [row.error for row in made] == ["", "gone.gif is not there", ""]
    assert sum(b"R0lGODlh" in request for request in server.requests) == 1
    assert len(server.requests) == 2


def test_rows_that_cannot_be_asked_cost_no_other_row(client: agouti.Client, server: RawServer, tmp_path: Path) -> None:
    rows = tmp_path / "rows.jsonl"
    rows.write_text('{"id": 1, "note": "bed"}\n{"id": 2, "note": \n{"id": 3}\n{"id": 4, "note": "refused"}\n{"note": "x"}\n{"id": 5, "note": " "}\n[7]\n')  # fmt: skip
    made = agouti.batch(
        client, "m@p", rows, column="note", id_column="id", out=tmp_path / "o.jsonl", preserve_order=True
    )
    errors = {row.line: row.error for row in made}
    assert list(errors) == [1, 2, 3, 4, 5, 6, 7]
    for line, words in ((2, "not JSON"), (3, "no column 'note'"), (4, "RequestRefused"), (5, "no column 'id'"), (6, "empty"), (7, "no column 'id'")):  # fmt: skip
        assert words in errors[line], errors
    assert (made.done, made.failed, sorted(server.questions)) == (1, 6, ["bed", "refused"])
    rows.write_text('{"id": 1, "note": "bed"}\n{"id": 4, "note": "mended"}\n{"id": 3, "note": "new"}\n')
    again = agouti.batch(
        client, "m@p", rows, column="note", id_column="id", out=tmp_path / "o.jsonl", retry_failed=True
    )
    assert (again.done, again.already_done) == (2, 1)
    assert Counter(row["key"] for row in written(tmp_path / "o.jsonl"))[4] == 1


@pytest.mark.parametrize(
    ("options", "words", "hint"),
    [
        ({"prompt": "Is {nots} well?"}, "there is no such column", "note"),
        ({"prompt": "Is it well?"}, "every row would be asked the same", "{id}, {note}"),
        ({"prompt": "Is {anything} well?"}, "{anything}", "id, note"),
        ({"column": "nota"}, "no column 'nota'", "note"),
        ({"id_column": "kind"}, "lines 1 and 2 have the same kind", "tells all rows apart"),
        ({"id_column": "idd"}, "no column 'idd'", "id"),
        ({"prompt": "{note}", "column": "note"}, "exclude", ""),
        ({"image_columns": ["photo"]}, "no column 'photo'", "Known columns"),
        ({"out": "o.xls"}, "no suffix", ".jsonl"),
        ({"out": "no/such/o.jsonl"}, "no folder", ""),
        ({"out": "o.npz"}, "is for vectors", "embed"),
        ({"retry_failed": True}, "goes with out", "out="),
        ({"restart": True, "ignore_changes": True, "out": "o.jsonl"}, "exclude", ""),
        ({"limit": 0}, "out of range", "from 1"),
        ({"concurrency": True}, "out of range", "from 1"),
        ({"temprature": 1}, "no option 'temprature'", "temperature"),
        ({"temperature": "hot"}, "temperature", ""),
        ({"embed": True, "form": int}, "exclude", ""),
        ({"dimensions": 3}, "goes with embed", ""),
        ({"max_repairs": 3}, "goes with form", ""),
        ({"budget": 1.0}, "has none", "price"),
    ],
)
def test_wrong_arguments_send_nothing_and_leave_nothing(
    client: agouti.Client, server: RawServer, tmp_path: Path, options: dict[str, Any], words: str, hint: str
) -> None:
    if "out" in options:
        options = {**options, "out": tmp_path / options["out"]}
    rows = [{**row, "kind": "bed"} for row in NOTES]
    with pytest.raises(agouti.RequestError, match=words.replace("{", r"\{")) as caught:
        agouti.batch(client, "m@p", rows if options.get("id_column") == "kind" else NOTES, **options)
    assert hint in caught.value.hint
    assert not server.requests
    assert not list(tmp_path.iterdir())


@pytest.mark.parametrize(
    ("change", "name"),
    [
        ({"prompt": "See {note}"}, "prompt"),
        ({"prompt": None, "column": "note"}, "column"),
        ({"temperature": 0.5}, "temperature"),
        ({"system": "Be brief."}, "system"),
        ({"form": int}, "form"),
        ({"id_column": None}, "id_column"),
        ({"label": "n@p"}, "label"),
    ],
)
def test_what_was_asked_otherwise_is_not_mixed(
    client: agouti.Client, server: RawServer, tmp_path: Path, change: dict[str, Any], name: str
) -> None:
    out = tmp_path / "o.jsonl"
    first = {"prompt": "Is {note} well?", "id_column": "id", "out": out}
    agouti.batch(client, "m@p", NOTES[:3], **first)
    kept = out.read_bytes()
    asked = {**first, **change}
    label = asked.pop("label", "m@p")
    with pytest.raises(agouti.RequestError, match=rf"another run: .*{name}"):
        agouti.batch(client, label, NOTES, **asked)
    assert out.read_bytes() == kept
    if name in ("prompt", "temperature", "label"):
        going_on = agouti.batch(client, label, NOTES, ignore_changes=True, **asked)
        assert (going_on.already_done, going_on.done) == (3, 3)
        assert len(written(out)) == 6
    anew = agouti.batch(client, "m@p", NOTES[:1], restart=True, **first)
    assert (anew.done, len(written(out))) == (1, 1)


def test_rows_that_have_changed_are_asked_again_by_their_key(client: agouti.Client, tmp_path: Path) -> None:
    out = tmp_path / "o.jsonl"
    agouti.batch(client, "m@p", NOTES, column="note", id_column="id", out=out)
    rows = [{**NOTES[2], "note": "weeded"}, *NOTES[3:], {"id": "n9", "note": "bed 9"}]
    made = agouti.batch(client, "m@p", rows, column="note", id_column="id", out=out, preserve_order=True)
    assert (made.already_done, made.done) == (3, 2)
    keys = [row["key"] for row in written(out)]
    assert (keys[:5], sorted(keys[5:])) == (["n2", "n3", "n4", "n5", "n9"], ["n0", "n1"])
    assert written(out)[0]["answer"] == "<weeded>"
    numbered = tmp_path / "numbers.jsonl"
    agouti.batch(client, "m@p", NOTES, column="note", out=numbered)
    with pytest.raises(agouti.RequestError, match="other rows"):
        agouti.batch(client, "m@p", rows, column="note", out=numbered)
    assert len(written(numbered)) == 6


@pytest.mark.parametrize("damage", ["no journal", "torn", "shorter", "other journal", "edited", "empty"])
def test_damaged_files_lose_and_repeat_nothing(
    client: agouti.Client, server: RawServer, tmp_path: Path, damage: str
) -> None:
    out, journal = tmp_path / "o.jsonl", tmp_path / ".o.jsonl.journal"
    asking = {"column": "note", "id_column": "id", "out": out}
    agouti.batch(client, "m@p", NOTES[:4], concurrency=1, **asking)
    lines = out.read_bytes().splitlines(keepends=True)
    gone = 0
    if damage == "no journal":
        journal.unlink()
        with pytest.raises(agouti.RequestError, match="how its rows were asked"):
            agouti.batch(client, "m@p", NOTES, **asking)
        asking["ignore_changes"] = True
    elif damage == "torn":
        with out.open("ab") as file:
            file.write(b'{"key":"n5","answer":"half')
    elif damage == "shorter":
        out.write_bytes(b"".join(lines[:2]))
        gone = 2
    elif damage == "other journal":
        journal.write_text("my notes")
        with pytest.raises(agouti.RequestError, match="something else"):
            agouti.batch(client, "m@p", NOTES, **asking)
        assert journal.read_text() == "my notes"
        journal.unlink()
        asking["ignore_changes"] = True
    elif damage == "edited":
        out.write_bytes(b"".join(lines[::-1]) + b"\n")
        with pytest.raises(agouti.RequestError, match="no result of rows"):
            agouti.batch(client, "m@p", NOTES, **asking)
        out.write_bytes(b"".join(lines[::-1]))
    else:
        out.write_bytes(b"")
        with pytest.raises(agouti.RequestError, match="4 results are gone"):
            agouti.batch(client, "m@p", NOTES, **asking)
        gone, asking["ignore_changes"] = 4, True
    before = len(server.questions)
    made = agouti.batch(client, "m@p", NOTES, **asking)
    assert (made.done, made.already_done) == (2 + gone, 4 - gone)
    assert len(server.questions) - before == 2 + gone
    assert sorted(row["key"] for row in written(out)) == [f"n{number}" for number in range(6)]


@pytest.mark.parametrize("suffix", [".csv", ".parquet"])
def test_tables_have_all_columns_and_go_on(client: agouti.Client, tmp_path: Path, suffix: str) -> None:
    out = tmp_path / f"o{suffix}"
    rows = [{"line": "=1+1", "answer": "a\rb", "n": 1}, {"line": "x", "answer": "refused", "n": 2.5}]
    made = agouti.batch(client, "m@p", rows, column="answer", out=out)
    assert (made.done, made.failed) == (1, 1)
    if suffix == ".csv":
        with out.open(newline="") as file:
            found: list[dict[str, Any]] = list(csv.DictReader(file))
        assert any("spreadsheet" in remark for remark in made.warnings)
    else:
        found = pandas.read_parquet(out).to_dict("records")
    assert [row["line"] for row in found] == ["=1+1", "x"]
    assert [row["answer"] for row in found] == ["a\rb", "refused"]
    assert found[0]["result_answer"] == "<a\rb>"
    assert "RequestRefused" in found[1]["error"]
    again = agouti.batch(client, "m@p", [rows[0], {**rows[1], "answer": "refused"}], column="answer", out=out)
    assert (again.done, again.already_done, again.failed) == (0, 2, 1)


def test_what_holds_for_all_rows_ends_it_and_what_came_is_kept(
    client: agouti.Client, server: RawServer, tmp_path: Path
) -> None:
    out = tmp_path / "o.jsonl"
    rows = [*["bed"] * 9, *["locked"] * 300]
    with pytest.raises(agouti.CredentialRefused):
        agouti.batch(client, "m@p", rows, out=out, concurrency=2)
    assert len(written(out)) in (8, 9)
    assert len(server.questions) <= 12
    out = tmp_path / "same.jsonl"
    with pytest.raises(agouti.RequestError, match=r"the last 25 rows failed.*no such words"):
        agouti.batch(client, "m@p", ["refused"] * 400, out=out, concurrency=1)
    assert len(written(out)) == 25
    made = agouti.batch(client, "m@p", ["refused"] * 40, concurrency=4, max_same_failures=0)
    assert (made.failed, len(made.failures)) == (40, 3)


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_refusals_and_outages_are_waited_out(kind: str) -> None:
    busy = HttpReply(429, {"retry-after": "0"}, b'{"error": {"message": "slow down"}}')
    away = HttpReply(503, {}, b"{}")
    answers = [busy] * 4 + [said("a"), away, away, said("b")]
    entry = {"providers": {"p": {"address": "https://p.example/v1", "retries": {"max": 0}}}}
    if kind == "sync":
        with agouti.Client(entry, transport=FakeTransport(answers)) as client:
            made = agouti.batch(client, "m@p", ["one", "two"], concurrency=1)
    else:

        async def run() -> Any:
            async with agouti.AsyncClient(entry, transport=AsyncFakeTransport(answers)) as client:
                return await agouti.batch(client, "m@p", ["one", "two"], concurrency=1)

        made = asyncio.run(run())
    assert [row.answer for row in made] == ["a", "b"]


def test_provider_that_stays_away_ends_it_without_marking_rows(tmp_path: Path) -> None:
    out = tmp_path / "o.jsonl"
    with agouti.Client.at("http://127.0.0.1:9/v1") as client:
        began = time.monotonic()
        with pytest.raises(agouti.ConnectionFailed) as caught:
            agouti.batch(client, "m", ["one", "two"] * 50, out=out, give_up_after=2)
    assert "the same command goes on" in caught.value.hint
    assert time.monotonic() - began < 15
    assert not out.exists()


def test_rows_that_always_fail_leave_the_provider_to_the_others(tmp_path: Path) -> None:
    """Eight calls that fail one after the other would have the provider left alone, by everybody."""

    def behave(connection: Connection, _: int) -> None:
        if "choke" in connection.question:
            connection.write(reply(b"{}", "500 Choked"))
        else:
            connection.write(answer("ok"))

    with serving(behave) as server, agouti.Client(config(server, retries={"max": 0})) as client:
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr("agouti.batches.run._TRIES", 1)
            made = agouti.batch(client, "a", [f"bed {at}" for at in range(5)] + [f"choke {at}" for at in range(12)])
        assert (made.done, made.kinds) == (5, {"ProviderFault": 12})
        assert client.ask("a", "bed").text == "ok"


@pytest.mark.parametrize(
    ("options", "answered", "after"),
    [
        ({}, 0, 25),
        ({}, 3, 100),  # once a row was answered the provider is not to blame so soon
        ({"max_same_failures": 7}, 0, 7),
        ({"max_same_failures": 7}, 3, 28),
        ({"max_same_failures": 0}, 0, 140),
    ],
)
def test_how_many_failures_end_a_run(
    client: agouti.Client, server: RawServer, options: dict[str, Any], answered: int, after: int
) -> None:
    rows = ["bed"] * answered + ["refused"] * 140
    if after == 140:
        assert agouti.batch(client, "m@p", rows, concurrency=1, **options).failed == 140
    else:
        with pytest.raises(agouti.RequestError, match=f"the last {after} rows failed"):
            agouti.batch(client, "m@p", rows, concurrency=1, **options)
    assert len(server.questions) == answered + after


def test_how_long_a_provider_may_stay_away(monkeypatch: pytest.MonkeyPatch) -> None:
    """Five minutes without a success end a run, by a clock of the test's own."""
    now = [0.0]
    clocks = msgspec.structs.replace(CLOCKS, clock=lambda: now[0])
    row = Row(line=1, columns={"text": "one"})
    unit = Unit(1, b"1", row, RowPrompt("one"))
    for patience, waited in ((None, 300), (20.0, 20)):
        now[0] = 0.0
        settings = Settings() if patience is None else Settings(patience=patience)
        work = Work(Source(lambda: [row]), None, Memory(), Pace(1, 1, clocks.clock), settings, clocks, limit=1)  # type: ignore[arg-type]
        tries = 0
        while (wait := work.on_result(unit, agouti.Overloaded("away", wait=5.0), now[0], tries)) is not None:
            now[0] += wait
            tries += 1
        assert waited - 5 <= now[0] <= waited
        assert isinstance(work.stop, agouti.Overloaded)


def test_files_are_looked_for_beside_their_rows_first(client: agouti.Client, server: RawServer, tmp_path: Path) -> None:
    for place in (".", "shelf"):
        (tmp_path / place).mkdir(exist_ok=True)
        (tmp_path / place / "a.gif").write_bytes(b"GIF89a" + place.encode())
    (tmp_path / "shelf" / "rows.csv").write_text("id,photo\n1,a.gif\n")
    agouti.batch(client, "m@p", tmp_path / "shelf" / "rows.csv", prompt="What is {id}?", image_columns=["photo"])
    assert base64.b64encode(b"GIF89ashelf") in server.requests[0]


def test_a_plan_counts_images(client: agouti.Client, tmp_path: Path) -> None:
    price = {"input": 0, "output": 0, "image": 0.25, "currency": "USD"}
    made = {
        "providers": {"p": {"address": "https://p.example/v1"}},
        "models": {"a": {"provider": "p", "name": "m", "price": price}},
    }
    (tmp_path / "a.gif").write_bytes(b"GIF89a...")
    rows = [{"id": 1, "photo": "a.gif"}, {"id": 2, "photo": "a.gif"}, {"id": 3, "photo": ""}]
    with agouti.Client(made, transport=FakeTransport([])) as asking:
        plan = agouti.batch_plan(asking, "a", rows, prompt="What is {id}?", image_columns=["photo"], max_tokens=5)
    assert (plan.to_ask, plan.cost) == (3, 0.5)


def test_what_was_written_is_put_on_the_disk_itself(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    synced: list[int] = []
    monkeypatch.setattr("agouti.batches.run._SYNC", 0.0)
    monkeypatch.setattr("agouti.batches.result_file.os.fsync", synced.append)
    with serving(echo) as server, agouti.Client(config(server)) as client:
        agouti.batch(client, "m@p", ["one", "two", "three"], out=tmp_path / "o.jsonl", concurrency=1)
    assert len(synced) >= 3


def test_lost_request_is_not_paid_twice_of_itself(tmp_path: Path) -> None:
    def lose(connection: Connection, _: int) -> None:
        connection.sock.close()

    with serving(lose) as server, agouti.Client(config(server)) as client:
        made = agouti.batch(client, "m@p", ["one"], out=tmp_path / "o.jsonl")
        once = len(server.questions)
        agouti.batch(client, "m@p", ["one"], out=tmp_path / "o.jsonl")
        assert (made.failed, len(server.questions)) == (1, once)
        agouti.batch(client, "m@p", ["one"], out=tmp_path / "o.jsonl", retry_failed=True)
        assert len(server.questions) == 2 * once


def test_own_limits_are_waited_for_however_long(tmp_path: Path) -> None:
    with serving(echo) as server:
        entry = {"providers": {"p": {"address": server.address, "limits": {"requests_per_second": 20, "wait": 0}}}}
        with agouti.Client(entry) as client:
            made = agouti.batch(client, "m@p", ["bed"] * 50, concurrency=16)
    assert (made.done, made.failed) == (50, 0)
    assert made.seconds >= 1.5


def test_budget_stops_before_it_is_exceeded(served: Served, tmp_path: Path) -> None:
    out = tmp_path / "o.jsonl"
    with agouti.Client(served.config) as client:
        plan = agouti.batch_plan(client, "almanac", ["Peas?"] * 200, max_tokens=20)
        assert plan.cost is not None
        with pytest.raises(agouti.BudgetExceeded):
            agouti.batch(client, "almanac", ["Peas?"] * 200, max_tokens=20, out=out, budget=plan.cost / 4)
        spent = sum(row["cost"] for row in written(out))
        assert 0.15 * plan.cost < spent <= plan.cost / 4
        going_on = agouti.batch(client, "almanac", ["Peas?"] * 200, max_tokens=20, out=out)
        assert going_on.already_done == 200 - going_on.done > 20
        later = agouti.batch_plan(client, "almanac", ["Peas?"] * 300, max_tokens=20, out=out, ignore_changes=True)
        assert (later.to_ask, later.rows, later.at_most) == (100, 300, False)


def test_samples_are_the_same_each_time_and_part_of_the_whole(client: agouti.Client, tmp_path: Path) -> None:
    out = tmp_path / "o.jsonl"
    rows = [f"bed {number}" for number in range(200)]
    first = agouti.batch(client, "m@p", rows, out=out, sample=20)
    again = agouti.batch(client, "m@p", rows, out=out, sample=20)
    assert (first.done, again.done, again.already_done) == (20, 0, 20)
    assert len({row["key"] for row in written(out)} & set(range(1, 101))) < 20
    whole = agouti.batch(client, "m@p", rows, out=out)
    assert (whole.done, whole.already_done) == (180, 20)


def test_vectors_bad_text_costs_only_itself_and_lengths_agree(tmp_path: Path) -> None:
    asked: list[int] = []

    def vectors(connection: Connection, _: int) -> None:
        texts = json.loads(connection.request.partition(b"\r\n\r\n")[2])["input"]
        asked.append(len(texts))
        if any("bad" in text for text in texts):
            connection.write(reply(b'{"error": {"message": "text not wanted"}}', "400 No"))
            return
        rows = [{"index": at, "embedding": [1.0, float(text.split()[1]), *([0.5] if "long" in text else [])]} for at, text in enumerate(texts)]  # fmt: skip
        connection.write(reply(json.dumps({"data": rows, "usage": {"prompt_tokens": len(texts)}}).encode()))

    texts = [f"bed {number}" for number in range(300)]
    texts[7] = "bad 7"
    with serving(vectors) as server, agouti.Client(config(server)) as client:
        made = agouti.batch(client, "m@p", texts, embed=True, out=tmp_path / "o.parquet")
        assert (made.done, made.failed) == (299, 1)
        assert len(asked) < 25
        found = agouti.Embeddings.load(tmp_path / "o.parquet")
        assert found.vectors[:, 1].tolist() == [number for number in range(300) if number != 7]
        memory = agouti.batch(client, "m@p", ["bed 1", "bed 1", "bed 2"], embed=True)
        assert [row.vector for row in memory] == [[1, 1], [1, 1], [1, 2]]
        odd = agouti.batch(client, "m@p", [*["bed 1"] * 128, "long 2"], embed=True, concurrency=1)
        assert "has 3 numbers" in [row.error for row in odd][-1]


FULL = """
    import resource, sys, agouti
    from agouti.testing import FakeTransport
    GOOD = {"choices": [{"message": {"content": "x" * 3000}, "finish_reason": "stop"}]}
    resource.setrlimit(resource.RLIMIT_FSIZE, (int(sys.argv[2]), int(sys.argv[2])))
    with agouti.Client({"providers": {"p": {"address": "https://p.example"}}}, transport=FakeTransport([GOOD] * 90)) as client:
        try:
            agouti.batch(client, "m@p", [str(number) for number in range(90)], out=sys.argv[1], concurrency=4)
        except agouti.RequestError as error:
            print(len(client._transport.requests), len(getattr(error, "lines", ())), error.message)
"""


@pytest.mark.parametrize("room", [0, 9_000, 50_000, 70_000])
def test_full_disk_stops_the_asking_and_keeps_what_is_paid(tmp_path: Path, room: int) -> None:
    out = tmp_path / "o.jsonl"
    done = subprocess.run(
        [sys.executable, "-B", "-c", textwrap.dedent(FULL), str(out), str(room)],
        capture_output=True,
        text=True,
        check=False,
    )
    assert "Traceback" not in done.stderr, done.stderr
    sent, told = map(int, done.stdout.split()[:2])
    kept = [json.loads(line) for line in out.read_bytes().split(b"\n")[:-1]] if out.exists() else []
    assert sent == told + len(kept)
    assert sent < 30
    with agouti.Client(
        {"providers": {"p": {"address": "https://p.example"}}}, transport=FakeTransport([said("y")] * 90)
    ) as client:
        made = agouti.batch(client, "m@p", [str(number) for number in range(90)], out=out)
    assert (made.already_done, made.done) == (len(kept), 90 - len(kept))
    assert sorted(row["key"] for row in written(out)) == list(range(1, 91))


def test_two_runs_on_one_file_exclude_each_other(tmp_path: Path) -> None:
    out = tmp_path / "o.jsonl"
    began = threading.Event()

    def slow(connection: Connection, _: int) -> None:
        began.set()
        time.sleep(1)
        echo(connection, _)

    with serving(slow) as server, agouti.Client(config(server)) as client:
        first = threading.Thread(target=agouti.batch, args=(client, "m@p", ["one"]), kwargs={"out": out})
        first.start()
        began.wait(5)
        with pytest.raises(agouti.RequestError, match="another run"):
            agouti.batch(client, "m@p", ["one"], out=out)
        first.join()
        assert len(server.questions) == 1
    assert len(written(out)) == 1


def test_errors_of_the_applications_own_code_end_cleanly(client: agouti.Client, tmp_path: Path) -> None:
    out = tmp_path / "o.jsonl"

    def rows() -> Iterator[str]:
        yield "bed 1"
        yield "bed 2"
        raise ValueError("the shelf broke")

    with pytest.raises(ValueError, match="the shelf broke"):
        agouti.batch(client, "m@p", rows(), out=out, concurrency=1)
    kept = len(written(out))
    assert kept >= 1
    made = agouti.batch(client, "m@p", ["bed 1", "bed 2", "bed 3"], out=out)
    assert (made.already_done, made.done) == (kept, 3 - kept)


def test_cancelled_run_keeps_what_came_and_goes_on(tmp_path: Path) -> None:
    out = tmp_path / "o.jsonl"

    def slow(connection: Connection, number: int) -> None:
        time.sleep(0.02)
        echo(connection, number)

    async def run(server: RawServer) -> None:
        async with agouti.AsyncClient(config(server)) as client:
            task = asyncio.ensure_future(
                agouti.batch(client, "m@p", [f"bed {n}" for n in range(300)], out=out, concurrency=8)
            )
            for _ in range(1000):
                if out.exists() and len(out.read_bytes().splitlines()) >= 20:
                    break
                await asyncio.sleep(0.01)
            task.cancel()
            with pytest.raises(asyncio.CancelledError):
                await task
            kept = len(written(out))
            made = await agouti.batch(client, "m@p", [f"bed {n}" for n in range(300)], out=out)
            assert (made.already_done, made.done) == (kept, 300 - kept)

    with serving(slow) as server:
        asyncio.run(run(server))
        assert max(Counter(server.questions).values()) <= 2
        assert sum(times - 1 for times in Counter(server.questions).values()) <= 8


def test_memory_does_not_grow_with_the_rows(tmp_path: Path) -> None:
    script = textwrap.dedent(
        """
        import resource, sys, agouti
        from agouti.testing import FakeTransport
        class Endless(list):
            def pop(self, at): return self[0]
        GOOD = {"choices": [{"message": {"content": "x" * 200}, "finish_reason": "stop"}]}
        fake = FakeTransport([GOOD])
        fake._answers._answers = Endless(fake._answers._answers)
        class Forget(list):
            def append(self, each): pass
        fake._answers.requests, fake._answers.replies = Forget(), Forget()
        rows = ({"note": f"bed {number} " + "y" * 200} for number in range(int(sys.argv[2])))
        with agouti.Client({"providers": {"p": {"address": "https://p.example"}}}, transport=fake) as client:
            made = agouti.batch(client, "m@p", rows, prompt="{note}", out=sys.argv[1], concurrency=1)
            assert made.done == int(sys.argv[2])
        print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)
        """
    )
    peak = [
        int(
            subprocess.run(
                [sys.executable, "-c", script, str(tmp_path / f"{count}.jsonl"), str(count)],
                capture_output=True, text=True, check=True,
            ).stdout
        )
        for count in (500, 8000)
    ]  # fmt: skip
    assert peak[1] - peak[0] < 6000, peak  # KiB; the rows alone are 4 MB, their results 6 MB more


def test_pace_rises_to_what_gets_done_and_steps_back_when_refused() -> None:
    now = [0.0]
    pace = Pace(None, 256, lambda: now[0])

    def span(capacity: float) -> None:
        limit = pace.limit
        for _ in range(4 * limit):
            now[0] += max(0.5 / limit, 1 / capacity)  # half a second each, up to what the server can do
            pace.done()

    for _ in range(60):
        span(80.0)
    assert 35 <= pace.limit <= 90  # 80 a second of half a second each are 40 under way
    settled = pace.limit
    began = now[0]
    now[0] += 1
    pace.refused(now[0])
    assert pace.limit == settled  # one of hundreds is refused at any pace
    for _ in range(20):
        now[0] += 0.001
        pace.refused(began + 1)  # the later ones were under way at the step back: they tell nothing new
    assert pace.limit == int(settled * 0.7)
    fixed = Pace(7, 256, lambda: now[0])
    fixed.refused(now[0])
    assert fixed.limit == 7


def test_index_is_not_needed_to_know_what_was_paid(client: agouti.Client, tmp_path: Path) -> None:
    out = tmp_path / "o.jsonl"
    agouti.batch(client, "m@p", NOTES, column="note", id_column="id", out=out)
    base = sqlite3.connect(tmp_path / ".o.jsonl.journal")
    with base:
        base.execute("DELETE FROM rows")
    base.close()
    made = agouti.batch(client, "m@p", NOTES, column="note", id_column="id", out=out)
    assert (made.already_done, made.done) == (6, 0)
    assert os.path.getsize(out) > 0
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss > 0
