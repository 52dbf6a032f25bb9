"""Every benchmark runs: with little to do, and without judging its figures."""

import runpy
import subprocess
import sys
from pathlib import Path

import pytest

from agouti.standins import Served

FOLDER = Path(__file__).parent.parent / "benchmarks"
LITTLE = {
    "batch_load": ["--rows", "400", "--per-minute", "100000"],
    "batch_overhead": ["--rows", "60", "--delay", "0.001"],
    "batch_overnight": ["--rows", "100"],
    "compare_load": ["--prompts", "1", "--repeats", "1"],
    "dialect_decode": ["--rounds", "1"],
    "embedding_decode": ["--rounds", "1", "--count", "4", "--length", "16"],
    "fill_rate": ["ADDRESS", "loam-2b", "--count", "2"],
    "fresh_process": ["--rounds", "1"],
    "growth": [],
    "soak_stores": [],
    "fuzz": ["--minutes", "0.01", "--seed", "7"],
    "limits": ["--requests", "40", "--per-second", "20", "--threads", "8"],
    "long_talk": ["ADDRESS", "loam-2b", "--turns", "3"],
    "money_overhead": ["--rounds", "2"],
    "partial_json": ["--most", "4000"],
    "relay": ["--requests", "40", "--chunks", "40", "--rounds", "1"],
    "relay_soak": [],
    "request_overhead": ["--rounds", "1", "--count", "4"],
    "soak": ["--calls", "300"],
    "stream_decode": ["--rounds", "1", "--chunks", "500"],
    "stream_memory": ["--chunks", "500"],
    "throughput": ["--rounds", "1", "--requests", "64"],
    "usage_report": ["--rows", "400"],
}


@pytest.mark.parametrize("name", LITTLE)
def test_each_runs(name: str, served: Served) -> None:
    arguments = [served.address("shed") if each == "ADDRESS" else each for each in LITTLE[name]]
    done = subprocess.run(
        [sys.executable, str(FOLDER / f"{name}.py"), *arguments, "--smoke"], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr


def test_none_is_missing_here_and_each_is_in_the_table() -> None:
    scripts = {path.stem for path in FOLDER.glob("*.py")} - {"canned", "measure"}
    assert scripts == set(LITTLE)
    table = (FOLDER / "README.md").read_text()
    assert [name for name in scripts if f"benchmarks/{name}.py" not in table] == []


def test_a_figure_beyond_its_bound_is_an_exit_code(capsys: pytest.CaptureFixture[str]) -> None:
    bounds = runpy.run_path(str(FOLDER / "measure.py"))["Bounds"]
    for judged, most, least, code in ((True, 1.0, 1.0, 0), (True, 0.9, 1.0, 1), (True, 1.0, 1.1, 1), (False, 0.9, 1.1, 0)):  # fmt: skip
        figures = bounds(judged=judged)
        figures.at_most("time", 1.0, most)
        figures.at_least("rate", 1.0, least)
        assert figures.code() == code
    assert "time: 1, at most 0.9" in capsys.readouterr().out
