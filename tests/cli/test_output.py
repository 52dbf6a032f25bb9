"""What the command reads and writes at its edges: odd letters, full disks, closed pipes, Ctrl-C; each loses nothing."""

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from agouti.cli import app
from agouti.cli.examples import EXAMPLES
from agouti.cli.wording import in_options

from ..hostile.kit import END, STREAM, Connection, RawServer, answer, piece, reply, serving

CHINESE = "你好, peas."


def behave(connection: Connection, number: int) -> None:
    if "slow" in connection.question:
        time.sleep(30)
    if "revoked" in connection.question:
        connection.write(reply(b'{"error": {"message": "bad key"}}', "401 Unauthorized"))
    elif b"embeddings" in connection.request[:60]:
        texts = json.loads(connection.request.partition(b"\r\n\r\n")[2])["input"]
        rows = [{"embedding": [1.0, float(at)], "index": at} for at in range(len(texts))]
        connection.write(reply(json.dumps({"data": rows}).encode()))
    elif b'"stream":true' in connection.request:
        connection.write(STREAM + piece(CHINESE, "stop") + END)
    else:
        connection.write(answer(json.dumps({"value": CHINESE}) if b"json_schema" in connection.request else CHINESE))


@pytest.fixture
def server(tmp_path: Path) -> Iterator[RawServer]:
    with serving(behave) as raw:
        (tmp_path / "agouti.toml").write_text(
            f'[providers.p]\naddress = "{raw.address}"\nretries = {{ max = 0 }}\n'
            '[models.m]\nprovider = "p"\nname = "x"\n[models.n]\nprovider = "p"\nname = "y"\n'
        )
        (tmp_path / "rows.csv").write_text("id,note\n1,peas\n2,beans\n")
        (tmp_path / "asked.csv").write_text("question,answer\nHow?,so\nWhen?,then\n")
        yield raw


def started(folder: Path, *arguments: str, **options: Any) -> "subprocess.Popen[bytes]":
    environment = {**os.environ, **options.pop("env", {})}
    return subprocess.Popen([sys.executable, "-m", "agouti", *arguments], cwd=folder, env=environment, **options)


def done(folder: Path, *arguments: str, text: bytes = b"", **options: Any) -> tuple[int, bytes, bytes]:
    process = started(
        folder, *arguments, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, **options
    )
    out, err = process.communicate(text, timeout=60)
    return process.returncode, out, err


ASKING: dict[str, list[str]] = {
    "ask": ["ask", "m", "hi"],
    "talk": ["talk", "m"],
    "fill": ["fill", "m", "builtins:str", "hi"],
    "compare": ["compare", "m", "n", "hi"],
    "batch": ["batch", "m", "rows.csv", "--prompt", "Sort: {note}"],
}


@pytest.mark.parametrize("name", ASKING)
def test_letters_that_output_has_no_place_for_are_escaped_and_told(
    name: str, server: RawServer, tmp_path: Path
) -> None:
    code, out, err = done(tmp_path, *ASKING[name], text=b"hi\n", env={"PYTHONIOENCODING": "latin-1"})
    assert code == 0, err
    if name == "batch":  # lines of JSON are UTF-8, whatever a terminal speaks
        assert [json.loads(line)["answer"] for line in out.splitlines()] == [CHINESE] * 2
    else:
        assert b"\\u4f60\\u597d, peas." in out
        assert b"written as escapes" in err


@pytest.mark.parametrize("name", ASKING)
def test_what_a_full_disk_does_not_take_is_shown(name: str, server: RawServer, tmp_path: Path) -> None:
    buffered = {"PYTHONUNBUFFERED": ""}  # what waits in a buffer is what can be lost
    with open("/dev/full", "wb") as full:
        process = started(
            tmp_path, *ASKING[name], stdin=subprocess.PIPE, stdout=full, stderr=subprocess.PIPE, env=buffered
        )
        _, err = process.communicate(b"hi\n", timeout=60)
    assert process.returncode == 1
    assert CHINESE.encode() in err or b"\\u4f60" in err
    assert b"standard output cannot be written (No space left on device)" in err
    assert b"defect" not in err


