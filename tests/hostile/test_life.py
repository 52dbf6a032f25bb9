"""Clients over forks, loops and threads, interim replies, streams that are left: nobody gets somebody else's answer."""

import asyncio
import gc
import gzip
import multiprocessing
import os
import threading
import time
from typing import Any

import pytest

import agouti

from .kit import END, STREAM, Connection, RawServer, answer, config, piece, serving, watch


def echo(connection: Connection, _: int) -> None:
    connection.write(answer(f"re:{connection.question}"))


def _in_child(client: agouti.Client, name: str, results: Any) -> None:
    results.put([client.ask("a", f"{name} {number}").text for number in range(4)])
    results.close()
    results.join_thread()
    os._exit(0)  # nothing of the parent's is to be tidied up here


@pytest.mark.filterwarnings("ignore:.*multi-threaded.*fork:DeprecationWarning")
def test_processes_that_were_forked_get_their_own_answers() -> None:
    def slowly(connection: Connection, number: int) -> None:
        time.sleep(0.05)  # time enough to read what another process has asked for
        echo(connection, number)

    fork = multiprocessing.get_context("fork")
    with serving(slowly) as server, agouti.Client(config(server, key={"env": "K"})) as client:
        client.ask("a", "warm up")
        results = fork.Queue()
        children = [fork.Process(target=_in_child, args=(client, f"child{number}", results)) for number in range(2)]
        for child in children:
            child.start()
        assert [client.ask("a", f"parent {number}").text for number in range(4)] == [f"re:parent {n}" for n in range(4)]
        told = sorted(results.get(timeout=60) for _ in children)
        for child in children:
            child.join(10)
        assert told == [[f"re:child{number} {n}" for n in range(4)] for number in range(2)]
        # Not a request more than calls, and the connection of the parent still works.
        assert client.ask("a", "after").text == "re:after"
        assert len(server.questions) == 1 + 4 + 8 + 1


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_interim_replies_are_read_over(kind: str) -> None:
    def behave(connection: Connection, number: int) -> None:
        if number == 0:
            connection.write(b"HTTP/1.1 103 Early Hints\r\nlink: </x>; rel=preload\r\n\r\n")
            connection.write(b"HTTP/1.1 102 Processing\r\n\r\n")
            time.sleep(0.1)
        echo(connection, number)

    questions = ["one", "two", "three"]
    with serving(behave) as server:
        if kind == "sync":
            with agouti.Client(config(server)) as client:
                texts = [client.ask("a", question).text for question in questions]
        else:

            async def run() -> list[str]:
                async with agouti.AsyncClient(config(server)) as client:
                    return [(await client.ask("a", question)).text for question in questions]

            texts = asyncio.run(run())
        assert texts == [f"re:{question}" for question in questions]
        assert server.questions == questions


def test_one_client_serves_loop_after_loop_and_loops_side_by_side() -> None:
    with serving(echo) as server:
        client = agouti.AsyncClient(config(server))
        for number in range(3):
            assert asyncio.run(client.ask("a", f"loop {number}")).text == f"re:loop {number}"
        texts: list[str] = []

        def thread(number: int) -> None:
            async def run() -> None:
                replies = [await client.ask("a", f"{number} {turn}") for turn in range(3)]
                texts.extend(reply.text for reply in replies)

            asyncio.run(run())

        threads = [threading.Thread(target=thread, args=(number,)) for number in range(4)]
        for each in threads:
            each.start()
        for each in threads:
            each.join(20)
        assert sorted(texts) == sorted(f"re:{number} {turn}" for number in range(4) for turn in range(3))
        asyncio.run(client.aclose())


def test_after_its_end_a_client_says_so() -> None:
    with serving(echo) as server:
        client = agouti.Client(config(server))
        client.ask("a", "x")
        client.close()
        with pytest.raises(agouti.RequestError, match="closed"):
            client.ask("a", "y")

        async def run() -> None:
            waiting = agouti.AsyncClient(config(server))
            await waiting.ask("a", "x")
            await waiting.aclose()
            with pytest.raises(agouti.RequestError, match="closed"):
                await waiting.ask("a", "y")

        asyncio.run(run())
        assert server.questions == ["x", "x"]


def endless(server_of: list[RawServer]) -> Any:
    def behave(connection: Connection, _: int) -> None:
        connection.write(STREAM + piece("one ") + piece("two "))
        watch(server_of[0], connection)

    return behave


