"""Life and death of calls: callers who go, who do not read, who come in thousands; the relay as a process; mounted."""

import asyncio
import json
import os
import re
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import AsyncIterator, Iterator
from contextlib import asynccontextmanager, contextmanager
from pathlib import Path
from typing import Any

import pytest
import urllib3
from starlette.applications import Starlette
from starlette.routing import Mount

import agouti
from agouti.standins import Served

from ..hostile.kit import Connection, serving
from .kit import POOL, Running, relaying, running, until

HEAD = b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\ntransfer-encoding: chunked\r\n\r\n"
CHUNK = b'data: {"id":"c","choices":[{"index":0,"delta":{"content":"peas "}}]}\n\n'
ASKED = json.dumps({"model": "m@north", "stream": True, "messages": [{"role": "user", "content": "x"}]}).encode()


def config_of(address: str, **relay: Any) -> dict[str, Any]:
    return {"providers": {"north": {"address": address, "retries": {"max": 0}}}, "relay": relay}


class Endless:
    """A provider that talks on until it is left, and counts who is still being talked to."""

    def __init__(self, pause: float = 0.02, size: int = 1) -> None:
        self.pause, self.data = pause, CHUNK * size
        self.talking = 0
        self.left = 0
        self._lock = threading.Lock()

    def __call__(self, connection: Connection, number: int) -> None:
        with self._lock:
            self.talking += 1
        try:
            connection.write(HEAD)
            while True:
                connection.write(b"%x\r\n%b\r\n" % (len(self.data), self.data))
                if connection.gone(self.pause):
                    break
        except OSError:
            pass
        finally:
            with self._lock:
                self.talking -= 1
                self.left += 1


def opened(relay: Running, body: bytes = ASKED) -> socket.socket:
    host, port = relay.address.removeprefix("http://").split(":")
    sock = socket.socket()
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 8192)
    sock.settimeout(10)
    sock.connect((host, int(port)))
    head = b"POST /v1/chat/completions HTTP/1.1\r\nhost: localhost\r\ncontent-length: %d\r\n\r\n" % len(body)
    sock.sendall(head + body)
    return sock


@pytest.mark.parametrize("how", ["closed", "reset", "half"])
def test_a_caller_who_goes_ends_the_providers_work_within_a_second(how: str) -> None:
    provider = Endless()
    with serving(provider) as server, relaying(config_of(server.address)) as relay:
        sock = opened(relay)
        while b"peas" not in sock.recv(65536):
            pass
        assert provider.talking == 1
        if how == "reset":
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\1\0\0\0\0\0\0\0")
        if how == "half":
            sock.shutdown(socket.SHUT_WR)  # it says no more; whether it listens still nobody knows
            time.sleep(0.3)
        sock.close()
        assert until(lambda: provider.talking == 0)
        assert until(lambda: relay.relay.recent_calls.latest and relay.relay.recent_calls.latest[-1].status == 499)
        assert relay.relay.recent_calls.latest[-1].output_tokens is None
        assert not relay.relay.active


def test_a_caller_who_goes_before_the_answer_begins(served: Served) -> None:
    waiting = threading.Event()
    gone: list[bool] = []

    def behave(connection: Connection, number: int) -> None:
        waiting.set()
        gone.append(connection.gone(60))

    with serving(behave) as server, relaying(config_of(server.address)) as relay:
        for body in (ASKED, ASKED.replace(b'"stream": true,', b"")):
            waiting.clear()
            sock = opened(relay, body)
            assert waiting.wait(5)
            sock.close()
            assert until(
                lambda: len(relay.relay.recent_calls.latest) and relay.relay.recent_calls.latest[-1].status == 499
            )
        assert until(lambda: gone == [True, True])


def test_a_caller_who_does_not_read_is_given_up() -> None:
    provider = Endless(pause=0.0005, size=100)
    with serving(provider) as server:
        with relaying(config_of(server.address, write_seconds=0.8)) as relay, opened(relay):
            began = time.monotonic()
            assert until(lambda: provider.left == 1, 10)
            assert time.monotonic() - began > 0.7
        # One that reads slowly, but reads, is not.
        with relaying(config_of(server.address, write_seconds=8)) as relay, opened(relay) as slow:
            for _ in range(150):
                assert slow.recv(40_000)
                time.sleep(0.01)
            assert provider.talking == 1
        assert until(lambda: provider.talking == 0)


