"""Many calls with everything going wrong at once: threads and tasks, forks, faults, cancellations, keys that change.

python benchmarks/soak.py [--calls N]

Every answer must belong to its question, the requests that the server has counted must be those that `attempts` tells
of, and neither sockets nor memory may grow. Ends with 1 where one of that is not so.
"""

import asyncio
import collections
import json
import multiprocessing
import os
import random
import resource
import sys
import tempfile
import threading
import time
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, ClassVar

import measure

import agouti

# What happens to a question, and how often among a hundred.
FAULTS = {
    "ok": 55, "slow": 10, "503x1": 8, "429x1": 5, "drop": 3, "reset": 3, "garbled": 3, "interim": 5, "close": 5,
    "cancel": 3,
}  # fmt: skip


class _Server(asyncio.Protocol):
    """Answers a question with itself, after what it asks for."""

    counted: ClassVar[collections.Counter[str]] = collections.Counter()
    seen: ClassVar[collections.Counter[str]] = collections.Counter()
    keys: ClassVar[list[str]] = ["key-0"]

    def __init__(self) -> None:
        self._buffer = b""

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport: asyncio.Transport = transport  # type: ignore[assignment]

    def data_received(self, data: bytes) -> None:
        self._buffer += data
        while (end := self._buffer.find(b"\r\n\r\n")) >= 0:
            head = self._buffer[:end]
            place = head.lower().find(b"content-length:")
            length = int(head[place + 15 :].split(b"\r\n", 1)[0]) if place >= 0 else 0
            if len(self._buffer) < end + 4 + length:
                return
            body, self._buffer = self._buffer[end + 4 : end + 4 + length], self._buffer[end + 4 + length :]
            self._asked(head, json.loads(body))

    def _asked(self, head: bytes, body: dict[str, Any]) -> None:
        question = body["messages"][-1]["content"]
        number, fault = question.split(" ")
        if fault == "control":
            if number.startswith("key-"):
                self.keys[:] = [number]
            self._write(self._answer(json.dumps({"counted": self.counted, "total": sum(self.counted.values())})))
            return
        self.counted[fault] += 1
        self.seen[number] += 1
        if self.keys[0].encode() not in head:
            self._write(self._reply(b'{"error": {"message": "expired"}}', "401 No"))
        elif fault.endswith("x1") and self.seen[number] == 1:
            self._write(self._reply(b"{}", f"{fault[:3]} Busy"))
        elif fault in ("slow", "cancel"):
            asyncio.get_running_loop().call_later(0.02, self._write, self._answer(question))
        elif fault == "drop":
            self._transport.close()
        elif fault == "reset":
            self._transport.write(b"HTTP/1.1 200 OK\r\ncontent-length: 900\r\n\r\n{")
            self._transport.abort()
        elif fault == "garbled":
            self._write(self._reply(b"{oops"))
        elif fault == "interim":
            self._write(b"HTTP/1.1 103 Early Hints\r\n\r\n" + self._answer(question))
        elif fault == "close":
            # Said beforehand: a request into a connection that has just gone would be told of, and counted by nobody.
            self._write(self._answer(question).replace(b"\r\n", b"\r\nconnection: close\r\n", 1))
            self._transport.close()
        else:
            self._write(self._answer(question))

    def _write(self, data: bytes) -> None:
        if not self._transport.is_closing():
            self._transport.write(data)

    def _answer(self, text: str) -> bytes:
        return self._reply(json.dumps({"choices": [{"message": {"content": text}, "finish_reason": "stop"}]}).encode())

    @staticmethod
    def _reply(body: bytes, status: str = "200 OK") -> bytes:
        return b"HTTP/1.1 %s\r\ncontent-length: %d\r\n\r\n%s" % (status.encode(), len(body), body)


def _serve(ready: Connection) -> None:
    async def main() -> None:
        server = await asyncio.get_running_loop().create_server(_Server, "127.0.0.1", 0, backlog=1024)
        ready.send(server.sockets[0].getsockname()[1])
        await server.serve_forever()

    asyncio.run(main())


class Tally:
    """What calls have ended with."""

    def __init__(self) -> None:
        self.requests = 0
        self.wrong: list[str] = []
        self.ends: collections.Counter[str] = collections.Counter()
        self._lock = threading.Lock()

    def note(self, question: str, outcome: agouti.Reply | agouti.AgoutiError) -> None:
        """One call has ended."""
        with self._lock:
            self.requests += len(outcome.attempts)
            name = "answered" if isinstance(outcome, agouti.Reply) else type(outcome).__name__
            self.ends[name] += 1
            if isinstance(outcome, agouti.Reply) and outcome.text != question:
                self.wrong.append(f"{question!r} got {outcome.text!r}")