def test_streams_that_are_left_close_their_connection() -> None:
    server_of: list[RawServer] = []
    with serving(endless(server_of)) as server:
        server_of.append(server)

        async def first(client: agouti.AsyncClient) -> str:
            async for text in client.stream("a", "x"):
                return text
            return ""

        async def run() -> None:
            async with agouti.AsyncClient(config(server)) as client:
                for _ in range(3):
                    assert (await first(client)).startswith("one")
                gc.collect()
                await asyncio.sleep(0.3)
                assert len(server.gone) == 3

        asyncio.run(run())
        with agouti.Client(config(server)) as client:
            stream = client.stream("a", "x")
            for text in stream:
                assert text.startswith("one")
                break
            time.sleep(0.3)
            assert len(server.gone) == 4  # although the stream is still held here
            assert stream.reply.text.startswith("one")


def test_a_stop_button_works_at_once() -> None:
    server_of: list[RawServer] = []
    with serving(endless(server_of)) as server, agouti.Client(config(server)) as client:
        server_of.append(server)
        stream = client.stream("a", "x")
        ended: list[Any] = []

        def read() -> None:
            try:
                ended.append("".join(stream))
            except agouti.AgoutiError as error:
                ended.append(error)

        reader = threading.Thread(target=read)
        reader.start()
        time.sleep(0.3)
        began = time.monotonic()
        stream.close()
        assert time.monotonic() - began < 5  # the server is silent for ten seconds
        reader.join(30)
        assert not reader.is_alive()
        time.sleep(0.2)
        assert server.gone
        assert len(ended) == 1
        assert isinstance(ended[0], agouti.AgoutiError)
        assert ended[0].partial is not None
        assert ended[0].partial.text == "one two "


def test_task_that_closes_another_one_s_stream() -> None:
    server_of: list[RawServer] = []
    with serving(endless(server_of)) as server:
        server_of.append(server)

        async def run() -> Any:
            async with agouti.AsyncClient(config(server)) as client:
                stream = client.stream("a", "x")

                async def read() -> Any:
                    try:
                        return [text async for text in stream]
                    except agouti.AgoutiError as error:
                        return error

                reader = asyncio.create_task(read())
                await asyncio.sleep(0.3)
                await stream.aclose()
                return await asyncio.wait_for(reader, 5)

        assert isinstance(asyncio.run(run()), agouti.AgoutiError)
        time.sleep(0.2)
        assert server.gone


def test_a_kept_connection_is_repeated_once_and_a_lost_answer_is_not() -> None:
    def behave(connection: Connection, number: int) -> None:
        if connection.question == "slow":
            time.sleep(1.2)  # longer than a kept connection is given for a sign that it was closed meanwhile
            connection.sock.close()
        else:
            echo(connection, number)

    for retries, sends in (({"max": 0}, 1), ({"max": 2, "base": 0.01}, 1)):
        with serving(behave) as server, agouti.Client(config(server, retries=retries)) as client:
            client.ask("a", "x")
            with pytest.raises(agouti.ConnectionLost) as lost:
                client.ask("a", "slow")
            assert server.questions.count("slow") == sends
            assert len(lost.value.attempts) == sends
            assert "paid" in (lost.value.hint or "")
    entry = {"max": 2, "base": 0.01, "after_sending": True}
    with (
        serving(behave) as server,
        agouti.Client(config(server, retries=entry)) as client,
        pytest.raises(agouti.ConnectionLost),
    ):
        client.ask("a", "slow")
    assert server.questions.count("slow") == 3


STREAMED = STREAM + piece("May.", "stop") + END


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_deadline_holds_while_a_head_trickles(kind: str) -> None:
    def behave(connection: Connection, _: int) -> None:
        for byte in b"HTTP/1.1 200 OK\r\n" + b"x-slow: 1\r\n" * 400:
            connection.write(bytes([byte]))
            time.sleep(0.02)

    with serving(behave) as server:
        began = time.monotonic()
        with pytest.raises(agouti.DeadlineExceeded):
            if kind == "sync":
                with agouti.Client(config(server)) as client:
                    client.ask("a", "x", deadline=0.6)
            else:

                async def run() -> None:
                    async with agouti.AsyncClient(config(server)) as client:
                        await client.ask("a", "x", deadline=0.6)

                asyncio.run(run())
        assert time.monotonic() - began < 20  # the head takes a minute and a half


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_limit_on_the_first_byte_does_not_cut_what_comes_later(kind: str) -> None:
    def behave(connection: Connection, _: int) -> None:
        connection.write(STREAM + piece("one "))
        time.sleep(0.9)
        connection.write(piece("two", "stop") + END)

    limits = {"first_byte": 0.5, "between_chunks": 5}
    with serving(behave) as server:
        if kind == "sync":
            with agouti.Client(config(server, timeouts=limits)) as client, client.stream("a", "x") as stream:
                assert "".join(stream) == "one two"
        else:

            async def run() -> str:
                async with (
                    agouti.AsyncClient(config(server, timeouts=limits)) as client,
                    client.stream("a", "x") as stream,
                ):
                    return "".join([text async for text in stream])

            assert asyncio.run(run()) == "one two"


