"""The pytest plugin, found by its entry point: fixtures and markers for tests of applications."""

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

if TYPE_CHECKING:
    from ..standins.server import Served
    from .script import Script, Sent


_GUARD: "pytest.StashKey[Any]" = pytest.StashKey()
_RENEWED: "pytest.StashKey[dict[Path, bool]]" = pytest.StashKey()
_ARCHIVE: "pytest.StashKey[Path]" = pytest.StashKey()


def pytest_addoption(parser: pytest.Parser) -> None:
    """Options of the command line and of the ini file."""
    group = parser.getgroup("agouti")
    group.addoption(
        "--agouti-archives",
        choices=("replay", "extend", "renew"),
        default="replay",
        help="Archives of tests: answer from them alone, record what is new as well, or record all anew.",
    )
    parser.addini("agouti_offline", "No test may ask anything but this machine.", type="bool", default=False)


def pytest_configure(config: pytest.Config) -> None:
    """The markers."""
    config.addinivalue_line("markers", 'agouti_archive(path): answer from an HTTP Archive, such as "replies.har".')
    config.addinivalue_line("markers", "agouti_offline: this test may ask nothing but this machine.")


def pytest_sessionstart(session: pytest.Session) -> None:
    """From the first fixture to the last one, and in the programs that tests start, nothing goes out."""
    if session.config.getini("agouti_offline"):
        from contextlib import ExitStack

        from ..transport.test_override import OFFLINE
        from .network import Offline
        from .script import standing_in

        guard = Offline()
        stack = session.config.stash[_GUARD] = ExitStack()
        stack.enter_context(standing_in(guard))
        stack.enter_context(pytest.MonkeyPatch.context()).setenv(OFFLINE, "1")


def pytest_sessionfinish(session: pytest.Session) -> None:
    """The session is over: what was recorded anew takes its place, where all tests that use it ended well."""
    from .network import place_renewed

    for path, well in session.config.stash.get(_RENEWED, {}).items():
        place_renewed(path, well)
    if (stack := session.config.stash.get(_GUARD, None)) is not None:
        stack.close()


def pytest_runtest_makereport(item: pytest.Item, call: "pytest.CallInfo[None]") -> None:
    """What a test that failed has recorded replaces nothing."""
    path = item.stash.get(_ARCHIVE, None)
    if path is not None and call.excinfo is not None and not call.excinfo.errisinstance(pytest.skip.Exception):
        item.config.stash[_RENEWED][path] = False


@pytest.fixture(autouse=True)
def _agouti_network(request: pytest.FixtureRequest) -> Iterator[None]:
    """What the markers of a test say of the network."""
    archive = request.node.get_closest_marker("agouti_archive")
    guarded = request.config.getini("agouti_offline") or request.node.get_closest_marker("agouti_offline") is not None
    if archive is None and not guarded:
        yield
        return
    from contextlib import ExitStack

    from .network import archived, offline, renewing

    with ExitStack() as stack:
        if guarded:
            stack.enter_context(offline())
        if archive is not None:
            if len(archive.args) != 1 or not isinstance(archive.args[0], str):
                raise pytest.UsageError('agouti_archive takes one path: @pytest.mark.agouti_archive("replies.har")')
            path = request.path.parent / archive.args[0]
            mode = request.config.getoption("--agouti-archives")
            renewed = request.config.stash.setdefault(_RENEWED, {})
            if mode == "renew":  # several tests may share it: it is put in place when all are over
                request.node.stash[_ARCHIVE] = path
                path, mode = renewing(path, renewed), "extend"
            stack.enter_context(archived(path, mode))
        yield


@pytest.fixture
def scripted() -> "Iterator[Script]":
    """A script that answers for all models, in all clients: see `agouti.testing.Script`."""
    from .script import scripted

    with scripted() as script:
        yield script


@pytest.fixture
def sent() -> "Iterator[list[Sent]]":
    """What all clients ask during the test, in order, whoever answers it."""
    from .network import watched

    with watched() as requests:
        yield requests


@pytest.fixture(scope="session")
def providers() -> "Iterator[Served]":
    """The simulated providers, running for the session; ``agouti.Client(providers.config)`` reaches them."""
    from ..standins.server import serve

    with serve() as served:
        yield served
