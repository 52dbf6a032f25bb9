"""On a terminal: text as it comes, colour unless unwanted, Ctrl-C."""

import fcntl
import json
import os
import pty
import select
import signal
import subprocess
import sys
import termios
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from agouti.standins import serve

from ..hostile.kit import Connection, answer, serving


@pytest.fixture(scope="module")
def slow() -> Iterator[dict[str, str]]:
    with serve(pace=0.05) as served:
        yield {"toml": served.toml, **served.environment}


class Terminal:
    """A command whose standard output is a terminal."""

    def __init__(self, folder: Path, *arguments: str, typed: bool = False, **variables: str) -> None:
        self.master, other = pty.openpty()
        environment = {name: value for name, value in os.environ.items() if name != "NO_COLOR"}
        self.process = subprocess.Popen(
            [sys.executable, "-m", "agouti", *arguments],
            stdin=other if typed else subprocess.DEVNULL,
            start_new_session=typed,
            preexec_fn=(lambda: fcntl.ioctl(1, termios.TIOCSCTTY, 0)) if typed else None,
            stdout=other,
            stderr=other,
            cwd=folder,
            env={**environment, "PROMPT_TOOLKIT_NO_CPR": "1", **variables},
        )
        os.close(other)

    def read(self) -> bytes:
        try:
            return os.read(self.master, 4096)
        except OSError:  # the other side has closed
            return b""

    def type(self, text: str, wanted: str) -> str:
        """Type something, and read until this has come; what has come meanwhile."""
        os.write(self.master, text.encode())
        seen, until = "", time.monotonic() + 20
        while wanted not in seen:
            assert time.monotonic() < until, f"{wanted!r} has not come after {text!r}: {seen!r}"
            if select.select([self.master], [], [], 0.2)[0]:
                data = self.read()
                assert data, f"ended: {seen!r}"
                seen += data.decode("utf-8", "replace")
        return seen

    def rest(self) -> bytes:
        found = b""
        while data := self.read():
            found += data
        self.process.wait(20)
        os.close(self.master)
        return found


