"""Archives on full disks, of killed programs, of several clients at once; and what never stands in one."""

import json
import os
import random
import signal
import subprocess
import sys
import textwrap
import time
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.testing import AsyncFakeTransport, FakeTransport

from .kit import config, serving

GOOD = {"choices": [{"message": {"content": "In March."}, "finish_reason": "stop"}]}


def recorded(path: Path, answers: list[Any], questions: list[str], entry: dict[str, Any] | None = None) -> None:
    provider = {"address": "https://p.example/v1", "retries": {"max": 0}, **(entry or {})}
    made = agouti.load_config(
        {"providers": {"p": provider}}, environment={"K": "sk-PLANTED0123456789", "B": "bodysecret77"}
    )
    with agouti.Client(made, transport=FakeTransport(answers), record=path) as client:
        for question in questions:
            client.ask("m@p", question)


def entries(path: Path) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = json.loads(path.read_text())["log"]["entries"]
    return found


def test_archive_that_is_there_is_gone_on_with(tmp_path: Path) -> None:
    path = tmp_path / "x.har"
    recorded(path, [GOOD], ["one"])
    agouti.Client({"providers": {}}, record=path).close()
    assert len(entries(path)) == 1
    recorded(path, [GOOD, GOOD], ["two", "three"])
    assert ["one" in each["request"]["postData"]["text"] for each in entries(path)] == [True, False, False]
    assert path.stat().st_mode & 0o777 == 0o600


def test_archive_of_another_tool_is_gone_on_with(tmp_path: Path) -> None:
    path = tmp_path / "x.har"
    recorded(path, [GOOD], ["one"])
    path.write_text(json.dumps(json.loads(path.read_text()), indent=3) + "\n\n")
    recorded(path, [GOOD], ["two"])
    assert len(entries(path)) == 2


@pytest.mark.parametrize("text", ["dear diary", "{}", '{"log": {}}', "[1, 2]", "\x00\x01", "[" * 5000])
def test_other_files_are_left_alone(tmp_path: Path, text: str) -> None:
    path = tmp_path / "notes.txt"
    path.write_text(text)
    with pytest.raises(agouti.ConfigError, match="something else"):
        agouti.Client({"providers": {}}, record=path)
    assert path.read_text() == text


FULL = """
    import resource, sys, agouti
    from agouti.testing import FakeTransport
    GOOD = {"choices": [{"message": {"content": "x" * 3000}, "finish_reason": "stop"}]}
    resource.setrlimit(resource.RLIMIT_FSIZE, (20_000, 20_000))
    with agouti.Client({"providers": {"p": {"address": "https://p.example"}}}, transport=FakeTransport([GOOD] * 30), record=sys.argv[1]) as client:
        print(sum(len(client.ask("m@p", str(number)).text) for number in range(30)))
"""


def test_full_disk_costs_no_answer(tmp_path: Path) -> None:
    path = tmp_path / "x.har"
    done = subprocess.run(
        [sys.executable, "-B", "-c", textwrap.dedent(FULL), path], capture_output=True, text=True, check=False
    )
    assert done.stdout.strip() == "90000", done.stderr
    assert done.stderr.count("nothing is recorded") == 1
    assert 2 <= len(entries(path)) < 30
    recorded(path, [GOOD], ["later"])
    assert "later" in entries(path)[-1]["request"]["postData"]["text"]


WRITER = """
    import sys, agouti
    from agouti.testing import FakeTransport
    GOOD = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}]}
    config = {"providers": {"p": {"address": "https://p.example"}}}
    with agouti.Client(config, transport=FakeTransport([GOOD] * 30), record=sys.argv[1]) as client:
        for number in range(30):
            client.ask("m@p", f"{sys.argv[2]} {number}")
"""


def test_several_processes_and_clients_share_one_archive(tmp_path: Path) -> None:
    path = tmp_path / "x.har"
    writers = [
        subprocess.Popen([sys.executable, "-c", textwrap.dedent(WRITER), path, f"w{number}"]) for number in range(3)
    ]
    recorded(path, [GOOD] * 30, [f"here {number}" for number in range(30)])
    assert [each.wait(60) for each in writers] == [0, 0, 0]
    asked = [json.loads(each["request"]["postData"]["text"])["messages"][0]["content"] for each in entries(path)]
    assert sorted(asked) == sorted(f"{name} {number}" for name in ("w0", "w1", "w2", "here") for number in range(30))


KILLED = """
    import sys, agouti
    from agouti.testing import FakeTransport
    GOOD = {"choices": [{"message": {"content": "x" * 3_000_000}, "finish_reason": "stop"}]}
    with agouti.Client({"providers": {"p": {"address": "https://p.example"}}}, transport=FakeTransport([GOOD] * 1000), record=sys.argv[1]) as client:
        for number in range(1000):
            client.ask("m@p", str(number))
            print(number, flush=True)
"""


def test_killed_program_loses_nothing_that_it_had_recorded(tmp_path: Path) -> None:
    chance = random.Random(4)
    for turn in range(8):
        path = tmp_path / f"{turn}.har"
        run = subprocess.Popen([sys.executable, "-c", textwrap.dedent(KILLED), path], stdout=subprocess.PIPE, text=True)
        assert run.stdout is not None
        for _ in range(3):
            run.stdout.readline()
        time.sleep(chance.random() * 0.05)
        os.kill(run.pid, signal.SIGKILL)
        told = 3 + len(run.communicate()[0].split())
        with agouti.Client({"providers": {"p": {"address": "https://p.example"}}}, replay=path) as client:
            for number in range(told):
                assert len(client.ask("m@p", str(number)).text) == 3_000_000
        recorded(path, [GOOD], ["later"])
        assert "later" in entries(path)[-1]["request"]["postData"]["text"]


