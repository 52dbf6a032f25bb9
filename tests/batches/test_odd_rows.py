"""Batches against odd rows, odd values and odd disks: what the guide says holds all the same."""

import csv
import datetime
import decimal
import json
import os
import subprocess
import sys
import textwrap
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pandas
import pytest

import agouti
from agouti.testing import FakeTransport

from ..hostile.kit import Connection, RawServer, answer, config, serving

NOTES = [{"id": f"n{number}", "note": f"bed {number}"} for number in range(6)]


@pytest.fixture
def server() -> Iterator[RawServer]:
    def echo(connection: Connection, _: int) -> None:
        connection.write(answer(f"<{connection.question}>"))

    with serving(echo) as running:
        yield running


@pytest.fixture
def client(server: RawServer) -> Iterator[agouti.Client]:
    with agouti.Client(config(server)) as made:
        yield made


def written(path: Path) -> list[dict[str, Any]]:
    return [json.loads(line) for line in path.read_text().splitlines()]


def test_values_of_every_kind_come_through(client: agouti.Client, tmp_path: Path) -> None:
    values = {
        "day": datetime.date(2026, 3, 4),
        "amount": decimal.Decimal("1.10"),
        "deep": {"a": [1, datetime.time(7)]},
        "photo": b"GIF89a...",
        "half": "\ud83d",
        "n": float("nan"),
        "yes": True,
        "": "nameless",
    }
    made = agouti.batch(client, "m@p", [values], prompt="{day} {amount} {deep} {yes} {none}", out=tmp_path / "o.jsonl", image_columns=["photo"])  # fmt: skip
    [row] = written(tmp_path / "o.jsonl")
    assert row["row"]["day"] == "2026-03-04"
    assert row["row"]["photo"] == "(9 bytes)"
    assert made.done == 1
    frame = pandas.DataFrame(
        {"when": pandas.to_datetime(["2026-03-04"]), "price": [decimal.Decimal("2.50")], "tags": [["a", "b"]]}
    )
    frame.to_parquet(tmp_path / "rows.parquet")
    for rows in (frame, tmp_path / "rows.parquet"):
        [one] = agouti.batch(client, "m@p", rows, prompt="{when} {price} {tags}")
        assert one.answer == '<2026-03-04 00:00:00 2.50 ["a", "b"]>'
    for suffix in (".csv", ".parquet"):
        agouti.batch(client, "m@p", [values], prompt="{day}", out=tmp_path / f"o{suffix}")
        assert (tmp_path / f"o{suffix}").stat().st_size


def test_keys_of_every_kind_are_told_apart_and_empty_ones_are_the_rows_own_fault(
    client: agouti.Client, tmp_path: Path
) -> None:
    keys: list[Any] = ["1", 1, 1.5, True, ["a"], {"b": 1}, 2**70, "\ud83d", "ü", None, "", None]
    rows = [{"id": key, "note": f"bed {number}"} for number, key in enumerate(keys)]
    out = tmp_path / "o.jsonl"
    first = agouti.batch(client, "m@p", rows, column="note", id_column="id", out=out)
    assert (first.done, first.failed) == (9, 3)
    (tmp_path / ".o.jsonl.journal").unlink()
    again = agouti.batch(client, "m@p", rows, column="note", id_column="id", out=out, ignore_changes=True)
    assert (again.done, again.already_done) == (0, 12)


def test_formulas_are_quoted_where_that_is_asked_for(client: agouti.Client, tmp_path: Path) -> None:
    rows = [{"=note": text} for text in ("=1+1", "-2+3+cmd|' /C calc'!A0", "-3.5", "@sum", "peas")]
    out = tmp_path / "o.csv"
    made = agouti.batch(client, "m@p", rows, column="=note", out=out)
    assert any("4 cells" in each and "--quote-formulas" in each for each in made.warnings), made.warnings

    def cells(path: Path) -> list[str]:
        with path.open(newline="") as file:
            return [row[0] for row in csv.reader(file)]

    plain = ["=note", *[row["=note"] for row in rows]]
    quoted = ["'=note", "'=1+1", "'-2+3+cmd|' /C calc'!A0", "-3.5", "'@sum", "peas"]
    assert cells(out) == plain
    again = agouti.batch(client, "m@p", rows, column="=note", out=out, quote_formulas=True)
    assert (again.already_done, cells(out)) == (5, quoted)
    agouti.batch_export(out, tmp_path / "e.csv")
    assert cells(tmp_path / "e.csv") == plain  # what was written down is as it came
    agouti.batch_export(out, tmp_path / "e.csv", quote_formulas=True)
    assert cells(tmp_path / "e.csv") == quoted
    again.save(tmp_path / "s.csv", quote_formulas=True)
    assert cells(tmp_path / "s.csv") == quoted
    with pytest.raises(agouti.RequestError, match="goes with out"):
        agouti.batch(client, "m@p", rows, column="=note", quote_formulas=True)


