"""Germination notes, as growers write them, into records that are checked; and one record that grows while it comes.

Run it against the simulated providers:   python examples/04_notes_into_records.py
"""

import datetime
from dataclasses import dataclass
from pathlib import Path

import agouti
import agouti.standins

NOTES = Path(__file__).parent.joinpath("data", "notes.txt").read_text().splitlines()


@dataclass
class Germination:
    """What came of one sowing."""

    crop: str
    sown: int
    up: int
    date: datetime.date

    @property
    def rate(self) -> float:
        return self.up / self.sown


with agouti.standins.serve() as served, agouti.Client(served.config) as client:
    for note in NOTES:
        record = client.fill("almanac", Germination, note).value
        print(f"{record.date}  {record.crop:12} {record.up:3} of {record.sown:3}  {record.rate:4.0%}")

    # Another provider, which has no schemas: the same call, by the means that it has.
    filled = client.fill("potters/clinker-7b@kiln", Germination, NOTES[0])
    print(f"by {filled.output_method}: {filled.value.crop}")

    # An answer that does not fit goes back with what is wrong, once; then it is an error that has all of them.
    mended = client.fill("quill-large+invalid=1@northbank", Germination, NOTES[1])
    print(f"mended: {mended.answers[0].problem} ({mended.answers[0].errors[0]})")

    with client.stream_fill("almanac", list[Germination], "\n".join(NOTES[:2])) as growing:
        for value in growing:
            if value and len(value) == 1 and "up" in value[0]:
                print("so far:", value)
                break