def questions(start: int, count: int, chance: random.Random) -> list[str]:
    """Questions, each with what is to happen to it."""
    picked = chance.choices(list(FAULTS), list(FAULTS.values()), k=count)
    return [f"{start + number} {fault}" for number, fault in enumerate(picked)]


def in_threads(client: agouti.Client, asked: list[str], tally: Tally) -> None:
    """Ask from eight threads."""

    def work(part: list[str]) -> None:
        for question in part:
            try:
                tally.note(question, client.ask("m@p", question.replace("cancel", "slow")))
            except agouti.AgoutiError as error:
                tally.note(question, error)

    asked = [question.replace("cancel", "slow") for question in asked]
    threads = [threading.Thread(target=work, args=(asked[number::8],)) for number in range(8)]
    for each in threads:
        each.start()
    for each in threads:
        each.join()


async def in_tasks(client: agouti.AsyncClient, asked: list[str], tally: Tally) -> None:
    """Ask from sixteen tasks; some calls are cancelled."""
    waiting = iter(asked)

    async def work() -> None:
        for question in waiting:
            call = asyncio.ensure_future(client.ask("m@p", question))
            if question.endswith("cancel"):
                await asyncio.sleep(0.005)
                call.cancel()
                await asyncio.gather(call, return_exceptions=True)
                continue
            try:
                tally.note(question, await call)
            except agouti.AgoutiError as error:
                tally.note(question, error)

    await asyncio.gather(*[work() for _ in range(16)])


def in_child(client: agouti.Client, asked: list[str], tally: Tally) -> None:
    """Ask from a forked process, while threads of this one go on."""
    reader, writer = os.pipe()
    pid = os.fork()
    if pid == 0:
        os.close(reader)
        own = Tally()
        in_threads(client, asked, own)
        os.write(writer, json.dumps([own.requests, own.wrong, own.ends]).encode())
        os._exit(0)
    os.close(writer)
    with os.fdopen(reader) as pipe:
        requests, wrong, ends = json.loads(pipe.read())
    os.waitpid(pid, 0)
    tally.requests += requests
    tally.wrong += wrong
    tally.ends.update(ends)


def usage() -> tuple[int, float]:
    """Open files of this process, and its memory in MB."""
    files = len(os.listdir("/proc/self/fd")) if os.path.isdir("/proc/self/fd") else 0
    try:
        pages = int(Path("/proc/self/statm").read_text().split()[1])
        memory = pages * resource.getpagesize() / 1e6
    except OSError:
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e3
    return files, memory


def main() -> int:
    options = measure.parser(__doc__)
    options.add_argument("--calls", type=int, default=20_000)
    calls = options.parse_args().calls
    mine, theirs = multiprocessing.Pipe()
    process = multiprocessing.get_context("spawn").Process(target=_serve, args=(theirs,), daemon=True)
    process.start()
    chance, tally, cancelled = random.Random(7), Tally(), 0
    with tempfile.TemporaryDirectory() as folder:
        key = Path(folder, "key")
        key.write_text("key-0")
        entry = {"address": f"http://127.0.0.1:{mine.recv()}/v1", "key": {"file": str(key)}, "retries": {"base": 0.01}}
        config = agouti.load_config({"providers": {"p": entry}}, environment={})
        client, others = agouti.Client(config), agouti.AsyncClient(config)
        rounds = 20
        each = calls // rounds // 3
        began, before = time.monotonic(), (0, 0.0)
        for turn in range(rounds):
            start = turn * 3 * each
            three = [questions(start + part * each, each, chance) for part in range(3)]
            cancelled += sum(question.endswith("cancel") for question in three[1])
            here = threading.Thread(target=in_threads, args=(client, three[0], tally))
            here.start()
            asyncio.run(in_tasks(others, three[1], tally))
            in_child(client, three[2], tally)
            here.join()
            # The key changes: the file first, and then the server takes no other.
            key.write_text(f"key-{turn + 1}")
            client.ask("m@p", f"key-{turn + 1} control")
            if turn == rounds // 4:
                before = usage()
        told = json.loads(client.ask("m@p", "0 control").text)
        seconds, after = time.monotonic() - began, usage()
        client.close()
        asyncio.run(others.aclose())
    process.terminate()
    server = told["total"] - told["counted"].get("cancel", 0)
    made = sum(tally.ends.values()) + cancelled
    print(f"{made} calls in {seconds:.0f} s, {cancelled} of them cancelled: {dict(tally.ends)}")
    print(f"requests, cancelled calls apart: the server counted {server}, the attempts tell of {tally.requests}")
    print(f"answers to another question: {len(tally.wrong)} {tally.wrong[:3]}")
    print(f"open files {before[0]} -> {after[0]}, memory {before[1]:.0f} -> {after[1]:.0f} MB")
    good = (
        not tally.wrong and server == tally.requests and after[0] <= before[0] + 20 and after[1] < before[1] * 1.3 + 20
    )
    print("all well" if good else "NOT well")
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