def test_plan_changes_nothing(client: agouti.Client, server: RawServer, tmp_path: Path) -> None:
    out = tmp_path / "o.jsonl"
    fresh = agouti.batch_plan(client, "m@p", NOTES, column="note", out=out)
    assert (fresh.to_ask, list(tmp_path.iterdir())) == (6, [])
    agouti.batch(client, "m@p", NOTES[:2], column="note", id_column="id", out=out)
    before = out.read_bytes()
    with out.open("ab") as file:
        file.write(b'{"key":"torn')
    asked = len(server.questions)
    assert agouti.batch_plan(client, "m@p", NOTES, column="note", id_column="id", out=out).to_ask == 4
    assert (
        agouti.batch_plan(client, "m@p", NOTES, prompt="{note}!", id_column="id", out=out, ignore_changes=True).to_ask
        == 4
    )
    assert agouti.batch_plan(client, "m@p", NOTES, column="note", id_column="id", out=out, restart=True).to_ask == 6
    with pytest.raises(agouti.RequestError, match="another run"):
        agouti.batch_plan(client, "m@p", NOTES, prompt="{note}!", id_column="id", out=out)
    assert len(server.questions) == asked
    assert out.read_bytes() == before + b'{"key":"torn'
    made = agouti.batch(client, "m@p", NOTES, column="note", id_column="id", out=out)
    assert (made.already_done, made.done) == (2, 4)


def test_failed_rows_stay_failed_until_they_are_wanted(tmp_path: Path) -> None:
    bad = {"choices": [{"message": {"content": "no number"}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 9, "completion_tokens": 2}}  # fmt: skip
    good = {"choices": [{"message": {"content": "7"}, "finish_reason": "stop"}]}
    out = tmp_path / "o.jsonl"
    entry: Any = {
        "providers": {"p": {"address": "https://p.example"}},
        "models": {"a": {"provider": "p", "name": "m", "price": {"input": 1, "output": 1, "currency": "USD"}}},
    }
    with agouti.Client(entry, transport=FakeTransport([bad, bad, good])) as client:
        asked: Any = {"form": int, "output_method": "prompt", "max_repairs": 1, "out": out}
        first = agouti.batch(client, "a", ["one"], **asked)
        [row] = written(out)
        assert (first.failed, row["answer"], row["error"].split(":")[0]) == (1, "no number", "NotFilled")
        assert row["cost"] == pytest.approx(22e-6)  # both answers were paid
        assert agouti.batch(client, "a", ["one"], **asked).failed == 1
        last = agouti.batch(client, "a", ["one"], retry_failed=True, **asked)
        assert (last.done, last.failed, [each.value for each in last]) == (1, 0, [7])
        assert len(written(out)) == 1


@pytest.mark.skipif(os.geteuid() != 0, reason="mounts a small disk")
@pytest.mark.parametrize("name", ["o.jsonl", "o.csv"])
def test_disk_that_is_really_full(server: RawServer, tmp_path: Path, name: str) -> None:
    disk = tmp_path / "small"
    disk.mkdir()
    if subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=256k", "tmpfs", disk], capture_output=True, check=False
    ).returncode:
        pytest.skip("no disk can be mounted here")
    try:
        with agouti.Client(config(server)) as client:
            rows = [f"{number} " + "y" * 2000 for number in range(400)]
            with pytest.raises(agouti.RequestError, match=r"cannot be written|disk is full") as caught:
                agouti.batch(client, "m@p", rows, out=disk / name, concurrency=8)
            kept = len((disk / (name if name == "o.jsonl" else f".{name}.part")).read_bytes().splitlines())
            told = len(getattr(caught.value, "lines", ()))
            assert kept + told == len(server.questions) < 200
            subprocess.run(["mount", "-o", "remount,size=8m", disk], check=True)
            made = agouti.batch(client, "m@p", rows, out=disk / name)
            assert (made.already_done, made.done) == (kept, 400 - kept)
    finally:
        subprocess.run(["umount", disk], check=True)


