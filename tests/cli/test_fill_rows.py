"""``agouti fill --rows``: what is paid is kept, whatever happens, and asked once."""

import csv
import json
import os
import random
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import pytest

from ..hostile.kit import Connection, RawServer, answer, reply, serving
from .conftest import Command

FORM = (
    '{"type": "object", "properties": {"crop": {"type": "string"}, "text": {"type": "string"}}, "required": ["crop"]}'
)


def behave(connection: Connection, _: int) -> None:
    question = connection.question
    time.sleep(0.005)
    if "refuse" in question:
        connection.write(reply(b'{"error": {"message": "no"}}', "401 No"))
    elif "half" in question:
        connection.write(answer('{"crop": "\\ud83d"}'))
    elif "bad" in question:
        connection.write(answer("no crop at all"))
    else:
        connection.write(answer(json.dumps({"crop": question.split()[-1], "text": "t"})))


def command(folder: Path, *arguments: str, **more: Any) -> "subprocess.CompletedProcess[str]":
    return subprocess.run(
        [sys.executable, "-m", "agouti", *arguments], cwd=folder, capture_output=True, text=True, check=False, **more
    )


@pytest.fixture
def server() -> Any:
    with serving(behave) as running:
        yield running


@pytest.fixture
def folder(tmp_path: Path, server: RawServer) -> Path:
    (tmp_path / "agouti.toml").write_text(
        f'[providers.p]\naddress = "{server.address}"\n[models.a]\nprovider = "p"\nname = "m"\n'
    )
    (tmp_path / "form.json").write_text(f"\ufeff{FORM}")
    return tmp_path


FILL = ("fill", "a", "form.json", "--max-repairs", "0")


def results(path: Path) -> list[dict[str, Any]]:
    return [json.loads(line) for line in path.read_text().split("\n") if line]


@pytest.mark.parametrize("out", ["out.jsonl", "out.csv"])
def test_run_that_is_killed_is_gone_on_with(folder: Path, server: RawServer, out: str) -> None:
    count, chance = 500, random.Random(3)
    (folder / "rows.csv").write_text("id,note\n" + "".join(f"n{number},note {number}\n" for number in range(count)))
    run = [sys.executable, "-m", "agouti", *FILL, "--rows", "rows.csv", "--column", "note", "--id-column", "id", "--out", out, "--concurrency", "8"]  # fmt: skip
    for _ in range(5):
        process = subprocess.Popen(run, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        until = len(server.questions) + chance.randrange(5, 60)
        while len(server.questions) < until and process.poll() is None:
            time.sleep(0.002)
        process.send_signal(signal.SIGKILL)
        process.wait()
    last = subprocess.run(run, cwd=folder, capture_output=True, text=True, check=False)
    assert last.returncode == 0, last.stderr
    if out.endswith("l"):
        rows = results(folder / out)
        found = [(row["row"]["id"], row["value"]["crop"]) for row in rows]
    else:
        with (folder / out).open(newline="") as file:
            found = [(row["id"], row["crop"]) for row in csv.DictReader(file)]
    assert found == [(f"n{number}", str(number)) for number in range(count)]
    # None that was paid is asked again, but those under way at a kill.
    asked: dict[str, int] = {}
    for question in server.questions:
        asked[question] = asked.get(question, 0) + 1
    assert sum(times - 1 for times in asked.values()) <= 10 * 8


def test_row_costs_no_other_row(folder: Path) -> None:
    (folder / "shelf.py").write_text(
        "import dataclasses, pathlib, pydantic\n\n\nclass Inner(pydantic.BaseModel):\n    x: int = 1\n\n\n"
        "@dataclasses.dataclass\nclass Note:\n    crop: str\n    inner: Inner = dataclasses.field(default_factory=Inner)\n"
        "    where: pathlib.Path = pathlib.Path('a')\n    text: str = 'd'\n\n    def __post_init__(self):\n"
        "        {}[self.crop] if self.crop == 'odd' else None\n"
    )
    (folder / "rows.txt").write_text("one pea\n\nhalf\nodd odd\nbad\n\x0ca bean\n")
    done = command(folder, "fill", "a", "shelf:Note", "--max-repairs", "0", "--rows", "rows.txt", "--out", "o.jsonl")
    assert done.returncode == 1, done.stderr
    rows = results(folder / "o.jsonl")
    assert [row["line"] for row in rows] == [1, 3, 4, 5, 6]
    assert rows[0]["value"] == {"crop": "pea", "inner": {"x": 1}, "where": "a", "text": "t"}
    assert [row["error"].partition(":")[0] for row in rows if "error" in row] == ["NotFilled"] * 3
    assert "KeyError" in rows[2]["error"]
    again = command(folder, "fill", "a", "shelf:Note", "--max-repairs", "0", "--rows", "rows.txt", "--out", "o.jsonl")
    assert "2 of 5 are there already" in again.stderr


def test_what_holds_for_all_rows_stops_at_once(folder: Path, server: RawServer) -> None:
    (folder / "rows.txt").write_text("".join(f"note {number}\n" for number in range(20)) + "refuse\n" * 300)
    done = command(folder, *FILL, "--rows", "rows.txt", "--out", "o.jsonl", "--concurrency", "4")
    assert done.returncode == 1
    assert "does not accept the key" in done.stderr
    assert len(server.requests) <= 20 + 4
    assert len(results(folder / "o.jsonl")) == 20


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["fill", "typo", "form.json", "--rows", "rows.csv", "--out", "keep.jsonl"], "there is no model"),
        ([*FILL, "--rows", "rows.csv", "--out", "rows.csv"], "is also where the rows are"),
        ([*FILL, "--rows", "rows.csv", "--out", "keep.jsonl"], "holds something else"),
        ([*FILL, "--rows", "rows.csv", "--out", "other.jsonl"], "holds something else"),
        ([*FILL, "--rows", "rows.csv", "--out", "there.csv"], "is there already"),
        ([*FILL, "--rows", "rows.csv", "--id-column", "nope"], "no column 'nope'"),
        ([*FILL, "--rows", "rows.csv", "--id-column", "kind"], "lines 2 and 3 have the same kind"),
        ([*FILL, "--rows", "twice.csv"], "two columns 'a'"),
        ([*FILL, "--rows", "rows.csv", "--encoding", "klingon"], "no encoding"),
        ([*FILL, "x", "--id-column", "id"], "go with --rows"),
    ],
)
def test_bad_input_loses_nothing_and_costs_nothing(
    agouti_here: Command, folder: Path, server: RawServer, arguments: list[str], words: str
) -> None:
    (folder / "rows.csv").write_text("id,kind,note\n1,a,x\n2,a,y\n")
    (folder / "twice.csv").write_text("a,a\n1,2\n")
    kept = {"keep.jsonl": "my notes\n", "other.jsonl": '{"line": 9, "text": "z", "value": 1}\n', "there.csv": "a\n1\n"}
    for name, text in kept.items():
        (folder / name).write_text(text)
    before = {path.name: path.read_bytes() for path in folder.iterdir() if path.is_file()}
    done = agouti_here(*arguments)
    assert done.returncode == 2
    assert words in done.stderr
    assert {name: (folder / name).read_bytes() for name in before} == before
    assert not server.requests


