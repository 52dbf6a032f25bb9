"""What ends requests that take too long: a watchman over sockets, and a patrol over whole requests."""

import os
import socket
import threading
import time
from typing import Any

import pytest

import agouti
from agouti.transport.deadline_monitor import Patrol, Watchman

from ..hostile.kit import END, STREAM, Connection, config, piece, serving


def quiet(watchman: Watchman, seconds: float, ended: list[float]) -> None:
    """Wait at a silent socket for so long at most."""
    one, other = socket.socketpair()
    with one, other:
        began = time.monotonic()
        with pytest.raises(TimeoutError), watchman.within(one, seconds):
            one.recv(1)
        ended.append(time.monotonic() - began)


def test_a_sooner_limit_behind_a_later_one_is_seen() -> None:
    watchman, long, short = Watchman(), [], []
    waiting = threading.Thread(target=quiet, args=(watchman, 2.0, long))
    waiting.start()
    time.sleep(0.1)
    quiet(watchman, 0.2, short)
    assert 0.15 <= short[0] < 1.2
    waiting.join()
    assert long[0] >= 1.9


@pytest.mark.skipif(not hasattr(os, "fork"), reason="there are no forks")
@pytest.mark.filterwarnings("ignore:.*fork.*:DeprecationWarning")
def test_a_fork_has_watchmen_and_patrols_of_its_own(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("agouti.transport.deadline_monitor.PATROL", 0.05)  # longer limits have no timer of their own
    watchman, patrol = Watchman(), Patrol()
    quiet(watchman, 0.05, [])
    patrol.leave(patrol.watch(60, lambda: None))
    child = os.fork()
    if child == 0:  # the threads of both are the parent's
        try:
            ended: list[float] = []
            over = threading.Event()
            patrol.watch(0.1, over.set)
            quiet(watchman, 0.1, ended)
            os._exit(0 if ended and ended[0] < 5 and over.wait(5) else 1)
        finally:
            os._exit(2)
    until = time.monotonic() + 20
    while (done := os.waitpid(child, os.WNOHANG)) == (0, 0) and time.monotonic() < until:
        time.sleep(0.02)
    if done == (0, 0):
        os.kill(child, 9)
        done = os.waitpid(child, 0)
    assert os.waitstatus_to_exitcode(done[1]) == 0


async def asked_async(entries: agouti.Config, **options: Any) -> Any:
    async with agouti.AsyncClient(entries) as client:
        return await client.ask("a", "Peas?", **options)


def asked(kind: str, entries: agouti.Config, **options: Any) -> Any:
    import asyncio

    if kind == "async":
        return asyncio.run(asked_async(entries, **options))
    with agouti.Client(entries) as client:
        return client.ask("a", "Peas?", **options)


@pytest.mark.parametrize("kind", ["sync", "async"])
@pytest.mark.parametrize(
    ("timeouts", "behaviour"),
    [
        ({"between_chunks": 0.3}, "silent"),  # silence within a whole reply, after its head
        ({"total": 0.5}, "drops"),  # a byte now and then, for ever
        ({"first_byte": 0.3}, "nothing"),
    ],
    ids=["silence", "total", "first byte"],
)
def test_timeouts_hold_within_a_whole_reply(kind: str, timeouts: dict[str, float], behaviour: str) -> None:
    def behave(connection: Connection, _: int) -> None:
        if behaviour != "nothing":
            connection.write(b"HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-length: 5000\r\n\r\n{")
        for _ in range(100):
            time.sleep(0.1)
            if behaviour == "drops":
                connection.write(b" ")

    with serving(behave) as server:
        began = time.monotonic()
        with pytest.raises(agouti.TimedOut):
            asked(kind, config(server, timeouts=timeouts, retries={"max": 0}))
        assert time.monotonic() - began < 4


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_a_server_that_takes_no_connection_is_left_after_connect(kind: str) -> None:
    """Its queue is full: nobody answers the first packet."""
    with socket.socket() as full:
        full.bind(("127.0.0.1", 0))
        full.listen(0)
        address = full.getsockname()
        waiting = []
        for _ in range(4):
            sock = socket.socket()
            sock.setblocking(False)
            sock.connect_ex(address)
            waiting.append(sock)
        entries = {
            "providers": {
                "p": {
                    "address": f"http://127.0.0.1:{address[1]}/v1",
                    "timeouts": {"connect": 0.3},
                    "retries": {"max": 0},
                }
            },
            "models": {"a": {"provider": "p", "name": "m"}},
        }
        began = time.monotonic()
        with pytest.raises(agouti.ConnectionFailed):
            asked(kind, agouti.load_config(entries))
        assert time.monotonic() - began < 3
        for sock in waiting:
            sock.close()


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_what_came_before_a_body_went_wrong_is_there(kind: str) -> None:
    """The transfer coding breaks after two pieces of a stream."""

    def behave(connection: Connection, _: int) -> None:
        connection.write(STREAM + piece("In ") + piece("March"))
        time.sleep(0.2)
        connection.write(b"zz\r\nno size\r\n" + END)

    import asyncio

    async def streamed(entries: agouti.Config) -> str:
        async with agouti.AsyncClient(entries) as client:
            stream = client.stream("a", "Peas?")
            with pytest.raises(agouti.AgoutiError) as lost:
                [text async for text in stream]
            assert lost.value.partial is not None
            return lost.value.partial.text

    with serving(behave) as server:
        if kind == "async":
            assert asyncio.run(streamed(config(server, retries={"max": 0}))) == "In March"
            return
        with agouti.Client(config(server, retries={"max": 0})) as client:
            with pytest.raises(agouti.AgoutiError) as lost:
                list(client.stream("a", "Peas?"))
            assert lost.value.partial is not None
            assert lost.value.partial.text == "In March"
