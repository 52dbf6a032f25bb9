"""The table of hostile behaviours, row by row: every kind of call, with both clients."""

from concurrent.futures import ThreadPoolExecutor

import pytest

from .behaviours import ROWS, Row
from .outcomes import DRIVERS, KINDS, outcome


@pytest.mark.parametrize("row", ROWS, ids=[f"{number} {row.does}" for number, row in enumerate(ROWS)])
def test_every_call_ends_as_the_table_says(row: Row) -> None:
    wanted = {kind: row.streams if kind == "stream" else row.ends for kind in KINDS}
    with ThreadPoolExecutor(8) as pool:
        found = {
            (kind, driver): pool.submit(outcome, row.stream if kind == "stream" else row.whole, kind, driver, row.total)
            for kind in KINDS
            for driver in DRIVERS
            if wanted[kind] != "-"
        }
    assert {key: each.result() for key, each in found.items()} == {key: wanted[key[0]] for key in found}
