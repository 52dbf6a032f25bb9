"""``agouti fill``, ``agouti embed``, and images and code with ``agouti ask``."""

import csv
import json
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy
import pytest
from pyarrow import parquet

from agouti.standins.images import packet

from .conftest import Command

NOTES = ["Kale sown 4 March, 18 of 24 up.", "Peas sown 2 April, 9 of 10 up."]
SCHEMA = {
    "title": "Note",
    "type": "object",
    "properties": {"crop": {"type": "string"}, "sown": {"type": "integer"}, "up": {"type": "integer"}},
    "required": ["crop", "sown", "up"],
}


@pytest.fixture
def folder(configured: Path) -> Path:
    (configured / "note.json").write_text(json.dumps(SCHEMA))
    (configured / "notes.txt").write_text("\n\n".join(NOTES) + "\n")
    (configured / "notes.csv").write_text('day,note\n1,"Kale: 18 of 24 up"\n2,"Peas: 9 of 10 up"\n')
    (configured / "notes.jsonl").write_text("".join(json.dumps({"note": note, "day": 1}) + "\n" for note in NOTES))
    (configured / "shelf.py").write_text(
        "from dataclasses import dataclass\n@dataclass\nclass Note:\n    crop: str\n    sown: int\n    up: int\n"
    )
    return configured


@pytest.mark.parametrize("form", ["note.json", "shelf:Note"])
def test_one_text_gives_one_value(agouti_command: Command, folder: Path, form: str) -> None:
    done = agouti_command("fill", "almanac", form, NOTES[0])
    assert (done.returncode, done.stderr) == (0, "")
    assert json.loads(done.stdout) == {"crop": "kale", "sown": 24, "up": 18}
    piped = agouti_command("fill", "almanac", form, "-", text=NOTES[1])
    assert json.loads(piped.stdout) == {"crop": "pea", "sown": 10, "up": 9}


@pytest.mark.parametrize(
    ("rows", "options", "places"),
    [
        ("notes.txt", [], [1, 3]),
        ("notes.csv", ["--column", "note"], [2, 3]),
        ("notes.jsonl", ["--output-method", "prompt"], [1, 2]),
    ],
)
def test_every_line_of_a_file_gives_a_line(
    agouti_command: Command, folder: Path, rows: str, options: list[str], places: list[int]
) -> None:
    sown = [24, 10]
    done = agouti_command("fill", "almanac", "note.json", "--rows", rows, *options)
    assert done.returncode == 0
    assert "2 of 2 filled" in done.stderr
    lines = [json.loads(line) for line in done.stdout.splitlines()]
    assert [line["value"]["sown"] for line in lines] == sown
    assert [line["line"] for line in lines] == places  # as an editor counts them
    for out in ("out.csv", "out.jsonl"):
        kept = agouti_command("fill", "almanac", "note.json", "--rows", rows, "--out", out, *options)
        assert (kept.returncode, kept.stdout) == (0, "")
    written = [json.loads(line) for line in (folder / "out.jsonl").read_text().splitlines()]
    assert [{**line, "seconds": 0} for line in written] == [{**line, "seconds": 0} for line in lines]
    with (folder / "out.csv").open(newline="") as file:
        assert [int(row["sown"]) for row in csv.DictReader(file)] == sown


