"""The same notes on two Dask workers: the workers ask, the results come to one file.

Run it against the simulated providers:   python examples/16_two_workers.py      needs the extra dask
"""

import logging
import tempfile
from importlib import import_module
from pathlib import Path
from typing import Any

import agouti
import agouti.standins

NOTES = [{"id": f"n{number:03}", "note": f"Kale, sown 4 March: {number % 24} of 24 up."} for number in range(200)]


def main() -> None:
    distributed: Any = import_module("distributed")
    with agouti.standins.serve() as served, tempfile.TemporaryDirectory() as folder:
        out = Path(folder, "on-two-workers.jsonl")
        config = {"providers": {"shed": {"address": served.address("shed")}}}
        with (
            distributed.LocalCluster(
                n_workers=2, threads_per_worker=2, dashboard_address=None, silence_logs=logging.CRITICAL
            ) as cluster,
            agouti.Client(config) as client,
        ):
            made = agouti.batch(
                client, "loam-2b@shed", NOTES, prompt="How did it go? {note}", id_column="id", out=out, max_tokens=12,
                cluster=cluster.scheduler_address,
            )  # fmt: skip
        print(f"{made.done} of {len(NOTES)} answered, {made.failed} failed")
        print(f"{len({row.key for row in made})} keys in {out.name}")


if __name__ == "__main__":
    main()
