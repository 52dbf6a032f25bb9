"""Run the stand-ins on a free loopback port, in a thread of this process."""

import os
import socket
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import uvicorn
from starlette.applications import Starlette
from starlette.types import ASGIApp, Scope
from uvicorn.protocols.http.h11_impl import H11Protocol

from . import (
    chat,
    contents,
    converse,
    jobs,
    lines,
    messages,
    predict,
    prompt,
    responses,
    tokens,
)
from . import (
    unknown_format as board,
)
from .faults import Faulty
from .providers import STAND_INS, by_label
from .quotas import Books, Counted, Quota
from .settings import Settings

if TYPE_CHECKING:
    import asyncio

    from ..config.entries import Config


_connections: "dict[Any, asyncio.Transport]" = {}


class _Protocol(H11Protocol):
    """Remembers the transport of each connection, so that a fault can break it."""

    def connection_made(self, transport: "asyncio.Transport") -> None:  # type: ignore[override]
        super().connection_made(transport)
        _connections[self.client] = transport

    def connection_lost(self, exc: Exception | None) -> None:
        _connections.pop(self.client, None)
        super().connection_lost(exc)


def _drop_connection(scope: Scope, hard: bool) -> None:
    """Break the connection of a request: close it, or (hard) reset it."""
    transport = _connections[tuple(scope["client"])]
    if hard:
        sock = transport.get_extra_info("socket")
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\1\0\0\0\0\0\0\0")
        transport.abort()
    else:
        transport.close()


def application(settings: Settings) -> ASGIApp:
    """All stand-ins as one ASGI application: ``/LABEL/...``."""
    dialects = {
        "board": board,
        "chat": chat,
        "contents": contents,
        "converse": converse,
        "jobs": jobs,
        "lines": lines,
        "messages": messages,
        "predict": predict,
        "prompt": prompt,
        "responses": responses,
    }
    routes = [route for provider in STAND_INS for route in dialects[provider.dialect].routes(provider, settings)]
    routes += [route for provider in STAND_INS for route in tokens.routes(provider)]
    return Faulty(Starlette(routes=routes), _drop_connection)


class Served:
    """Running stand-ins.

    Attributes:
        port: where they listen on 127.0.0.1.
        environment: the variables with their keys.
        books: what they have counted: requests, and tokens.
    """

    def __init__(self, port: int, books: Books) -> None:
        self.port = port
        self.books = books
        self.environment = self.keys()

    @property
    def labels(self) -> tuple[str, ...]:
        """The providers that run."""
        return tuple(each.label for each in STAND_INS)

    def keys(self, labels: tuple[str, ...] | None = None) -> dict[str, str]:
        """The variables with the keys of some providers, or of all."""
        return {
            name: key
            for each in STAND_INS
            if labels is None or each.label in labels
            for name, key in each.variables.items()
        }

    def address(self, label: str) -> str:
        """The base address of a provider."""
        return f"http://127.0.0.1:{self.port}/{label}{by_label(label).path}"

    @property
    def toml(self) -> str:
        """A configuration to paste into ``agouti.toml``: the first two providers, and two labels."""
        return "\n".join([*(self.entry(label) for label in ("northbank", "shed")), _MODELS])

    def entry(self, label: str) -> str:
        """The configuration of one provider."""
        settings = by_label(label).settings.replace("{origin}", f"http://127.0.0.1:{self.port}")
        dialect = by_label(label).dialect
        named = "" if dialect == "chat" else f'dialect = "{dialect}"\n'
        return f'[providers.{label}]\naddress = "{self.address(label)}"\n{named}{settings}'

    @property
    def config(self) -> "Config":
        """A configuration of all providers and the same labels, with the keys at hand."""
        import tomllib

        from ..config.load import load

        entries = [self.entry(each.label) for each in STAND_INS]
        return load(tomllib.loads("\n".join([*entries, _MODELS])), environment={**os.environ, **self.environment})


_MODELS = """\
[models.almanac]
provider = "northbank"
name = "quill-large"
system = "You answer growers' questions in two sentences."
parameters = { temperature = 0.2 }
price = { input = 0.27, output = 0.81, currency = "USD" }

[models.finder]
provider = "northbank"
name = "petal-embed"
price = { input = 0.02, output = 0.0, currency = "USD" }

[models.almanac-local]
provider = "shed"
name = "loam-2b"
"""


@contextmanager
def serve(
    *,
    seed: int = 1,
    pace: float = 0.0,
    port: int = 0,
    quotas: Mapping[str, Quota] | None = None,
    deferred: float = 0.3,
) -> Iterator[Served]:
    """Run the stand-ins while the block runs.

    Args:
        seed: the same seed, the same answers.
        pace: seconds between the tokens of an answer.
        port: the port; a free one by default.
        quotas: by label of the provider, what it allows.
        deferred: seconds that a deferred batch takes.

    Raises:
        OSError: the port is taken.
    """
    # asyncio switches Nagle's algorithm off only where the protocol is named, and it delays small chunks by 40 ms.
    sock = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    sock.bind(("127.0.0.1", port))
    books = Books()
    config = uvicorn.Config(
        Counted(application(Settings(seed, pace, deferred)), quotas or {}, books),
        http=_Protocol,
        log_level="critical",
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
        yield Served(sock.getsockname()[1], books)
    finally:
        server.should_exit = True
        thread.join(5)
        sock.close()


def keys(environment: Mapping[str, str]) -> str:
    """The lines that set the keys in a shell."""
    return "\n".join(f"export {name}={value}" for name, value in environment.items())
