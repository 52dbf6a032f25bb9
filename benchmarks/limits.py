"""How near a limit of requests is used, and how often it is run into: many threads or programs, a server that keeps it.

python benchmarks/limits.py [--processes 4 --store redis://127.0.0.1:6379/0 [--kill]]
"""

import argparse
import json
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import measure

import agouti
from agouti.standins import serve
from agouti.standins.quotas import Quota


def ask(config: dict[str, Any], requests: int, threads: int) -> None:
    """Ask so often, once there is a word."""
    with agouti.Client(config) as client, ThreadPoolExecutor(threads) as pool:
        print("ready", flush=True)
        sys.stdin.readline()

        def one(_: int) -> None:
            try:
                client.ask("loam-2b@shed", "Peas?", max_tokens=4)
            except agouti.RateLimited:
                return

        list(pool.map(one, range(requests)))


def main() -> int:
    """Ask, and print refusals and the time against the least."""
    options = measure.parser(__doc__)
    options.add_argument("--requests", type=int, default=500)
    options.add_argument("--per-second", type=int, default=25)
    options.add_argument("--threads", type=int, default=32)
    options.add_argument("--processes", type=int, default=1)
    options.add_argument("--store", help="a Redis server, for several processes")
    options.add_argument("--kill", action="store_true", help="kill one of the processes in the middle")
    options.add_argument("--worker", help=argparse.SUPPRESS)
    given = options.parse_args()
    if given.worker:
        ask(json.loads(given.worker), given.requests, given.threads)
        return 0
    with serve(quotas={"shed": Quota(per_second=given.per_second)}) as served:
        limits = {"requests_per_second": given.per_second, "wait": 600}
        config: dict[str, Any] = {
            "providers": {"shed": {"address": served.address("shed"), "limits": limits, "retries": {"max": 0}}}
        }
        if given.store:
            config["limits"] = {"store": given.store}
        each = given.requests // given.processes
        command = [sys.executable, __file__, "--requests", str(each), "--threads", str(given.threads)]
        workers = [
            subprocess.Popen([*command, "--worker", json.dumps(config)], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
            for _ in range(given.processes)
        ]
        for worker in workers:
            assert worker.stdout is not None
            worker.stdout.readline()
        began = time.perf_counter()
        for worker in workers:
            assert worker.stdin is not None
            worker.stdin.write(b"\n")
            worker.stdin.flush()
        if given.kill:
            time.sleep(given.requests / given.per_second / 2)
            workers[0].kill()
        for worker in workers:
            worker.wait()
        took = time.perf_counter() - began
        sent = sum(served.books.requests.values())
        ideal = (sent - 1) // given.per_second
        print(
            f"{sent} requests of {given.processes} at {given.per_second} a second in {took:.1f} s; ideal {ideal} s; "
            f"{took / ideal:.2f} x; {served.books.requests['shed', 429]} refused"
        )
        bounds = measure.Bounds(judged=not given.smoke)
        bounds.at_most("time against the least", took / ideal, 1.15)
        bounds.at_most("refused", served.books.requests["shed", 429], 0)
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
