"""``adopt``, ``check`` and ``explain`` as commands."""

import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

from agouti.standins import Served

from .conftest import Command


def test_adopt_prints_and_writes_nothing_unless_told(agouti_command: Command, tmp_path: Path) -> None:
    text = "curl https://northbank.example/v1/chat/completions -H 'Authorization: Bearer nb-literal' -d '{\"model\": \"m\"}'"
    printed = agouti_command("adopt", text)
    assert printed.returncode == 0
    assert 'key = { env = "NORTHBANK_KEY" }' in printed.stdout
    assert "--write" in printed.stderr
    assert "nb-literal" not in printed.stdout + printed.stderr
    assert list(tmp_path.iterdir()) == []
    subprocess.run(["git", "init", "-q"], cwd=tmp_path, check=True)
    written = agouti_command("adopt", "--write", text=text)
    assert (written.returncode, written.stdout) == (0, printed.stdout)
    assert ".gitignore" in written.stderr
    assert "nb-literal" in (tmp_path / ".env").read_text()
    below = tmp_path / "a" / "b"
    below.mkdir(parents=True)
    again = subprocess.run(
        [sys.executable, "-m", "agouti", "adopt", "--write", "https://south.example/v1"],
        cwd=below,
        capture_output=True,
        text=True,
    )
    assert again.returncode == 0
    assert "[providers.south]" in (tmp_path / "agouti.toml").read_text()  # not a new file that would hide this one
    wrong = agouti_command("adopt", "fetch https://x.example now")
    assert (wrong.returncode, len(wrong.stderr.splitlines())) == (2, 2)


def test_check_is_green_and_then_says_what_is_wrong(agouti_command: Command, configured: Path, served: Served) -> None:
    entries = [served.entry(label) for label in ("orchard", "ferry", "lock", "kiosk", "harbour", "toll")]
    path = configured / "agouti.toml"
    path.write_text("\n".join([served.toml, *entries]))
    good = agouti_command("check")
    assert good.returncode == 0, good.stdout
    assert "8 providers checked, all well" in good.stdout
    assert "quill-large is offered" in good.stdout
    path.write_text(path.read_text().replace('"quill-large"', '"quill-lagre"').replace("shed/v1", "sehd/v1"))
    bad = agouti_command("check", "almanac", "shed", "--json", NORTHBANK_KEY="nb-3f9a-marsh-lane-demo")
    assert bad.returncode == 1
    found = {
        (each["provider"], finding["what"]): finding for each in json.loads(bad.stdout) for finding in each["findings"]
    }
    assert "quill-large" in found["northbank", "model almanac"]["hint"]
    assert found["shed", "address"]["ok"] is False
    assert agouti_command("check", "almanak").returncode == 2


@pytest.mark.parametrize(
    ("old", "new", "what"),
    [
        ('{ env = "NORTHBANK_KEY" }', '"nb-3f9a-marsh-lane-demo"', "which git tracks"),
        ('{ env = "NORTHBANK_KEY" }', '{ env = "NORTHBANK" }', "NORTHBANK is not set"),
        ('key = { env = "NORTHBANK_KEY" }', "", "wants a key, and the entry names none"),
        ("http://127.0.0.1", "https://northbank.invalid", "no host"),
    ],
)
def test_check_tells_the_causes_apart(agouti_command: Command, configured: Path, old: str, new: str, what: str) -> None:
    path = configured / "agouti.toml"
    path.write_text(path.read_text().replace(old, new))
    subprocess.run(["git", "init", "-q"], cwd=configured, check=True)
    subprocess.run(["git", "add", "agouti.toml"], cwd=configured, check=True)
    done = agouti_command("check", "northbank")
    assert done.returncode == 1
    assert what in done.stdout


def test_clock_that_is_off_is_found(served: Served, monkeypatch: pytest.MonkeyPatch) -> None:
    from time import time

    import agouti
    from agouti.services.check.check_entries import check

    with agouti.Client(served.config) as client:
        assert [finding.ok for finding in check(client, ["lock"])[0].findings if finding.what == "clock"] == [True]
        monkeypatch.setattr("agouti.services.check.check_entries.time", lambda: time() + 900)
        clock = next(finding for finding in check(client, ["lock"])[0].findings if finding.what == "clock")
    assert clock.ok is False
    assert re.search(r"90\d s fast", clock.detail)


def test_explain_shows_the_request_and_the_origins(agouti_command: Command, configured: Path) -> None:
    with (configured / "agouti.toml").open("a") as file:
        file.write('\n[models.kids]\nextends = "almanac"\nparameters = { seed = 7 }\n')
    done = agouti_command("explain", "kids", "Peas?", "--json")
    found = json.loads(done.stdout)
    assert found["headers"]["authorization"] == "Bearer ***"
    assert found["body"]["messages"][-1] == {"role": "user", "content": "Peas?"}
    origins = {setting["name"]: setting["origin"].partition(":")[2] for setting in found["settings"]}
    line = 1 + (configured / "agouti.toml").read_text().splitlines().index("parameters = { seed = 7 }")
    assert origins["models.kids.parameters.seed"] == str(line)
    assert origins["models.kids.parameters.temperature"] == "12"
    shown = agouti_command("explain", "kids").stdout
    assert f"agouti.toml:{line}" in shown


def test_check_of_formats_without_a_list_looks_whether_anybody_answers(
    agouti_command: Command, served: Served, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name, value in served.environment.items():
        monkeypatch.setenv(name, value)
    (tmp_path / "agouti.toml").write_text(
        "\n".join(
            [
                *(served.entry(label) for label in ("mill", "kiln", "quay")),
                "[models.slow]",
                'provider = "kiln"',
                'name = "x/y"',
            ]
        )
    )
    done = agouti_command("check", "mill", "slow", "quay")
    assert done.returncode == 0
    assert done.stdout.count("answers in") == 3
    assert "a question costs tokens" in done.stdout
    assert "nothing wrong; not all could be tried with mill, kiln, quay" in done.stdout
    gone = (tmp_path / "agouti.toml").read_text().replace(str(served.port), "9")
    (tmp_path / "agouti.toml").write_text(gone)
    failed = agouti_command("check")
    assert failed.returncode == 1
    assert failed.stdout.count("nothing listens") == 3
