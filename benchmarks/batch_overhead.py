"""A batch of rows: Agouti against a loop written by hand over aiohttp; time, CPU and memory.

python benchmarks/batch_overhead.py [--rows N] [--delay SECONDS] [--at-once N] [--find]

--find: let the pace be found, instead of giving it.
"""

import asyncio
import json
import resource
import sys
import tempfile
import time
from collections.abc import Awaitable, Callable
from pathlib import Path

import aiohttp
import canned
import measure

import agouti

HEADERS = {"content-type": "application/json", "authorization": "Bearer k"}


async def by_hand(base: str, rows: Path, out: Path, at_once: int) -> None:
    """Ask every row, and write each answer as it comes."""
    with rows.open() as lines, out.open("wb", buffering=0) as file:
        numbered = enumerate(lines, 1)
        connector = aiohttp.TCPConnector(limit=at_once)
        async with aiohttp.ClientSession(connector=connector) as session:

            async def work() -> None:
                for number, line in numbered:
                    row = json.loads(line)
                    body = {"model": "m", "messages": [{"role": "user", "content": f"Sort this: {row['note']}"}]}
                    async with session.post(
                        base + "/chat/completions", data=json.dumps(body), headers=HEADERS
                    ) as reply:
                        came = json.loads(await reply.read())
                    result = {
                        "key": row["id"],
                        "line": number,
                        "row": row,
                        "answer": came["choices"][0]["message"]["content"],
                        "finish_reason": came["choices"][0]["finish_reason"],
                        "output_tokens": came["usage"]["completion_tokens"],
                    }
                    file.write(json.dumps(result).encode() + b"\n")

            await asyncio.gather(*[work() for _ in range(at_once)])


async def with_agouti(base: str, rows: Path, out: Path, at_once: int | None) -> None:
    async with agouti.AsyncClient.at(base, key="k") as client:
        made = await agouti.batch(
            client, "m", rows, prompt="Sort this: {note}", id_column="id", out=out, concurrency=at_once
        )
        assert not made.failed


def main() -> int:
    options = measure.parser(__doc__)
    options.add_argument("--rows", type=int, default=20_000)
    options.add_argument("--delay", type=float, default=0.05)
    options.add_argument("--concurrency", type=int, default=32)
    options.add_argument("--find", action="store_true")
    given = options.parse_args()
    with tempfile.TemporaryDirectory() as folder, canned.server(given.delay) as base:
        rows = Path(folder) / "rows.jsonl"
        rows.write_text(
            "".join(json.dumps({"id": f"n{number}", "note": f"bed {number}"}) + "\n" for number in range(given.rows))
        )
        ways: dict[str, Callable[[], Awaitable[None]]] = {
            "by hand": lambda: by_hand(base, rows, Path(folder) / "hand.jsonl", given.concurrency),
            "agouti.batch": lambda: with_agouti(
                base, rows, Path(folder) / "agouti.jsonl", None if given.find else given.concurrency
            ),
        }
        ideal = given.rows * given.delay / given.concurrency
        print(f"{given.rows:,} rows, {given.delay * 1000:.0f} ms each, {given.concurrency} at a time: {ideal:.1f} s")
        taken = {}
        for name, way in ways.items():
            began, cpu = time.perf_counter(), time.process_time()
            asyncio.run(_awaited(way))
            taken[name] = (time.perf_counter() - began, time.process_time() - cpu)
            peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
            print(f"  {name:14} {taken[name][0]:7.1f} s, CPU {taken[name][1]:6.1f} s, peak {peak:.0f} MiB")
        ratios = [mine / hand for mine, hand in zip(taken["agouti.batch"], taken["by hand"], strict=True)]
        print(f"  time {ratios[0]:.2f} x by hand, CPU {ratios[1]:.2f} x")
        bounds = measure.Bounds(judged=not given.smoke)
        bounds.at_most("time", ratios[0], 1.2)
        bounds.at_most("CPU", ratios[1], 2.5)
    return bounds.code()


async def _awaited(way: Callable[[], Awaitable[None]]) -> None:
    await way()


if __name__ == "__main__":
    sys.exit(main())
