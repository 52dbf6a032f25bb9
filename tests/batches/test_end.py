"""How a run ends, and what is asked again: by kind, cut answers, a share of failures, a time; beside an event loop."""

import asyncio
import json
import os
import re
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import closing
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.testing import scripted

from ..hostile.kit import Connection, RawServer, answer, reply, serving


def _words(connection: Connection, _: int) -> None:
    question = connection.question
    cap = json.loads(connection.request.partition(b"\r\n\r\n")[2]).get("max_tokens", 100)
    if "refused" in question:
        connection.write(reply(b'{"error": {"message": "no such words"}}', "400 No"))
    elif "forbidden" in question:
        connection.write(reply(b'{"error": {"message": "not in this house"}}', "403 No"))
    else:
        reason = "length" if "long" in question and cap < 50 else "stop"
        choice = {"message": {"content": f"<{question}>"}, "finish_reason": reason}
        usage = {"prompt_tokens": 3, "completion_tokens": 2, "total_tokens": 5}
        connection.write(reply(json.dumps({"choices": [choice], "usage": usage}).encode()))


def _config(server: RawServer) -> dict[str, Any]:
    price = {"input": 1000, "output": 1000, "currency": "USD"}
    return {
        "providers": {"p": {"address": server.address}},
        "models": {"m": {"provider": "p", "name": "quill", "price": price}},
    }


@pytest.fixture
def server() -> Iterator[RawServer]:
    with serving(_words) as running:
        yield running


@pytest.fixture
def client(server: RawServer) -> Iterator[agouti.Client]:
    with agouti.Client(_config(server)) as made:
        yield made


ROWS = ["a", "refused b", "long c", "refused d", "", "long e"]


def test_end_says_how_many_of_each_kind_and_the_kinds_are_asked_again(
    client: agouti.Client, server: RawServer, tmp_path: Path
) -> None:
    out = tmp_path / "results.jsonl"
    first = agouti.batch(client, "m", ROWS, out=out, max_tokens=9)
    assert (first.done, first.failed, first.cut) == (3, 3, 2)
    assert first.kinds == {"RequestRefused": 2, "UnusableRow": 1}
    assert first.costs_in_all == first.costs
    assert first.costs["USD"] > 0
    asked = len(server.questions)
    agouti.batch(client, "m", ROWS, out=out, max_tokens=9, retry_failed=["TimedOut", "UnusableRow"])
    assert len(server.questions) == asked
    agouti.batch(client, "m", ROWS, out=out, max_tokens=9, retry_failed="RequestRefused")
    assert sorted(server.questions[asked:]) == ["refused b", "refused d"]
    asked = len(server.questions)
    last = agouti.batch(client, "m", ROWS, out=out, max_tokens=90, retry_cut=True, ignore_changes=True)
    assert sorted(server.questions[asked:]) == ["long c", "long e"]
    assert (last.cut, last.failed, last.done) == (0, 3, 2)
    assert last.costs_in_all["USD"] == pytest.approx(first.costs["USD"] + last.costs["USD"])
    with pytest.raises(agouti.RequestError, match="neither True nor kinds"):
        agouti.batch(client, "m", ROWS, out=out, retry_failed=1, ignore_changes=True)  # type: ignore[arg-type]
    with pytest.raises(agouti.RequestError, match="'TimeOut' is no kind of failure") as wrong:
        agouti.batch(client, "m", ROWS, out=out, retry_failed="TimeOut", ignore_changes=True)
    assert "TimedOut" in wrong.value.hint


def test_the_index_is_not_needed_to_know_kinds_and_costs(client: agouti.Client, tmp_path: Path) -> None:
    out = tmp_path / "results.jsonl"
    first = agouti.batch(client, "m", ROWS, out=out, max_tokens=9)
    for path in tmp_path.glob(".*journal*"):
        path.unlink()
    again = agouti.batch(client, "m", ROWS, out=out, max_tokens=9, ignore_changes=True)
    assert (again.cut, again.kinds, again.costs_in_all) == (first.cut, first.kinds, pytest.approx(first.costs_in_all))