def test_small_batches_start_few_threads(client: agouti.Client) -> None:
    most: list[int] = []
    before = threading.active_count()
    agouti.batch(client, "m@p", ["a", "b"], progress=lambda _: most.append(threading.active_count()))
    assert max(most) - before < 15


def test_application_that_reads_rows_while_they_come(client: agouti.Client) -> None:
    came: list[Any] = []
    made = agouti.batch(client, "m@p", (f"bed {number}" for number in range(40)), on_row=came.append, concurrency=8)
    assert [row["key"] for row in came] == list(range(1, 41))
    assert (made.done, list(made)) == (40, [])


INTERRUPTED = """
    import sys, threading, time, os, signal, agouti
    signal.signal(signal.SIGINT, signal.default_int_handler)
    def interrupt():
        while not os.path.exists(sys.argv[2]) or os.path.getsize(sys.argv[2]) < 2000:
            time.sleep(0.01)
        os.kill(os.getpid(), signal.SIGINT)
    threading.Thread(target=interrupt, daemon=True).start()
    with agouti.Client({"providers": {"p": {"address": sys.argv[1]}}}) as client:
        try:
            agouti.batch(client, "m@p", [f"bed {number}" for number in range(5000)], out=sys.argv[2])
        except KeyboardInterrupt:
            print("stopped", threading.active_count())
"""


def test_interrupted_threads_ask_no_more_and_blame_no_row(tmp_path: Path) -> None:
    def slow(connection: Connection, _: int) -> None:
        time.sleep(0.1)
        connection.write(answer("x"))

    out = tmp_path / "o.jsonl"
    with serving(slow) as server:
        done = subprocess.run(
            [sys.executable, "-c", textwrap.dedent(INTERRUPTED), server.address, str(out)],
            capture_output=True, text=True, check=False, timeout=30,
        )  # fmt: skip
        assert done.stdout.startswith("stopped"), done.stderr
        asked = len(server.questions)
        rows = written(out)
        assert not [row for row in rows if "error" in row]
        assert 0 < len(rows) <= asked <= len(rows) + 64


def test_somebody_elses_file_stays_as_it_is_and_alone(client: agouti.Client, server: RawServer, tmp_path: Path) -> None:
    out = tmp_path / "diary.jsonl"
    out.write_text('{"dear": "diary"}\n')
    for options in ({}, {"restart": True}, {"ignore_changes": True}):
        with pytest.raises(agouti.RequestError, match=r"something else|no result"):
            agouti.batch(client, "m@p", NOTES, column="note", out=out, **options)
        with pytest.raises(agouti.RequestError, match=r"something else|no result"):
            agouti.batch_plan(
                client, "m@p", NOTES, column="note", out=out, **{k: v for k, v in options.items() if k != "restart"}
            )
    assert out.read_text() == '{"dear": "diary"}\n'
    assert [path.name for path in tmp_path.iterdir()] == ["diary.jsonl"]
    assert not server.questions


def test_quick_failures_do_not_end_a_run_of_slow_answers(tmp_path: Path) -> None:
    def behave(connection: Connection, _: int) -> None:
        if "odd" in connection.question:
            connection.write(b"HTTP/1.1 400 No\r\ncontent-length: 2\r\n\r\n{}")
        else:
            time.sleep(0.5)
            connection.write(answer("well"))

    rows = tmp_path / "rows.jsonl"
    lines = ["{torn", *[json.dumps({"note": "slow"})] * 4, *[json.dumps({"note": "odd"})] * 60, *["{torn"] * 60, json.dumps({"note": "slow"})]  # fmt: skip
    rows.write_text("\n".join(lines) + "\n")
    with serving(behave) as server, agouti.Client(config(server)) as client:
        made = agouti.batch(client, "m@p", rows, prompt="{note}", concurrency=8)
    assert (made.done, made.failed) == (5, 121)


