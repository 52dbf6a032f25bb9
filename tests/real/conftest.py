"""The real server's slots share one small context: its tests take turns, whichever process runs them."""

import fcntl
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest


@pytest.fixture(autouse=True)
def one_at_a_time() -> Iterator[None]:
    """Wait for the tests of other processes."""
    with Path(tempfile.gettempdir(), "agouti-real-server.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """A model on two cores takes its time, and so does the wait for one's turn."""
    here = Path(__file__).parent
    for item in items:
        if item.path.is_relative_to(here):
            item.add_marker(pytest.mark.timeout(1200))