def test_a_journal_of_an_earlier_version_says_kinds_and_costs(client: agouti.Client, tmp_path: Path) -> None:
    out = tmp_path / "results.jsonl"
    first = agouti.batch(client, "m", ROWS, out=out, max_tokens=9)
    with closing(sqlite3.connect(tmp_path / ".results.jsonl.journal", isolation_level=None)) as base:
        base.execute("ALTER TABLE rows DROP COLUMN why")
        base.execute("DELETE FROM facts WHERE name = 'costs'")
    again = agouti.batch(client, "m", ROWS, out=out, max_tokens=9)
    assert (again.done, again.cut, again.kinds) == (0, first.cut, first.kinds)
    assert again.costs_in_all == pytest.approx(first.costs_in_all)


def test_results_of_a_run_under_way_are_exported_once_each(client: agouti.Client, tmp_path: Path) -> None:
    out = tmp_path / "results.jsonl"
    agouti.batch(client, "m", ["a", "b"], out=out, concurrency=1)
    with out.open("ab") as file:  # a run that asks again, and has not noted it yet
        file.write(b'{"key":1,"answer":"later"}\n{"key":3,"answer":"new"}\n{"key":4,"ans')
    assert agouti.batch_export(out, tmp_path / "copy.jsonl") == 3
    copied = [json.loads(line) for line in (tmp_path / "copy.jsonl").read_text().splitlines()]
    assert [(each["key"], each["answer"]) for each in copied] == [(1, "later"), (2, "<b>"), (3, "new")]


def test_errors_of_rows_without_a_key_go_with_them(client: agouti.Client, tmp_path: Path) -> None:
    rows, out = tmp_path / "rows.jsonl", tmp_path / "results.jsonl"
    rows.write_text('{"id": "x", "n": "a"}\n{"n": "b"}\n{"id": "z", "n": "refused"}\n')
    first = agouti.batch(client, "m", rows, id_column="id", prompt="{n}", out=out, concurrency=1)
    assert (first.failed, repr(first)) == (2, f"Batch(done=1, failed=2, already_done=0, left=0, out={str(out)!r})")
    rows.write_text('{"id": "w", "n": "c"}\n{"id": "x", "n": "a"}\n{"id": "y", "n": "b"}\n')
    made = agouti.batch(client, "m", rows, id_column="id", prompt="{n}", out=out, retry_failed=True, concurrency=1)
    assert [row.key for row in made] == ["x", "z", "w", "y"]  # what was asked and paid stays, also of rows that went
    assert (made.failed, made.kinds) == (1, {"RequestRefused": 1})


def test_an_answer_that_could_not_be_asked_again_stays(
    client: agouti.Client, server: RawServer, tmp_path: Path
) -> None:
    out = tmp_path / "results.jsonl"
    agouti.batch(client, "m", ["long a", "long b"], out=out, max_tokens=9)

    def refuse(connection: Connection, number: int) -> None:
        if "long a" in connection.question:
            connection.write(reply(b'{"error": {"message": "no"}}', "400 No"))
        else:
            connection.write(answer("whole"))

    with serving(refuse) as other, agouti.Client(_config(other)) as changed:
        made = agouti.batch(
            changed, "m", ["long a", "long b"], out=out, max_tokens=9, retry_cut=True, ignore_changes=True
        )
    assert sorted((row.answer, row.error) for row in made) == [("<long a>", ""), ("whole", "")]
    assert (made.failed_now, made.cut) == (1, 1)


def test_a_share_of_failures_ends_it(client: agouti.Client, server: RawServer, tmp_path: Path) -> None:
    rows = [f"{'forbidden' if number % 10 == 0 else 'bed'} {number}" for number in range(1000)]
    out = tmp_path / "results.jsonl"
    with pytest.raises(agouti.AgoutiError) as stopped:
        agouti.batch(client, "m", [row.replace("forbidden", "refused") for row in rows], out=out, stop_at_share=0.05)
    assert "more than 5 %" in str(stopped.value)
    assert 100 <= len(server.questions) < 300
    assert 100 <= len(out.read_text().splitlines()) < 300
    made = agouti.batch(client, "m", ["refused a"] * 20 + ["bed"] * 980, out=tmp_path / "few.jsonl", stop_at_share=0.05)
    assert (made.failed, made.done) == (20, 980)


