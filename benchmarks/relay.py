"""The relay against a bare forwarder over aiohttp: added latency, requests per second, CPU of stream chunks.

python benchmarks/relay.py [--requests N] [--chunks N] [--rounds N]

Forwarder and relay run in processes of their own, before the same canned server; rounds take turns.
"""

import asyncio
import contextlib
import json
import multiprocessing
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from multiprocessing.connection import Connection
from pathlib import Path

import aiohttp
import canned
import measure
from aiohttp import web

BODY = json.dumps({"model": "almanac", "messages": [{"role": "user", "content": "Hi"}]}).encode()
HEADERS = {"content-type": "application/json"}


def _forward(ready: Connection, base: str) -> None:
    """Send every request on as it is, and its reply back as it comes."""

    async def main() -> None:
        session = aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=0), auto_decompress=False)

        async def handle(request: web.Request) -> web.StreamResponse:
            body = await request.read()
            async with session.post(base + request.path.removeprefix("/v1"), data=body, headers=HEADERS) as reply:
                if reply.content_length is not None:
                    return web.Response(body=await reply.read(), status=reply.status, content_type=reply.content_type)
                answer = web.StreamResponse(status=reply.status)
                answer.content_type = reply.content_type
                await answer.prepare(request)
                async for piece in reply.content.iter_any():
                    await answer.write(piece)
                await answer.write_eof()
                return answer

        application = web.Application()
        application.router.add_post("/{path:.*}", handle)
        runner = web.AppRunner(application, access_log=None)
        await runner.setup()
        site = web.TCPSite(runner, "127.0.0.1", 0)
        await site.start()
        ready.send(runner.addresses[0][1])
        await asyncio.Event().wait()

    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(main())


@contextlib.contextmanager
def forwarder(base: str) -> Iterator[tuple[str, int]]:
    """Run the bare forwarder; gives its base address and its process."""
    mine, theirs = multiprocessing.Pipe()
    process = multiprocessing.get_context("spawn").Process(target=_forward, args=(theirs, base), daemon=True)
    process.start()
    try:
        yield f"http://127.0.0.1:{mine.recv()}/v1", process.pid or 0
    finally:
        process.terminate()
        process.join(5)


@contextlib.contextmanager
def relay(base: str) -> Iterator[tuple[str, int]]:
    """Run the relay; gives its base address and its process."""
    entry = (
        f'[providers.northbank]\naddress = "{base}"\n[models.almanac]\nprovider = "northbank"\nname = "quill-large"\n'
    )
    with tempfile.TemporaryDirectory() as folder:
        Path(folder, "agouti.toml").write_text(entry)
        command = [sys.executable, "-m", "agouti", "relay", "--port", "0"]
        process = subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        try:
            assert process.stdout is not None
            yield process.stdout.readline().split()[0], process.pid
        finally:
            process.terminate()
            process.wait(20)


def cpu_of(process: int) -> float:
    """CPU seconds of a process up to now."""
    fields = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


async def latency(session: aiohttp.ClientSession, base: str, count: int) -> float:
    """Median milliseconds of one request after the other."""
    taken = []
    for _ in range(count):
        before = time.perf_counter()
        async with session.post(base + "/chat/completions", data=BODY, headers=HEADERS) as reply:
            await reply.read()
        taken.append(time.perf_counter() - before)
    return statistics.median(taken) * 1e3


async def rate(session: aiohttp.ClientSession, base: str, count: int, at_once: int = 64) -> float:
    """Requests per second of so many at a time."""
    left = iter(range(count))

    async def worker() -> None:
        for _ in left:
            async with session.post(base + "/chat/completions", data=BODY, headers=HEADERS) as reply:
                assert reply.status == 200
                await reply.read()

    before = time.perf_counter()
    await asyncio.gather(*(worker() for _ in range(at_once)))
    return count / (time.perf_counter() - before)


