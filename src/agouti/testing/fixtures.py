"""Pytest fixtures: ``pytest_plugins = ["agouti.testing.fixtures"]`` in ``conftest.py``."""

from collections.abc import Iterator

import pytest

from ..standins.server import Served, serve


@pytest.fixture(scope="session")
def providers() -> Iterator[Served]:
    """The simulated providers, running for the session; ``agouti.Client(providers.config)`` reaches them."""
    with serve() as served:
        yield served
