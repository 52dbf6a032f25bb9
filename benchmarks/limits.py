"""How near a limit of requests is used, and how often it is run into: many threads, and a server that keeps it."""

import argparse
import time
from concurrent.futures import ThreadPoolExecutor

import msgspec

import agouti
from agouti.standins import serve
from agouti.standins.quotas import Quota


def main() -> None:
    """Ask, and print refusals and the time against the least."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--requests", type=int, default=500)
    options.add_argument("--per-second", type=int, default=25)
    options.add_argument("--threads", type=int, default=32)
    given = options.parse_args()
    quota = Quota(per_second=given.per_second)
    with serve(quotas={"shed": quota}) as served:
        limits = agouti.RateLimits(requests_per_second=given.per_second)
        shed = msgspec.structs.replace(served.config.providers["shed"], limits=limits, retries=agouti.Retries(max=0))
        began = time.perf_counter()
        with (
            agouti.Client(agouti.Config.of([shed])) as client,
            ThreadPoolExecutor(given.threads) as pool,
        ):
            list(pool.map(lambda _: client.ask("loam-2b@shed", "Peas?", max_tokens=4), range(given.requests)))
        took = time.perf_counter() - began
        ideal = (given.requests - 1) // given.per_second
        print(
            f"{given.requests} requests at {given.per_second} a second in {took:.1f} s; ideal {ideal} s; "
            f"{took / ideal:.2f} x; {served.books.requests['shed', 429]} refused"
        )


if __name__ == "__main__":
    main()
