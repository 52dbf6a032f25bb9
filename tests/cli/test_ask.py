"""``agouti ask``: text in, answer out, and every way to get it wrong."""

import json
import socket
import threading
from pathlib import Path

import pytest

from ..servers import free_port
from .conftest import Command

ANSWER = "Garlic goes in between October and December"


@pytest.mark.parametrize("way", ["argument", "dash", "pipe", "file"])
def test_text_from_anywhere(agouti_command: Command, configured: Path, way: str) -> None:
    (configured / "question.txt").write_text("When does garlic go in?\n")
    arguments = {
        "argument": ["When does garlic go in?!"],
        "dash": ["-"],
        "pipe": [],
        "file": ["--from", "question.txt"],
    }
    done = agouti_command("ask", "almanac", *arguments[way], text="garlic?" if way in ("dash", "pipe") else None)
    assert (done.returncode, done.stderr) == (0, "")
    assert done.stdout.startswith(ANSWER)


def test_options_and_json(agouti_command: Command, configured: Path) -> None:
    done = agouti_command("ask", "almanac", "garlic?", "-n", "4", "-t", "0", "--set", "seed=7", "--json")
    reply = json.loads(done.stdout)
    assert (reply["text"], reply["truncated"], reply["usage"]["output_tokens"]) == ("Garlic goes in betwee", True, 4)
    cut = agouti_command("ask", "almanac", "garlic?", "-n", "4")
    assert cut.returncode == 0
    assert "--max-tokens" in cut.stderr


def replace(folder: Path, old: str, new: str) -> None:
    path = folder / "agouti.toml"
    path.write_text(path.read_text().replace(old, new))


WRONG = [
    # arguments, edit of the configuration, exit code, what is said, what to do
    (["almanak", "hi"], None, 2, "no model 'almanak'", "Did you mean almanac"),
    (["almanac"], None, 2, "text is empty", "agouti ask --help"),
    (["almanac", "hi", "--from", "question.txt"], None, 2, "not from both", "agouti ask --help"),
    (["almanac", "--from", "nowhere.txt"], None, 2, "nowhere.txt cannot be read", "agouti ask --help"),
    (["almanac", "hi", "--set", "sed=1"], None, 2, "no parameter 'sed'", "seed"),
    (["almanac", "hi", "--tempreture", "1"], None, 2, "--tempreture", "agouti ask --help"),
    (["almanac", "hi", "-n", "0"], None, 2, "max_tokens = 0", "from 1"),
    (["almanac", "hi"], ("NORTHBANK_KEY", "NORTHBANK_KEI"), 2, "NORTHBANK_KEI is not set", "NORTHBANK_KEY"),
    (["almanac", "hi"], ("[models.almanac]", "[models.almanac"), 2, "not valid TOML", "models.almanac"),
    (["almanac", "hi"], ('name = "quill-large"', "nmae = 1"), 2, "agouti.toml:10", "Did you mean name"),
    (["almanac", "hi"], ('"quill-large"', '"quill-lrage"'), 1, "does not know the model", "quill-lrage"),
    (["loam-2b+html@shed", "hi"], None, 1, "web page", "/v1"),
    (["loam-2b+other-json@shed", "hi"], None, 1, "no `choices`", "dialect"),
]


@pytest.mark.parametrize(("arguments", "edit", "code", "what", "hint"), WRONG)
def test_two_lines_and_an_exit_code(
    agouti_here: Command,
    configured: Path,
    arguments: list[str],
    edit: tuple[str, str] | None,
    code: int,
    what: str,
    hint: str,
) -> None:
    if edit:
        replace(configured, *edit)
    done = agouti_here("ask", *arguments)
    lines = done.stderr.splitlines()
    assert (done.returncode, done.stdout, len(lines)) == (code, "", 2), done.stderr
    assert what in lines[0]
    assert hint in lines[1]


def test_no_configuration_at_all(agouti_command: Command) -> None:
    done = agouti_command("ask", "almanac", "hi")
    assert done.returncode == 2
    assert "no agouti.toml" in done.stderr


def test_nothing_listening_and_something_that_is_not_http(agouti_command: Command, tmp_path: Path) -> None:
    def config(port: int) -> None:
        text = f'[providers.shed]\naddress = "http://127.0.0.1:{port}/v1"\n'
        (tmp_path / "agouti.toml").write_text(text)

    config(free_port())
    done = agouti_command("ask", "loam-2b@shed", "hi")
    assert done.returncode == 1
    assert "nothing listens" in done.stderr
    assert "server started?" in done.stderr
    with socket.create_server(("127.0.0.1", 0)) as server:
        config(server.getsockname()[1])

        def greet() -> None:
            connection, _ = server.accept()
            with connection:
                connection.sendall(b"-ERR unknown command\r\n")

        thread = threading.Thread(target=greet)
        thread.start()
        done = agouti_command("ask", "loam-2b@shed", "hi")
        thread.join()
    assert done.returncode == 1
    assert "does not speak HTTP" in done.stderr


def test_debug_shows_the_traceback_but_no_key(agouti_command: Command, configured: Path) -> None:
    done = agouti_command("--debug", "ask", "loam-2b+status=500@shed", "hi")
    assert "Traceback" in done.stderr
    assert done.stderr.splitlines()[-2].startswith("agouti: ")
    assert "nb-3f9a" not in done.stderr


def test_verbose_says_what_is_retried_and_the_fallback_is_named(agouti_command: Command, configured: Path) -> None:
    with (configured / "agouti.toml").open("a") as file:
        file.write(
            '\n[models.first]\nprovider = "northbank"\nname = "quill-large+status=402"\nfallback = ["almanac-local"]\n'
            '[models.shaky]\nprovider = "shed"\nname = "loam-2b+status=503x1#cli"\n'
        )
    done = agouti_command("ask", "first", "garlic?")
    assert done.returncode == 0
    assert "answered by loam-2b at shed, because northbank says that the account is out of credit" in done.stderr
    quiet, loud = (agouti_command(*options, "ask", "almanac-local", "garlic?") for options in ([], ["-vv"]))
    assert quiet.stderr == ""
    assert "POST http://127.0.0.1" in loud.stderr
    assert "503" in agouti_command("-v", "ask", "shaky", "garlic?").stderr


def test_setting_is_json_where_it_can_be_and_text_otherwise() -> None:
    from agouti.cli.terminal_text import parameters_given

    assert parameters_given(("seed=7", "user=grower-7", 'stop=["#"]', "logprobs=true")) == {
        "seed": 7, "user": "grower-7", "stop": ["#"], "logprobs": True,
    }  # fmt: skip
