"""2000 requests against a server that takes 20 ms, 64 and 256 at a time: requests per second, and CPU of each.

python benchmarks/throughput.py [--requests N] [--rounds N]
"""

import asyncio
import json
import statistics
import sys
import time
from collections.abc import Awaitable, Callable

import aiohttp
import canned
import measure

import agouti

BODY = {"model": "quill-large", "messages": [{"role": "user", "content": "Hi"}]}
HEADERS = {"content-type": "application/json"}


async def rate(work: Callable[[], Awaitable[None]], requests: int, at_once: int) -> tuple[float, float]:
    """Requests per second, and CPU seconds of each."""
    left = iter(range(requests))

    async def worker() -> None:
        for _ in left:
            await work()

    before, cpu = time.perf_counter(), time.process_time()
    await asyncio.gather(*(worker() for _ in range(at_once)))
    return requests / (time.perf_counter() - before), (time.process_time() - cpu) / requests


async def measured(base: str, requests: int, rounds: int, bounds: "measure.Bounds") -> None:
    connector = aiohttp.TCPConnector(limit=0)
    async with aiohttp.ClientSession(connector=connector) as session, agouti.AsyncClient.at(base) as client:

        async def by_hand() -> None:
            async with session.post(base + "/chat/completions", data=json.dumps(BODY), headers=HEADERS) as reply:
                assert json.loads(await reply.read())["choices"][0]["message"]["content"] == canned.TEXT

        async def with_client() -> None:
            assert (await client.ask("quill-large", "Hi")).text == canned.TEXT

        for at_once in (64, 256):
            found: dict[str, list[tuple[float, float]]] = {"aiohttp + json": [], "AsyncClient.ask": []}
            for _ in range(rounds):
                for name, work in (("aiohttp + json", by_hand), ("AsyncClient.ask", with_client)):
                    found[name].append(await rate(work, requests, at_once))
            print(f"{requests} requests, {at_once} at a time")
            rates = {name: statistics.median(each for each, _ in taken) for name, taken in found.items()}
            bounds.at_least(f"{at_once} at a time", rates["AsyncClient.ask"] / rates["aiohttp + json"], 0.85)
            for name, taken in found.items():
                cpu = statistics.median(each for _, each in taken) * 1e6
                ratio = f"{rates[name] / rates['aiohttp + json']:.2f} x" if name != "aiohttp + json" else ""
                print(f"  {name:20s} {rates[name]:8.0f} requests/s  {cpu:7.0f} us CPU each  {ratio}")


def main() -> int:
    options = measure.parser(__doc__)
    options.add_argument("--requests", type=int, default=2000)
    options.add_argument("--rounds", type=int, default=5)
    given = options.parse_args()
    with canned.server(delay=0.02) as base:
        bounds = measure.Bounds(judged=not given.smoke)
        asyncio.run(measured(base, given.requests, given.rounds, bounds))
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