def test_closed_streams_are_said_before_anything_is_paid(server: RawServer, tmp_path: Path) -> None:
    def closed(number: int) -> tuple[int, bytes]:
        process = started(
            tmp_path,
            "ask",
            "m",
            "hi",
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            preexec_fn=lambda: os.close(number),
        )
        out, err = process.communicate(timeout=60)
        return process.returncode, out + err

    code, said = closed(1)
    assert (code, b"standard output is closed" in said, len(server.requests)) == (1, True, 0)
    assert [closed(number)[0] for number in (0, 2)] == [0, 0]


OTHERS: dict[str, list[str]] = {
    "models": ["models"],
    "explain": ["explain", "m", CHINESE],
    "check": ["check"],
    "schema": ["schema"],
    "usage": ["--config", "counted.toml", "usage", "--by", "label"],
    "adopt": ["adopt", 'curl http://p.example/v1/chat/completions -d \'{"model": "x", "messages": []}\''],
    "embed": ["embed", "m", "lines.txt", "--near", CHINESE],
    "batch --plan": ["batch", "m", "rows.csv", "--prompt", "{note}", "--plan"],
    "help": ["ask", "--help"],
}


@pytest.mark.parametrize("name", OTHERS)
def test_no_output_is_lost_and_none_ends_in_a_traceback(name: str, server: RawServer, tmp_path: Path) -> None:
    (tmp_path / "counted.toml").write_text(
        (tmp_path / "agouti.toml").read_text() + '[ledger]\nstore = "usage.sqlite"\n'
    )
    (tmp_path / "lines.txt").write_text(f"{CHINESE}\nbeans\n", encoding="utf-8")
    if name == "usage":
        done(tmp_path, "--config", "counted.toml", "ask", "m", "hi")
    plain, whole, _ = done(tmp_path, *OTHERS[name])
    with open("/dev/full", "wb") as full:
        process = started(tmp_path, *OTHERS[name], stdout=full, stderr=subprocess.PIPE)
        _, err = process.communicate(timeout=60)
    assert process.returncode == 1
    assert whole[:40] in err
    assert b"standard output cannot be written (No space left on device)" in err
    code, out, err = done(tmp_path, *OTHERS[name], env={"PYTHONIOENCODING": "latin-1"})
    assert (code, len(out.splitlines()), b"Traceback" in err) == (plain, len(whole.splitlines()), False)
    assert (b"written as escapes" in err) == (CHINESE.encode() in whole)
    read, write = os.pipe()
    os.close(read)
    process = started(tmp_path, *OTHERS[name], stdout=write, stderr=subprocess.PIPE)
    os.close(write)
    _, err = process.communicate(timeout=60)
    assert (process.returncode, b"Traceback" in err, b"BrokenPipe" in err) == (1, False, False)


@pytest.mark.parametrize("name", ASKING)
def test_readers_that_leave_end_it_without_noise(name: str, server: RawServer, tmp_path: Path) -> None:
    arguments = ASKING[name]
    read, write = os.pipe()
    os.close(read)
    process = started(tmp_path, *arguments, stdin=subprocess.PIPE, stdout=write, stderr=subprocess.PIPE)
    os.close(write)
    _, err = process.communicate(b"hi\n", timeout=60)
    assert process.returncode == 1
    assert b"Traceback" not in err
    assert b"BrokenPipe" not in err


@pytest.mark.parametrize("name", ASKING)
def test_ctrl_c_ends_with_130_and_without_a_traceback(name: str, server: RawServer, tmp_path: Path) -> None:
    arguments = [each.replace("hi", "slow") for each in ASKING[name]]
    (tmp_path / "rows.csv").write_text("id,note\n1,slow\n")
    process = started(
        tmp_path, *arguments, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
    )  # fmt: skip
    assert process.stdin is not None
    process.stdin.write(b"slow one\nslow two\nslow three\n")
    process.stdin.close()
    process.stdin = None
    while not server.requests:
        time.sleep(0.01)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=60)
    assert (process.returncode, b"Traceback" in err) == (130, False), err
    assert len(server.requests) <= 2  # a talk through a pipe asks no further line


def test_ctrl_c_while_it_is_loaded(server: RawServer, tmp_path: Path) -> None:
    code = "import sys; sys.argv[1:] = ['ask', 'm', 'hi']\nfrom agouti import cli\ncli._main = lambda: (_ for _ in ()).throw(KeyboardInterrupt)\ncli.main()"
    process = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, timeout=60)
    assert (process.returncode, process.stderr) == (130, b"")


