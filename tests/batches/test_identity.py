"""A result belongs to the question that it answers: of rows that change, entries that change, and runs that stop."""

import json
import subprocess
import sys
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

import agouti

from ..hostile.kit import Connection, RawServer, answer, config, reply, serving
from .test_deferred import Provider, good, lines_of, rows_in

RED = "data:image/gif;base64,R0lGODlhAQABAIAAAP8AAP///ywAAAAAAQABAAACAkQBADs="


def behave(connection: Connection, _: int) -> None:
    if b"sk-refused" in connection.request:
        connection.write(reply(b'{"error": {"message": "no"}}', "401 No"))
    else:
        connection.write(answer(f"<{connection.question}>"))


@pytest.fixture
def server() -> Iterator[RawServer]:
    with serving(behave) as running:
        yield running


def entry(server: RawServer, model: dict[str, Any] | None = None, **provider: Any) -> agouti.Client:
    entries = {
        "providers": {"p": {"address": server.address, "retries": {"max": 0}, **provider}},
        "models": {"m": {"provider": "p", "name": "m", **(model or {})}},
    }
    return agouti.Client(agouti.load_config(entries, environment={"K": "sk-refused", "PLACE": "south"}))


@pytest.mark.parametrize("key", ["id", None])
def test_a_changed_row_is_asked_until_its_new_question_is_answered(
    server: RawServer, tmp_path: Path, key: str | None
) -> None:
    asking: dict[str, Any] = {"prompt": "{note}", "id_column": key, "out": tmp_path / "a.jsonl"}
    with entry(server) as client:
        agouti.batch(client, "m", [{"id": 1, "note": "old"}], **asking)
    new = [{"id": 1, "note": "new"}]
    with entry(server, key={"env": "K"}) as refused:
        for _ in range(2):  # a refusal is repeated
            with pytest.raises(agouti.CredentialRefused if key else agouti.RequestError):
                agouti.batch(refused, "m", new, **asking)
    assert rows_in(tmp_path / "a.jsonl")[0]["answer"] == "<old>"  # nothing is lost meanwhile
    with entry(server) as client:
        if key is None:
            with pytest.raises(agouti.RequestError, match="other rows"):
                agouti.batch(client, "m", new, **asking)
            return
        made = agouti.batch(client, "m", new, **asking)
        assert (made.done, made.already_done) == (1, 0)
        assert [row["answer"] for row in rows_in(tmp_path / "a.jsonl")] == ["<new>"]
        # ... and back.
        assert agouti.batch(client, "m", [{"id": 1, "note": "old"}], **asking).done == 1


@pytest.mark.parametrize("what", ["dialect", "key", "form", "column"])
def test_anew_touches_nothing_before_the_first_new_result(server: RawServer, tmp_path: Path, what: str) -> None:
    out = tmp_path / "a.jsonl"
    with entry(server) as client:
        agouti.batch(client, "m", ["one", "two"], out=out)
    before = out.read_bytes()
    wrong: dict[str, Any] = {"dialect": {"deferred": True}, "form": {"form": 7}, "column": {"column": "none"}}.get(
        what, {}
    )
    provider = {"dialect": {"dialect": "responses"}, "key": {"key": {"env": "K"}}}.get(what, {})
    with entry(server, **provider) as client, pytest.raises(agouti.AgoutiError):
        agouti.batch(client, "m", ["one", "two"], out=out, restart=True, **wrong)
    assert out.read_bytes() == before
    with entry(server) as client:
        assert agouti.batch(client, "m", ["one", "two"], out=out).already_done == 2
        made = agouti.batch(client, "m", ["one"], out=out, restart=True)
    assert (made.done, len(rows_in(out))) == (1, 1)


