"""Options of the command that no other test gives: a line for each, by what it changes."""

import json
import subprocess
import sys
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import click
import pytest

import agouti
from agouti.cli import app
from agouti.standins import Served

from ..hostile.kit import Connection, RawServer, answer, reply, serving
from .conftest import Command

GIF = "R0lGODlhAQABAIAAAP8AAP///ywAAAAAAQABAAACAkQBADs="


def behave(connection: Connection, number: int) -> None:
    body = json.loads(connection.request.partition(b"\r\n\r\n")[2] or b"{}")
    question = connection.question
    if "input" in body:
        vectors = [{"index": at, "embedding": [float(len(text)), 1.0]} for at, text in enumerate(body["input"])]
        connection.write(reply(json.dumps({"data": vectors}).encode()))
    elif "refused" in question:
        connection.write(reply(b'{"error": {"message": "no such words"}}', "400 No"))
    elif body.get("response_format") or "Judge" in question:
        connection.write(answer('{"reason": "so", "score": 7}'))
    elif "picture" in question:
        images = [{"type": "image_url", "image_url": {"url": f"data:image/gif;base64,{GIF}"}}]
        message = {"content": "Here.", "images": images}
        connection.write(reply(json.dumps({"choices": [{"message": message, "finish_reason": "stop"}]}).encode()))
    else:
        connection.write(answer(f"<{question[:40]}>"))


@pytest.fixture
def server(tmp_path: Path) -> Iterator[RawServer]:
    with serving(behave) as running:
        (tmp_path / "agouti.toml").write_text(
            f'[providers.p]\naddress = "{running.address}"\nretries = {{ max = 0 }}\n[models.m]\nprovider = "p"\nname = "m"\n'
            '[models.v]\nprovider = "p"\nname = "v"\n'
        )
        (tmp_path / "rows.csv").write_text("id;note;paper\n" + "".join(f"{n};bed {n};note.txt\n" for n in range(6)))
        (tmp_path / "plain.csv").write_text("id,note\n" + "".join(f"{n},bed {n}\n" for n in range(6)))
        (tmp_path / "bad.csv").write_text("id,note\n" + "".join(f"{n},refused {n}\n" for n in range(60)))
        (tmp_path / "note.txt").write_text("Kale, sown 4 March.")
        yield running


def bodies(server: RawServer) -> list[Any]:
    return [json.loads(each.partition(b"\r\n\r\n")[2] or b"null") for each in server.requests]


def first_roles(server: RawServer) -> list[str]:
    return [body["messages"][0]["role"] for body in bodies(server)]


def rows(folder: Path, name: str = "o.jsonl") -> list[Any]:
    return [json.loads(line) for line in (folder / name).read_text().splitlines()]


