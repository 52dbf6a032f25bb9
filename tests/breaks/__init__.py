"""Changes that break a promise of the documentation each, by part; `tests/broken_promises.py` makes them."""

import tomllib
from pathlib import Path

from msgspec import Struct, convert


class Row(Struct, frozen=True):
    """A change of one place in the source, the promise that it breaks, and the tests that have to notice.

    Attributes:
        file: below ``src/agouti``.
        before, after: what stands there, and what takes its place.
        tests: for pytest, from the root of the checkout.
    """

    promise: str
    file: str
    before: str
    after: str
    tests: str


ROWS = {
    each.stem: convert(tomllib.loads(each.read_text(encoding="utf-8"))["break"], list[Row])
    for each in sorted(Path(__file__).parent.glob("*.toml"))
}
