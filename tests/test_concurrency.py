"""One client for many threads or tasks; nothing leaks, however a call ends."""

import asyncio
import gc
import os
import socket
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager

import pytest

import agouti
from agouti.standins import Served

CHUNK = b'data: {"choices":[{"delta":{"content":"Sow "}}]}\n\n'


class Watching:
    """A server that sends one piece and then watches for the connection to be closed."""

    def __init__(self) -> None:
        self.server = socket.create_server(("127.0.0.1", 0))
        self.config = {"providers": {"watching": {"address": f"http://127.0.0.1:{self.server.getsockname()[1]}/v1"}}}
        self.begun = threading.Event()
        self.closed = threading.Event()
        self.thread = threading.Thread(target=self._run)
        self.thread.start()

    def _run(self) -> None:
        connection, _ = self.server.accept()
        with connection:
            connection.settimeout(10)
            asked = b""
            while b"Peas?" not in asked:  # head and body come in packets of their own
                asked += connection.recv(65536)
            connection.sendall(
                b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\ntransfer-encoding: chunked\r\n\r\n"
            )
            connection.sendall(b"%x\r\n%s\r\n" % (len(CHUNK), CHUNK))
            self.begun.set()
            try:
                while connection.recv(65536):
                    pass
                self.closed.set()
            except ConnectionError:
                self.closed.set()
            except TimeoutError:
                pass


@contextmanager
def watching() -> Iterator[Watching]:
    server = Watching()
    try:
        yield server
        assert server.closed.wait(2), "the server did not see the connection closed"
    finally:
        server.thread.join(12)
        server.server.close()


def test_leaving_the_block_early_closes_the_connection() -> None:
    with watching() as server, agouti.Client(server.config) as client:
        with client.stream("m@watching", "Peas?") as stream:
            assert next(iter(stream)) == "Sow "
        assert server.closed.wait(2)


def test_interruption_closes_the_connection() -> None:
    with watching() as server, agouti.Client(server.config) as client:
        with pytest.raises(KeyboardInterrupt), client.stream("m@watching", "Peas?") as stream:
            for _ in stream:
                raise KeyboardInterrupt
        assert server.closed.wait(2)


def test_leaving_the_async_block_and_cancelling_close_the_connection() -> None:
    async def leave(client: agouti.AsyncClient) -> None:
        async with client.stream("m@watching", "Peas?") as stream:
            async for _ in stream:
                break

    async def consume(client: agouti.AsyncClient) -> None:
        async with client.stream("m@watching", "Peas?") as stream:
            async for _ in stream:
                pass

    async def go(server: Watching, cancelled: bool) -> None:
        async with agouti.AsyncClient(server.config) as client:
            if not cancelled:
                await leave(client)
            else:
                task = asyncio.create_task(consume(client))
                await asyncio.to_thread(server.begun.wait, 5)
                await asyncio.sleep(0.05)
                task.cancel()
                with pytest.raises(asyncio.CancelledError):
                    await task
            assert await asyncio.to_thread(server.closed.wait, 2)

    for cancelled in (False, True):
        with watching() as server:
            asyncio.run(go(server, cancelled))


def test_deadline_ends_a_reply_that_trickles_in(served: Served) -> None:
    with watching() as server, agouti.Client(server.config) as client:
        started = time.perf_counter()
        with pytest.raises(agouti.DeadlineExceeded) as late:
            for _ in client.stream("m@watching", "Peas?", deadline=0.4):
                pass
        assert 0.3 < time.perf_counter() - started < 4
    assert late.value.partial is not None
    assert late.value.partial.text == "Sow "


def test_threads_and_tasks_share_a_client(served: Served) -> None:
    questions = [f"When do {what} go in?" for what in ("peas", "beans", "carrots", "lettuces")] * 12

    async def all_at_once() -> list[str]:
        async with agouti.AsyncClient(served.config) as client:
            return [reply.text for reply in await asyncio.gather(*(client.ask("almanac", each) for each in questions))]

    with agouti.Client(served.config) as client, ThreadPoolExecutor(12) as pool:
        threaded = list(pool.map(lambda each: client.ask("almanac", each).text, questions))
    assert threaded == asyncio.run(all_at_once())
    assert len(set(threaded)) == 4


def test_no_connection_is_left_behind(served: Served) -> None:
    def open_sockets() -> int:
        gc.collect()
        found = 0
        for name in os.listdir("/proc/self/fd"):
            try:
                found += os.readlink(f"/proc/self/fd/{name}").startswith("socket:")
            except OSError:
                continue
        return found

    def use() -> None:
        with agouti.Client(served.config) as client:
            client.ask("almanac", "Peas?")
            with client.stream("almanac", "Peas?") as stream:
                next(iter(stream))
            for fault in ("cut=2", "reset=300", "status=400", "stall=2"):
                with pytest.raises(agouti.AgoutiError):
                    for _ in client.stream(f"loam-2b+{fault}@shed", "Peas?", deadline=0.3):
                        pass

    use()
    time.sleep(0.3)
    before = open_sockets()
    for _ in range(5):
        use()
    time.sleep(0.5)
    assert open_sockets() <= before