Seen = Callable[[Any, RawServer, Path], bool]
BATCH = ["batch", "m", "plain.csv", "--prompt", "Is {note} well?", "--out", "o.jsonl"]
ONCE: list[tuple[list[str], int, Seen]] = [
    (["ask", "m", "Hi", "--system", "Be brief."], 0, lambda done, server, _: bodies(server)[0]["messages"][0] == {"role": "system", "content": "Be brief."}),
    (["ask", "m", "Hi", "--file", "note.txt"], 0, lambda done, server, _: b"S2FsZSwgc293biA0IE1hcmNoLg==" in server.requests[0] or b"Kale, sown" in server.requests[0]),
    (["ask", "m", "A picture, please", "--save-files", "saved"], 0, lambda done, _, folder: [each.name for each in (folder / "saved").iterdir()] == ["answer-1.gif"]),
    (["batch", "m", "rows.csv", "--delimiter", ";", "--prompt", "{note}", "--out", "o.jsonl"], 0, lambda done, server, _: sorted(server.questions) == [f"bed {n}" for n in range(6)]),
    (["batch", "m", "rows.csv", "--delimiter", ";", "--prompt", "{note}", "--file", "paper", "--limit", "2", "--out", "o.jsonl"], 0, lambda done, server, _: len(server.requests) == 2 and all(b"S2FsZSwg" in each or b"Kale, sown" in each for each in server.requests)),
    ([*BATCH, "--limit", "2"], 0, lambda done, server, folder: sorted(row["key"] for row in rows(folder)) == [1, 2]),
    ([*BATCH, "--system", "Be brief."], 0, lambda done, server, _: set(first_roles(server)) == {"system"}),
    (["batch", "v", "plain.csv", "--embed", "--column", "note", "--out", "o.npy"], 0, lambda done, server, folder: "messages" not in bodies(server)[0] and (folder / "o.npy").exists()),
    (["batch", "m", "bad.csv", "--column", "note", "--out", "o.jsonl", "--max-same-failures", "3", "--concurrency", "1"], 2, lambda done, server, _: 3 <= len(server.requests) < 10),
    (["batch", "m", "bad.csv", "--column", "note", "--out", "o.jsonl", "--max-same-failures", "0"], 1, lambda done, server, _: len(server.requests) == 60),
    (["compare", "m", "v", "--system", "Be brief.", "Peas?"], 0, lambda done, server, _: first_roles(server) == ["system"] * 2),
    (["compare", "m", "v", "Peas?", "--judge", "m", "--judge-question", "Is it funny?", "--json"], 0, lambda done, server, _: sum(b"Is it funny?" in each for each in server.requests) == 2),
    (["compare", "m", "v", "Peas?", "--repeats", "2", "--similarity", "v", "--json"], 0, lambda done, server, _: any("input" in body for body in bodies(server))),
    (["--version"], 0, lambda done, *_: agouti.__version__ in done.stdout),
    (["adopt", "--store", "nowhere", "--write"], 2, lambda done, server, _: "keyring" in done.stderr),
]  # fmt: skip


@pytest.mark.parametrize(("arguments", "code", "seen"), ONCE, ids=[" ".join(row[0])[:60] for row in ONCE])
def test_an_option_does_what_it_says(
    agouti_here: Command, server: RawServer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch,
    arguments: list[str], code: int, seen: Seen,
) -> None:  # fmt: skip
    monkeypatch.chdir(tmp_path)
    done = agouti_here(*arguments)
    assert done.returncode == code, done.stderr
    assert seen(done, server, tmp_path), (done.stdout, done.stderr, server.requests)