def test_line_that_fails_does_not_cost_the_others(agouti_command: Command, folder: Path) -> None:
    (folder / "notes.txt").write_text(f"{NOTES[0]}\n{'pea ' * 9000}\n{NOTES[1]}\n")
    done = agouti_command("fill", "quill-small@northbank", "shelf:Note", "--rows", "notes.txt", "--out", "out.csv")
    assert done.returncode == 1
    assert "2 of 3 filled" in done.stderr
    assert "line 2: ContextOverflow" in done.stderr
    with (folder / "out.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert [row["sown"] for row in rows] == ["24", "", "10"]
    assert rows[1]["error"].startswith("ContextOverflow")


def test_what_is_done_is_kept_when_it_is_stopped(folder: Path) -> None:
    (folder / "many.txt").write_text("".join(f"Bed {number} sown.\n" for number in range(60)))
    command = [
        "fill",
        "quill-large+slow=2@northbank",
        "note.json",
        "--rows",
        "many.txt",
        "--out",
        "o.jsonl",
        "--concurrency",
        "1",
    ]
    with subprocess.Popen([sys.executable, "-m", "agouti", *command], cwd=folder, stderr=subprocess.PIPE) as process:
        out = folder / "o.jsonl"
        while not (out.exists() and out.read_bytes().count(b"\n")):  # one row is done
            time.sleep(0.02)
        process.send_signal(signal.SIGINT)
        said = process.communicate(timeout=60)[1].decode()
    assert process.returncode == 130
    lines = [json.loads(line) for line in (folder / "o.jsonl").read_text().splitlines()]
    assert 1 <= len(lines) < 60
    assert f"stopped: {len(lines)} of 60 are done, in o.jsonl" in said
    assert [line["line"] for line in lines] == list(range(1, len(lines) + 1))


def test_form_is_filled_from_a_image_and_mending_is_said(agouti_command: Command, folder: Path) -> None:
    (folder / "packet.json").write_text(json.dumps({"type": "object", "properties": {"variety": {"type": "string"}}, "required": ["variety"]}))  # fmt: skip
    done = agouti_command("fill", "almanac", "packet.json", "--image", str(packet("kale")))
    assert json.loads(done.stdout) == {"variety": "Old Fen Curled"}
    mended = agouti_command("fill", "quill-large+invalid=1@northbank", "shelf:Note", NOTES[0])
    assert mended.returncode == 0
    assert "mended" in mended.stderr
    failed = agouti_command("fill", "quill-large+prose@northbank", "shelf:Note", NOTES[0])
    assert (failed.returncode, failed.stdout) == (1, "")
    assert "no json" in failed.stderr


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["fill", "almanac", "missing.json", "x"], "neither a file"),
        (["fill", "almanac", "notes.txt", "x"], "not JSON"),
        (["fill", "almanac", "shelf:Nothing", "x"], "no Nothing in shelf"),
        (["fill", "almanac", "nowhere:Note", "x"], "cannot be imported"),
        (["fill", "almanac", "shelf:Note"], "the text is empty"),
        (["fill", "almanac", "shelf:Note", "x", "--out", "a.csv"], "--rows"),
        (["fill", "almanac", "shelf:Note", "x", "--rows", "notes.txt"], "leave out TEXT"),
        (["fill", "almanac", "shelf:Note", "--rows", "notes.csv", "--column", "nope"], "Did you mean note"),
        (["fill", "almanac", "shelf:Note", "--rows", "notes.txt", "--column", "nope"], "no column 'nope'"),
        (["fill", "almanac", "shelf:Note", "--rows", "notes.txt", "--out", "a.xls"], ".jsonl or .csv"),
        (["fill", "almanac", "shelf:Note", "--rows", "notes.txt", "--out", "no/such/a.csv"], "there is no folder"),
        (["embed", "finder", "notes.txt"], "--near TEXT"),
        (["embed", "finder", "missing.txt", "--near", "x"], "cannot be read"),
        (["embed", "finder", "notes.txt", "--out", "a.txt"], ".npz or .parquet or .npy"),
        (["embed", "finder", "notes.txt", "--out", "no/such/a.npy"], "no folder"),
        (["embed", "almanac", "notes.txt", "--near", "x"], "embeddings"),
        (["ask", "almanac", "x", "--image", "missing.png"], "missing.png cannot be read"),
    ],
)
def test_wrong_use_is_two_lines(agouti_here: Command, folder: Path, arguments: list[str], words: str) -> None:
    done = agouti_here(*arguments)
    assert done.returncode in (1, 2)
    assert words in done.stderr
    assert done.stdout == ""
    assert len(done.stderr.splitlines()) == 2


def test_vectors_are_searched_and_kept(agouti_command: Command, folder: Path) -> None:
    near = agouti_command("embed", "finder", "notes.txt", "--near", "how many peas", "-k", "1")
    assert near.returncode == 0
    assert near.stdout.split()[1:3] == ["3", "Peas"]
    as_json: Any = json.loads(agouti_command("embed", "finder", "notes.txt", "--near", "kale", "--json").stdout)
    assert [row["line"] for row in as_json] == [1, 3]
    kept = agouti_command("embed", "finder", "notes.jsonl", "--column", "note", "--out", "a.npy", "--dimensions", "32")
    assert "2 of 2 embedded in a.npy" in kept.stderr
    array = numpy.load(folder / "a.npy")
    assert (array.shape, array.dtype) == ((2, 32), numpy.float32)
    agouti_command("embed", "finder", "notes.txt", "--out", "a.parquet", "--dimensions", "32")
    table = parquet.read_table(folder / "a.parquet")
    assert table.column("text").to_pylist() == NOTES
    assert numpy.allclose(table.column("vector").to_pylist(), array)


def test_image_and_code_with_ask(agouti_command: Command, folder: Path) -> None:
    seen = agouti_command("ask", "almanac", "What is on it?", "--image", str(packet("beetroot")))
    assert "Lane Globe" in seen.stdout
    done = agouti_command("ask", "almanac", "Write a function for the frost.", "--save-code", "code")
    assert [line.split()[-1] for line in done.stderr.splitlines()] == ["code/days.py", "code/block-2.toml"]
    assert "def days_to_frost" in (folder / "code" / "days.py").read_text()
    none = agouti_command("ask", "almanac", "When do peas go in?", "--save-code", "code")
    assert "nothing saved" in none.stderr
