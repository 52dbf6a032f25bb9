"""What a budgeted call and a report cost, by how many different tags the month has: flat is good."""

import sys
import tempfile
import time
from pathlib import Path
from statistics import median

import measure

import agouti
from agouti.config.tables import LedgerSettings
from agouti.core.secrets.secret import Secret
from agouti.ledger.open import open_ledger
from agouti.ledger.rows import LedgerRow
from agouti.testing import FakeTransport

_ANSWER = {
    "choices": [{"message": {"content": "In May."}, "finish_reason": "stop"}],
    "usage": {"prompt_tokens": 10, "completion_tokens": 10},
}
_PRICE = {"input": 1.0, "output": 2.0, "currency": "USD"}


def main() -> int:
    """Fill ledgers, ask, report, and print a table."""
    parser = measure.parser(__doc__)
    parser.add_argument("--store", help="address of an empty PostgreSQL database instead of files of SQLite")
    options = parser.parse_args()
    sizes = (20, 500) if options.smoke else (20, 20_000, 200_000)
    bounds = measure.Bounds(judged=not options.smoke)
    calls: list[float] = []
    with tempfile.TemporaryDirectory() as folder:
        for size in sizes:
            store = options.store or str(Path(folder, f"{size}.sqlite"))
            _fill(store, size)
            per_call, by_tag = _measured(store, 20 if options.smoke else 300)
            calls.append(per_call)
            print(f"{size:>8,} tags: a budgeted call {per_call * 1e3:6.2f} ms, a report by tag {by_tag:5.2f} s")
            bounds.at_most("seconds of a report by tag", by_tag, 3.0)
    bounds.at_most("times the call with the fewest tags", calls[-1] / calls[0], 1.5)
    return bounds.code()


def _fill(store: str, size: int) -> None:
    ledger = open_ledger(LedgerSettings(Secret(store)))
    now = time.time()
    for first in range(0, size, 5000):
        ledger.add([_row(now, number) for number in range(first, min(first + 5000, size))])
    ledger.close()


def _row(now: float, number: int) -> LedgerRow:
    return LedgerRow(
        at=now, provider="shed", name="loam", label="loam", operation="chat", cost=10**7, currency="USD",
        input_tokens=10, output_tokens=10, seconds=0.5, tags={"user": f"u{number}"},
    )  # fmt: skip


def _measured(store: str, count: int) -> tuple[float, float]:
    config = {
        "providers": {"shed": {"address": "http://localhost:1/v1"}},
        "models": {"loam": {"provider": "shed", "name": "loam", "price": _PRICE}},
        "ledger": {"store": store},
        "budgets": {"month": {"amount": 1e9, "currency": "USD", "per": "month"}},
    }
    with agouti.Client(config, transport=FakeTransport([_ANSWER] * (count + 1))) as client:
        client.ask("loam", "When do peas go in?", max_tokens=20)  # the first one adds up what was spent before
        times = []
        for _ in range(count):
            began = time.perf_counter()
            client.ask("loam", "When do peas go in?", max_tokens=20)
            times.append(time.perf_counter() - began)
        began = time.perf_counter()
        client.usage(by=["tag:user"])
        return median(times), time.perf_counter() - began


if __name__ == "__main__":
    sys.exit(main())