def test_a_thousand_streams_left_leave_nothing_behind() -> None:
    """No call goes on at the provider, no socket stays open, nothing is kept."""
    provider = Endless(pause=0.2)
    with serving(provider) as server, relaying(config_of(server.address), connections=600) as relay:

        def sockets() -> int:
            port = int(relay.address.rpartition(":")[2])
            lines = Path("/proc/net/tcp").read_text().splitlines()[1:]
            return sum(f":{port:04X}" in line and line.split()[3] == "01" for line in lines)

        for _ in range(10):
            socks = [opened(relay) for _ in range(100)]
            assert until(lambda: provider.talking == 100, 20)
            for sock in socks:
                sock.close()
            assert until(lambda: provider.talking == 0)
        assert provider.left == 1000
        assert until(lambda: not relay.relay.active)
        POOL.clear()
        assert until(lambda: sockets() == 0)
        assert len(relay.relay.client._calls.hooks) <= 2
        metrics = POOL.request("GET", relay.address + "/metrics").data.decode()
        assert 'agouti_relay_requests_total{form="chat",label="*@north",status="499",token=""} 1000.0' in metrics
        assert "agouti_relay_under_way 0.0" in metrics


def test_calls_side_by_side_get_their_own_answers(served: Served) -> None:
    """Through one relay, plain and streamed, of all formats at once."""
    with relaying(served.config) as relay:

        async def one(number: int) -> None:
            form = ("chat", "messages", "responses", "prompt")[number % 4]
            async with agouti.AsyncClient.at(relay.address + "/v1", dialect=form) as client:
                for label in ("loam-2b@shed", "envelope-2@letterbox"):
                    text = f"say number {number}-{label}"
                    reply = await client.ask(label, text, max_tokens=300)
                    async with client.stream(label, text, max_tokens=300) as stream:
                        streamed = "".join([piece async for piece in stream])
                    assert streamed == reply.text
                    assert reply.id != stream.reply.id

        async def all_of_them() -> None:
            await asyncio.gather(*(one(number) for number in range(40)))

        asyncio.run(all_of_them())
        assert until(lambda: len(relay.relay.recent_calls.latest) == 160)
        assert {each.status for each in relay.relay.recent_calls.latest} == {200}


