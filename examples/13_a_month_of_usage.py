"""A month of the seed library's usage: what it cost, by model and by feature, a page for the board, and the overage.

Run it on made-up rows, without any provider:   python examples/13_a_month_of_usage.py [FOLDER]
The page and the figures stay in FOLDER, where one is named.
"""

import sys
import tempfile
from contextlib import chdir, nullcontext
from datetime import UTC, datetime, timedelta

import agouti
from agouti.standins.history import write_history

CONFIG = {
    "providers": {"northbank": {"address": "https://api.northbank.example/v1"}},
    "ledger": {"store": "month-of-usage.sqlite"},
    "plans": {"northbank": {"tokens": 1_000_000, "fee": 10, "overage": 0.0002, "currency": "USD"}},
}
kept = nullcontext(sys.argv[1]) if len(sys.argv) > 1 else tempfile.TemporaryDirectory()
with kept as folder, chdir(folder):
    write_history("month-of-usage.sqlite", days=28)
    with agouti.Client(CONFIG) as client:
        since = datetime.now(UTC).date() - timedelta(days=27)
        for row in client.usage(since=since, by=["model"]):
            cost = ", ".join(f"{amount:.4f} {currency}" for currency, amount in row.cost.items()) or "no price"
            print(f"{row.group['model']:12} {row.calls:6,} calls  {row.failures:4} failed  {row.median:5.2f} s  {cost}")
        report = client.usage(since=since, by=["day", "model"])
        report.save("usage.html")
        report.save("usage.parquet")
        report.figure("cost").savefig("cost.png")
        report.figure("latency").savefig("latency.png")
        for row in client.usage(since=since, by=["tag:feature"]):
            print(f"{row.group['tag:feature']:12} {row.input_tokens + row.output_tokens:10,} tokens")
        plan = report.plans[0]
        print(f"plan of {plan.provider}: {plan.share:.0%} used; beyond it {plan.expected_overage:.2f} {plan.currency}")