@pytest.mark.parametrize("kind", ["sync", "async"])
@pytest.mark.parametrize("how", ["endless", "bomb", "announced"])
def test_replies_without_end_are_given_up(kind: str, how: str, monkeypatch: pytest.MonkeyPatch) -> None:
    for module in (
        "agouti.transport.urllib3_transport",
        "agouti.transport.aiohttp_transport",
        "agouti.engine.receiving.one_request",
        "agouti.engine.receiving.stream",
    ):
        monkeypatch.setattr(f"{module}.REPLY_BYTES", 3_000_000)
    bomb = gzip.compress(b" " * 40_000_000)

    def behave(connection: Connection, _: int) -> None:
        head = b"HTTP/1.1 200 OK\r\ncontent-type: application/json\r\n"
        if how == "bomb":
            head += b"content-encoding: gzip\r\ncontent-length: %d\r\n\r\n" % len(bomb)
            connection.write(head + bomb)
            return
        head += b"content-length: 99999999999\r\n\r\n" if how == "announced" else b"connection: close\r\n\r\n"
        connection.write(head)
        while True:
            connection.write(b" " * 65536)

    with serving(behave) as server:
        for options in ({}, {"deadline": 30}):
            with pytest.raises(agouti.ReplyUnreadable, match="more than"):
                if kind == "sync":
                    with agouti.Client(config(server)) as client:
                        client.ask("a", "x", **options)
                else:

                    async def run(options: Any) -> None:
                        async with agouti.AsyncClient(config(server)) as client:
                            await client.ask("a", "x", **options)

                    asyncio.run(run(options))
        assert len(server.requests) == 2


def silent(connection: Connection, _: int) -> None:
    connection.gone(60)


def test_calls_that_wait_for_a_first_byte_can_be_stopped() -> None:
    with serving(silent) as server:

        def stop(close: Any, asked: int) -> None:
            while len(server.requests) < asked:
                time.sleep(0.01)
            stopped.append(time.monotonic())
            close()

        stopped: list[float] = []
        for asked in (1, 2):
            client = agouti.Client(config(server))
            stream = client.stream("a", "x")
            stopping = threading.Thread(target=stop, args=(stream.close if asked == 1 else client.close, asked))
            stopping.start()
            with pytest.raises(agouti.ConnectionLost, match="given up"):
                list(stream)
            assert time.monotonic() - stopped[-1] < 20
            stopping.join(30)
            client.close()

        async def run() -> None:
            async with agouti.AsyncClient(config(server)) as client:
                stream = client.stream("a", "x")
                loop = asyncio.get_running_loop()
                stopping = asyncio.ensure_future(asyncio.to_thread(stop, lambda: ended(stream, loop), 3))
                with pytest.raises(agouti.ConnectionLost, match="given up"):
                    async for _ in stream:
                        pass
                await stopping

        def ended(stream: Any, loop: asyncio.AbstractEventLoop) -> None:
            asyncio.run_coroutine_threadsafe(stream.aclose(), loop).result()

        asyncio.run(run())
        assert time.monotonic() - stopped[-1] < 20
        assert len(server.requests) == 3  # none was repeated


def test_interrupted_batches_stop_at_once() -> None:
    import os
    import signal

    with serving(silent) as server, agouti.Client(config(server)) as client:
        threading.Timer(0.5, os.kill, (os.getpid(), signal.SIGINT)).start()
        began = time.monotonic()
        with pytest.raises(KeyboardInterrupt):
            client.embed("a", [f"text {number}" for number in range(5000)])
        assert time.monotonic() - began < 20  # the server says nothing for a minute