def test_input_is_read_as_files_are(server: RawServer, tmp_path: Path) -> None:
    code, _, err = done(tmp_path, "ask", "m", text="Café".encode("latin-1"))
    assert (code, b"is not UTF-8 text" in err, len(server.requests)) == (2, True, 0)
    for text in ("\ufeffCafé".encode(), "Café".encode("utf-16")):
        assert done(tmp_path, "ask", "m", text=text)[0] == 0
        assert server.questions[-1] == "Café"
    (tmp_path / "q.txt").write_bytes("\ufeffCafé".encode())
    assert done(tmp_path, "ask", "m", "--from", "q.txt")[0] == 0
    assert server.questions[-1] == "Café"
    code, _, err = done(tmp_path, "talk", "m", text=b"one\nCaf\xe9\nthree\n")
    assert (code, b"line 2 of standard input" in err) == (2, True)
    assert server.questions[-2:] == ["one", "three"]


def test_a_piped_line_is_never_a_command(server: RawServer, tmp_path: Path) -> None:
    (tmp_path / "secret.txt").write_text("the code word")
    lines = b"?file secret.txt\n?save kept.jsonl\n?what is a heron\n"
    assert done(tmp_path, "talk", "m", text=lines)[0] == 0
    assert server.questions == ["?file secret.txt", "?save kept.jsonl", "?what is a heron"]
    assert not (tmp_path / "kept.jsonl").exists()
    assert not any(b"code word" in request for request in server.requests)
    code, _, err = done(tmp_path, "talk", "m", "--commands", text=b"??why\n?usage\n")
    assert (code, server.questions[-1], b"1 answers" in err) == (0, "?why", True)


def test_again_says_why_it_failed(server: RawServer, tmp_path: Path) -> None:
    code, _, err = done(tmp_path, "talk", "m", "--commands", text=b"hi revoked\nhi\n?usage\n")
    assert (code, b"does not accept the key" in err) == (1, True)
    (tmp_path / "t.jsonl").write_text(
        '{"role": "user", "content": "revoked?"}\n{"role": "assistant", "content": "a"}\n'
    )
    code, _, err = done(tmp_path, "talk", "m", "--resume", "t.jsonl", "--commands", text=b"?again\n")
    assert code == 1
    assert b"does not accept the key" in err
    assert b"the turn stays as it was" in err
    assert (tmp_path / "t.jsonl").read_text().count("revoked?") == 1


def test_errors_are_json_where_that_is_asked_for(server: RawServer, tmp_path: Path) -> None:
    for arguments, kind in (
        (["ask", "m", "revoked"], "CredentialRefused"), (["ask", "nobody", "x"], "LabelUnknown"), (["ask"], "UsageError"),
        (["compare", "m", "m", "x"], "RequestError"),
    ):  # fmt: skip
        code, out, err = done(tmp_path, *arguments, "--json")
        error = json.loads(out)["error"]
        assert (error["kind"], code != 0, bool(error["hint"]), bool(err)) == (kind, True, True, True)


@pytest.mark.parametrize(
    ("said", "options", "shown"),
    [
        ('Pass fit="drop_oldest".', {"fit": "--fit"}, "Pass --fit drop_oldest."),
        (
            "Pass it once; repeats=2 asks it twice.",
            {"repeats": "--repeats"},
            "Pass it once; --repeats 2 asks it twice.",
        ),
        ("Say --restart (restart=True).", {"restart": "--restart"}, "Say --restart."),
        ("Raise max_cost.", {"max_cost": "--max-cost"}, "Raise --max-cost."),
        ("A stronger model may help; every answer is in error.answers.", {}, "A stronger model may help."),
        ("Raise wait in the limits of the entry.", {"retries": "--retries"}, "Raise wait in the limits of the entry."),
    ],
)
def test_hints_speak_of_options(said: str, options: dict[str, str], shown: str) -> None:
    assert in_options(said, options) == shown


def test_every_help_shows_two_calls(capsys: pytest.CaptureFixture[str]) -> None:
    import click

    def walk(command: click.Command, path: str) -> None:
        if path:
            assert path in EXAMPLES, path
            assert app.run([*path.split(), "--help"]) == 0
            shown = capsys.readouterr().out
            assert all(call in shown for call in EXAMPLES[path]), path
            for call in EXAMPLES[path]:
                words = call.replace("'", '"').split('"')[0].split()
                known = {option for each in command.params for option in each.opts}
                assert {word for word in words if word.startswith("--")} <= known
        if isinstance(command, click.Group):
            context = click.Context(command)
            for name in command.list_commands(context):
                inner = command.get_command(context, name)
                assert inner is not None
                walk(inner, f"{path} {name}".strip())

    walk(app.command, "")


