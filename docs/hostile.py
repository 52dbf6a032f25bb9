"""Make the table of hostile behaviours in reliability.md from the one that the tests hold.

python docs/hostile.py           writes the table
"""

import sys
from pathlib import Path

ROOT = Path(__file__).parent.parent
GUIDE = ROOT / "docs" / "reliability.md"
START, END = "<!-- made by docs/hostile.py -->\n", "<!-- end of hostile -->"


def table() -> str:
    """The table as Markdown."""
    sys.path.insert(0, str(ROOT))
    from tests.hostile.behaviours import ROWS

    lines = ["| what the server or the network does | `ask`, `exchange`, `fill` | `stream` |", "|---|---|---|"]
    lines += [f"| {row.does} | {row.ends} | {row.streams} |" for row in ROWS]
    return "\n".join(lines) + "\n"


def main() -> None:
    """Write the table into the guide."""
    before, _, rest = GUIDE.read_text().partition(START)
    GUIDE.write_text(before + START + table() + END + rest.partition(END)[2])


if __name__ == "__main__":
    main()
