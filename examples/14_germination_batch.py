"""Two thousand germination notes into records: planned, sampled, stopped in the middle and gone on with.

Run it against the simulated providers:   python examples/14_germination_batch.py
"""

import asyncio
import json
import random
import tempfile
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import agouti
import agouti.standins

CROPS = ("Kale", "Peas", "Broad beans", "Chard", "Onions", "Beetroot")


@dataclass
class Germination:
    """What came of one sowing."""

    crop: str
    sown: int
    up: int


ASKED: Any = {"column": "note", "form": Germination, "id_column": "id", "max_tokens": 60}


def write_notes(path: Path, count: int) -> None:
    chance = random.Random(4)
    with path.open("w") as file:
        for number in range(count):
            sown = chance.randrange(8, 40)
            note = (
                f"{chance.choice(CROPS)}, sown {chance.randrange(1, 28)} March: {chance.randrange(sown)} of {sown} up."
            )
            file.write(json.dumps({"id": f"n{number:04}", "note": note}) + "\n")


@asynccontextmanager
async def made_up_client() -> AsyncIterator[agouti.AsyncClient]:
    with agouti.standins.serve() as served:
        async with agouti.AsyncClient(served.config) as client:
            yield client


class Stopped(Exception):
    pass


def stop(progress: agouti.BatchProgress) -> None:
    if progress.done >= 600:
        raise Stopped


async def main(notes: Path, out: Path) -> None:
    async with made_up_client() as client:
        plan = agouti.batch_plan(client, "almanac", notes, **ASKED)
        print(f"{plan.to_ask:,} rows, about {plan.input_tokens:,} tokens in, at most {plan.cost:.3f} {plan.currency}")

        try:
            await agouti.batch(client, "almanac", notes, out=out, progress=stop, **ASKED)
        except Stopped:
            print("stopped in the middle")
        made = await agouti.batch(client, "almanac", notes, out=out, preserve_order=True, **ASKED)
        print(
            f"{made.already_done > 0}, and {made.already_done + made.done:,} of 2,000 are there, {made.failed} failed"
        )
    best: dict[str, list[float]] = {}
    for row in made:
        best.setdefault(row.value.crop, []).append(row.value.up / row.value.sown)
    for crop, shares in sorted(best.items()):
        print(f"{crop:12} {sum(shares) / len(shares):4.0%} of {len(shares)} sowings")


with tempfile.TemporaryDirectory() as folder:
    write_notes(Path(folder, "notes.jsonl"), 2000)
    asyncio.run(main(Path(folder, "notes.jsonl"), Path(folder, "records.jsonl")))
