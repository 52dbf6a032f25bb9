"""``agouti demo`` and ``agouti standins``: they run, show what they say, and leave nothing behind."""

import os
import signal
import subprocess
import sys
import tomllib
from pathlib import Path

import agouti

from .conftest import Command


def test_demo_shows_each_step_and_what_came_back(agouti_command: Command, tmp_path: Path) -> None:
    done = agouti_command("demo")
    assert (done.returncode, done.stderr) == (0, "")
    assert "Broad beans go in from late October" in done.stdout
    assert "cut off: True" in done.stdout
    assert "Did you mean almanac" in done.stdout
    assert list(tmp_path.iterdir()) == []


def test_standins_print_the_configuration_that_reaches_them(tmp_path: Path) -> None:
    with subprocess.Popen(
        [sys.executable, "-m", "agouti", "standins", "--pace", "0"],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        cwd=tmp_path,
        text=True,
    ) as process:
        assert process.stdout is not None
        assert process.stderr is not None
        try:
            lines = []
            for line in process.stderr:
                lines.append(line)
                if "Ctrl-C" in line:
                    break
            os.set_blocking(process.stdout.fileno(), False)
            config = tomllib.loads(process.stdout.read())
            name, _, value = lines[-2].removeprefix("export ").strip().partition("=")
            with agouti.Client(agouti.load_config(config, environment={name: value})) as client:
                assert client.ask("almanac", "Peas?").provider == "northbank"
        finally:
            process.send_signal(signal.SIGINT)
            assert process.wait(10) == 0


def test_taken_port_is_said(agouti_command: Command, served: object) -> None:
    done = agouti_command("standins", "--port", str(served.port))  # type: ignore[attr-defined]
    assert done.returncode == 2
    assert "--port" in done.stderr
