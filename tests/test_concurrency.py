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

CROPS = ["kale", "tomato", "beetroot", "garlic", "runner bean"]
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


def test_forms_calls_and_vectors_of_many_threads_do_not_mix(served: Served) -> None:
    def frost(number: int) -> int:
        """Days until the last frost, for a bed of that number."""
        return number * 10

    with agouti.Client(served.config) as client, ThreadPoolExecutor(16) as pool:

        def work(number: int) -> tuple[int, str, int, str]:
            model = ("almanac", "envelope-2@letterbox", "narrow-3@canal", "hull.deck-2:0@quay")[number % 4]
            filled = client.fill(model, int, f"Bed {number} is sown.").value
            talk = client.conversation(model, tools=[frost])
            said = talk.say(f"How many days until the last frost for bed {number}?").text
            near = client.embed("finder", CROPS).near(client.embed("finder", f"some {CROPS[number % 5]}"), 1)
            return filled, said, len(talk.messages), near[0].text

        for number, (filled, said, messages, near) in enumerate(pool.map(work, range(1, 65)), 1):
            assert filled == number
            assert said == f"The answer is {number * 10}."
            assert (messages, near) == (4, CROPS[number % 5])


def test_means_that_one_model_refuses_are_not_taken_from_another() -> None:
    from agouti.core.http.exchange import HttpReply
    from agouti.testing import FakeTransport

    refused = HttpReply(400, {}, b'{"error": {"message": "response_format is not supported"}}')
    four = {"choices": [{"message": {"content": "4"}, "finish_reason": "stop"}]}
    called = {
        "choices": [
            {"message": {"tool_calls": [{"id": "c", "function": {"name": "int", "arguments": '{"value": 4}'}}]}}
        ]
    }
    fake = FakeTransport([refused, called, four, called])
    with agouti.Client.at("https://p.example/v1", transport=fake) as client:
        means = [client.fill(model, int, "How many?").output_method for model in ("small", "large", "small")]
    assert means == ["tool", "schema", "tool"]


def test_tasks_fill_side_by_side_and_one_that_is_cancelled_costs_no_other(served: Served) -> None:
    async def go() -> list[int]:
        async with agouti.AsyncClient(served.config) as client:
            tasks = [asyncio.create_task(client.fill("almanac", int, f"Bed {number}.")) for number in range(1, 41)]
            await asyncio.sleep(0.01)
            tasks[7].cancel()
            done = await asyncio.gather(*tasks, return_exceptions=True)
            assert isinstance(done[7], asyncio.CancelledError)
            return [each.value for each in done if isinstance(each, agouti.Filled)]

    assert asyncio.run(go()) == [number for number in range(1, 41) if number != 8]
