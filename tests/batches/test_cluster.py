"""Batches on a Dask cluster: a real scheduler and real workers, one of them killed."""

import copyreg
import json
import os
import signal
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from importlib.util import find_spec
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.batches.cluster import packed, unpacked
from agouti.standins import serve
from agouti.standins.quotas import Quota

from ..hostile.kit import Connection, RawServer, answer, reply, serving
from ..servers import free_port

pytestmark = pytest.mark.skipif(find_spec("distributed") is None, reason="needs the extra dask")
NOTES = [{"id": f"n{number}", "note": f"bed {number}"} for number in range(400)]


@pytest.fixture(autouse=True)
def _as_before() -> Iterator[None]:
    """The library changes how every exception is pickled, in the whole process."""
    before = dict(copyreg.dispatch_table)
    yield
    copyreg.dispatch_table.clear()
    copyreg.dispatch_table.update(before)


class Cluster:
    """A scheduler and workers.

    Attributes:
        address: of the scheduler.
        workers: their processes.
    """

    def __init__(self, folder: Path, environment: dict[str, str]) -> None:
        port = free_port()
        self.address = f"tcp://127.0.0.1:{port}"
        self._folder = folder
        self._environment = {**os.environ, **environment}
        self.scheduler = self._start("scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard")
        self.workers: list[subprocess.Popen[bytes]] = []

    def _start(self, *arguments: str) -> "subprocess.Popen[bytes]":
        return subprocess.Popen(
            [sys.executable, "-m", "distributed.cli.dask_" + arguments[0], *arguments[1:]],
            cwd=self._folder, env=self._environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip

    def add_worker(self, host: str = "127.0.0.1") -> None:
        self.workers.append(
            self._start("worker", self.address, "--nthreads", "2", "--no-nanny", "--no-dashboard", "--host", host)
        )

    def close(self) -> None:
        for process in (*self.workers, self.scheduler):
            process.kill()
            process.wait()


@contextmanager
def cluster(folder: Path, workers: int = 2, **environment: str) -> Iterator[Cluster]:
    made = Cluster(folder, environment)
    try:
        for _ in range(workers):
            made.add_worker()
        yield made
    finally:
        made.close()


def slow(connection: Connection, _: int) -> None:
    time.sleep(0.02)
    question = connection.question
    if "refused" in question:
        connection.write(reply(b'{"error": {"message": "no"}}', "400 No"))
    else:
        connection.write(answer(f"<{question}>"))


@pytest.fixture
def server() -> Iterator[RawServer]:
    with serving(slow) as running:
        yield running


def config(server: RawServer, **entry: Any) -> dict[str, Any]:
    provider = {"address": server.address, "key": {"env": "SHED_WORKER_KEY"}, **entry}
    return {"providers": {"p": provider}, "models": {"a": {"provider": "p", "name": "m"}}}


def rows_in(path: Path) -> list[dict[str, Any]]:
    return [json.loads(line) for line in path.read_text().splitlines()]


def test_lost_worker_loses_no_row_and_doubles_none(server: RawServer, tmp_path: Path) -> None:
    out = tmp_path / "o.jsonl"
    with cluster(tmp_path, SHED_WORKER_KEY="sk-of-the-workers") as dask, agouti.Client(config(server)) as client:

        def kill_one() -> None:
            for _ in range(2000):
                if len(server.questions) > 80:
                    break
                time.sleep(0.01)
            dask.workers[0].send_signal(signal.SIGKILL)

        killer = threading.Thread(target=kill_one)
        killer.start()
        made = agouti.batch(client, "a", NOTES, prompt="Sort {note}", id_column="id", out=out, cluster=dask.address, retry_failed=True)  # fmt: skip
        killer.join()
        assert (made.done, made.failed) == (400, 0)
        assert Counter(row["key"] for row in rows_in(out)) == Counter(row["id"] for row in NOTES)
        assert sum(times - 1 for times in Counter(server.questions).values()) <= 2 * 2 * 2 * 8  # what it had in hand
        assert all(b"sk-of-the-workers" in request for request in server.requests)
        again = agouti.batch(client, "a", NOTES, prompt="Sort {note}", id_column="id", out=out, cluster=dask.address)
        assert (again.done, again.already_done) == (0, 400)


@pytest.mark.parametrize("at_once", [1, 12])
def test_never_more_at_once_and_a_lost_scheduler_is_said(tmp_path: Path, at_once: int) -> None:
    out = tmp_path / "o.jsonl"
    now, most, lock = 0, 0, threading.Lock()

    def count(connection: Connection, _: int) -> None:
        nonlocal now, most
        with lock:
            now += 1
            most = max(most, now)
        time.sleep(0.05)
        with lock:
            now -= 1
        connection.write(answer("yes"))

    with (
        serving(count) as server,
        cluster(tmp_path, SHED_WORKER_KEY="sk-1") as dask,
        agouti.Client(config(server)) as client,
    ):

        def kill() -> None:
            for _ in range(2000):
                if len(server.questions) > 20:
                    break
                time.sleep(0.01)
            dask.scheduler.kill()

        killer = threading.Thread(target=kill)
        killer.start()
        began = time.monotonic()
        with pytest.raises(agouti.RequestError, match=r"the scheduler at .* is gone") as lost:
            agouti.batch(
                client,
                "a",
                NOTES,
                prompt="Sort {note}",
                id_column="id",
                out=out,
                cluster=dask.address,
                concurrency=at_once,
            )
        killer.join()
        assert "the same command goes on" in lost.value.hint
        assert time.monotonic() - began < 50
        assert 1 <= most <= at_once
        assert len(server.questions) - len(rows_in(out)) <= 2 * at_once  # what was in hand


def test_forms_errors_and_an_async_client(server: RawServer, tmp_path: Path) -> None:
    import asyncio

    async def run(address: str) -> Any:
        async with agouti.AsyncClient(config(server)) as client:
            schema = {"title": "Note", "type": "string"}
            form = await agouti.batch(
                client, "a", ["bed 1", "refused", "bed 2"], form=schema, max_repairs=0, cluster=address
            )
            with pytest.raises(agouti.RequestError, match="exclude"):
                await agouti.batch(client, "a", ["bed"], cluster=address, budget=1.0)
            task = asyncio.ensure_future(agouti.batch(client, "a", ["bed"] * 2000, cluster=address))
            await asyncio.sleep(1.0)
            task.cancel()
            with pytest.raises(asyncio.CancelledError):
                await task
            return form

    with cluster(tmp_path, 1, SHED_WORKER_KEY="sk-1") as dask:
        form = asyncio.run(run(dask.address))
    assert [row.value for row in form][::2] == ["<bed 1>", "<bed 2>"] or form.done + form.failed == 3
    assert any("RequestRefused" in row.error for row in form)


def test_command_says_what_is_wrong_with_a_cluster(server: RawServer, tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text(f'[providers.p]\naddress = "{server.address}"\n')
    (tmp_path / "rows.txt").write_text("one\ntwo\n")

    def run(address: str) -> "subprocess.CompletedProcess[str]":
        script = "import agouti.batches.cluster as c, agouti.cli.app as a, sys; c._CONNECT = 4; sys.exit(a.run(sys.argv[1:]))"
        return subprocess.run(
            [sys.executable, "-c", script, "batch", "m@p", "rows.txt", "--out", "o.jsonl", "--cluster", address],
            cwd=tmp_path, capture_output=True, text=True, check=False,
        )  # fmt: skip

    away = run(f"tcp://127.0.0.1:{free_port()}")
    assert away.returncode == 2
    assert "no cluster answers at" in away.stderr
    assert "Traceback" not in away.stderr
    assert len(away.stderr.strip().splitlines()) == 2, away.stderr
    with cluster(tmp_path, 0) as dask:
        time.sleep(2)
        idle = run(dask.address)
        assert "has no workers" in idle.stderr, idle.stderr
        dask.add_worker()
        done = run(dask.address)
    assert done.returncode == 0, done.stderr
    assert sorted(row["answer"] for row in rows_in(tmp_path / "o.jsonl")) == ["<one>", "<two>"]


def test_no_key_goes_to_the_workers_and_stores_do(tmp_path: Path) -> None:
    entry: Any = {
        "providers": {"p": {"address": "https://p.example", "key": {"env": "K"}, "headers": {"x-api-key": "sk-literal-1234567890abcdef"}}},
        "limits": {"store": "redis://127.0.0.1:6379/3"},
    }  # fmt: skip
    made = agouti.load_config(entry, environment={"K": "sk-secret-1234567890"})
    data = packed(made)
    assert b"sk-secret" not in data
    assert b"sk-literal" not in data
    there = unpacked(data, "")
    assert there.limit_store is not None
    assert there.limit_store.store.reveal() == "redis://127.0.0.1:6379/3"
    entry["limits"]["store"] = "redis://:pw51c2@127.0.0.1:6379/3"
    with pytest.raises(agouti.ConfigError, match="password"):
        packed(agouti.load_config(entry))
    file = tmp_path / "agouti.toml"
    file.write_text('[providers.p]\naddress = "https://p.example"\n[limits]\nstore = { env = "STORE" }\n')
    (tmp_path / ".env").write_text("STORE=redis://:pw51c2@127.0.0.1:6379/3\n")
    own = agouti.load_config(file)
    data = packed(own)
    assert b"pw51c2" not in data
    there = unpacked(data, str(file))
    assert there.limit_store is not None
    assert there.limit_store.store.reveal().endswith("/3")


@pytest.mark.parametrize("store", ["redis", "none"])
def test_workers_keep_one_limit_together(
    store: str, tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """In a Redis server, or, on one machine, without any."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    # The server shares the machine with all of them, and may count a request late: a few more, far from twice as many.
    with serve(quotas={"shed": Quota(per_second=24)}) as served, cluster(tmp_path) as dask:
        entry = {
            "providers": {"shed": {"address": served.address("shed"), "limits": {"requests_per_second": 20}, "retries": {"max": 0}}},
        }  # fmt: skip
        if store == "redis":
            entry["limits"] = {"store": request.getfixturevalue("redis").address, "lost": "fail"}
        with agouti.Client(entry) as client:
            made = agouti.batch(
                client, "loam-2b@shed", NOTES[:120], prompt="{note}", max_tokens=2, cluster=dask.address
            )
        assert (made.done, made.failed) == (120, 0)
        assert made.seconds >= 4.5
        assert served.books.requests == {("shed", 200): 120}


def test_machines_that_cannot_keep_a_limit_together_are_not_asked(server: RawServer, tmp_path: Path) -> None:
    with cluster(tmp_path, 1) as dask:
        dask.add_worker("127.0.0.2")
        entry = config(server, key=None, limits={"requests_per_second": 20})
        with agouti.Client(entry) as client, pytest.raises(agouti.RequestError, match="2 machines") as refused:
            agouti.batch(client, "a", NOTES, prompt="{note}", cluster=dask.address, out=tmp_path / "o.jsonl")
        assert "Redis" in refused.value.hint
        assert len(server.requests) < 100
