"""Make the table of faults in reliability.md by running each of them, and check it: the table is what the tests expect.

python docs/faults.py           writes the table
"""

import asyncio
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import agouti
from agouti.standins import Served, serve
from agouti.standins.faults import FAULTS, parse

GUIDE = Path(__file__).parent / "reliability.md"
START, END = "<!-- made by docs/faults.py -->\n", "<!-- end -->"

# Each as it is asked of a stand-in: NAME=NUMBER, and xTIMES where it is to pass.
ROWS = [
    "status=500x1",
    "status=500",
    "status=502x1",
    "status=503x1",
    "status=504x1",
    "status=529x1",
    "status=408x1",
    "status=409x1",
    "status=400",
    "status=401",
    "status=403",
    "status=404",
    "status=422",
    "status-empty=503",
    "status-html=502",
    "limit-seconds=1x1",
    "limit-date=1x1",
    "limit-ms=50x1",
    "limit-body=1x1",
    "limit-reset=1x1",
    "limit-seconds=99",
    "html",
    "other-json",
    "not-json",
    "empty",
    "wrong-type",
    "gzip",
    "trailing",
    "redirect",
    "slow=2",
    "slow",
    "dropx1",
    "drop",
    "reset=5",
    "reset=300",
    "cut=0",
    "cut=3",
    "stall=0",
    "stall=3",
    "garbage=3",
    "oversize=3",
    "split",
    "error=0",
    "error=3",
    "odd",
]
QUESTION = "When does garlic go in?"


def outcome(served: Served, fault: str, kind: str, driver: str) -> str:
    """What a call ends with, in the words of the table."""
    entry = {
        "address": served.address("shed"),
        "timeouts": {"connect": 5, "first_byte": 2.5, "between_chunks": 1.5},
        "retries": {"base": 0.02, "max_wait": 5},
    }
    config = agouti.load_config({"providers": {"shed": entry}}, environment={})
    label = f"loam-2b+{fault}#{kind}{driver}@shed"
    try:
        reply = asyncio.run(_awaited(config, label, kind)) if driver == "async" else _called(config, label, kind)
    except agouti.AgoutiError as error:
        tries = f" after {len(error.attempts)} tries" if len(error.attempts) > 1 else ""
        return f"`{type(error).__name__}`{tries}{', with what came' if error.partial is not None else ''}"
    before = [f"`{attempt.outcome}`" for attempt in reply.attempts[:-1]]
    if not reply.text.startswith("Garlic") or not reply.text.endswith("."):
        return f"a wrong answer: {reply.text!r}"
    return "answers" + (f" after {', '.join(before)}" if before else "")


def _called(config: agouti.Config, label: str, kind: str) -> agouti.Reply:
    with agouti.Client(config) as client:
        if kind == "ask":
            return client.ask(label, QUESTION)
        with client.stream(label, QUESTION) as stream:
            for _ in stream:
                pass
        return stream.reply


async def _awaited(config: agouti.Config, label: str, kind: str) -> agouti.Reply:
    async with agouti.AsyncClient(config) as client:
        if kind == "ask":
            return await client.ask(label, QUESTION)
        async with client.stream(label, QUESTION) as stream:
            async for _ in stream:
                pass
        return stream.reply


def rows(served: Served, driver: str) -> list[str]:
    """The rows of the table, as calls with one driver end."""
    with ThreadPoolExecutor(8) as pool:
        cells = {
            (fault, kind): pool.submit(outcome, served, fault, kind, driver)
            for fault in ROWS
            for kind in ("ask", "stream")
        }
    found = []
    for fault in ROWS:
        what, times = parse(fault)
        often = f", {'once' if times == 1 else f'{times} times'}" if times else ""
        said = f"{FAULTS[what.name]}{often}"
        found.append(f"| `{fault}` | {said} | {cells[fault, 'ask'].result()} | {cells[fault, 'stream'].result()} |")
    return found


def main() -> None:
    """Write the table into the guide."""
    with serve() as served:
        made = ["| fault | what the provider does | `ask` | `stream` |", "|---|---|---|---|", *rows(served, "sync")]
    before, _, rest = GUIDE.read_text().partition(START)
    GUIDE.write_text(before + START + "\n".join(made) + "\n" + END + rest.partition(END)[2])


if __name__ == "__main__":
    main()