async def streamed(session: aiohttp.ClientSession, base: str, chunks: int) -> None:
    """Read one stream to its end."""
    body = json.dumps({**json.loads(BODY), "stream": True, "stream_options": {"include_usage": True}}).encode()
    size = 0
    async with session.post(base + "/chat/completions", data=body, headers=HEADERS) as reply:
        async for piece in reply.content.iter_any():
            size += piece.count(b"Sow beans")
    assert size >= chunks * 0.99, size


async def plain(
    ways: dict[str, tuple[str, int]], direct: str, requests: int, rounds: int, bounds: "measure.Bounds"
) -> None:
    async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=0)) as session:
        medians: dict[str, list[float]] = {name: [] for name in ("direct", *ways)}
        rates: dict[str, list[float]] = {name: [] for name in ways}
        for base, _ in ways.values():
            await rate(session, base, 200)
        for _ in range(rounds):
            medians["direct"].append(await latency(session, direct, requests // 4))
            for name, (base, _) in ways.items():
                medians[name].append(await latency(session, base, requests // 4))
                rates[name].append(await rate(session, base, requests))
    print("median latency of one request after the other")
    floor = statistics.median(medians["direct"])
    for name, each in medians.items():
        added = statistics.median(each) - floor
        print(f"  {name:12s} {statistics.median(each):7.3f} ms" + (f"   added {added:.3f} ms" if name in ways else ""))
    over = [mine - other for mine, other in zip(medians["relay"], medians["forwarder"], strict=True)]
    print(f"  relay over forwarder: {statistics.median(over):.3f} ms")
    bounds.at_most("ms more than a forwarder", statistics.median(over), 1.0)
    print("requests per second, 64 at a time")
    for name, each in rates.items():
        print(f"  {name:12s} {statistics.median(each):7.0f}")
    ratios = [mine / other for mine, other in zip(rates["relay"], rates["forwarder"], strict=True)]
    print(f"  relay / forwarder: {statistics.median(ratios):.2f}")
    bounds.at_least("requests a second against a forwarder", statistics.median(ratios), 0.45)


async def streams(
    ways: dict[str, tuple[str, int]], chunks: int, per: int, rounds: int, bounds: "measure.Bounds"
) -> None:
    async with aiohttp.ClientSession() as session:
        taken: dict[str, list[float]] = {name: [] for name in ways}
        for base, _ in ways.values():
            await streamed(session, base, chunks)
        for _ in range(rounds):
            for name, (base, process) in ways.items():
                before = cpu_of(process)
                for _ in range(5):
                    await streamed(session, base, chunks)
                taken[name].append((cpu_of(process) - before) / 5 / chunks * 1e6)
    print(f"CPU of a stream chunk, {per} in one write")
    for name, each in taken.items():
        print(f"  {name:12s} {statistics.median(each):7.2f} us")
    ratios = [mine / max(other, 1e-9) for mine, other in zip(taken["relay"], taken["forwarder"], strict=True)]
    print(f"  relay / forwarder: {statistics.median(ratios):.2f}")
    bounds.at_most(f"CPU of a chunk, {per} in one write", statistics.median(ratios), 2.0 if per == 1 else 6.0)


def main() -> int:
    options = measure.parser(__doc__)
    options.add_argument("--requests", type=int, default=2000)
    options.add_argument("--chunks", type=int, default=10_000)
    options.add_argument("--rounds", type=int, default=5)
    given = options.parse_args()
    bounds = measure.Bounds(judged=not given.smoke)
    with canned.server() as base:
        with forwarder(base) as one, relay(base) as other:
            asyncio.run(plain({"forwarder": one, "relay": other}, base, given.requests, given.rounds, bounds))
        for per in (1, 20):
            address = f"{base}/stream/{given.chunks}/{per}"
            with forwarder(address) as one, relay(address) as other:
                asyncio.run(streams({"forwarder": one, "relay": other}, given.chunks, per, given.rounds, bounds))
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