@pytest.mark.parametrize(
    ("model", "provider"),
    [
        ({"examples": [["q", "a"]]}, {}),
        ({"system": "Into {tongue}.", "variables": {"tongue": "Italian"}}, {}),
        ({"reasoning_tag": "think"}, {}),
        ({}, {"add": {"temperature": 2}}),
        ({}, {"drop": ["top_p"]}),
        ({}, {"rename": {"top_p": "p"}}),
        ({}, {"address": "another server"}),
        ({}, {"headers": {"x-shelf": "south"}}),
        ({}, {"query": {"place": {"env": "PLACE"}}}),
    ],
)
def test_an_entry_that_asks_otherwise_is_seen(
    server: RawServer, tmp_path: Path, model: dict[str, Any], provider: dict[str, Any]
) -> None:
    asking: dict[str, Any] = {"out": tmp_path / "a.jsonl", "top_p": 0.5}
    before = {**model, "variables": {"tongue": "French"}} if "blanks" in model else {}
    with entry(server, before) as client:
        agouti.batch(client, "m", ["one", "two"], **asking)
    with serving(behave) as other:
        if "address" in provider:
            provider["address"] = other.address
        with entry(server, model, **provider) as client:
            for _ in range(2):
                with pytest.raises(agouti.RequestError, match="another run"):
                    agouti.batch(client, "m", ["one", "two", "three"], **asking)
            assert agouti.batch(client, "m", ["one", "two", "three"], ignore_changes=True, **asking).done == 1
    assert len(server.requests) + len(other.requests) == 3


def test_another_picture_under_the_same_name_is_another_question(server: RawServer, tmp_path: Path) -> None:
    import base64

    rows = [{"id": 1, "note": "What is it?", "picture": str(tmp_path / "p.gif")}]
    asking: dict[str, Any] = {
        "prompt": "{note}",
        "image_columns": ["picture"],
        "id_column": "id",
        "out": tmp_path / "a.jsonl",
    }
    data = base64.b64decode(RED.partition(",")[2])
    with entry(server) as client:
        for content, done in ((data, 1), (data, 0), (data[:-1] + b"\0;", 1)):
            (tmp_path / "p.gif").write_bytes(content)
            assert agouti.batch(client, "m", rows, **asking).done == done


@pytest.mark.parametrize("how", ["moved", "emptied"])
def test_results_that_are_gone_are_an_error(server: RawServer, tmp_path: Path, how: str) -> None:
    out = tmp_path / "a.jsonl"
    with entry(server) as client:
        agouti.batch(client, "m", ["one", "two"], out=out)
        kept = out.read_bytes()
        if how == "moved":
            out.rename(tmp_path / "b.jsonl")
        else:
            out.write_bytes(b"")
        with pytest.raises(agouti.RequestError, match="2 results are gone"):
            agouti.batch(client, "m", ["one", "two"], out=out)
        assert len(server.requests) == 2
        out.write_bytes(kept)
        assert agouti.batch(client, "m", ["one", "two"], out=out).already_done == 2


def test_functions_as_tools_are_the_same_in_the_next_program(server: RawServer, tmp_path: Path) -> None:
    code = f"""
import agouti
def frost(day: int) -> str:
    "Whether it freezes."
    return "no"
with agouti.Client({{"providers": {{"p": {{"address": {server.address!r}}}}}}}) as client:
    print(agouti.batch(client, "m@p", ["one"], tools=[frost], out="a.jsonl").already_done)
"""
    (tmp_path / "run.py").write_text(code)
    found = [
        subprocess.run([sys.executable, "run.py"], cwd=tmp_path, capture_output=True, text=True, check=True).stdout
        for _ in range(2)
    ]
    assert found == ["0\n", "1\n"]


# What was handed over.


def asked_in(file: bytes) -> list[dict[str, Any]]:
    return [json.loads(line) for line in file.splitlines() if line.startswith(b'{"custom_id"')]


class Later(Provider):
    """Answers each row with its own question, once it is told to."""

    def __call__(self, connection: Connection, number: int) -> None:
        path = connection.request.split(b" ")[1]
        if path.endswith(b"/content"):
            made = b""
            for file in self.files:
                texts = [each["body"]["messages"][-1]["content"] for each in asked_in(file)]
                made += lines_of(file, *[good(f"re {text}") for text in texts])
            connection.write(reply(self.torn(made) if b"out" in path else b""))
        elif path.endswith(b"/chat/completions"):
            connection.write(answer("directly"))
        else:
            super().__call__(connection, number)

    torn = staticmethod(lambda made: made)


