"""Every Python snippet of the guides and the README runs, top to bottom, against the stand-ins."""

import re
import runpy
import subprocess
import sys
from pathlib import Path

import pytest

from agouti.standins import Served, serve

ROOT = Path(__file__).parent.parent
GUIDES = sorted([ROOT / "README.md", *(ROOT / "docs").glob("*.md")])
EXAMPLES = sorted((ROOT / "examples").glob("[0-9]*.py"))


@pytest.mark.parametrize("guide", GUIDES, ids=lambda path: path.name)
def test_snippets_run(guide: Path, served: Served, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    others = [served.entry(label) for label in served.labels if label not in ("northbank", "shed")]
    (tmp_path / "agouti.toml").write_text("\n".join([served.toml, *others]))
    for name, value in served.environment.items():
        monkeypatch.setenv(name, value)
    scope: dict[str, object] = {"__name__": "guide"}
    for found in re.finditer(r"^```python\n(.*?)^```", guide.read_text(), re.DOTALL | re.MULTILINE):
        line = guide.read_text()[: found.start(1)].count("\n")
        exec(compile("\n" * line + found[1], str(guide), "exec"), scope)


@pytest.mark.parametrize("example", EXAMPLES, ids=lambda path: path.name)
def test_examples_run(example: Path, tmp_path: Path) -> None:
    (folder := tmp_path / "of the reader").mkdir()
    done = subprocess.run(
        [sys.executable, "-W", "error", str(example)], capture_output=True, text=True, cwd=folder, timeout=150
    )
    assert (done.returncode, done.stderr) == (0, "")
    assert done.stdout.strip()
    assert not list(folder.iterdir()), "it leaves something in the reader's folder"


def test_links_lead_somewhere() -> None:
    for guide in GUIDES:
        for target in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", guide.read_text()):
            assert (guide.parent / target).exists(), f"{guide.name}: {target}"


def test_every_image_is_linked() -> None:
    text = (ROOT / "README.md").read_text()
    for image in (ROOT / "docs" / "screenshots").glob("*.png"):
        assert f"docs/screenshots/{image.name}" in text
    assert runpy.run_path(str(ROOT / "docs" / "screenshots" / "make.py"))["SHOTS"].keys() == {
        image.stem for image in (ROOT / "docs" / "screenshots").glob("*.png")
    }


def test_tables_of_parameters_are_what_the_dialects_do() -> None:
    guide = (ROOT / "docs" / "dialects.md").read_text()
    assert runpy.run_path(str(ROOT / "docs" / "parameters.py"))["written"](guide) == guide


def test_table_of_failures_is_what_really_happens() -> None:
    failures = runpy.run_path(str(ROOT / "docs" / "failures.py"))
    with serve() as served:
        assert failures["table"](served) in (ROOT / "docs" / "getting-in.md").read_text()


def test_table_of_hostile_behaviours_is_the_one_that_the_tests_hold() -> None:
    table = runpy.run_path(str(ROOT / "docs" / "hostile.py"))["table"]()
    assert table in (ROOT / "docs" / "reliability.md").read_text()


@pytest.mark.parametrize("driver", ["sync", "async"])
def test_every_fault_ends_as_the_table_says(driver: str) -> None:
    faults = runpy.run_path(str(ROOT / "docs" / "faults.py"))
    text = (ROOT / "docs" / "reliability.md").read_text()
    expected = [line for line in text.splitlines() if line.startswith("| `")]
    with serve() as served:
        assert faults["rows"](served, driver) == expected