def test_no_row_is_begun_after_a_time(client: agouti.Client, server: RawServer, tmp_path: Path) -> None:
    out = tmp_path / "results.jsonl"
    rows = [f"bed {number}" for number in range(30)]
    until = datetime.now() - timedelta(seconds=1)
    made = agouti.batch(client, "m", rows, out=out, until=until)
    assert (made.done, made.left, server.questions) == (0, 30, [])
    made = agouti.batch(client, "m", rows, out=out, until=datetime.now() + timedelta(hours=1))
    assert (made.done, made.left) == (30, 0)
    for odd in ("7 o'clock", "25:00", 7):
        with pytest.raises(agouti.RequestError, match="is no time"):
            agouti.batch(client, "m", rows, until=odd)  # type: ignore[arg-type]


def test_pipes_are_rows(server: RawServer, tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text(
        f'[providers.p]\naddress = "{server.address}"\n[models.m]\nprovider = "p"\nname = "quill"\n'
    )
    table: list[tuple[str, str, list[str]]] = [
        ("cat {} | agouti batch m -", "a\nb\n", ["a", "b"]),
        ("cat {} | agouti batch m /dev/stdin", "a\nb\n", ["a", "b"]),
        ("agouti batch m <(cat {})", "a\nb\n", ["a", "b"]),
        ("cat {} | agouti batch m - --prompt 'so {{n}}'", '{"n": "a"}\n', ["so a"]),
        ("cat {} | agouti batch m - --delimiter , --prompt 'so {{n}}'", "id,n\n1,a\n2,b\n", ["so a", "so b"]),
    ]
    agouti_here = f'agouti() {{ {sys.executable} -m agouti "$@"; }}; '
    for command, text, questions in table:
        (tmp_path / "input").write_text(text)
        begun = len(server.questions)
        done = subprocess.run(
            ["bash", "-c", agouti_here + command.format("input")],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 0, done.stderr
        assert sorted(server.questions[begun:]) == questions


def test_command_says_how_it_ended_and_what_comes_next(server: RawServer, tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text(
        f'[providers.p]\naddress = "{server.address}"\n[models.m]\nprovider = "p"\nname = "quill"\n'
        'price = { input = 1000, output = 1000, currency = "USD" }\n'
    )
    (tmp_path / "rows.txt").write_text("\n".join(ROWS))

    def run(*more: str) -> str:
        command = [sys.executable, "-m", "agouti", "batch", "m", "rows.txt", "--out", "r.jsonl", "-n", "9", *more]
        done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=False, env={**os.environ})
        return done.stderr

    first = run()
    assert "2 answers end at their cap: --retry-cut asks again" in first
    assert "2 failed (2 RequestRefused)" in first
    asked = len(server.questions)
    again = run("--retry-kind", "RequestRefused")
    assert len(server.questions) == asked + 2
    assert "all runs on r.jsonl together" in again
    assert "exclude each other" in run("--retry-kind", "RequestRefused", "--retry-failed")
    assert "is no time" in run("--until", "7 o'clock")
    assert "deferred and retry_cut exclude each other" in run("--retry-cut", "--deferred")
    (tmp_path / "rows.txt").write_text("refused\nbed\n" * 100)
    shared = run("--restart", "--stop-at-share", "0.1")
    assert "more than 10 %" in shared


def test_an_event_loop_goes_on_while_rows_are_looked_through(server: RawServer, tmp_path: Path) -> None:
    rows = tmp_path / "rows.jsonl"
    rows.write_text("".join(json.dumps({"id": number, "note": f"bed {number}"}) + "\n" for number in range(40_000)))

    async def run() -> tuple[Any, float, float]:
        stood = 0.0

        async def watch() -> None:
            nonlocal stood
            while True:
                before = time.perf_counter()
                await asyncio.sleep(0.01)
                stood = max(stood, time.perf_counter() - before)

        async with agouti.AsyncClient(_config(server)) as client:
            await client.ask("m", "warm")  # what is imported at the first call
            watching = asyncio.create_task(watch())
            await asyncio.sleep(0.02)
            began = time.perf_counter()
            made = await agouti.batch(
                client, "m", rows, prompt="{note}", id_column="id", sample=3, out=tmp_path / "r.jsonl"
            )
            took = time.perf_counter() - began
            watching.cancel()
            begun = asyncio.ensure_future(
                agouti.batch(client, "m", rows, prompt="{note}", id_column="id", out=tmp_path / "s.jsonl")
            )
            await asyncio.sleep(0.02)
            begun.cancel()
            with pytest.raises(asyncio.CancelledError):
                await begun
            await asyncio.get_running_loop().run_in_executor(None, time.sleep, 0.5)
            return made, stood, took

    made, stood, took = asyncio.run(run())
    assert made.done == 3
    assert stood < took / 2  # it was all of it
    left = [path.name for path in tmp_path.iterdir() if path.name.strip(".").startswith("s.jsonl")]
    assert left == []


def test_answers_that_are_not_accepted_are_errors_with_what_they_cost(tmp_path: Path) -> None:
    out = tmp_path / "o.jsonl"
    rows = [{"id": number} for number in range(6)]
    entry = {"providers": {"p": {"address": "https://p.example/v1"}}, "models": {"m": {"provider": "p", "name": "x", "price": {"input": 1, "output": 1, "currency": "USD"}}}}  # fmt: skip

    def accept(answer: str) -> bool | str:
        return True if int(answer) % 2 else f"{answer} is even"

    with scripted() as script, agouti.Client(entry) as client:
        script.reply(lambda sent: re.sub(r"\D", "", sent.text))
        made = agouti.batch(client, "m", rows, prompt="{id}", id_column="id", out=out, accept=accept)
        assert (made.done, made.kinds) == (3, {"NotAccepted": 3})
        refused = [row for row in made if row.error]
        assert next((row.key, row.error, row.answer) for row in refused) == (
            0,
            "NotAccepted: the answer was not accepted: 0 is even",
            "0",
        )
        assert all(row.cost is not None for row in made)
        # Another run asks for those alone, and takes what it is told to take then.
        again = agouti.batch(
            client, "m", rows, prompt="{id}", id_column="id", out=out, accept=r"\d", retry_failed="NotAccepted"
        )
        assert (again.done, again.failed) == (3, 0)
        filled = agouti.batch(client, "m", ["4"], form=int, accept=lambda value: value == 4)
        assert filled.done == 1
        for wrong in ("(", 7):
            with pytest.raises(agouti.RequestError, match="accept"):
                agouti.batch(client, "m", rows, accept=wrong)  # type: ignore[call-overload]
        # A function that fails, or says nothing, costs no answer; nor do the corrections before it.
        for odd in (lambda answer: None, lambda answer: 1 / 0):
            made = agouti.batch(client, "m", ["4"], accept=odd)
            assert (made.kinds, [(row.answer, row.cost is not None) for row in made]) == (
                {"NotAccepted": 1},
                [("4", True)],
            )
            filled = agouti.batch(client, "m", ["4"], form=int, accept=odd)
            assert (filled.kinds, [row.cost is not None for row in filled]) == ({"NotAccepted": 1}, [True])
    with scripted() as script, agouti.Client(entry) as client:
        script.reply("four", "4")
        (row,) = agouti.batch(client, "m", ["4"], form=int, accept=lambda value: False)
        last = client.fill("m", int, "4")
    assert last.cost is not None
    assert row.cost is not None
    assert row.cost > last.cost


def test_a_run_leaves_a_report(tmp_path: Path) -> None:
    with scripted() as script, agouti.Client({"providers": {"p": {"address": "https://p.example/v1"}}}) as client:
        script.error(agouti.ContextOverflow("<b>too long</b>"), pattern="peas")
        script.reply("In March.")
        made = agouti.batch(client, "x@p", ["peas", "beans", "kale"], out=tmp_path / "o.jsonl")
    for name in ("r.json", "r.html"):
        made.report(tmp_path / name)
    facts = json.loads((tmp_path / "r.json").read_text())
    assert (facts["answered"], facts["failed"], facts["failed_by_kind"]) == (2, 1, {"ContextOverflow": 1})
    page = (tmp_path / "r.html").read_text()
    assert "ContextOverflow" in page
    assert "<b>too long" not in page
    with pytest.raises(agouti.RequestError, match="no report"):
        made.report(tmp_path / "r.txt")


def test_runs_on_a_file_have_a_budget_together_and_leave_a_report_however_they_end(
    server: RawServer, client: agouti.Client, tmp_path: Path
) -> None:
    rows = [f"bed {number}" for number in range(120)]
    out, report = tmp_path / "o.jsonl", tmp_path / "r.json"
    asking: dict[str, Any] = {"out": out, "max_tokens": 9, "budget_in_all": 0.5, "report": report, "concurrency": 1}
    agouti.batch(client, "m", rows, limit=10, **asking)
    assert json.loads(report.read_text())["stopped"] == ""
    for _ in range(2):  # the third run has nothing left
        with pytest.raises(agouti.BudgetExceeded, match="budget of all runs on the file"):
            agouti.batch(client, "m", rows, **asking)
        facts = json.loads(report.read_text())
        assert 75 < facts["answered"] <= 83  # each may cost 0.088, and costs 0.005
        assert facts["left"] == 120 - facts["answered"]
        assert facts["costs_of_all_runs"]["USD"] == pytest.approx(0.005 * facts["answered"])
        assert "budget of all runs" in facts["stopped"]
    assert len(server.questions) == facts["answered"]
    whole = agouti.batch(client, "m", rows[: facts["answered"]], **asking)  # who has all needs no budget
    assert (whole.done, whole.already_done) == (0, facts["answered"])
    for wrong, words in (
        ({"report": "r.txt"}, "suffix"),
        ({"out": None}, "goes with out"),
        ({"report": tmp_path / "none" / "r.json"}, "no folder for the report"),
    ):
        with pytest.raises(agouti.RequestError, match=words):
            agouti.batch(client, "m", rows, **{**asking, **wrong})


def test_a_report_is_written_over_no_rows(client: agouti.Client, tmp_path: Path) -> None:
    rows = tmp_path / "rows.json"
    rows.write_text('[{"note": "bed"}]')
    with pytest.raises(agouti.RequestError, match="where the rows are"):
        agouti.batch(client, "m", rows, prompt="{note}", report=rows)
    assert rows.read_text() == '[{"note": "bed"}]'


def test_a_correction_that_is_refused_for_now_pays_no_answer_again() -> None:
    """What a row has paid for is not asked anew because a later request of it has to wait."""
    asked: list[int] = []

    def behave(connection: Connection, _: int) -> None:
        asked.append(connection.request.count(b'"role"'))
        if len(asked) == 2:
            connection.write(reply(b"{}", "429 Slow"))
        else:
            connection.write(answer("7" if len(asked) > 2 else "seven"))

    with serving(behave) as server:
        entry = {"providers": {"p": {"address": server.address, "retries": {"base": 0.01}}}}
        with agouti.Client(entry) as client:
            (row,) = agouti.batch(client, "x@p", ["How many?"], form=int, output_method="prompt")
    assert row.value == 7
    assert len(asked) == 3
    assert asked[1] == asked[2] > asked[0]


def test_an_interrupted_command_leaves_its_report(server: RawServer, tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text(
        f'[providers.p]\naddress = "{server.address}"\n[models.m]\nprovider = "p"\nname = "quill"\n'
        'price = { input = 1000, output = 1000, currency = "USD" }\n'
    )
    (tmp_path / "rows.txt").write_text("".join(f"bed {number}\n" for number in range(60)))
    command = [sys.executable, "-m", "agouti", "batch", "m", "rows.txt", "--out", "o.csv", "-n", "9", "--report", "r.html", "--budget-in-all", "0.1"]  # fmt: skip
    done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=False, timeout=60)
    assert done.returncode == 1
    assert "the budget of all runs on the file" in done.stderr
    page = (tmp_path / "r.html").read_text()
    assert "Stopped: the budget of all runs on the file" in page


def test_a_job_that_is_lost_sight_of_is_not_begun_a_second_time() -> None:
    """It is under way, and paid for: its row has the error, and is asked again where somebody wants that."""
    begun: list[bytes] = []

    def behave(connection: Connection, _: int) -> None:
        if connection.request.startswith(b"POST"):
            begun.append(connection.request)
            urls = {"get": f"{server.address}/jobs/1"}
            job = {"id": "1", "status": "processing", "urls": urls}
            connection.write(reply(json.dumps(job).encode(), "201 Created"))
        else:
            connection.write(reply(b"{}", "503 Away"))

    with serving(behave) as server:
        provider = {"address": server.address, "dialect": "jobs", "retries": {"max": 0}}
        with agouti.Client({"providers": {"p": provider}}) as client:
            made = agouti.batch(client, "x@p", ["Peas?"], give_up_after=2)
    assert (made.done, made.failed, len(begun)) == (0, 1, 1)
