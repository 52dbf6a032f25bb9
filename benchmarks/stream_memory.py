"""Memory over a stream of 200,000 chunks: what is held besides the text itself.

python benchmarks/stream_memory.py [--chunks N]
"""

import sys
import tracemalloc

import canned
import measure

import agouti


def main() -> int:
    options = measure.parser(__doc__)
    options.add_argument("--chunks", type=int, default=200_000)
    given = options.parse_args()
    count, bounds = given.chunks, measure.Bounds(judged=not given.smoke)
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
                        bounds.at_most("kB held besides the text", held - kept, 2000)
                        print(f"{seen:9d} {kept:9.0f} {held:9.0f} {held - kept:9.0f}")
            tracemalloc.stop()
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
