"""Files of rows and of results: read whole or named by the line, and nothing that was paid is out of reach."""

import csv
import datetime
import decimal
import gzip
import json
import math
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy
import pandas
import pyarrow
import pyarrow.parquet
import pytest

import agouti

from ..hostile.kit import Connection, RawServer, config, reply, serving


def echo(connection: Connection, _: int) -> None:
    text = connection.question
    said = '{"up": 7}' if "form" in text else f"re {text}"
    answer = {"choices": [{"message": {"content": said}, "finish_reason": "stop"}]}
    connection.write(reply(json.dumps(answer).encode()))


@pytest.fixture(scope="module")
def server() -> Iterator[RawServer]:
    with serving(echo) as running:
        yield running


@pytest.fixture
def client(server: RawServer) -> Iterator[agouti.Client]:
    server.questions.clear()
    with agouti.Client(config(server)) as asking:
        yield asking


GOOD: dict[str, tuple[str, bytes, list[str]]] = {
    "a list of JSON": ("r.json", b'[\n {"note": "a"},\n {"note": "b"}\n]', ["a", "b"]),
    "packed": ("r.csv.gz", gzip.compress(b"id,note\n1,a\n"), ["a"]),
    "packed lines": ("r.jsonl.gz", gzip.compress(b'{"note": "a"}\n{"note": "b"}\n'), ["a", "b"]),
    "a mark at the beginning": ("r.csv", b"\xef\xbb\xbfnote,id\na,1\n", ["a"]),
    "a delimiter at the end": ("r.csv", b"id,note\n1,a,\n2,b,,\n", ["a", "b"]),
    "a quote in a word": ("r.csv", b'id,note\n1,5" pot\n', ['5" pot']),
    "a quote that is closed": ("r.csv", b'id,note\n1,"a\nb"\n', ["a\nb"]),
}


@pytest.mark.parametrize("case", GOOD)
def test_rows_of_every_kind_of_file(client: agouti.Client, server: RawServer, tmp_path: Path, case: str) -> None:
    name, data, asked = GOOD[case]
    (tmp_path / name).write_bytes(data)
    agouti.batch(client, "m@p", tmp_path / name, prompt="{note}", concurrency=1)
    assert server.questions == asked


BAD: dict[str, tuple[str, bytes, str]] = {
    "an open quote": (
        "r.csv",
        b'id,note\n1,a\n2,"5 inch pot\n3,c\n4,d\n',
        "line 3: a quote is opened and never closed",
    ),
    "an open quote at the end": ("r.csv", b'id,note\n1,"a', "line 2: a quote is opened"),
    "an object": ("r.json", b'{"note": "a"}', "is no list of rows"),
    "two of a name": ("r.csv", b"note,note\na,b\n", "two columns 'note'"),
}


@pytest.mark.parametrize("case", BAD)
def test_files_that_cannot_be_read_say_where(
    client: agouti.Client, server: RawServer, tmp_path: Path, case: str
) -> None:
    name, data, words = BAD[case]
    (tmp_path / name).write_bytes(data)
    with pytest.raises(agouti.RequestError, match=words):
        agouti.batch(client, "m@p", tmp_path / name, prompt="{note}")
    with pytest.raises(agouti.RequestError, match="two columns 'note'"):
        agouti.batch(client, "m@p", pandas.DataFrame([["a", "b"]], columns=["note", "note"]), prompt="{note}")
    assert server.questions == []


@pytest.mark.parametrize("prompt", ["{crop typ}: {note}", "{ note } {crop type}", "{note!r} {note}", "{crop-type} {note}"])  # fmt: skip
def test_what_is_nearly_a_column_is_not_sent(client: agouti.Client, server: RawServer, prompt: str) -> None:
    with pytest.raises(agouti.RequestError, match="there is no such column") as wrong:
        agouti.batch(client, "m@p", [{"crop type": "pea", "note": "x"}], prompt=prompt)
    assert "{" in wrong.value.hint or "crop type" in wrong.value.hint
    assert server.questions == []


def test_files_of_a_pattern_are_one_behind_the_other(client: agouti.Client, server: RawServer, tmp_path: Path) -> None:
    for name in ("b", "a"):
        (tmp_path / f"{name}.csv").write_text(f"note\n{name}1\n{name}2\n")
    made = agouti.batch(client, "m@p", str(tmp_path / "*.csv"), prompt="{note}", concurrency=1)
    assert (server.questions, [row.key for row in made]) == (["a1", "a2", "b1", "b2"], [1, 2, 3, 4])


def test_an_empty_row_keeps_its_place(client: agouti.Client, server: RawServer, tmp_path: Path) -> None:
    made = agouti.batch(client, "m@p", ["a", "", "b"])
    assert [(row.key, row.answer, row.error) for row in made] == [(1, "re a", ""), (2, None, "it is empty"), (3, "re b", "")]  # fmt: skip


