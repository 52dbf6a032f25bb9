"""Programs that share limits and budgets, while Redis and PostgreSQL hang, fill up, die and come back.

python benchmarks/soak_stores.py [--minutes N] [--threads N]

A provider keeps books of its own. No window may have more requests or tokens than the limit, no budget may be exceeded,
and the ledger must say what the books say, but for what is marked as estimated or unknown. Ends with 1 where one of
that is not so, or where the servers are not installed.
"""

import json
import multiprocessing
import random
import signal
import sys
import threading
import time
from collections import Counter
from contextlib import suppress
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import measure

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.servers import Server, postgres_server, redis_server

import agouti

PER_SECOND, PER_MINUTE = 40, 30_000
SHARE = 0.02
CLUBS = ("ash", "beech", "cedar", "dogwood")
ENTRIES: dict[str, Any] = {
    "limits": {"requests_per_second": PER_SECOND, "tokens_per_minute": PER_MINUTE, "wait": 20},
    "retries": {"max": 0},
}


class Provider(BaseHTTPRequestHandler):
    """Answers with twelve tokens, sometimes not at all, and writes down what it has charged."""

    protocol_version = "HTTP/1.1"
    books: list[tuple[float, str, int]]

    def do_POST(self) -> None:
        """One request."""
        body = json.loads(self.rfile.read(int(self.headers["content-length"])))
        club, luck = body["messages"][0]["content"].split()[0], random.random()
        self.books.append((time.monotonic(), club, 22))
        if luck < 0.02 and club in CLUBS:
            self.close_connection = True
            return
        time.sleep(0.005 + 0.05 * random.random())
        answer = {
            "choices": [{"message": {"content": "In May."}, "finish_reason": "stop"}],
            "usage": {"prompt_tokens": 10, "completion_tokens": 12, "total_tokens": 22},
        }
        data = json.dumps(answer).encode()
        with suppress(OSError):  # the caller may have gone
            self.send_response(200)
            self.send_header("content-type", "application/json")
            self.send_header("content-length", str(len(data)))
            self.end_headers()
            self.wfile.write(data)

    def log_message(self, *_: object) -> None:
        """Nothing."""


def entries(address: str, redis: str, postgres: str) -> dict[str, Any]:
    """The configuration of every program."""
    price = {"input": 1.0, "output": 1.0, "currency": "USD"}
    return {
        "providers": {"shed": {"address": address, "plain_http": True, **ENTRIES}},
        "models": {"loam": {"provider": "shed", "name": "loam", "price": price}},
        "limits": {"store": redis, "lost": "fail"},
        "ledger": {"store": postgres},
        "budgets": {"club": {"amount": SHARE, "currency": "USD", "per": "day", "each": "tag:club", "warn": 1.0}},
    }


def work(made: dict[str, Any], threads: int, until: float, told: Any) -> None:
    """One program."""
    ends: Counter[str] = Counter()
    with agouti.Client(made) as client:

        def loop() -> None:
            while time.time() < until:
                club = random.choice(CLUBS)
                try:
                    options: Any = {"max_tokens": 12, "tags": {"club": club}, "deadline": random.choice((0.3, 5, 30))}
                    client.ask("loam", f"{club} peas?", **options)
                    ends["answered"] += 1
                except agouti.AgoutiError as error:
                    ends[type(error).__name__] += 1
                    time.sleep(0.25)  # refusals by the thousand would keep the provider itself waiting for a processor

        workers = [threading.Thread(target=loop) for _ in range(threads)]
        for each in workers:
            each.start()
        for each in workers:
            each.join()
    told.put(dict(ends))


def fill(server: Server, most: int) -> None:
    """Redis takes nothing more than so many bytes; 0: anything."""
    import redis

    with redis.Redis.from_url(server.address, socket_timeout=5) as connection:
        connection.config_set("maxmemory", most)


def trouble(redis: Server, postgres: Server, until: float) -> None:
    """A server hangs, or is killed and comes back; Redis hangs or is full: killed it would come back with nothing."""
    while time.time() < until - 8:
        time.sleep(random.uniform(1, 4))
        server = random.choice((redis, postgres))
        if server is redis and random.random() < 0.3:
            fill(redis, 1)
            time.sleep(random.uniform(0.2, 5))
            fill(redis, 0)
        elif server is redis or random.random() < 0.5:
            server.process.send_signal(signal.SIGSTOP)
            time.sleep(random.uniform(0.2, 5))
            server.process.send_signal(signal.SIGCONT)
        else:
            server.stop()
            time.sleep(random.uniform(0, 3))
            server.start()


def most_in(times: list[float], seconds: float, weight: int = 1) -> int:
    """The most that any stretch of so many seconds has."""
    first, most = 0, 0
    for last, at in enumerate(times):
        while times[first] <= at - seconds:
            first += 1
        most = max(most, last - first + 1)
    return most * weight


def main() -> int:
    """Run, and compare."""
    parser = measure.parser(__doc__)
    parser.add_argument("--minutes", type=float, default=10)
    parser.add_argument("--processes", type=int, default=4)
    parser.add_argument("--threads", type=int, default=32)
    options = parser.parse_args()
    if options.smoke:
        options.minutes, options.processes, options.threads = 0.08, 2, 4
    Provider.books = []
    provider = ThreadingHTTPServer(("127.0.0.1", 0), Provider)
    threading.Thread(target=provider.serve_forever, daemon=True).start()
    with redis_server() as redis, postgres_server() as postgres:
        made = entries(f"http://127.0.0.1:{provider.server_port}/v1", redis.address, postgres.address)
        with agouti.Client(made) as client:  # its tables
            client.ask("loam", "none peas?", max_tokens=12)
        context = multiprocessing.get_context("spawn")
        told, until = context.Queue(), time.time() + options.minutes * 60
        programs = [
            context.Process(target=work, args=(made, options.threads, until, told)) for _ in range(options.processes)
        ]
        for each in programs:
            each.start()
        trouble(redis, postgres, until)
        ends: Counter[str] = Counter()
        for _ in programs:
            ends.update(told.get(timeout=120))
        for each in programs:
            each.join()
        with agouti.Client(made) as client:
            total, states = client.usage().total, client.budgets()
    books = Provider.books
    times = [at for at, *_ in books]
    charged = Counter(club for _, club, _ in books)
    print(dict(ends))
    print(f"{len(books)} requests reached the provider")
    print(f"{total.calls} stand in the ledger, {total.unpriced} of them without a cost")
    for state in states:
        said = f"spent {state.spent:.6f}, put aside {state.reserved:.6f} of {state.amount}"
        print(f"  {state.part or 'none'}: charged {charged[state.part] * 22e-6:.6f}, {said}")
    bounds = measure.Bounds(judged=not options.smoke)
    bounds.at_most("requests in a second", most_in(times, 1.0), PER_SECOND)
    bounds.at_most("tokens in a minute", most_in(times, 60.0, 22), PER_MINUTE)
    bounds.at_most("of a budget", max(charged[club] * 22e-6 for club in CLUBS) / SHARE, 1.0)
    answered = total.calls - total.unpriced
    bounds.at_most("answers that the ledger does not know", abs(answered - ends["answered"] - 1), 0)
    bounds.at_most("requests that it does not know", len(books) - total.calls, 0)
    known = total.input_tokens + total.output_tokens
    bounds.at_most("tokens that it counts otherwise", abs(known - 22 * answered), 0)
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
