"""A relay under mixed load, while its provider dies, its configuration is read again and it is itself restarted.

python benchmarks/relay_soak.py [--minutes N] [--callers N]

Callers ask, stream, leave in mid-stream, send half a request and send large bodies. No answer may belong to
another question, every refusal must be an error in the caller's format, the relay must end by itself when it is asked
to, and within each of its lives memory and descriptors must stay as they are. Ends with 1 where one of that is not so.
"""

import asyncio
import collections
import http.client
import json
import multiprocessing
import os
import random
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from contextlib import suppress
from pathlib import Path
from typing import Any

import measure

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.servers import free_port

LIVES = 5
ENDS_WITHIN = 30.0
REFUSALS = {429, 500, 502, 503, 504}
CONFIG = """
[providers.northbank]
dialect = "chat"
address = "http://127.0.0.1:{port}/v1"
plain_http = true
retries = {{ max = 2, base = 0.05 }}
timeouts = {{ total = 10 }}
[models.almanac]
provider = "northbank"
name = "quill-large"
[ledger]
store = "usage.sqlite"
"""


class _Provider(asyncio.Protocol):
    """Answers a question with itself, whole or in pieces; some requests it refuses, delays or drops."""

    def __init__(self) -> None:
        self._buffer = b""

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport: asyncio.Transport = transport  # type: ignore[assignment]

    def data_received(self, data: bytes) -> None:
        self._buffer += data
        while (end := self._buffer.find(b"\r\n\r\n")) >= 0:
            head = self._buffer[:end].lower()
            length = int(head.partition(b"content-length:")[2].partition(b"\r\n")[0] or 0)
            if len(self._buffer) < end + 4 + length:
                return
            body, self._buffer = self._buffer[end + 4 : end + 4 + length], self._buffer[end + 4 + length :]
            asked = json.loads(body)
            chance = random.random()
            if chance < 0.05:
                self._write(b"HTTP/1.1 503 Busy\r\ncontent-length: 2\r\n\r\n{}")
            elif chance < 0.07:
                self._transport.abort()
                return
            else:
                delay = 0.3 if chance < 0.15 else 0.0
                asyncio.get_running_loop().call_later(delay, self._answer, asked)

    def _answer(self, asked: dict[str, Any]) -> None:
        number = asked["messages"][-1]["content"].partition(" ")[0]
        if not asked.get("stream"):
            choice = {"index": 0, "message": {"role": "assistant", "content": number}, "finish_reason": "stop"}
            usage = {"prompt_tokens": 4, "completion_tokens": 1, "total_tokens": 5}
            text = json.dumps({"id": "a", "model": "quill-large", "choices": [choice], "usage": usage}).encode()
            self._write(b"HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-length: %d\r\n\r\n" % len(text))
            self._write(text)
            return
        self._write(b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\ntransfer-encoding: chunked\r\n\r\n")
        for place in range(20):
            delta = {"content": number if place == 0 else "."}
            self._event({"id": "a", "model": "quill-large", "choices": [{"index": 0, "delta": delta}]})
        self._event({"id": "a", "choices": [{"index": 0, "delta": {}, "finish_reason": "stop"}]})
        self._write(b"e\r\ndata: [DONE]\n\n\r\n0\r\n\r\n")

    def _event(self, value: Any) -> None:
        data = b"data: " + json.dumps(value).encode() + b"\n\n"
        self._write(b"%x\r\n%s\r\n" % (len(data), data))

    def _write(self, data: bytes) -> None:
        if not self._transport.is_closing():
            self._transport.write(data)


def _provide(port: int) -> None:
    async def main() -> None:
        loop = asyncio.get_running_loop()
        server = await loop.create_server(_Provider, "127.0.0.1", port, reuse_address=True)
        await server.serve_forever()

    asyncio.run(main())


class Callers:
    """Threads that call the relay until they are stopped, and what came of it."""

    def __init__(self, port: int, count: int) -> None:
        self.port = port
        self.ends: collections.Counter[str] = collections.Counter()
        self.faults: list[str] = []
        self.slowest_health = 0.0
        self.stopped = threading.Event()
        self.away = threading.Event()
        self._threads = [threading.Thread(target=self._calls, args=(place,)) for place in range(count)]
        self._threads.append(threading.Thread(target=self._health))

    def __enter__(self) -> "Callers":
        for thread in self._threads:
            thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.stopped.set()
        for thread in self._threads:
            thread.join(60)

    def _calls(self, place: int) -> None:
        number, ways = 0, (self._whole, self._stream, self._stream, self._leave, self._half, self._large)
        while not self.stopped.is_set():
            number += 1
            way = random.choice(ways)
            try:
                end = way(f"{place}-{number}")
            except (OSError, http.client.HTTPException) as error:
                # Between two lives nobody listens, and connections of the last life end with it.
                end = f"no connection ({type(error).__name__})"
            self.ends[f"{way.__name__[1:]}: {end}"] += 1

    def _post(self, question: str, *, timeout: float = 60.0, **more: Any) -> http.client.HTTPConnection:
        connection = http.client.HTTPConnection("127.0.0.1", self.port, timeout=timeout)
        body = {"model": "almanac", "messages": [{"role": "user", "content": question}], **more}
        connection.request("POST", "/v1/chat/completions", json.dumps(body), {"content-type": "application/json"})
        return connection

    def _whole(self, number: str, text: str = "") -> str:
        connection = self._post(f"{number} {text}")
        reply = connection.getresponse()
        data = reply.read()
        connection.close()
        if reply.status != 200:
            return self._refused(reply.status, data)
        if json.loads(data)["choices"][0]["message"]["content"] != number:
            self.faults.append(f"{number} was answered with {data[:200]!r}")
        return "answered"

    def _large(self, number: str) -> str:
        return self._whole(number, "peas " * 200_000)

    def _stream(self, number: str) -> str:
        connection = self._post(f"{number} ", stream=True)
        reply = connection.getresponse()
        data = reply.read()
        connection.close()
        if reply.status != 200:
            return self._refused(reply.status, data)
        text, end = "", "cut without a word"
        for line in data.decode().splitlines():
            said = line.removeprefix("data: ")
            if said == "[DONE]":
                end = "answered"
            elif line.startswith("data: "):
                event = json.loads(said)
                end = "an error event" if "error" in event else end
                text += "".join(each["delta"].get("content") or "" for each in event.get("choices", ()))
        if text and text.rstrip(".") != number:
            self.faults.append(f"{number} was streamed {text!r}")
        if end == "cut without a word" and not self.away.is_set():
            self.faults.append(f"{number}: a stream ended without a word: {data[-200:]!r}")
        return end

    def _leave(self, number: str) -> str:
        connection = self._post(f"{number} ", stream=True)
        reply = connection.getresponse()
        reply.read(10)
        connection.close()
        return "left"

    def _half(self, number: str) -> str:
        with socket.create_connection(("127.0.0.1", self.port), timeout=30) as sock:
            sock.sendall(
                b"POST /v1/chat/completions HTTP/1.1\r\nhost: x\r\ncontent-length: 900\r\n\r\n{" + number.encode()
            )
            time.sleep(0.05)
        return "left"

    def _refused(self, status: int, data: bytes) -> str:
        try:
            good = status in REFUSALS and bool(json.loads(data)["error"]["message"])
        except (ValueError, KeyError, TypeError):
            good = False
        if not good:
            self.faults.append(f"a refusal without form: {status} {data[:300]!r}")
        return f"refused with {status}"

    def _health(self) -> None:
        while not self.stopped.wait(0.2):
            began = time.monotonic()
            with suppress(OSError, http.client.HTTPException):
                connection = http.client.HTTPConnection("127.0.0.1", self.port, timeout=60)
                connection.request("GET", "/health")
                connection.getresponse().read()
                connection.close()
                if not self.away.is_set():
                    self.slowest_health = max(self.slowest_health, time.monotonic() - began)


def _held(pid: int) -> tuple[float, int]:
    """MiB and descriptors of a process and its children."""
    pids, memory, descriptors = [pid], 0.0, 0
    with suppress(OSError):
        pids += [int(each) for each in Path(f"/proc/{pid}/task/{pid}/children").read_text().split()]
    for each in pids:
        with suppress(OSError):
            memory += int(Path(f"/proc/{each}/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 2**20
            descriptors += len(os.listdir(f"/proc/{each}/fd"))
    return memory, descriptors


def _life(port: int, folder: Path, seconds: float, callers: Callers, provider: "Provider") -> tuple[float, int, bool]:
    """One life of a relay: how its memory and descriptors grew, and whether it ended by itself and well."""
    command = [sys.executable, "-m", "agouti", "relay", "--port", str(port), "--workers", "2"]
    with (folder / "relay.log").open("ab") as log:
        relay = subprocess.Popen(command, cwd=folder, stdout=log, stderr=log)
    _listens(port)
    callers.away.clear()
    began, before = time.monotonic(), (0.0, 0)
    hung_up, broken = 0, 0
    while (passed := time.monotonic() - began) < seconds:
        time.sleep(min(0.5, seconds / 10))
        if not before[1] and passed > seconds / 3:
            before = _held(relay.pid)
        if passed > (hung_up + 1) * seconds / 4:
            hung_up += 1
            relay.send_signal(signal.SIGHUP)
        if passed > (broken + 1) * seconds / 3:
            broken += 1
            provider.restart()
    after = _held(relay.pid)
    callers.away.set()
    relay.terminate()
    try:
        good = relay.wait(ENDS_WITHIN) in (0, -signal.SIGTERM, 128 + signal.SIGTERM)
    except subprocess.TimeoutExpired:
        relay.kill()
        relay.wait()
        good = False
    return after[0] - before[0], after[1] - before[1], good


class Provider:
    """The provider's process."""

    def __init__(self) -> None:
        self.port = free_port()
        self._process = self._started()

    def _started(self) -> Any:
        process = multiprocessing.get_context("spawn").Process(target=_provide, args=(self.port,), daemon=True)
        process.start()
        return process

    def restart(self) -> None:
        """Kill it, leave a second without it, and start it again."""
        self.end()
        time.sleep(1)
        self._process = self._started()

    def end(self) -> None:
        self._process.kill()
        self._process.join()


def _listens(port: int) -> None:
    end = time.monotonic() + 60
    while time.monotonic() < end:
        with suppress(OSError):
            socket.create_connection(("127.0.0.1", port), timeout=1).close()
            return
        time.sleep(0.05)
    raise SystemExit("the relay does not listen after 60 s")


def main() -> int:
    options = measure.parser(__doc__)
    options.add_argument("--minutes", type=float, default=10)
    options.add_argument("--callers", type=int, default=16)
    given = options.parse_args()
    lives = 1 if given.smoke else LIVES
    seconds = 5.0 if given.smoke else given.minutes * 60 / lives
    provider, port = Provider(), free_port()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "agouti.toml").write_text(CONFIG.format(port=provider.port))
        with Callers(port, given.callers) as callers:
            callers.away.set()
            ends = [_life(port, folder, seconds, callers, provider) for _ in range(lives)]
        provider.end()
        log = (folder / "relay.log").read_text(errors="replace")
    for end, count in sorted(callers.ends.items()):
        print(f"  {count:8,} {end}")
    for fault in callers.faults[:10]:
        print("  FAULT:", fault)
    grown = max(memory for memory, _, _ in ends)
    more = max(descriptors for _, descriptors, _ in ends)
    ended = all(good for _, _, good in ends)
    print(f"{lives} lives: at most {grown:+.1f} MiB and {more:+d} descriptors within one; ended by themselves: {ended}")
    print(f"the slowest look at /health took {callers.slowest_health * 1e3:.0f} ms")
    if not ended or "Traceback" in log:
        print(log[-3000:])
    bounds = measure.Bounds(judged=not given.smoke)
    bounds.at_most("faults", len(callers.faults), 0)
    bounds.at_most("lives that did not end well", sum(not good for _, _, good in ends), 0)
    bounds.at_most("tracebacks in the log", log.count("Traceback"), 0)
    bounds.at_most("MiB more", grown, 20)
    bounds.at_most("descriptors more", more, 4 * given.callers)
    bounds.at_least("answers", sum(count for end, count in callers.ends.items() if "answered" in end), 1000)
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
