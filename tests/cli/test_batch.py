"""``agouti batch`` as a process: plans, files, pipes, kills, and what it says."""

import json
import os
import random
import signal
import subprocess
import sys
import time
from collections import Counter
from pathlib import Path
from typing import Any

import pytest

from agouti.standins import Served

from .conftest import Command

PROMPT = ("--prompt", "How did it go? {note}", "-n", "8")


@pytest.fixture
def folder(configured: Path) -> Path:
    rows = [{"id": f"n{number}", "note": f"Kale, {number} of 24 up."} for number in range(12)]
    (configured / "notes.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    (configured / "note.json").write_text(
        '{"title": "Note", "type": "object", "required": ["crop"], "properties": {"crop": {"type": "string"}}}'
    )
    return configured


def rows_in(path: Path) -> list[dict[str, Any]]:
    return [json.loads(line) for line in path.read_text().splitlines()]


def test_plan_sample_and_the_whole(agouti_command: Command, folder: Path) -> None:
    asked = ("batch", "almanac", "notes.jsonl", *PROMPT, "--id-column", "id")
    plan = agouti_command(*asked, "--plan")
    assert (plan.returncode, plan.stderr) == (0, "")
    assert "rows to ask      12" in plan.stdout
    assert "tokens out       at most 96" in plan.stdout
    assert "USD" in plan.stdout
    as_json: Any = json.loads(agouti_command(*asked, "--plan", "--json").stdout)
    assert (as_json["to_ask"], as_json["output_tokens"], as_json["currency"]) == (12, 96, "USD")
    assert agouti_command(*asked, "--out", "o.jsonl", "--sample", "4").returncode == 0
    later = agouti_command(*asked, "--out", "o.jsonl", "--plan")
    assert "rows to ask      8 (4 of 12 are there)" in later.stdout
    assert "about" in later.stdout
    whole = agouti_command(*asked, "--out", "o.jsonl", "--preserve-order")
    assert "4 of 12 are there already, in o.jsonl" in whole.stderr
    assert [row["key"] for row in rows_in(folder / "o.jsonl")] == [f"n{number}" for number in range(12)]


def test_pipe_in_and_out(agouti_command: Command, folder: Path) -> None:
    done = agouti_command("batch", "almanac", "-", "--prompt", "Crop? {text}", "-n", "4", text="Kale\n\nPeas\n")
    assert done.returncode == 0, done.stderr
    rows = [json.loads(line) for line in done.stdout.splitlines()]
    assert [(row["key"], row["line"], row["row"]) for row in rows] == [
        (1, 1, {"text": "Kale"}),
        (2, 3, {"text": "Peas"}),
    ]
    as_json = agouti_command("batch", "almanac", "-", "--form", "note.json", text='{"note": "Kale, 3 up"}\n')
    assert json.loads(as_json.stdout)["value"]["crop"] == "kale"


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["notes.jsonl", "--prompt", "x {nota}"], "Did you mean note?"),
        (["notes.jsonl", "--prompt", "{note}", "--prompt-from", "notes.jsonl"], "exclude each other"),
        (["notes.jsonl", "--prompt", "{note}", "--json"], "--json goes with --plan"),
        (["gone.jsonl", "--prompt", "{note}"], "cannot be read"),
        (["notes.jsonl", "--prompt", "{note}", "--out", "notes.jsonl"], "is also where the rows are"),
        (["notes.jsonl", "--prompt", "{note}", "--id-column", "idd"], "Did you mean id?"),
        (["notes.jsonl", "--prompt", "{note}", "--set", "temprature=1"], "temperature"),
        (["notes.jsonl", "--prompt", "{note}", "--retry-failed"], "--out ..."),
    ],
)
def test_wrong_use_is_two_lines_and_costs_nothing(
    agouti_here: Command, folder: Path, served: Served, arguments: list[str], words: str
) -> None:
    done = agouti_here("batch", "almanac", *arguments)
    assert done.returncode in (1, 2)
    assert words in done.stderr
    assert len(done.stderr.splitlines()) == 2, done.stderr
    assert {path.name for path in folder.iterdir()} >= {"notes.jsonl"}
    assert not list(folder.glob(".*.journal"))


def test_killed_again_and_again_every_row_is_there_once(folder: Path, served: Served) -> None:
    count, chance = 800, random.Random(7)
    rows = [{"id": f"k{number}", "note": f"row {number}"} for number in range(count)]
    (folder / "many.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    run = [sys.executable, "-m", "agouti", "batch", "loam-2b@shed", "many.jsonl", "--prompt", "{note}", "--id-column", "id", "--out", "o.jsonl", "-n", "2", "--concurrency", "8"]  # fmt: skip
    before = sum(served.books.requests.values())
    for _ in range(6):
        process = subprocess.Popen(run, cwd=folder, stderr=subprocess.DEVNULL, env=os.environ)
        until = sum(served.books.requests.values()) + chance.randrange(5, 100)
        while sum(served.books.requests.values()) < until and process.poll() is None:
            time.sleep(0.002)
        process.send_signal(signal.SIGKILL)
        process.wait()
    done = subprocess.run(run, cwd=folder, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert Counter(row["key"] for row in rows_in(folder / "o.jsonl")) == Counter(row["id"] for row in rows)
    assert sum(served.books.requests.values()) - before <= count + 6 * 8
