"""How long a comparison takes, against the least that the providers' own latency and the places at them allow."""

import json
import sys
import threading
import time
from collections import Counter
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import ClassVar

import measure

import agouti

_ANSWER = json.dumps(
    {"choices": [{"message": {"content": "In March."}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 9}}
).encode()


class Slow(BaseHTTPRequestHandler):
    """Answers after a while, and counts how many are under way."""

    protocol_version = "HTTP/1.1"
    seconds = 0.2
    under_way: ClassVar[Counter[str]] = Counter()
    most: ClassVar[Counter[str]] = Counter()
    lock = threading.Lock()

    def do_POST(self) -> None:
        provider = self.path.split("/")[1]
        self.rfile.read(int(self.headers["content-length"]))
        with self.lock:
            self.under_way[provider] += 1
            self.most[provider] = max(self.most[provider], self.under_way[provider])
        time.sleep(self.seconds)
        with self.lock:
            self.under_way[provider] -= 1
        self.send_response(200)
        self.send_header("content-type", "application/json")
        self.send_header("content-length", str(len(_ANSWER)))
        self.end_headers()
        self.wfile.write(_ANSWER)

    def log_message(self, *arguments: object) -> None:
        """Nothing."""


def main() -> int:
    """Compare, and print the ratio."""
    options = measure.parser(__doc__)
    options.add_argument("--prompts", type=int, default=20)
    options.add_argument("--repeats", type=int, default=3)
    options.add_argument("--concurrency", type=int, default=4)
    given = options.parse_args()
    server = ThreadingHTTPServer(("127.0.0.1", 0), Slow)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    here = f"http://127.0.0.1:{server.server_port}"
    providers = {name: {"address": f"{here}/{name}/v1", "dialect": "chat"} for name in ("north", "south")}
    labels = ["a@north", "b@north", "c@south", "d@south"]
    with agouti.Client({"providers": providers}) as client:
        began = time.perf_counter()
        result = agouti.compare(
            client,
            labels,
            [f"Question {n}" for n in range(given.prompts)],
            repeats=given.repeats,
            concurrency=given.concurrency,
        )
        took = time.perf_counter() - began
    failed = sum(row.error is not None for row in result)
    rounds = -(-len(result) // len(providers) // given.concurrency)
    ideal = rounds * Slow.seconds
    print(f"{len(result)} answers ({failed} failed) in {took:.2f} s; ideal {ideal:.2f} s; {took / ideal:.2f} x")
    print(f"most under way at a provider: {max(Slow.most.values())}")
    server.shutdown()
    bounds = measure.Bounds(judged=not given.smoke)
    bounds.at_most("time against the least", took / ideal, 1.3)
    bounds.at_most("failed", failed, 0)
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
