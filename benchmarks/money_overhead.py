"""CPU of a call with limits, a ledger and a budget, against the same call without any of them.

python benchmarks/money_overhead.py [--rounds N] [--count N]

The server is in a process of its own: in this one, its thread would take turns with the caller's, and more of them the
longer a call is.
"""

import gc
import sys
import tempfile
import time
from pathlib import Path
from statistics import median
from typing import Any

import canned
import measure

import agouti
from agouti.config.load import load


def main() -> int:
    """Ask in turns, and print what limits, ledger and budget add."""
    options = measure.parser(__doc__)
    options.add_argument("--rounds", type=int, default=40)
    options.add_argument("--count", type=int, default=50)
    given = options.parse_args()
    with tempfile.TemporaryDirectory() as folder, canned.server() as base:
        clients = {
            name: agouti.Client(load(_settings(base, Path(folder), name), environment={"NORTHBANK_KEY": "k"}))
            for name in ("bare", "full")
        }
        times: dict[str, list[float]] = {name: [] for name in clients}
        gc.disable()
        for turn in range(given.rounds):
            for name, client in clients.items():
                began = time.thread_time()
                for _ in range(given.count):
                    client.ask("almanac", "When do peas go in?", max_tokens=20)
                if turn >= given.rounds // 10:
                    times[name].append((time.thread_time() - began) / given.count * 1e6)
        more = median(full - bare for bare, full in zip(times["bare"], times["full"], strict=True))
        bare = median(times["bare"])
        print(f"a call takes {bare:.0f} us of CPU without, {more:.0f} us more with: {(bare + more) / bare:.2f} x")
        bounds = measure.Bounds(judged=not given.smoke)
        bounds.at_most("microseconds more", more, 150)
        for client in clients.values():
            client.close()
    return bounds.code()


def _settings(base: str, folder: Path, name: str) -> dict[str, Any]:
    provider: dict[str, Any] = {"dialect": "chat", "address": base, "key": {"env": "NORTHBANK_KEY"}}
    settings: dict[str, Any] = {
        "providers": {"northbank": provider},
        "models": {"almanac": {"provider": "northbank", "name": "quill-large"}},
    }
    if name == "full":
        provider["limits"] = {"requests_per_second": 100_000, "concurrency": 50}
        settings["models"]["almanac"]["price"] = {"input": 1.0, "output": 4.0, "currency": "USD"}
        settings["ledger"] = {"store": str(folder / "usage.sqlite")}
        settings["budgets"] = {"run": {"amount": 1000, "currency": "USD", "per": "run"}}
    return settings


if __name__ == "__main__":
    sys.exit(main())
