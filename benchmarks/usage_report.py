"""How long a report takes of a ledger with many rows, and how large its file is.

python benchmarks/usage_report.py [--rows 10000000] [--store FILE]     the file is made where it is not there
"""

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import measure

from agouti.standins.history import write_history

DAYS = 365


def main() -> int:
    """Make the ledger, and time the command on it."""
    options = measure.parser(__doc__)
    options.add_argument("--rows", type=int, default=10_000_000)
    options.add_argument("--store", type=Path)
    given = options.parse_args()
    bounds = measure.Bounds(judged=not given.smoke)
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
            took = time.perf_counter() - began
            print(f"agouti usage {' '.join(arguments)}: {took:.2f} s")
            bounds.at_most(f"agouti usage {' '.join(arguments)}", took, 3)
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