@contextmanager
def process(folder: Path, *arguments: str, environment: Any = None) -> Iterator[tuple[subprocess.Popen[str], str]]:
    """``agouti relay`` as a process; its address."""
    started = subprocess.Popen(
        [sys.executable, "-m", "agouti", *arguments], cwd=folder, text=True, env={**os.environ, **(environment or {})},
        stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    try:
        assert started.stdout is not None
        line = started.stdout.readline()
        yield started, re.sub(r"/v1.*", "", line.strip())
    finally:
        if started.poll() is None:
            started.kill()
        started.communicate(timeout=60)


def agouti_command(folder: Path, *arguments: str) -> tuple[int, str, str]:
    done = subprocess.run(
        [sys.executable, "-m", "agouti", *arguments], cwd=folder, capture_output=True, text=True, timeout=60
    )
    return done.returncode, done.stdout, done.stderr


@pytest.mark.parametrize("how", [signal.SIGTERM, signal.SIGINT])
def test_the_command_serves_and_stops_gracefully(tmp_path: Path, how: signal.Signals) -> None:
    began, finished = threading.Event(), threading.Event()

    def slowly(connection: Connection, number: int) -> None:
        connection.write(HEAD)
        for _ in range(10):
            connection.write(b"%x\r\n%b\r\n" % (len(CHUNK), CHUNK))
            began.set()
            time.sleep(0.1)
        last = b'data: {"choices":[{"index":0,"delta":{},"finish_reason":"stop"}]}\n\ndata: [DONE]\n\n'
        connection.write(b"%x\r\n%b\r\n0\r\n\r\n" % (len(last), last))
        finished.set()

    with serving(slowly) as server:
        (tmp_path / "agouti.toml").write_text(f'[providers.north]\naddress = "{server.address}"\n')
        with process(tmp_path, "relay", "--port", "0") as (started, address):
            reply = POOL.request("POST", address + "/v1/chat/completions", body=ASKED, preload_content=False)
            page = POOL.request("GET", address + "/page/calls", preload_content=False)
            assert began.wait(5)
            started.send_signal(how)
            data = reply.read()  # what is under way comes to its end
            assert data.endswith(b"[DONE]\n\n")
            assert data.count(b"peas") == 10
            assert page.read().startswith(b": the relay is here")  # whoever looks on does not hold it up
            _, err = started.communicate(timeout=15)
            assert started.returncode == 0, err
            assert finished.is_set()
            assert "Traceback" not in err
            assert " chat m@north 200 " in err
            with pytest.raises(urllib3.exceptions.HTTPError):
                POOL.request("GET", address + "/health")


@pytest.mark.parametrize("form", ["chat/completions", "messages"])
def test_what_takes_longer_than_it_drains_is_told_so(tmp_path: Path, form: str) -> None:
    """An answer that had not begun is a 503 in the caller's format; a stream ends with an error event."""
    waiting, talks = threading.Event(), threading.Event()

    def slow(connection: Connection, number: int) -> None:
        if b'"stream":true' in connection.request.replace(b" ", b""):
            connection.write(HEAD + b"%x\r\n%b\r\n" % (len(CHUNK), CHUNK))
            talks.set()
        waiting.wait(20)

    with serving(slow) as server:
        table = f'[providers.north]\naddress = "{server.address}"\n[relay]\ndrain_seconds = 1\n'
        (tmp_path / "agouti.toml").write_text(table)
        with process(tmp_path, "relay", "--port", "0") as (started, address):
            said: list[Any] = []

            def whole() -> None:
                body = {"model": "m@north", "max_tokens": 5, "messages": [{"role": "user", "content": "x"}]}
                got = POOL.request("POST", f"{address}/v1/{form}", body=json.dumps(body))
                said.append((got.status, json.loads(got.data), got.headers.get("retry-after")))

            thread = threading.Thread(target=whole)
            thread.start()
            body = {**json.loads(ASKED), "max_tokens": 5}
            stream = POOL.request("POST", f"{address}/v1/{form}", body=json.dumps(body), preload_content=False)
            assert talks.wait(10)
            assert until(lambda: len(server.requests) == 2)
            started.send_signal(signal.SIGTERM)
            data = stream.read()
            thread.join(20)
            _, err = started.communicate(timeout=15)
            waiting.set()
        ((status, body, wait),) = said
        assert (status, wait) == (503, "1")
        assert ("type" in body) == (form == "messages")
        assert b"peas" in data
        assert b"error" in data.split(b"\n\n")[-2]
        assert "Traceback" not in err
        assert started.returncode == 0


def test_it_reads_its_configuration_again_at_sighup_and_logs_as_json(tmp_path: Path) -> None:
    log = tmp_path / "relay.log"
    relay = f'[relay]\nlog = "json"\nlog_file = "{log}"\n'
    (tmp_path / "agouti.toml").write_text(f'[providers.north]\naddress = "http://127.0.0.1:9/v1"\n{relay}')
    with process(tmp_path, "relay", "--port", "0") as (started, address):
        more = '[models.peas]\nprovider = "north"\nname = "m"\n'
        (tmp_path / "agouti.toml").write_text(f'[providers.north]\naddress = "http://127.0.0.1:9/v1"\n{relay}{more}')
        started.send_signal(signal.SIGHUP)

        def listed() -> bool:
            models = json.loads(POOL.request("GET", address + "/v1/models").data)["data"]
            return [each["id"] for each in models] == ["peas"]

        assert until(listed)
        started.send_signal(signal.SIGTERM)
        started.communicate(timeout=15)
    lines = [json.loads(line) for line in log.read_text().splitlines()]
    assert any(each.get("path") == "/v1/models" and each["status"] == 200 for each in lines)
    assert any("read again" in each.get("message", "") for each in lines)


def test_what_a_token_did_in_the_minute_counts_when_the_configuration_is_read_again(tmp_path: Path) -> None:
    north = '[providers.north]\naddress = "http://127.0.0.1:9/v1"\n'
    (tmp_path / "agouti.toml").write_text(north)
    _, text, _ = agouti_command(tmp_path, "relay", "token", "club", "--requests-per-minute", "1")
    secret = re.search(r"agouti-\S+|[\w-]{30,}", text)
    assert secret is not None, text
    headers = {"authorization": f"Bearer {secret[0]}"}
    with process(tmp_path, "relay", "--port", "0") as (started, address):

        def status() -> int:
            body = json.dumps({"model": "none", "messages": [{"role": "user", "content": "x"}]})
            return POOL.request("POST", address + "/v1/chat/completions", headers=headers, body=body).status

        assert [status(), status()] == [404, 429]
        (tmp_path / "agouti.toml").write_text(north + '[models.peas]\nprovider = "north"\nname = "m"\n')
        started.send_signal(signal.SIGHUP)
        assert until(lambda: "peas" in POOL.request("GET", address + "/v1/models", headers=headers).data.decode())
        assert status() == 429


def test_an_output_that_nobody_reads_stops_nothing(tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text('[providers.north]\naddress = "http://127.0.0.1:9/v1"\n')
    with process(tmp_path, "relay", "--port", "0") as (started, address):
        for _ in range(3000):  # more than a pipe holds
            assert POOL.request("GET", f"{address}/{'x' * 100}").status == 404
        started.send_signal(signal.SIGTERM)
        assert until(lambda: started.poll() is not None)


def test_workers_share_an_address_and_what_a_token_may(tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text('[providers.north]\naddress = "http://127.0.0.1:9/v1"\n')
    with process(tmp_path, "relay", "--port", "0", "--workers", "2") as (started, address):
        assert until(lambda: POOL.request("GET", address + "/health").status == 200)
        workers = Path(f"/proc/{started.pid}/task/{started.pid}/children").read_text().split()
        assert len(workers) == 2
        os.kill(int(workers[0]), signal.SIGKILL)
        children = Path(f"/proc/{started.pid}/task/{started.pid}/children")
        assert until(lambda: len({*children.read_text().split()} - {workers[0]}) == 2)  # another one is there
        started.send_signal(signal.SIGTERM)
        started.communicate(timeout=30)
        assert started.returncode == 0
        assert not any(Path(f"/proc/{each}").exists() for each in workers)
    with process(tmp_path, "relay", "--port", "0", "--workers", "1") as (started, address):
        pass  # killed: nobody is left behind
    with process(tmp_path, "relay", "--port", "0", "--workers", "2") as (started, address):
        assert until(lambda: POOL.request("GET", address + "/health").status == 200)
        workers = Path(f"/proc/{started.pid}/task/{started.pid}/children").read_text().split()
        started.kill()
        assert until(lambda: not any(Path(f"/proc/{each}").exists() for each in workers))


def test_a_socket_file_is_the_owners_alone(tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text('[providers.north]\naddress = "http://127.0.0.1:9/v1"\n')
    place = tmp_path / "relay.sock"
    command = [sys.executable, "-m", "agouti", "relay", "--unix", str(place)]
    for _ in range(2):  # the second one takes the place of one that was left
        started = subprocess.Popen(command, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        try:
            assert started.stdout is not None
            assert "relay.sock" in started.stdout.readline()
            assert place.stat().st_mode & 0o777 == 0o600
            with socket.socket(socket.AF_UNIX) as sock:
                sock.connect(str(place))
                sock.sendall(b"GET /v1/models HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n")
                assert sock.recv(65536).startswith(b"HTTP/1.1 200")
            code, _, err = agouti_command(tmp_path, "relay", "--unix", str(place))
            assert (code, "cannot be used" in err) == (2, True)
            with socket.socket(socket.AF_UNIX) as sock:
                sock.connect(str(place))  # it is there still
        finally:
            started.kill()
            started.communicate()


def test_what_tokens_have_spent_is_not_known_where_the_ledger_cannot_be_read(tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text(
        '[providers.n]\naddress = "http://127.0.0.1:9/v1"\n[ledger]\nstore = "u.sqlite"\n'
    )
    agouti_command(tmp_path, "relay", "token", "club")
    code, _, err = agouti_command(tmp_path, "relay", "token")
    assert (code, err) == (0, "")  # nobody has called yet
    (tmp_path / "u.sqlite").write_text("no database at all")
    code, out, err = agouti_command(tmp_path, "relay", "token")
    assert (code, "club" in out) == (0, True)
    assert "what they have spent is not known" in err


def test_a_file_that_is_no_socket_stays(tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text('[providers.north]\naddress = "http://127.0.0.1:9/v1"\n')
    (tmp_path / "notes.txt").write_text("18 of 24 up")
    code, _, err = agouti_command(tmp_path, "relay", "--unix", str(tmp_path / "notes.txt"))
    assert (code, "cannot be used" in err) == (2, True), err
    assert (tmp_path / "notes.txt").read_text() == "18 of 24 up"


def test_wrong_ways_to_start(tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text('[providers.north]\naddress = "http://127.0.0.1:9"\n')
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = str(taken.getsockname()[1])
        code, _, err = agouti_command(tmp_path, "relay", "--port", port)
        assert code == 2
        assert f"127.0.0.1:{port} cannot be used" in err
        assert "--port" in err
    for host in ("0.0.0.0", "::", "192.0.2.1"):
        code, _, err = agouti_command(tmp_path, "relay", "--host", host, "--port", "0")
        assert (code, "agouti relay token NAME" in err) == (2, True), err
    code, _, err = agouti_command(tmp_path, "relay", "--host", "no such host", "--port", "0")
    assert code == 2
    (tmp_path / "agouti.toml").write_text("[relay]\nmax_megabytes = 0\n")
    assert agouti_command(tmp_path, "relay")[0] == 2
    (tmp_path / "agouti.toml").write_text("[relay]\norigin = []\n")
    code, _, err = agouti_command(tmp_path, "relay")
    assert (code, "origins" in err) == (2, True)


@pytest.mark.parametrize("lacking", ["starlette", "uvicorn", "httptools", "prometheus_client"])
def test_what_is_not_installed_is_said(tmp_path: Path, lacking: str) -> None:
    (tmp_path / "agouti.toml").write_text('[providers.north]\naddress = "http://127.0.0.1:9"\n')
    (tmp_path / f"{lacking}.py").write_text(f"raise ModuleNotFoundError('no', name={lacking!r})\n")
    done = subprocess.run(
        [sys.executable, "-m", "agouti", "relay", "--port", "0"], cwd=tmp_path, capture_output=True, text=True,
        env={**os.environ, "PYTHONPATH": str(tmp_path)}, timeout=60,
    )  # fmt: skip
    assert done.returncode == 2, done.stderr
    assert f"the relay needs {lacking}" in done.stderr
    assert "agouti-client[relay]" in done.stderr


def test_tokens_from_the_command_line(tmp_path: Path, served: Served) -> None:
    (tmp_path / "agouti.toml").write_text(served.toml)
    options = ["--labels", "almanac-local", "--requests-per-minute", "5", "--budget", "2.5", "--expires", "30d"]
    code, text, err = agouti_command(tmp_path, "relay", "token", "club", *options)
    assert code == 0, err
    assert re.fullmatch(r"agouti-[\w-]{43}\n", text)
    assert str(tmp_path / "relay-tokens.json") in err
    kept = json.loads((tmp_path / "relay-tokens.json").read_text())["tokens"][0]
    assert text.strip() not in json.dumps(kept)
    assert (kept["labels"], kept["requests_per_minute"], kept["budget"]) == (["almanac-local"], 5, 2.5)
    assert 29.9 * 86400 < kept["expires"] - time.time() < 30.1 * 86400
    listed = agouti_command(tmp_path, "relay", "token")[1]
    assert "club" in listed
    assert "2.5 USD a month" in listed
    for wrong, words in (
        (["club"], "already"),
        (["x", "--labels", "almanak"], "almanac"),
        (["x", "--budget", "0"], "budget"),
        (["x", "--expires", "yesterday"], "30d"),
        (["x", "--expires", "2020-01-01"], "over"),
        (["x", "--remove"], "no token"),
        (["x", "--rotate"], "no token"),
        (["club", "--remove", "--budget", "2"], "alone"),
        (["x", "--per", "day"], "--budget"),
        (["x", "--labels", ""], "no model"),
        (["x", "--expires", "99999999d"], "no time"),
        (["x", "--expires", "999999d"], "far away"),
        (["--budget", "2"], "name"),
        (["\n"], "name"),
    ):
        code, _, err = agouti_command(tmp_path, "relay", "token", *wrong)
        assert (code, words in err) == (2, True), err
    with process(tmp_path, "relay", "--port", "0", "--host", "0.0.0.0", environment=served.environment) as (_, address):
        here = address.replace("0.0.0.0", "127.0.0.1")
        body = json.dumps({"model": "almanac-local", "messages": [{"role": "user", "content": "Peas?"}]})
        for key, status in ((text.strip(), 200), ("wrong", 401)):
            reply = POOL.request("POST", here + "/v1/chat/completions", body=body, headers={"x-api-key": key})
            assert reply.status == status
    code, fresh, _ = agouti_command(tmp_path, "relay", "token", "club", "--rotate")
    assert (code, fresh != text) == (0, True)
    limits = ["--tokens-per-minute", "900", "--calls-at-once", "2", "--expires", "2099-12-31", "--sees-all"]
    assert agouti_command(tmp_path, "relay", "token", "second", *limits)[0] == 0
    listed = agouti_command(tmp_path, "relay", "token")[1]
    for words in ("900 tokens/min, 2 at once", "2100-01-01 00:00 UTC", "its own", "last used"):
        assert words in listed
    today = time.strftime("%Y-%m-%d", time.gmtime())
    assert re.search(rf"club .*{today}", listed)  # by the ledger: it was used
    agouti_command(tmp_path, "relay", "token", "second", "--remove")
    code, _, err = agouti_command(tmp_path, "relay", "token", "club", "--remove")
    assert (code, json.loads((tmp_path / "relay-tokens.json").read_text())) == (0, {"tokens": []})


def test_many_tokens_at_once_and_a_full_disk(tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text("[providers.north]\naddress = 'http://127.0.0.1:9'\n")
    started = [
        subprocess.Popen(
            [sys.executable, "-m", "agouti", "relay", "token", f"club-{n}"], cwd=tmp_path, stdout=subprocess.PIPE
        )
        for n in range(6)
    ]
    assert [each.wait(60) for each in started] == [0] * 6
    for each in started:
        each.communicate()
    names = {each["name"] for each in json.loads((tmp_path / "relay-tokens.json").read_text())["tokens"]}
    assert names == {f"club-{n}" for n in range(6)}
    kept = (tmp_path / "relay-tokens.json").read_bytes()
    limited = f"ulimit -f 0; exec {sys.executable} -B -m agouti relay token full"
    done = subprocess.run(["bash", "-c", limited], cwd=tmp_path, capture_output=True, text=True, timeout=60)
    assert done.returncode != 0
    assert "agouti-" not in done.stdout  # no token is shown that is not kept
    assert (tmp_path / "relay-tokens.json").read_bytes() == kept


def test_mounted_in_an_application_of_ones_own(served: Served) -> None:
    relay = agouti.relay.app(served.config)
    closed = []

    @asynccontextmanager
    async def lifespan(_: Starlette) -> AsyncIterator[None]:
        yield
        await relay.aclose()
        closed.append(relay._client)

    application = Starlette(routes=[Mount("/models", app=relay)], lifespan=lifespan)
    with running(application) as address:
        mounted = Running(relay, address + "/models")
        status, whole, _ = mounted.ask("almanac")
        assert (status, "Peas" in whole["choices"][0]["message"]["content"]) == (200, True)
        assert mounted.ask("almanac", stream=True)[1].endswith(b"[DONE]\n\n")
        assert mounted.call("/health")[1] == {"status": "ok"}
        assert mounted.call("/v1/messages", {"model": "x", "messages": []})[1]["type"] == "error"
        assert b"Agouti relay" in mounted.call("/")[1]
        assert mounted.call("/page/facts")[1]["models"]
    assert closed == [None]
