"""One break of a promise."""

from typing import NamedTuple


class Row(NamedTuple):
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