def test_halves_of_letters_and_names_that_are_none_are_their_rows_own(client: agouti.Client, tmp_path: Path) -> None:
    rows = [{"note": "half \ud83d", "photo": ""}, {"note": "long", "photo": "x" * 6000}, {"note": "nul", "photo": "a\0b"},
            {"note": "home", "photo": "~nobody-there/x.png"}, {"note": "well", "photo": None}]  # fmt: skip
    made = agouti.batch(client, "m@p", rows, prompt="{note}", image_columns=["photo"], out=tmp_path / "o.jsonl")
    by_note = {row.row["note"]: row for row in made}
    assert by_note["well"].answer == "<well>"
    assert all("is not there" in by_note[name].error for name in ("long", "nul", "home"))
    assert by_note["half \ud83d"].error or by_note["half \ud83d"].answer
    bodies = [{"custom_id": "a", "body": {"messages": [{"role": "user", "content": "\ud83d"}]}}, {"custom_id": "b", "body": {"messages": [{"role": "user", "content": "b"}]}}]  # fmt: skip
    asked = agouti.batch(client, "m@p", bodies)
    assert (asked.done, asked.failed) == (1, 1)


def test_what_was_replaced_before_a_kill_is_left_out_by_the_next_run(client: agouti.Client, tmp_path: Path) -> None:
    out = tmp_path / "o.jsonl"
    agouti.batch(client, "m@p", NOTES[:2], column="note", id_column="id", out=out)
    with out.open("ab") as file:  # as a run leaves it that was killed after it had asked again
        file.write(b'{"key":"n0","answer":"newer"}\n')
    agouti.batch_plan(client, "m@p", NOTES[:2], column="note", id_column="id", out=out)
    for _ in range(2):
        agouti.batch(client, "m@p", NOTES[:3], column="note", id_column="id", out=out)
        assert sorted(row["key"] for row in written(out)) == ["n0", "n1", "n2"]
    assert [row["answer"] for row in written(out) if row["key"] == "n0"] == ["newer"]


def test_refusals_that_were_repeated_slow_the_pace_and_a_wait_of_nothing_is_no_hammer() -> None:
    refused: list[int] = []

    def behave(connection: Connection, number: int) -> None:
        if "never" in connection.question or number % 3 == 2:
            refused.append(number)
            connection.write(b"HTTP/1.1 429 No\r\nretry-after: 0\r\ncontent-length: 2\r\n\r\n{}")
        else:
            connection.write(answer("x"))

    with serving(behave) as server, agouti.Client(config(server)) as client:
        limits: list[int] = []
        made = agouti.batch(
            client, "m@p", [f"bed {number}" for number in range(60)], progress=lambda p: limits.append(p.at_once)
        )
        assert (made.done, max(limits) <= 8) == (60, True)
        refused.clear()
        with pytest.raises(agouti.RateLimited):
            agouti.batch(client, "m@p", ["never"], give_up_after=3)
        assert len(refused) < 80


def test_vectors_of_two_lengths_are_not_written_as_one_array(tmp_path: Path) -> None:
    sizes = [2]

    def vectors(connection: Connection, _: int) -> None:
        texts = json.loads(connection.request.partition(b"\r\n\r\n")[2])["input"]
        body = json.dumps(
            {"data": [{"index": at, "embedding": [1.0] * sizes[0]} for at, _ in enumerate(texts)]}
        ).encode()
        connection.write(
            b"HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-length: %d\r\n\r\n" % len(body) + body
        )

    with serving(vectors) as server, agouti.Client(config(server)) as client:
        out = tmp_path / "o.npz"
        agouti.batch(client, "m@p", ["a", "b"], embed=True, out=out, limit=1)
        sizes[0] = 3
        with pytest.raises(agouti.RequestError, match="they do not compare"):
            agouti.batch(client, "m@p", ["a", "b"], embed=True, out=out)
        assert agouti.Embeddings.load(out).vectors.shape == (1, 2)