@pytest.mark.parametrize(
    ("name", "data", "texts", "remark"),
    [
        ("a.csv", b"crop;note\npea;18, up\n", ["crop: pea\nnote: 18, up"], "divided by ';'"),
        ("a.tsv", b"crop\tnote\npea\t18\n", ["crop: pea\nnote: 18"], ""),
        ("a.csv", "crop,note\nBohne,grün\n".encode("cp1252"), ["crop: Bohne\nnote: grün"], "cp1252"),
        ("a.csv", "crop,note\nBohne,grün\n".encode("utf-16"), ["crop: Bohne\nnote: grün"], "utf-16"),
        ("a.jsonl", '{"a": "x\u2028y\u0085"}\n'.encode(), ["a: x\u2028y\u0085"], ""),
        ("a.csv", b'id,note\n1,"two\nlines"\n2,x\n', ["id: 1\nnote: two\nlines", "id: 2\nnote: x"], ""),
    ],
)
def test_files_of_every_kind(
    folder: Path, server: RawServer, name: str, data: bytes, texts: list[str], remark: str
) -> None:
    (folder / name).write_bytes(data)
    done = command(folder, *FILL, "--rows", name)
    assert done.returncode == 0, done.stderr
    assert sorted(server.questions) == sorted(texts)
    assert remark in done.stderr
    lines = [json.loads(line) for line in done.stdout.split("\n") if line]
    assert lines[-1]["line"] == (4 if len(texts) == 2 else 1 if name.endswith("l") else 2)


def test_termination_is_no_loss_and_two_runs_are_kept_apart(folder: Path) -> None:
    (folder / "rows.txt").write_text("".join(f"note {number}\n" for number in range(400)))
    run = [sys.executable, "-m", "agouti", *FILL, "--rows", "rows.txt", "--out", "o.jsonl", "--concurrency", "1"]
    process = subprocess.Popen(run, cwd=folder, stderr=subprocess.PIPE, text=True, preexec_fn=_default_signals)
    for _ in range(500):
        if (folder / "o.jsonl").exists() and (folder / "o.jsonl").stat().st_size > 500:
            break
        time.sleep(0.02)
    other = command(folder, *FILL, "--rows", "rows.txt", "--out", "o.jsonl")
    assert other.returncode == 2
    assert "another run is writing" in other.stderr
    process.send_signal(signal.SIGTERM)
    said = process.communicate(timeout=60)[1]
    assert process.returncode == 130
    assert f"stopped: {len(results(folder / 'o.jsonl'))} of 400 are done" in said


def _default_signals() -> None:
    signal.signal(signal.SIGINT, signal.default_int_handler)


