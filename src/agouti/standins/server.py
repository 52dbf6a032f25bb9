"""Run the stand-ins on a free loopback port, in a thread of this process."""

import itertools
import os
import socket
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from uvicorn.protocols.http.h11_impl import H11Protocol

from .providers import STAND_INS, by_label

if TYPE_CHECKING:
    import asyncio

    from ..config.entries import Config


@dataclass
class Settings:
    """How the stand-ins behave.

    Attributes:
        seed: the same seed, the same answers.
        pace: seconds between the tokens of an answer.
    """

    seed: int = 1
    pace: float = 0.0
    _ids: Iterator[int] = field(default_factory=lambda: itertools.count(1))

    def next_id(self, kind: str) -> str:
        """An identifier for a reply."""
        return f"{kind}-{next(self._ids):06d}"


_connections: "dict[Any, asyncio.Transport]" = {}


class _Protocol(H11Protocol):
    """Remembers the transport of each connection, so that a fault can break it."""

    def connection_made(self, transport: "asyncio.Transport") -> None:  # type: ignore[override]
        super().connection_made(transport)
        _connections[self.client] = transport

    def connection_lost(self, exc: Exception | None) -> None:
        _connections.pop(self.client, None)
        super().connection_lost(exc)


def drop_connection(request: Request, *, reset: bool = False) -> None:
    """Break the connection of a request: close it, or reset it."""
    transport = _connections[(request.client.host, request.client.port)]  # type: ignore[union-attr]
    if reset:
        sock = transport.get_extra_info("socket")
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\1\0\0\0\0\0\0\0")
        transport.abort()
    else:
        transport.close()


def application(settings: Settings) -> Starlette:
    """All stand-ins as one ASGI application: ``/LABEL/...``."""
    from . import chat

    dialects = {"chat": chat}
    return Starlette(
        routes=[route for provider in STAND_INS for route in dialects[provider.dialect].routes(provider, settings)]
    )


class Served:
    """Running stand-ins.

    Attributes:
        port: where they listen on 127.0.0.1.
        environment: the variables with their keys.
    """

    def __init__(self, port: int) -> None:
        self.port = port
        self.environment = {each.variable: each.key for each in STAND_INS if each.key is not None}

    def address(self, label: str) -> str:
        """The base address of a provider."""
        return f"http://127.0.0.1:{self.port}/{label}{by_label(label).path}"

    @property
    def toml(self) -> str:
        """A configuration to paste into ``agouti.toml``."""
        return _TOML.format(port=self.port)

    @property
    def config(self) -> "Config":
        """That configuration, with the keys at hand."""
        import tomllib

        from ..config.load import load

        return load(tomllib.loads(self.toml), environment={**os.environ, **self.environment})


_TOML = """\
[providers.northbank]
address = "http://127.0.0.1:{port}/northbank/v1"
key = {{ env = "NORTHBANK_KEY" }}

[providers.shed]
address = "http://127.0.0.1:{port}/shed/v1"

[models.almanac]
provider = "northbank"
name = "quill-large"
system = "You answer growers' questions in two sentences."
parameters = {{ temperature = 0.2 }}
price = {{ input = 0.27, output = 0.81 }}

[models.almanac-local]
provider = "shed"
name = "loam-2b"
"""


@contextmanager
def serve(*, seed: int = 1, pace: float = 0.0, port: int = 0) -> Iterator[Served]:
    """Run the stand-ins while the block runs.

    Args:
        seed: the same seed, the same answers.
        pace: seconds between the tokens of an answer.
        port: the port; a free one by default.

    Raises:
        OSError: the port is taken.
    """
    # asyncio switches Nagle's algorithm off only where the protocol is named, and it delays small chunks by 40 ms.
    sock = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    sock.bind(("127.0.0.1", port))
    config = uvicorn.Config(
        application(Settings(seed, pace)),
        http=_Protocol,
        log_level="error",
        lifespan="off",
        access_log=False,
        timeout_graceful_shutdown=1,
        ws="none",
    )
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, kwargs={"sockets": [sock]}, name="agouti-standins", daemon=True)
    thread.start()
    try:
        until = time.monotonic() + 10
        while not server.started:
            if not thread.is_alive() or time.monotonic() > until:
                raise RuntimeError("the stand-ins did not start")
            time.sleep(0.002)
        yield Served(sock.getsockname()[1])
    finally:
        server.should_exit = True
        thread.join(5)
        sock.close()


def keys(environment: Mapping[str, str]) -> str:
    """The lines that set the keys in a shell."""
    return "\n".join(f"export {name}={value}" for name, value in environment.items())
