"""Where ledgers are."""

from pathlib import Path

import pytest


@pytest.fixture(params=["sqlite", "postgresql"])
def store(request: pytest.FixtureRequest, tmp_path: Path) -> str:
    """Where a ledger is: a file, or a database of a real server."""
    made: str = str(tmp_path / "usage.sqlite") if request.param == "sqlite" else request.getfixturevalue("database")
    return made