class Killed(BaseException):
    pass


@pytest.mark.parametrize("before", ["one", "one two"])
@pytest.mark.parametrize("written", range(5))
def test_killed_between_any_two_writes_the_archive_is_whole(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, written: int, before: str
) -> None:
    path = tmp_path / "x.har"
    asked = before.split()
    recorded(path, [GOOD] * len(asked), asked)
    write, left = os.write, [written]

    def until_killed(file: int, data: bytes) -> int:
        if left[0] == 0:
            raise Killed
        left[0] -= 1
        return write(file, memoryview(data)[: max(1, len(data) - 1)])  # a disk takes what it likes

    monkeypatch.setattr(os, "write", until_killed)
    with pytest.raises(Killed):
        recorded(path, [GOOD], ["killed"])
    monkeypatch.setattr(os, "write", write)
    recorded(path, [GOOD], ["later"])
    found = [json.loads(each["request"]["postData"]["text"])["messages"][0]["content"] for each in entries(path)]
    assert [each for each in found if each != "killed"] == [*asked, "later"]


def test_disk_without_room_for_the_last_byte_leaves_a_whole_archive(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "x.har"
    recorded(path, [GOOD], ["one"])
    write = os.write

    def full(file: int, data: bytes) -> int:
        if len(data) == 1:
            raise OSError(28, "No space left on device")
        return write(file, data)

    monkeypatch.setattr(os, "write", full)
    recorded(path, [GOOD], ["two"])
    monkeypatch.setattr(os, "write", write)
    assert len(entries(path)) == 2
    recorded(path, [GOOD], ["three"])
    assert len(entries(path)) == 3


SECRETS = {
    "key": {"env": "K"},
    "headers": {"x-pass": "headersecret5"},
    "query": {"token": "querysecret66", "v": "1"},
    "add": {"login": {"env": "B"}, "deep": [{"api_key": "deepsecret99"}]},
    "values": {"tenant": {"env": "B"}},
    "paths": {"chat": "/{tenant}/chat/completions"},
}


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_no_secret_stands_in_an_archive_and_replay_needs_none(kind: str, tmp_path: Path) -> None:
    path = tmp_path / "x.har"
    echo = "sk-PLANTED0123456789 headersecret5 querysecret66 bodysecret77 deepsecret99"
    answer = {"choices": [{"message": {"content": echo}, "finish_reason": "stop"}]}
    provider = {"address": "https://p.example/v1", **SECRETS}
    environment = {"K": "sk-PLANTED0123456789", "B": "bodysecret77"}
    made = agouti.load_config({"providers": {"p": provider}}, environment=environment)
    if kind == "sync":
        with agouti.Client(made, transport=FakeTransport([answer]), record=path) as client:
            assert client.ask("m@p", "x").text == echo  # the caller gets what was said
    else:
        import asyncio

        async def run() -> None:
            async with agouti.AsyncClient(made, transport=AsyncFakeTransport([answer]), record=path) as client:
                assert (await client.ask("m@p", "x")).text == echo

        asyncio.run(run())
    text = path.read_text()
    assert not [secret for secret in [*echo.split(), "querysecret66"] if secret in text]
    nothing = agouti.load_config({"providers": {"p": provider}}, environment={})
    with agouti.Client(nothing, replay=path) as client:
        assert client.ask("m@p", "x").text == "*** *** *** *** ***"


TOKEN = HttpReply(200, {"content-type": "application/json"}, b'{"access_token": "tokensecret1", "expires_in": 3600}')


def test_token_requests_are_not_recorded(tmp_path: Path) -> None:
    key = {"oauth": "client_credentials", "token_address": "https://t.example/token", "client_id": "me",
           "client_secret": {"env": "B"}, "client_auth": "body"}  # fmt: skip
    path = tmp_path / "x.har"
    recorded(path, [TOKEN, GOOD], ["one"], {"key": key})
    assert len(entries(path)) == 1
    assert not [each for each in ("tokensecret1", "bodysecret77") if each in path.read_text()]


def test_replay_waits_for_nobody(tmp_path: Path) -> None:
    path = tmp_path / "x.har"
    busy = HttpReply(503, {"retry-after": "20"}, b"")
    with agouti.Client({"providers": {"p": {"address": "https://p.example"}}}, transport=FakeTransport([busy]), record=path) as client:  # fmt: skip
        with pytest.raises(agouti.Overloaded):
            client.ask("m@p", "x", retries={"max": 0})
    recorded(path, [GOOD], ["x"], {"address": "https://p.example"})
    began = time.monotonic()
    with agouti.Client({"providers": {"p": {"address": "https://p.example"}}}, replay=path) as client:
        assert client.ask("m@p", "x").text == "In March."
    assert time.monotonic() - began < 15


def test_child_of_a_fork_records_beside_its_parent(tmp_path: Path) -> None:
    from .kit import Connection, answer

    def behave(connection: Connection, _: int) -> None:
        connection.write(answer("yes"))

    path = tmp_path / "x.har"
    with serving(behave) as server, agouti.Client(config(server), record=path) as client:
        client.ask("a", "parent 0")
        pid = os.fork()
        if pid == 0:
            for number in range(20):
                client.ask("a", f"child {number}")
            os._exit(0)
        for number in range(1, 20):
            client.ask("a", f"parent {number}")
        assert os.waitpid(pid, 0)[1] == 0
    assert len(entries(path)) == 40
