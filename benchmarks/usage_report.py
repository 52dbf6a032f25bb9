"""How long a report takes of a ledger with many rows, and how large its file is.

python benchmarks/usage_report.py [--rows 10000000] [--store FILE]     the file is made where it is not there
"""

import argparse
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from agouti.standins.history import write_history

DAYS = 365


def main() -> None:
    """Make the ledger, and time the command on it."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--rows", type=int, default=10_000_000)
    options.add_argument("--store", type=Path)
    given = options.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        store = given.store or Path(folder) / "usage.sqlite"
        if not store.exists():
            began = time.perf_counter()
            rows = write_history(store, DAYS, given.rows // DAYS)
            took = time.perf_counter() - began
            print(f"{rows:,} rows in {took:.0f} s, {rows / took:,.0f} a second; {store.stat().st_size / 1e6:,.0f} MB")
        config = Path(folder) / "agouti.toml"
        config.write_text(f'[providers.shed]\naddress = "http://localhost:8080/v1"\n[ledger]\nstore = "{store}"\n')
        for arguments in (
            [],
            ["--since", "2020-01-01", "--by", "model"],
            ["--since", "2020-01-01", "--by", "day,label"],
        ):
            command = [sys.executable, "-m", "agouti", "--config", str(config), "usage", *arguments, "--json"]
            began = time.perf_counter()
            subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
            print(f"agouti usage {' '.join(arguments)}: {time.perf_counter() - began:.2f} s")


if __name__ == "__main__":
    main()
