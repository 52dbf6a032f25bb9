"""The command line as a process."""

import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from agouti.standins import Served

Command = Callable[..., "subprocess.CompletedProcess[str]"]


@pytest.fixture
def agouti_command(tmp_path: Path) -> Command:
    """SyncDriver ``agouti`` in a folder of its own; ``variables`` are added to the environment."""

    def run(*arguments: str, text: str | None = None, **variables: str) -> "subprocess.CompletedProcess[str]":
        return subprocess.run(
            [sys.executable, "-W", "error", "-m", "agouti", *arguments],
            capture_output=True,
            text=True,
            cwd=tmp_path,
            env={**os.environ, **variables},
            timeout=60,
            **({"input": text} if text is not None else {"stdin": subprocess.DEVNULL}),  # type: ignore[call-overload]
        )

    return run


@pytest.fixture
def configured(tmp_path: Path, served: Served, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A folder whose configuration reaches the stand-ins, with the key set."""
    (tmp_path / "agouti.toml").write_text(served.toml)
    for name, value in served.environment.items():
        monkeypatch.setenv(name, value)
    return tmp_path