def stopped(client: agouti.Client, rows: Any, **asking: Any) -> None:
    """Hand over, and stop while it waits."""
    with pytest.raises(ZeroDivisionError):
        agouti.batch(client, "a", rows, deferred=True, progress=lambda _: 1 // 0, **asking)


ROWS = [{"id": f"n{number}", "note": f"bed {number}"} for number in range(6)]


@pytest.mark.parametrize("less", [{"limit": 3}, {"sample": 2}, {"rows": ROWS[:2]}], ids=["limit", "sample", "fewer"])
def test_all_that_came_is_kept_whatever_a_run_looks_at(tmp_path: Path, less: dict[str, Any]) -> None:
    provider = Later()
    provider.status = {"status": "in_progress"}
    asking: dict[str, Any] = {"prompt": "{note}", "id_column": "id", "out": tmp_path / "a.jsonl"}
    with serving(provider) as server, agouti.Client(config(server)) as client:
        stopped(client, ROWS, **asking)
        provider.status = {"status": "completed", "output_file_id": "out"}
        rows = less.pop("rows", ROWS)
        agouti.batch(client, "a", rows, deferred=True, **asking, **less)
        made = agouti.batch(client, "a", ROWS, deferred=True, **asking)
    assert (made.done, made.already_done, len(provider.begun)) == (0, 6, 1)
    assert {row["key"]: row["answer"] for row in rows_in(tmp_path / "a.jsonl")} == {
        row["id"]: f"re {row['note']}" for row in ROWS
    }


def test_what_was_handed_over_answers_what_it_asked(tmp_path: Path) -> None:
    provider = Later()
    provider.status = {"status": "in_progress"}
    asking: dict[str, Any] = {"id_column": "id", "out": tmp_path / "a.jsonl"}
    with serving(provider) as server, agouti.Client(config(server)) as client:
        stopped(client, ROWS[:2], prompt="one {note}", **asking)
        # Asked directly, they would be paid twice.
        with pytest.raises(agouti.RequestError, match="handed over"):
            agouti.batch(client, "a", ROWS[:2], prompt="one {note}", **asking)
        # A row that has changed meanwhile gets the answer to its new question.
        changed = [{**ROWS[0], "note": "weeded"}, ROWS[1]]
        provider.status = {"status": "completed", "output_file_id": "out"}
        agouti.batch(client, "a", changed, prompt="one {note}", deferred=True, **asking)
        assert len(provider.files) == 2
        agouti.batch(client, "a", changed, prompt="one {note}", deferred=True, **asking)
        found = {row["key"]: row["answer"] for row in rows_in(tmp_path / "a.jsonl")}
        assert found == {"n0": "re one weeded", "n1": "re one bed 1"}
        assert [len(asked_in(file)) for file in provider.files] == [2, 1]
        # Begun anew is begun anew.
        provider.status = {"status": "in_progress"}
        stopped(client, ROWS[:2], prompt="two {note}", restart=True, **asking)
        stopped(client, ROWS[:2], prompt="three {note}", restart=True, **asking)
        provider.status = {"status": "completed", "output_file_id": "out"}
        made = agouti.batch(client, "a", ROWS[:2], prompt="three {note}", deferred=True, **asking)
        assert made.done == 2
        assert {row["answer"] for row in rows_in(tmp_path / "a.jsonl")} == {"re three bed 0", "re three bed 1"}


def test_what_was_fetched_before_a_kill_is_kept_once(tmp_path: Path) -> None:
    """The results are the truth: the index beside them may lack what was noted last."""
    import sqlite3

    provider = Later()
    provider.status = {"status": "completed", "output_file_id": "out"}
    asking: dict[str, Any] = {"prompt": "{note}", "id_column": "id", "out": tmp_path / "a.jsonl", "deferred": True}
    with serving(provider) as server, agouti.Client(config(server)) as client:
        provider.status = {"status": "in_progress"}
        stopped(client, ROWS, **{name: value for name, value in asking.items() if name != "deferred"})
        handed = (tmp_path / ".a.jsonl.journal").read_bytes()
        provider.status = {"status": "completed", "output_file_id": "out"}
        assert agouti.batch(client, "a", ROWS, **asking).done == 6
        lines = (tmp_path / "a.jsonl").read_bytes().splitlines(keepends=True)
        # As a kill in the middle leaves it.
        (tmp_path / ".a.jsonl.journal").write_bytes(handed)
        (tmp_path / "a.jsonl").write_bytes(b"".join(lines[:4]))
        made = agouti.batch(client, "a", ROWS, **asking)
    assert (made.done, made.already_done) == (2, 4)
    assert len(rows_in(tmp_path / "a.jsonl")) == 6
    with closing(sqlite3.connect(tmp_path / ".a.jsonl.journal")) as base:
        assert base.execute("SELECT count(*) FROM handed").fetchone() == (0,)


def test_the_batch_of_another_run_is_never_taken_for_ours(tmp_path: Path) -> None:
    """Neither by its time and size, nor by rows that are called alike: its results carry another mark."""
    import time

    begun: list[dict[str, Any]] = []

    def foreign(connection: Connection, number: int) -> None:
        head, _, body = connection.request.partition(b"\r\n\r\n")
        address = f"http://{head.split(b'ost: ')[1].split()[0].decode()}/v1/results"
        now = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
        batch = {"processing_status": "ended", "request_counts": {"succeeded": 2}, "created_at": now}
        if head.startswith(b"POST"):
            begun.append(json.loads(body))
            told = {**batch, "id": f"b-{len(begun)}"}
            connection.write(reply(json.dumps(told).encode()) if len(begun) > 1 else reply(b"{}", "500 Odd"))
        elif b"?" in head.split(b" ")[1]:
            connection.write(reply(json.dumps({"data": [{**batch, "id": "b-foreign"}]}).encode()))
        elif b"results" in head:
            ours = len(begun) > 1
            names = [each["custom_id"] for each in begun[-1]["requests"]]
            names = names if ours else ["0" * 16 + name[name.index("-") :] for name in names]
            message = {"content": [{"type": "text", "text": "ours" if ours else "foreign"}], "stop_reason": "end_turn"}
            lines = [{"custom_id": name, "result": {"type": "succeeded", "message": message}} for name in names]
            connection.write(reply("\n".join(map(json.dumps, lines)).encode()))
        else:
            name = head.split(b" ")[1].rpartition(b"/")[2].decode()
            connection.write(reply(json.dumps({**batch, "id": name, "results_url": address}).encode()))

    with serving(foreign) as server, agouti.Client(config(server, dialect="messages", retries={"max": 0})) as client:
        asking: Any = {"out": tmp_path / "o.jsonl", "deferred": True}
        with pytest.raises(agouti.ProviderFault):
            agouti.batch(client, "a", ["one", "two"], **asking)
        assert agouti.batch(client, "a", ["one", "two"], **asking).done == 2
    assert {row["answer"] for row in rows_in(tmp_path / "o.jsonl")} == {"ours"}
    assert len(begun) == 2


@pytest.mark.parametrize("torn", [lambda made: made[7:], lambda made: b"\n<p>\n" + made[:-9], lambda made: made + b"{"])
def test_a_line_that_cannot_be_read_loses_no_other(tmp_path: Path, torn: Any) -> None:
    provider = Later()
    provider.torn = torn  # type: ignore[method-assign]
    provider.status = {"status": "completed", "output_file_id": "out"}
    asking: dict[str, Any] = {"prompt": "{note}", "id_column": "id", "out": tmp_path / "a.jsonl", "deferred": True}
    with serving(provider) as server, agouti.Client(config(server)) as client:
        made = agouti.batch(client, "a", ROWS, **asking)
        lost = 1 if torn(b"x" * 99) != b"x" * 99 + b"{" else 0
        assert (made.done, made.failed) == (6 - lost, lost)
        assert not lost or "cannot be read" in made.failures[0][1]
        again = agouti.batch(client, "a", ROWS, **asking)
        assert (again.done, len(provider.begun)) == (0, 1)


def test_an_answer_wins_over_an_error(tmp_path: Path) -> None:
    """A row that stands twice: answered, and among the errors."""
    provider = Provider()
    provider.status = {"status": "completed", "output_file_id": "out", "error_file_id": "err"}
    refused = {"response": {"status_code": 500, "body": {"error": {"message": "odd"}}}}

    def twice(connection: Connection, number: int) -> None:
        path = connection.request.split(b" ")[1]
        if path.endswith(b"/content"):
            connection.write(reply(lines_of(provider.files[0], good("1") if b"out" in path else refused)))
        else:
            provider(connection, number)

    with serving(twice) as server, agouti.Client(config(server)) as client:
        made = agouti.batch(client, "a", ["one"], out=tmp_path / "a.jsonl", deferred=True)
        assert (made.done, made.failed) == (1, 0)
        assert agouti.batch(client, "a", ["one"], out=tmp_path / "a.jsonl").already_done == 1
        # Also over an error of what the row asks by now: it is asked again, and what is paid for stays meanwhile.
        asking: dict[str, Any] = {"prompt": "{note}", "id_column": "id", "out": tmp_path / "b.jsonl", "deferred": True}
        provider.files.clear()
        agouti.batch(client, "a", [{"id": 1, "note": "old"}], **asking)
        provider.status = {"status": "completed", "error_file_id": "err"}
        provider.files.clear()
        agouti.batch(client, "a", [{"id": 1, "note": "new"}], **asking)
        assert rows_in(tmp_path / "b.jsonl")[0]["answer"] == "1"


def test_what_does_not_fit_its_form_is_kept_by_no_cache(tmp_path: Path) -> None:
    """Neither an answer without a value nor calls that cannot be run: they would come again and again."""
    call = {"id": "c", "type": "function", "function": {"name": "frost", "arguments": '{"day": "soon"}'}}
    told: list[dict[str, Any]] = [
        {"message": {"content": "Twelve, I think."}, "finish_reason": "stop"},
        {"message": {"content": '{"value": 12}'}, "finish_reason": "stop"},
        {"message": {"content": None, "tool_calls": [call]}, "finish_reason": "tool_calls"},
        {"message": {"content": None, "tool_calls": [call]}, "finish_reason": "tool_calls"},
        {"message": {"content": "No."}, "finish_reason": "stop"},
    ]

    def odd_first(connection: Connection, number: int) -> None:
        connection.write(reply(json.dumps({"choices": [told[number]]}).encode()))

    def frost(day: int) -> str:
        """Whether it freezes."""
        return "no"

    with serving(odd_first) as server:
        entries = {"providers": {"p": {"address": server.address}}, "cache": {"store": str(tmp_path / "c.sqlite")}}
        with agouti.Client(entries) as client:
            with pytest.raises(agouti.NotFilled):
                client.fill("m@p", int, "How many?", max_repairs=0, temperature=0)
            assert client.fill("m@p", int, "How many?", max_repairs=0, temperature=0).value == 12
            assert client.fill("m@p", int, "How many?", max_repairs=0, temperature=0).reply.cached
            with pytest.raises(agouti.ToolCallInvalid):
                client.ask("m@p", "Frost?", tools=[frost], run_tools=True, temperature=0)
            assert client.ask("m@p", "Frost?", tools=[frost], run_tools=True, temperature=0).text == "No."


@pytest.mark.parametrize("first", ["jsonl", "csv"])
def test_keys_are_the_same_in_tables_that_know_numbers_and_in_those_that_do_not(
    server: RawServer, tmp_path: Path, first: str
) -> None:
    (tmp_path / "r.csv").write_text("id,note\n1,one\n2,two\n07,three\n")
    rows = [{"id": 1, "note": "one"}, {"id": 2, "note": "two"}, {"id": "07", "note": "three"}]
    (tmp_path / "r.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    second = {"jsonl": "csv", "csv": "jsonl"}[first]
    asking: dict[str, Any] = {"prompt": "{note}", "id_column": "id", "out": tmp_path / "o.jsonl"}
    with entry(server) as client:
        assert agouti.batch(client, "m", tmp_path / f"r.{first}", **asking).done == 3
        for name in (second, first, second):
            made = agouti.batch(client, "m", tmp_path / f"r.{name}", **asking)
            assert (made.done, made.already_done) == (0, 3)
        (tmp_path / f"r.{second}").write_text((tmp_path / f"r.{second}").read_text().replace("two", "new"))
        made = agouti.batch(client, "m", tmp_path / f"r.{second}", **asking)  # what has changed is seen all the same
        assert (made.done, made.already_done, len(made)) == (1, 2, 3)
        both = [{"id": 5, "note": "five"}, {"id": "5", "note": "fifth"}]  # side by side they are two
        assert agouti.batch(client, "m", both, **{**asking, "out": tmp_path / "b.jsonl"}).done == 2
        assert agouti.batch(client, "m", both, **{**asking, "out": tmp_path / "b.jsonl"}).already_done == 2
    assert len(server.requests) == 6
