"""A large batch through the stand-ins: the time against what the limit allows, and memory while it runs.

python benchmarks/batch_load.py [--rows N] [--per-minute N] [--embed] [--figure FILE]

--embed: vectors instead of answers, without a limit.
"""

import asyncio
import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import measure

import agouti

SERVER = """
import sys, time
from agouti.standins import serve
from agouti.standins.quotas import Quota
with serve(quotas={"northbank": Quota(per_minute=int(sys.argv[1]))} if int(sys.argv[1]) else {}) as served:
    print(served.address("northbank"), served.environment["NORTHBANK_KEY"], flush=True)
    sys.stdin.readline()
    books = served.books.requests
    print(sum(books.values()), sum(count for (_, status), count in books.items() if status != 200), flush=True)
"""


def resident() -> float:
    """MiB of this process."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * 4096 / 2**20


async def run(
    config: agouti.Config, rows: Path, out: Path, *, embed: bool, seen: list[tuple[float, int, float]]
) -> Any:
    began = time.perf_counter()

    def look(progress: agouti.BatchProgress) -> None:
        if progress.done % 200 == 0:
            seen.append((time.perf_counter() - began, progress.done, resident()))

    label = "petal-embed@northbank" if embed else "quill-large@northbank"
    how: dict[str, Any] = {"embed": True} if embed else {"max_tokens": 3}
    async with agouti.AsyncClient(config) as client:
        return await agouti.batch(
            client, label, rows, prompt="Sort this: {note}", id_column="id", out=out, progress=look, **how
        )


def main() -> int:
    options = measure.parser(__doc__)
    options.add_argument("--rows", type=int)
    options.add_argument("--per-minute", type=int, default=9000)
    options.add_argument("--embed", action="store_true")
    options.add_argument("--figure")
    given = options.parse_args()
    count = given.rows or (100_000 if given.embed else 20_000)
    limit = 0 if given.embed else given.per_minute
    server = subprocess.Popen(
        [sys.executable, "-c", SERVER, str(limit)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    assert server.stdout is not None
    assert server.stdin is not None
    address, key = server.stdout.readline().split()
    entry: dict[str, Any] = {"address": address, "key": {"env": "NORTHBANK_KEY"}}
    if limit:
        entry["limits"] = {"requests_per_minute": limit}
    config = agouti.load_config({"providers": {"northbank": entry}}, environment={"NORTHBANK_KEY": key})
    with tempfile.TemporaryDirectory() as folder:
        rows, out = Path(folder) / "rows.jsonl", Path(folder) / ("o.npz" if given.embed else "o.jsonl")
        with rows.open("w") as file:
            for number in range(count):
                file.write(json.dumps({"id": f"n{number}", "note": f"Bed {number}: {number % 24} of 24 up."}) + "\n")
        seen: list[tuple[float, int, float]] = []
        made = asyncio.run(run(config, rows, out, embed=given.embed, seen=seen))
    server.stdin.write("\n")
    server.stdin.flush()
    asked, refused = server.stdout.readline().split()
    server.wait(10)
    bounds = measure.Bounds(judged=not given.smoke)
    early = next(memory for _, done, memory in seen if done >= count // 10)
    print(f"{made.done:,} of {count:,} done, {made.failed} failed, {made.seconds:.1f} s")
    if limit:
        least = (count - 1) // limit * 60
        ratio = made.seconds / least if least else 0.0
        bounds.at_most("time against the least", ratio, 1.2)
        bounds.at_most("refused", int(refused), 0)
        print(f"  {ratio:.2f} x the {least} s that the limit of {limit:,} a minute allows; {refused} refused")
    print(f"  {asked} requests; memory {early:.0f} MiB after a tenth, {max(each[2] for each in seen):.0f} MiB at most")
    bounds.at_most("MiB more than after a tenth", max(each[2] for each in seen) - early, 60 if given.embed else 30)
    if given.figure:
        draw(seen, given.figure, limit)
    return bounds.code()


def draw(seen: list[tuple[float, int, float]], path: str, limit: int) -> None:
    """Rows done, and memory, over time."""
    import matplotlib as mpl

    mpl.use("agg")
    from matplotlib import pyplot

    figure, above = pyplot.subplots(figsize=(12.8, 8), dpi=100)
    times = [each[0] for each in seen]
    above.plot(times, [each[1] for each in seen], color="#2f6f4f", linewidth=2.5, label="rows that have their answer")
    if limit:
        steps = [60.0 * number for number in range(int(times[-1] // 60) + 1)]
        allowed = [min(limit * (number + 1), seen[-1][1]) for number in range(len(steps))]
        above.step(
            [*steps, times[-1]], [*allowed, allowed[-1]], "--", where="post", color="#888",
            label=f"what the limit of {limit:,} a minute allows",
        )  # fmt: skip
    above.set_xlabel("seconds")
    above.set_ylabel("rows")
    above.set_ylim(bottom=0)
    above.set_xlim(left=0)
    beside = above.twinx()
    beside.plot(times, [each[2] for each in seen], color="#b3541e", linewidth=2.5, label="memory of the process, MiB")
    beside.set_ylim(0, max(each[2] for each in seen) * 2)
    beside.set_ylabel("MiB")
    lines = [*above.get_lines(), *beside.get_lines()]
    above.legend(lines, [str(line.get_label()) for line in lines], loc="upper left", frameon=False)
    above.set_title(f"A batch of {seen[-1][1]:,} rows: as fast as the limit allows, in memory that does not grow")
    for axes in (above, beside):
        axes.spines["top"].set_visible(False)
    figure.tight_layout()
    figure.savefig(path)


if __name__ == "__main__":
    sys.exit(main())