def test_results_that_were_asked_otherwise_are_kept_by_an_option(agouti_here: Command, server: RawServer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:  # fmt: skip
    monkeypatch.chdir(tmp_path)
    assert agouti_here(*BATCH, "--limit", "2").returncode == 0
    other = [*BATCH[:4], "Is {note} ill?", *BATCH[5:]]
    assert agouti_here(*other).returncode == 2
    assert agouti_here(*other, "--ignore-changes").returncode == 0
    assert (len(server.requests), len(rows(tmp_path))) == (6, 6)


def test_a_provider_that_is_away_is_waited_for_as_long_as_is_said(agouti_here: Command, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:  # fmt: skip
    monkeypatch.chdir(tmp_path)
    with serving(lambda connection, _: connection.write(reply(b"{}", "503 Busy"))) as busy:
        (tmp_path / "agouti.toml").write_text(
            f'[providers.p]\naddress = "{busy.address}"\nretries = {{ max = 0 }}\n[models.m]\nprovider = "p"\nname = "m"\n'
        )
        (tmp_path / "plain.csv").write_text("note\nbed\n")
        began = datetime.now(tz=UTC)
        done = agouti_here("batch", "m", "plain.csv", "--column", "note", "--out", "o.jsonl", "--give-up-after", "0.5")
    assert done.returncode != 0
    assert datetime.now(tz=UTC) - began < timedelta(seconds=20)


def test_lists_of_models_by_price_and_kind(agouti_here: Command, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:  # fmt: skip
    monkeypatch.chdir(tmp_path)
    listed = [
        {"id": "sees", "architecture": {"input_modalities": ["text", "image"]}, "pricing": {"prompt": "0", "completion": "0"}},
        {"id": "reads", "architecture": {"input_modalities": ["text"]}, "pricing": {"prompt": "1e-6", "completion": "1e-6"}},
    ]  # fmt: skip
    with serving(lambda connection, _: connection.write(reply(json.dumps({"data": listed}).encode()))) as server:
        (tmp_path / "agouti.toml").write_text(f'[providers.p]\naddress = "{server.address}"\n')
        for option, names in ((["--free"], ["sees"]), (["--input", "image"], ["sees"]), ([], ["reads", "sees"])):
            shown = json.loads(agouti_here("models", *option, "--json").stdout)
            assert sorted(row["name"] for row in shown) == names


def test_usage_of_days_and_months(agouti_here: Command, server: RawServer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:  # fmt: skip
    monkeypatch.chdir(tmp_path)
    with (tmp_path / "agouti.toml").open("a") as file:
        file.write('[ledger]\nstore = "u.sqlite"\n')
    assert agouti_here("ask", "m", "Hi").returncode == 0
    today = datetime.now(tz=UTC).date()
    calls = []
    for option in (["--this-month"], [], ["--until", f"{today}"], ["--until", f"{today - timedelta(days=1)}", "--since", f"{today - timedelta(days=9)}"]):  # fmt: skip
        told = json.loads(agouti_here("usage", *option, "--json").stdout)
        calls.append(told["total"]["calls"])
    assert calls == [1, 1, 1, 0]


@pytest.mark.parametrize(
    "words",
    [
        ["ask", "m", "Hi"],
        ["talk", "m"],
        ["compare", "m", "Hi"],
        ["fill", "m", "text"],
        ["batch", "m"],
        ["embed", "m"],
    ],
    ids=lambda words: words[0],
)
def test_every_command_that_asks_takes_tags(words: list[str], agouti_here: Command, server: RawServer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:  # fmt: skip
    monkeypatch.chdir(tmp_path)
    assert "--tag takes NAME=VALUE" in agouti_here(*words, "--tag", "club").stderr
    if words[0] == "ask":
        with (tmp_path / "agouti.toml").open("a") as file:
            file.write('[ledger]\nstore = "u.sqlite"\n')
        assert agouti_here(*words, "--tag", "club=bo", "--tag", "bed=7").returncode == 0
        rows = json.loads(agouti_here("usage", "--by", "tag:club,tag:bed", "--json").stdout)["rows"]
        assert [(row["tag:club"], row["tag:bed"], row["calls"]) for row in rows] == [("bo", "7", 1)]


def test_tokens_have_currencies_periods_and_sight(agouti_here: Command, server: RawServer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:  # fmt: skip
    monkeypatch.chdir(tmp_path)
    with (tmp_path / "agouti.toml").open("a") as file:
        file.write('[relay]\ntokens = "tokens.json"\n')
    made = agouti_here("relay", "token", "club", "--budget", "2", "--currency", "eur", "--per", "week", "--sees-all")
    assert made.returncode == 0, made.stderr
    kept = (tmp_path / "tokens.json").read_text()
    for said in ('"EUR"', '"week"', '"sees_all":true'):
        assert said in kept.replace(" ", "")


def test_entries_of_all_stand_ins(served: Served) -> None:
    with subprocess.Popen([sys.executable, "-m", "agouti", "standins", "--all"], stdout=subprocess.PIPE, text=True) as ran:  # fmt: skip
        assert ran.stdout is not None
        told = ""
        while told.count("[providers.") < 9:
            line = ran.stdout.readline()
            assert line, told
            told += line
        ran.terminate()


def commands(command: click.Command, path: str = "") -> Iterator[tuple[str, tuple[str, ...]]]:
    for parameter in command.params:
        if parameter.opts[0].startswith("-"):
            yield f"{path} {parameter.opts[-1]}".strip(), tuple(parameter.opts)
    if isinstance(command, click.Group):
        for name in command.list_commands(click.Context(command)):
            each = command.get_command(click.Context(command), name)
            assert each is not None
            yield from commands(each, f"{path} {name}")


def test_every_option_stands_in_a_test() -> None:
    """Of the command itself, by its own list."""
    root = Path(__file__).parent.parent
    texts = "\n".join(path.read_text() for path in root.rglob("*.py"))
    known = dict(commands(app.command))
    assert len(known) > 80
    lacking = [
        where
        for where, options in known.items()
        if not any(f'"{each}' in texts or f"{each} " in texts or each == "--inherited" for each in options)
    ]
    assert lacking == []