def test_several_answers_are_all_shown(server: RawServer, tmp_path: Path) -> None:
    def twice(connection: Connection, number: int) -> None:
        choices = [{"message": {"content": text}, "finish_reason": "stop"} for text in ("one", "two")]
        connection.write(reply(json.dumps({"choices": choices}).encode()))

    with serving(twice) as other:
        entry = f'[providers.p]\naddress = "{other.address}"\n[models.m]\nprovider = "p"\nname = "x"\n'
        (tmp_path / "agouti.toml").write_text(entry)
        code, out, _ = done(tmp_path, "ask", "m", "hi", "--set", "n=2")
    assert (code, out) == (0, b"[1]\none\n\n[2]\ntwo\n")


def test_what_is_wrong_with_an_address_is_found_by_check(server: RawServer, tmp_path: Path) -> None:
    text = (tmp_path / "agouti.toml").read_text().replace("/v1", "/v1/v1")
    (tmp_path / "agouti.toml").write_text(text)
    code, out, _ = done(tmp_path, "check")
    assert (code, b"/v1 stands in the address twice" in out) == (1, True)


def test_answers_to_expect_stand_in_a_column(server: RawServer, tmp_path: Path) -> None:
    code, out, err = done(tmp_path, "compare", "m", "--prompts", "asked.csv", "--expect", "answer", "--json")
    assert code == 0, err
    assert [row["check_expect"] for row in json.loads(out)["rows"]] == [0, 0]
    assert sorted(server.questions) == ["How?", "When?"]
    code, _, err = done(tmp_path, "compare", "m", "--prompts", "asked.csv", "--expect", "answr")
    assert (code, b"has no column" in err) == (2, True)
    code, _, err = done(tmp_path, "compare", "m", "hi", "--system", "A", "--system", "B", "--json")
    assert code == 0, err


def test_a_batch_says_how_far_it_is_in_json_and_leaves_a_report(server: RawServer, tmp_path: Path) -> None:
    arguments = ["batch", "m", "rows.csv", "--prompt", "Sort: {note}", "--out", "o.jsonl"]
    more = ["--accept", "beans", "--report", "r.html", "--progress", "json"]
    code, _, err = done(tmp_path, *arguments, *more)
    assert code == 1
    told = [json.loads(line)["progress"] for line in err.splitlines() if line.startswith(b"{")]
    assert (told[-1]["failed"], told[-1]["total"]) == (2, 2)
    assert "NotAccepted" in (tmp_path / "r.html").read_text()
    code, _, err = done(tmp_path, *arguments, "--report", "r.txt")
    assert (code, b".json, .html" in err) == (2, True)
    code, out, err = done(
        tmp_path, "compare", "m", "n", "hi", "--judge", "m", "--judge-repeats", "2", "--judge-pairs", "--json"
    )
    assert code == 0, err
    assert "preferences" in json.loads(out)


def test_missing_libraries_are_found_before_anything_is_asked(server: RawServer, tmp_path: Path) -> None:
    for name, module in (("figure.png", "matplotlib"), ("a.parquet", "pyarrow")):
        code = f"import sys; sys.modules['{module}'] = None\nfrom importlib import util\nfind = util.find_spec\nutil.find_spec = lambda name, *rest: None if name == '{module}' else find(name, *rest)\nfrom agouti import cli\ncli.main()"
        process = subprocess.run(
            [sys.executable, "-c", code, "compare", "m", "n", "hi", "--out", name],
            cwd=tmp_path,
            capture_output=True,
            timeout=60,
        )
        assert (process.returncode, b"pip install" in process.stderr, len(server.requests)) == (2, True, 0), (
            process.stderr
        )
    code = "import sys; sys.modules['uvicorn'] = None\nimport agouti, agouti.standins\ntry: agouti.standins.serve()\nexcept agouti.ConfigError as error: print(error.hint)"
    process = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, timeout=60)
    assert b"agouti-client[standins]" in process.stdout