def test_answer_comes_in_pieces(slow: dict[str, str], tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text(slow["toml"])
    terminal = Terminal(tmp_path, "ask", "almanac-local", "When does garlic go in?")
    first = terminal.read()
    began = time.perf_counter()
    rest = terminal.rest()
    assert terminal.process.returncode == 0
    assert first
    assert len(rest) > len(first)
    assert time.perf_counter() - began > 0.2
    assert (first + rest).decode().endswith(".\r\n")


def test_interruption_ends_with_130_and_keeps_what_came(slow: dict[str, str], tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text(slow["toml"])
    terminal = Terminal(tmp_path, "ask", "almanac-local", "Plan my spring bed.")
    first = terminal.read()
    terminal.process.send_signal(signal.SIGINT)
    rest = terminal.rest()
    assert terminal.process.returncode == 130
    assert (first + rest).startswith(b"Start")
    assert b"Traceback" not in rest


def test_broken_stream_shows_what_came_and_what_to_do(slow: dict[str, str], tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text(slow["toml"])
    terminal = Terminal(tmp_path, "ask", "loam-2b+cut=4@shed", "When does garlic go in?")
    lines = terminal.rest().decode().split("\r\n")
    assert terminal.process.returncode == 1
    assert lines[0] == "Garlic goes in"
    assert lines[1].startswith("agouti: the stream from shed was cut off")


@pytest.mark.parametrize(("variables", "coloured"), [({}, True), ({"NO_COLOR": "1"}, False)])
def test_colour_only_where_it_is_wanted(
    slow: dict[str, str], tmp_path: Path, variables: dict[str, str], coloured: bool
) -> None:
    (tmp_path / "agouti.toml").write_text(slow["toml"])
    terminal = Terminal(tmp_path, "check", "shed", **variables)
    shown = terminal.rest()
    assert b"all well" in shown
    assert (b"\x1b[" in shown) is coloured


def test_reader_of_a_pipe_that_goes_away_is_no_error_message(slow: dict[str, str], tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text(slow["toml"])
    done = subprocess.run(
        f"{sys.executable} -m agouti ask almanac-local 'Garlic?' | true",
        shell=True,
        cwd=tmp_path,
        capture_output=True,
        text=True,
    )
    assert done.stderr == ""


@pytest.mark.parametrize("option", ["--json", "--whole"])
def test_foreign_words_steer_no_terminal(tmp_path: Path, option: str) -> None:
    def behave(connection: Connection, _: int) -> None:
        connection.write(answer("all \x1b[2J\x9b31m \u202eend"))

    with serving(behave) as server:
        toml = f'[providers.p]\naddress = "{server.address}"\n[models.a]\nprovider = "p"\nname = "m"\n'
        (tmp_path / "agouti.toml").write_text(toml)
        terminal = Terminal(tmp_path, "ask", "a", "x", option)
        shown = terminal.rest().decode()
    assert terminal.process.returncode == 0, shown
    assert "all " in shown
    assert not set(shown) & {"\x1b", "\x9b", "\u202e"}


def said(path: Path) -> list[str]:
    """What a file of a talk has, after its header."""
    return [f"{each['role']}: {each['content']}"[:18] for each in map(json.loads, path.read_text().splitlines()[1:])]


def test_a_talk_is_interrupted_killed_and_resumed(slow: dict[str, str], tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text(slow["toml"])
    kept = tmp_path / "talk.jsonl"
    terminal = Terminal(tmp_path, "talk", "almanac-local", "--save", "talk.jsonl", typed=True)
    terminal.type("", ">")
    terminal.type("?\r", "?undo")
    terminal.type("When do peas\x1b\rgo in?\r", "tokens in")  # in two lines
    assert said(kept) == ["user: When do peas", "assistant: Peas go"]
    # An answer is stopped, and what came is kept.
    terminal.type("When does garlic go in?\r", "Garlic goes")
    terminal.type("\x03", "what came is kept")
    assert said(kept)[2:] == ["user: When does ga", "assistant: Garlic "]
    # At the prompt it only clears the line.
    terminal.type("Nonsense\x03", ">")
    terminal.type("?undo\r", "taken back: When does garlic")
    assert len(said(kept)) == 2
    terminal.type("And beans?\r", "Beans")
    terminal.process.kill()
    terminal.rest()
    assert len(said(kept)) == 2
    kept.write_bytes(kept.read_bytes() + b'{"role": "user", "content": "Torn')
    terminal = Terminal(tmp_path, "talk", "almanac-local", "--resume", "talk.jsonl", typed=True)
    begun = terminal.type("", "1 turn so far")
    assert "line 4 of talk.jsonl is no JSON" in begun
    assert "Nonsense" not in begun
    terminal.type("\x1b[A\r", "tokens in")  # the history has what was said
    terminal.type("?end\r", "?end")
    assert terminal.process.wait(20) == 0
    terminal.rest()
    # The file as it was is kept beside the one that goes on.
    assert Path(f"{kept}.torn").read_bytes().splitlines()[3] == b'{"role": "user", "content": "Torn'
    assert [json.loads(line)["content"][:12] for line in kept.read_bytes().splitlines()[1:]] == [
        "When do peas",
        "Peas go in f",
    ] * 2


# Each command, what has come when Ctrl-C is typed (nothing: the provider has a request), and how it ends then.
INTERRUPTED: dict[str, tuple[list[str], str, int]] = {
    "demo": (["demo"], "reply", 130),
    "standins": (["standins"], "running until", 0),
    "adopt": (["adopt"], "Ctrl-D", 130),
    "check": (["check"], "", 130),
    "check --probe": (["check", "--probe", "m"], "", 130),
    "models": (["models"], "", 130),
    "ask": (["ask", "m", "Peas?"], "", 130),
    "ask --whole": (["ask", "m", "Peas?", "--whole"], "", 130),
    "compare": (["compare", "m", "n", "Peas?"], "", 130),
    "fill": (["fill", "m", "builtins:str", "Peas?"], "", 130),
    "batch": (["batch", "m", "rows.csv", "--prompt", "Sort: {note}"], "", 130),
    "embed": (["embed", "m", "rows.txt", "--near", "peas"], "", 130),
    "relay": (["relay", "--port", "0"], "running until", 0),
    "secret": (["secret", "put", "p"], ":", 130),
}


@pytest.mark.parametrize("name", INTERRUPTED)
def test_ctrl_c_on_a_terminal_ends_every_command(name: str, tmp_path: Path) -> None:
    arguments, shown, code = INTERRUPTED[name]
    (tmp_path / "rows.csv").write_text("id,note\n1,peas\n")
    (tmp_path / "rows.txt").write_text("peas\nbeans\n")

    def silent(connection: Connection, number: int) -> None:
        time.sleep(30)

    with serving(silent) as server:
        (tmp_path / "agouti.toml").write_text(
            f'[providers.p]\naddress = "{server.address}"\n[models.m]\nprovider = "p"\nname = "x"\n'
            '[models.n]\nprovider = "p"\nname = "y"\n'
        )
        terminal = Terminal(tmp_path, *arguments, typed=True)
        if shown:
            terminal.type("", shown)
        while not shown and not server.requests:
            assert terminal.process.poll() is None, terminal.rest()
            time.sleep(0.01)
        os.write(terminal.master, b"\x03")
        said = terminal.rest()
        assert (terminal.process.returncode, b"Traceback" in said) == (code, False), said
        assert len(server.requests) <= 2
