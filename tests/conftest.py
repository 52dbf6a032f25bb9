"""Running stand-ins, and one way to call both clients."""

import asyncio
import importlib.util
import marshal
import os
import pkgutil
import signal
import uuid
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import psycopg
import pytest
from hypothesis import HealthCheck, settings

import agouti
from agouti.standins import Served, serve

from .servers import Server, postgres_server, redis_server

# A loaded machine must not fail a property. By itself the same examples are tried every time, so that a red run is about
# the change; `--hypothesis-profile nightly` tries many more, by chance.
settings.register_profile(
    "agouti", deadline=None, suppress_health_check=[HealthCheck.too_slow], derandomize=True, max_examples=40
)
settings.register_profile(
    "nightly", deadline=None, suppress_health_check=[HealthCheck.too_slow], max_examples=2000, print_blob=True
)
settings.load_profile("agouti")
# Some runners start programs with it ignored, and so would all that the tests start.
signal.signal(signal.SIGINT, signal.default_int_handler)

ROOT = Path(__file__).parent.parent

if os.environ.get("PYTEST_XDIST_WORKER"):
    # pytest parses the modules of a plugin; CPython 3.11 cannot do that in two threads at once (SystemError "AST
    # constructor recursion depth mismatch"): in long runs, all that is loaded late is loaded before there are threads.
    for _module in pkgutil.walk_packages(agouti.__path__, "agouti."):
        if not _module.name.endswith("__main__"):
            with suppress(ImportError):  # what an extra would bring
                importlib.import_module(_module.name)


def pytest_sessionfinish(session: pytest.Session) -> None:
    """No test leaves bytecode behind that cannot be read: every later use of the checkout would fail by it."""
    if hasattr(session.config, "workerinput"):
        return
    torn = [path for folder in ("src", "tests") for path in (ROOT / folder).rglob("*.py") if not _is_whole(path)]
    if torn:
        print(f"\nbytecode that cannot be read: {', '.join(map(str, torn))}")
        session.exitstatus = pytest.ExitCode.TESTS_FAILED


def _is_whole(source: Path) -> bool:
    """Whether the bytecode of a module, where there is some, can be read."""
    compiled = Path(importlib.util.cache_from_source(str(source)))
    try:
        return not compiled.exists() or bool(marshal.loads(compiled.read_bytes()[16:]))
    except (EOFError, ValueError, TypeError):
        return False


@pytest.fixture(scope="session")
def served() -> Iterator[Served]:
    with serve() as running:
        yield running


@pytest.fixture(autouse=True)
def _own_folder(tmp_path: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """No test sees the configuration, the keys or the proxies of whoever runs it."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "user"))
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    for name in list(os.environ):
        if name.startswith(("AGOUTI__", "AGOUTI_CONFIG")) or name.endswith("_KEY") or name.lower().endswith("_proxy"):
            monkeypatch.delenv(name)


class Caller:
    """The same call through `Client` or `AsyncClient`."""

    def __init__(self, kind: str) -> None:
        self.kind = kind

    def ask(self, config: Any, label: str, prompt: Any, **options: Any) -> agouti.Reply:
        if self.kind == "sync":
            with agouti.Client(config) as client:
                return client.ask(label, prompt, **options)

        async def go() -> agouti.Reply:
            async with agouti.AsyncClient(config) as client:
                return await client.ask(label, prompt, **options)

        return asyncio.run(go())

    def stream(self, config: Any, label: str, prompt: Any, **options: Any) -> tuple[list[Any], agouti.Reply]:
        """All events, and the reply at the end."""
        if self.kind == "sync":
            with agouti.Client(config) as client, client.stream(label, prompt, **options) as stream:
                return list(stream.events()), stream.reply

        async def go() -> tuple[list[Any], agouti.Reply]:
            async with agouti.AsyncClient(config) as client, client.stream(label, prompt, **options) as stream:
                return [event async for event in stream.events()], stream.reply

        return asyncio.run(go())

    def call(self, kind: str, *arguments: Any, **options: Any) -> agouti.Reply:
        """The reply of either kind of call."""
        if kind == "ask":
            return self.ask(*arguments, **options)
        return self.stream(*arguments, **options)[1]


@pytest.fixture(params=["sync", "async"])
def caller(request: pytest.FixtureRequest) -> Caller:
    return Caller(request.param)


@pytest.fixture(scope="session")
def postgres() -> Iterator[Server]:
    with postgres_server() as running:
        yield running


@pytest.fixture
def database(postgres: Server) -> Iterator[str]:
    """The address of a PostgreSQL database of the test's own."""
    name = f"t{uuid.uuid4().hex}"
    with psycopg.connect(postgres.address, autocommit=True) as connection:
        connection.execute(f"CREATE DATABASE {name}")
        yield postgres.address.replace("/postgres", f"/{name}")
        connection.execute(f"DROP DATABASE {name} WITH (FORCE)")


@pytest.fixture(scope="session")
def redis() -> Iterator[Server]:
    with redis_server() as running:
        yield running
