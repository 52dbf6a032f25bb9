"""Dialects of other packages, found by their entry points."""

from pathlib import Path

import pytest

import agouti
from agouti.calls.calls import calls_of
from agouti.dialects.registry import dialect

MODULE = """
from agouti.dialects.chat.dialect import ChatDialect
class Mine(ChatDialect):
    name = "mine"
class Lame:
    pass
def broken():
    raise RuntimeError("not today")
"""
ENTRIES = "[agouti.dialects]\nmine = other_package:Mine\nlame = other_package:Lame\nbroken = other_package:broken\nchat = other_package:Lame\n"


@pytest.fixture
def _other_package(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "other_package.py").write_text(MODULE)
    info = tmp_path / "other_package-1.0.dist-info"
    info.mkdir()
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: other-package\nVersion: 1.0\n")
    (info / "entry_points.txt").write_text(ENTRIES)
    monkeypatch.syspath_prepend(tmp_path)


@pytest.mark.usefixtures("_other_package")
def test_dialect_of_another_package_is_used_but_replaces_none() -> None:
    assert dialect("mine").name == "mine"
    assert dialect("chat").name == "chat"
    with agouti.Client.at("localhost:1/v1", dialect="mine") as client:
        assert calls_of(client).provider("here").dialect.name == "mine"


@pytest.mark.usefixtures("_other_package")
@pytest.mark.parametrize(
    ("name", "what"),
    [
        ("lame", "has no abilities, adopted, classify"),
        ("broken", "not today"),
        ("min", "no dialect"),
        ("mesages", "no dialect"),
    ],
)
def test_what_is_wrong_with_one_is_said(name: str, what: str) -> None:
    with pytest.raises(agouti.ConfigError, match=what) as wrong:
        dialect(name)
    if what == "no dialect":
        assert "mine" in wrong.value.hint or "messages" in wrong.value.hint
