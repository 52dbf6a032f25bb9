"""For tests of applications: no network, no keys, no cost.

`FakeTransport` answers with what it is given. For real HTTP against simulated providers there is a pytest
fixture: write ``pytest_plugins = ["agouti.testing.fixtures"]`` into ``conftest.py`` and use ``providers``.
"""

from .fake import AsyncFakeTransport, FakeTransport

__all__ = ["AsyncFakeTransport", "FakeTransport"]
