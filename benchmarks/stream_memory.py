"""Memory over a stream of 200,000 chunks: what is held besides the text itself.

python benchmarks/stream_memory.py [--chunks N]
"""

import argparse
import tracemalloc

import canned

import agouti


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--chunks", type=int, default=200_000)
    count = options.parse_args().chunks
    with canned.server() as base:
        origin = base.removesuffix("/v1")
        entry = {"providers": {"s": {"address": origin, "paths": {"chat": f"/stream/{count}/100"}}}}
        with agouti.Client(entry) as client:
            tracemalloc.start()
            seen, every = 0, count // 5
            due = every
            print("   chunks   text kB   held kB   held besides the text kB")
            with client.stream("m@s", "Hi") as stream:
                for text in stream:
                    seen += len(text) // len(canned.CHUNK_TEXT)
                    if seen >= due:
                        due += every
                        held = tracemalloc.get_traced_memory()[0] / 1024
                        kept = seen * len(canned.CHUNK_TEXT) / 1024
                        print(f"{seen:9d} {kept:9.0f} {held:9.0f} {held - kept:9.0f}")
            tracemalloc.stop()


if __name__ == "__main__":
    main()
