"""The command line as a process."""

import io
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from agouti.cli import app
from agouti.standins import Served

Command = Callable[..., "subprocess.CompletedProcess[str]"]


@pytest.fixture
def agouti_command(tmp_path: Path) -> Command:
    """Run ``agouti`` in a folder of its own; ``variables`` are added to the environment."""

    def run(*arguments: str, text: str | None = None, **variables: str) -> "subprocess.CompletedProcess[str]":
        return subprocess.run(
            [sys.executable, "-W", "error", "-m", "agouti", *arguments],
            capture_output=True,
            text=True,
            cwd=tmp_path,
            env={**os.environ, **variables},
            timeout=120,
            **({"input": text} if text is not None else {"stdin": subprocess.DEVNULL}),  # type: ignore[call-overload]
        )

    return run


@pytest.fixture
def agouti_here(capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch) -> Iterator[Command]:
    """The same in this process: a third of a second less for each of the many ways to use a command wrong."""
    before, path = set(sys.modules), list(sys.path)

    def run(*arguments: str, text: str | None = None, **variables: str) -> "subprocess.CompletedProcess[str]":
        for name, value in variables.items():
            monkeypatch.setenv(name, value)
        monkeypatch.setattr("sys.stdin", io.TextIOWrapper(io.BytesIO((text or "").encode())))
        capsys.readouterr()
        code = app.run(list(arguments))
        return subprocess.CompletedProcess(arguments, code, *capsys.readouterr())

    yield run
    sys.path[:] = path
    for name in set(sys.modules) - before:
        if not name.startswith("agouti") and "." not in name and name in ("shelf", "nowhere"):
            del sys.modules[name]


@pytest.fixture
def configured(tmp_path: Path, served: Served, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A folder whose configuration reaches the stand-ins, with the key set."""
    (tmp_path / "agouti.toml").write_text(served.toml)
    for name, value in served.environment.items():
        monkeypatch.setenv(name, value)
    return tmp_path
