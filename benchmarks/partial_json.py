"""What reading a growing JSON document costs: in pieces of 10 bytes, at several lengths; and decoding it once."""

import json
import sys
from time import perf_counter

import measure
import msgspec

from agouti.core.json.partial import PartialReader


def document(size: int, *, one_text: bool) -> str:
    """A document of about so many bytes: many small values, or one long text."""
    if one_text:
        return json.dumps({"letter": "Broad beans go in from late October. " * (size // 37)})
    row = {"crop": "broad bean", "sown": 24, "up": 18, "note": "from the shelf at Marsh Lane"}
    return json.dumps([row] * (size // len(json.dumps(row))))


def seconds(text: str, piece: int) -> float:
    """Read it in pieces, looking at the value after each."""
    reader = PartialReader()
    started = perf_counter()
    for place in range(0, len(text), piece):
        reader.feed(text[place : place + piece])
    taken = perf_counter() - started
    if not reader.complete or reader.value != json.loads(text):
        raise AssertionError("the document was not read")
    return taken


def main() -> int:
    """Measure lengths that double."""
    options = measure.parser(__doc__)
    options.add_argument("--most", type=int, default=1_000_000)
    options.add_argument("--piece", type=int, default=10)
    given = options.parse_args()
    bounds = measure.Bounds(judged=not given.smoke)
    for one_text in (False, True):
        print("one long text" if one_text else "many small values")
        before = 0.0
        for size in (given.most // 4, given.most // 2, given.most):
            text = document(size, one_text=one_text)
            taken = min(seconds(text, given.piece) for _ in range(3))
            started = perf_counter()
            msgspec.json.decode(text.encode())
            once = perf_counter() - started
            growth = f"{taken / before:5.2f} x the half" if before else ""
            cost = f"{taken:6.2f} s {taken / len(text) * 1e9:6.0f} ns/byte"
            print(f"  {len(text) / 1e6:5.2f} MB {cost}  {growth:18s} decoded once: {once * 1e3:.1f} ms")
            if before:
                bounds.at_most(f"{size} bytes against the half", taken / before, 2.6)
            before = taken
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
