"""Every Python snippet of the guides and the README runs, top to bottom, against the stand-ins."""

import os
import re
import runpy
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

import agouti
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
    # The first program of a machine that draws builds a cache of fonts, and says so: that is no output of an example.
    import matplotlib.font_manager  # noqa: F401

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


def test_pages_of_reference_are_what_the_code_says() -> None:
    for path, text in runpy.run_path(str(ROOT / "docs" / "references.py"))["pages"]().items():
        assert path.read_text(encoding="utf-8") == text, f"python docs/make.py writes {path.name} anew"


def test_examples_of_settings_load(tmp_path: Path) -> None:
    """Each by itself, beside a provider and a model that its tables belong to."""
    text = (ROOT / "docs" / "reference" / "settings.md").read_text(encoding="utf-8")
    whole = """
        [ledger]
        store = "usage.sqlite"
        [providers.northbank]
        address = "https://api.northbank.example/v1"
        [models.almanac]
        provider = "northbank"
        name = "quill-large"
        [models.mill]
        provider = "northbank"
        name = "stone-1"
    """
    examples = re.findall(r"^```toml\n(.*?)^```", text, re.DOTALL | re.MULTILINE)
    assert len(examples) > 15
    for example in examples:
        keyed = f"[providers.northbank]\n{example}" if example.startswith("key") else example
        values = tomllib.loads(whole)
        for table, entries in tomllib.loads(keyed).items():
            for name, entry in entries.items():
                known = values.setdefault(table, {})
                known[name] = {**known.get(name, {}), **entry} if isinstance(entry, dict) else entry
        agouti.load_config(values)


def test_every_environment_variable_of_ours_is_listed() -> None:
    listed = (ROOT / "docs" / "reference" / "commands.md").read_text(encoding="utf-8")
    used = {
        name for path in (ROOT / "src").rglob("*.py") for name in re.findall(r"\bAGOUTI_[A-Z]+\b", path.read_text())
    }
    assert used >= {"AGOUTI_CONFIG", "AGOUTI_OFFLINE"}
    assert [name for name in sorted(used - {"AGOUTI_TOKEN"}) if f"`{name}`" not in listed] == []


def test_guides_are_one_text_for_programs() -> None:
    text = runpy.run_path(str(ROOT / "docs" / "guides_text.py"))["text"]
    written = text(
        [{"Start": [{"Installation": "installation.md"}]}, {"Reference": [{"Client": "reference/client.md"}]}]
    )
    assert written.startswith("<!-- installation.md -->\n\n# Installation\n")
    assert ":::" not in written


@pytest.mark.skipif(os.name != "posix", reason="modes are those of POSIX")
def test_files_have_the_modes_that_the_guide_says(served: Served, tmp_path: Path) -> None:
    tables = {name: {"store": str(tmp_path / name)} for name in ("ledger", "cache")}
    values = {**tomllib.loads(served.toml), **tables, "limits": {"store": str(tmp_path / "limits.sqlite")}}
    values["providers"]["northbank"]["limits"] = {"requests_per_minute": 100}
    mask = os.umask(0o022)
    try:
        loaded = agouti.load_config(values, environment=served.environment)
        with agouti.Client(loaded, record=tmp_path / "archive") as client:
            agouti.batch(client, "almanac", ["peas"], prompt="When do {text} go in?", out=tmp_path / "results.jsonl")
            talk = client.conversation("almanac")
            talk.say("When do peas go in?")
            talk.save(tmp_path / "conversation")
    finally:
        os.umask(mask)
    said = (ROOT / "docs" / "security.md").read_text()
    for row, file in {
        "ledger": "ledger", "cache": "cache", "archive": "archive", "results": "results.jsonl",
        "conversation": "conversation", "limits": "limits.sqlite",
    }.items():  # fmt: skip
        (mode,) = re.findall(rf"^\| {row}.*\| (0600|of new files) \|$", said, re.MULTILINE)
        assert oct((tmp_path / file).stat().st_mode & 0o777) == {"0600": "0o600", "of new files": "0o644"}[mode], row


def test_every_page_is_in_the_navigation() -> None:
    navigation = (ROOT / "mkdocs.yml").read_text(encoding="utf-8")
    pages = [path.relative_to(ROOT / "docs").as_posix() for path in (ROOT / "docs").rglob("*.md")]
    assert [page for page in pages if f": {page}\n" not in navigation] == []


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
    text = (ROOT / "docs" / "reliability.md").read_text().partition("<!-- made by docs/faults.py -->")[2]
    expected = [line for line in text.splitlines() if line.startswith("| `")]
    with serve() as served:
        assert faults["rows"](served, driver) == expected
