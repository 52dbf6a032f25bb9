"""CPU of a call with limits, a ledger and budgets, against the same call without any of them."""

import gc
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

import measure

import agouti
from agouti.standins import serve

_WITH = """
[ledger]
store = "{store}"
[budgets.run]
amount = 1000
currency = "USD"
per = "run"
"""


def main() -> int:
    """Ask in turns, and print the ratio."""
    options = measure.parser(__doc__)
    options.add_argument("--rounds", type=int, default=40)
    given = options.parse_args()
    with tempfile.TemporaryDirectory() as folder, serve() as served:
        import tomllib

        bare = tomllib.loads(served.toml)
        full = tomllib.loads(served.toml + _WITH.format(store=Path(folder, "usage.sqlite")))
        full["providers"]["northbank"]["limits"] = {"requests_per_second": 100_000, "concurrency": 50}
        from agouti.config.load import load

        clients = [agouti.Client(load(each, environment=served.environment)) for each in (bare, full)]
        times: list[list[float]] = [[], []]
        gc.disable()
        for turn in range(given.rounds):
            for which, client in enumerate(clients):
                began = time.thread_time()
                for _ in range(50):
                    client.ask("almanac", "When do peas go in?", max_tokens=20)
                if turn > given.rounds // 10:
                    times[which].append((time.thread_time() - began) / 50)
        without, with_them = (median(each) * 1e6 for each in times)
        print(f"a call takes {without:.0f} us of CPU without, {with_them:.0f} us with: {with_them / without:.2f} x")
        bounds = measure.Bounds(judged=not given.smoke)
        bounds.at_most("microseconds more", with_them - without, 150)
        for client in clients:
            client.close()
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