def test_parquet_keeps_its_types_and_odd_values_are_their_rows_error(client: agouti.Client, tmp_path: Path) -> None:
    columns = {
        "day": [datetime.date(2026, 3, 1), None], "at": [datetime.datetime(2026, 3, 1, 12, 30), None],
        "cost": [decimal.Decimal("1.50"), None], "tags": [["a", "b"], None], "inner": [{"x": 1}, None], "note": ["a", "b"],
    }  # fmt: skip
    table = pyarrow.table(columns)
    pyarrow.parquet.write_table(table, tmp_path / "r.parquet")
    agouti.batch(client, "m@p", tmp_path / "r.parquet", prompt="{note} {day}", out=tmp_path / "o.parquet")
    written = pyarrow.parquet.read_table(tmp_path / "o.parquet").select(table.schema.names)
    assert written.to_pylist() == table.to_pylist()
    assert agouti.batch_export(tmp_path / "o.parquet", tmp_path / "again.parquet") == 2
    assert pyarrow.parquet.read_table(tmp_path / "again.parquet").select(table.schema.names).equals(written)
    times = pyarrow.array([300000000000, 0], type=pyarrow.timestamp("s"))
    pyarrow.parquet.write_table(pyarrow.table({"when": times, "note": ["a", "b"]}), tmp_path / "t.parquet")
    made = agouti.batch(client, "m@p", tmp_path / "t.parquet", prompt="{note} {when}")
    errors = {row.line: row.error for row in made}
    assert "has no place" in errors[1]
    assert errors[2] == ""


def test_nothing_that_was_paid_cannot_be_written(client: agouti.Client, server: RawServer, tmp_path: Path) -> None:
    rows = [{"id": 2**64, "note": "a", "vector": "x", "answer": "before", "result_answer": "first"}]
    agouti.batch(client, "m@p", rows, prompt="{note}", out=tmp_path / "o.parquet")
    row = pyarrow.parquet.read_table(tmp_path / "o.parquet").to_pylist()[0]
    assert (row["id"], row["vector"], row["answer"]) == (str(2**64), "x", "before")
    assert (row["result_answer"], row["result_result_answer"]) == ("first", "re a")
    assert server.questions == ["a"]


def test_passes_over_a_table_lose_no_column(client: agouti.Client, tmp_path: Path) -> None:
    (tmp_path / "0.csv").write_text("id,note\n1,a\n")
    for number in range(3):
        agouti.batch(
            client, "m@p", tmp_path / f"{number}.csv", prompt=f"{number} {{note}}", out=tmp_path / f"{number + 1}.csv"
        )
    with (tmp_path / "3.csv").open(newline="") as file:
        [row] = csv.DictReader(file)
    assert [row[name] for name in ("answer", "result_answer", "result_result_answer")] == ["re 0 a", "re 1 a", "re 2 a"]


@pytest.mark.parametrize("suffix", [".csv", ".parquet"])
def test_a_finished_table_takes_rows_that_come_and_change(
    client: agouti.Client, server: RawServer, tmp_path: Path, suffix: str
) -> None:
    asking: Any = {"prompt": "{note}", "id_column": "id", "out": tmp_path / f"o{suffix}"}
    agouti.batch(client, "m@p", [{"id": 1, "note": "a"}, {"id": 2, "note": "b"}], **asking)
    made = agouti.batch(client, "m@p", [{"id": 1, "note": "a"}, {"id": 2, "note": "B"}, {"id": 3, "note": "c"}], **asking)  # fmt: skip
    assert (made.done, made.already_done) == (2, 1)
    assert [row.answer for row in made] == ["re a", "re B", "re c"]
    assert sorted(server.questions) == ["B", "a", "b", "c"]


def test_values_come_back_as_their_type(client: agouti.Client, tmp_path: Path) -> None:
    @dataclass
    class Record:
        up: int

    for name in ("o.jsonl", "o.csv"):
        for _ in range(2):
            made = agouti.batch(client, "m@p", ["a form"], form=Record, out=tmp_path / name)
            assert [row.value for row in made] == [Record(7)]


def test_results_in_another_format_without_asking(client: agouti.Client, server: RawServer, tmp_path: Path) -> None:
    """Also of a run that could not be finished."""
    with pytest.raises(ZeroDivisionError):
        agouti.batch(client, "m@p", ["a", "b", "c"], out=tmp_path / "o.csv", concurrency=1, progress=lambda each: 1 // (each.done < 2))  # fmt: skip
    asked = len(server.questions)
    command = [sys.executable, "-m", "agouti", "batch", "--out", "o.csv", "--export"]
    done = subprocess.run([*command, "made.jsonl"], cwd=tmp_path, capture_output=True, text=True, check=True)
    assert "2 results of o.csv are in made.jsonl" in done.stderr
    assert [json.loads(line)["answer"] for line in (tmp_path / "made.jsonl").read_text().splitlines()] == ["re a", "re b"]  # fmt: skip
    assert len(server.questions) == asked
    for wrong in ("o.csv", "made.txt"):
        done = subprocess.run([*command, wrong], cwd=tmp_path, capture_output=True, text=True, check=False)
        assert done.returncode == 2
    with pytest.raises(agouti.RequestError, match="there are no results"):
        agouti.batch_export(tmp_path / "nothing.jsonl", tmp_path / "a.csv")


def test_an_array_keeps_its_places(tmp_path: Path) -> None:
    def vectors(connection: Connection, _: int) -> None:
        body = json.loads(connection.request.partition(b"\r\n\r\n")[2])
        data = [{"index": at, "embedding": [1.0, 2.0]} for at, _ in enumerate(body["input"])]
        connection.write(reply(json.dumps({"data": data, "model": "m"}).encode()))

    with serving(vectors) as server, agouti.Client(config(server)) as client:
        agouti.batch(client, "m@p", ["a", "", "c"], embed=True, out=tmp_path / "o.npy")
    array = numpy.load(tmp_path / "o.npy")
    assert array.shape == (3, 2)
    assert [math.isnan(row[0]) for row in array] == [False, True, False]