def test_columns_of_the_row_and_of_the_value_do_not_meet(folder: Path) -> None:
    (folder / "rows.csv").write_text("line,text\n7,=cmd pea\n")
    done = command(folder, *FILL, "--rows", "rows.csv", "--out", "o.csv")
    assert done.returncode == 0, done.stderr
    with (folder / "o.csv").open(newline="") as file:
        [row] = csv.DictReader(file)
    assert (row["text"], row["value_text"], row["crop"]) == ("=cmd pea", "t", "pea")
    assert "a spreadsheet may run them" in done.stderr
    assert threading.active_count() >= 1
    assert os.path.exists(folder / "o.csv")


@pytest.mark.parametrize("out", ["notes.npz", "notes.parquet", "notes.npy"])
def test_embed_goes_on_where_it_was_killed(folder: Path, out: str) -> None:
    def vectors(connection: Connection, _: int) -> None:
        texts = json.loads(connection.request.partition(b"\r\n\r\n")[2])["input"]
        time.sleep(0.02)
        asked.extend(texts)
        if any("2500" in text for text in texts) and not mended:
            connection.write(reply(b'{"error": {"message": "text not wanted"}}', "400 No"))
        else:
            rows = [{"index": place, "embedding": [float(text.split()[1]), 1.0]} for place, text in enumerate(texts)]
            connection.write(reply(json.dumps({"data": rows, "model": "m-1"}).encode()))

    asked: list[str] = []
    mended: list[bool] = []
    with serving(vectors) as server:
        made = f'[providers.p]\naddress = "{server.address}"\n[models.a]\nprovider = "p"\nname = "m"\n'
        (folder / "agouti.toml").write_text(made)
        count = 3000
        (folder / "notes.txt").write_text("".join(f"note {number}\n" for number in range(count)))
        run = [sys.executable, "-m", "agouti", "embed", "a", "notes.txt", "--out", out]
        for _ in range(2 if out == "notes.npz" else 1):
            process = subprocess.Popen(run, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            limit, began = len(asked) + 600, time.monotonic()
            while len(asked) < limit and time.monotonic() - began < 60 and process.poll() is None:
                time.sleep(0.005)
            process.send_signal(signal.SIGKILL)
            process.wait()
        failed = command(folder, "embed", "a", "notes.txt", "--out", out)
        assert failed.returncode == 1, failed.stderr
        assert "text not wanted" in failed.stderr
        assert "2,999 of 3,000 embedded" in failed.stderr
        assert "the same command asks them again" in failed.stderr
        mended.append(True)
        before = len(asked)
        done = command(folder, "embed", "a", "notes.txt", "--out", out)
        assert done.returncode == 0, done.stderr
        assert "are there already" in done.stderr
        assert len(asked) - before == 1
        assert len(asked) - count <= 4 * 64 * 128 + 1024  # what was under way at each end
        if out.endswith(".npy"):
            import numpy

            assert numpy.load(folder / out)[:, 0].tolist() == list(range(count))
            return
        import agouti

        kept = agouti.Embeddings.load(folder / out)
        assert kept.vectors[:, 0].tolist() == list(range(count))
        lines = set() if out.endswith(".npz") else {f".{out}.part"}  # to a table rows may be added
        names = {path.name for path in folder.iterdir() if "notes" in path.name}
        assert names == {"notes.txt", out, f".{out}.journal", *lines}
        before = len(asked)
        assert command(folder, "embed", "a", "notes.txt", "--out", out).returncode == 0
        assert len(asked) == before
        other = command(folder, "embed", "a", "notes.txt", "--out", out, "--dimensions", "3")
        assert "--restart" in other.stderr


@pytest.mark.parametrize(
    ("arguments", "journal"),
    [
        ((*FILL, "--rows", "rows.txt", "--out", "o.jsonl"), "o.jsonl"),
        ((*FILL, "--rows", "rows.txt", "--out", "o.csv"), ".o.csv.part"),
        (("embed", "a", "rows.txt", "--out", "o.npz"), ".o.npz.part"),
    ],
)
@pytest.mark.parametrize("anew", [False, True])
def test_second_run_beside_one_touches_nothing_of_it(
    folder: Path, server: RawServer, arguments: tuple[str, ...], journal: str, anew: bool
) -> None:
    import fcntl

    (folder / "rows.txt").write_text("note 1\n")
    half = b'{"key": 1, "line": 1, "va'  # the first run is writing
    (folder / journal).write_bytes(half)
    with (folder / f".{arguments[-1]}.journal").open("ab") as held:
        fcntl.flock(held, fcntl.LOCK_EX)
        done = command(folder, *arguments, *(["--restart"] if anew else []))
    assert "another run is writing" in done.stderr
    assert (folder / journal).read_bytes() == half
    assert not server.questions


def test_embed_writes_no_vectors_where_none_came(agouti_here: Command, folder: Path) -> None:
    (folder / "rows.csv").write_text("id,note\n1,\n")
    for arguments in (("a", "rows.csv", "--column", "note"), ("nowhere", "rows.csv")):
        done = agouti_here("embed", *arguments, "--out", "o.npz")
        assert done.returncode in (1, 2)
        assert "Traceback" not in done.stderr
        assert not (folder / "o.npz").exists()
