"""The relay as a server of its own: uvicorn on one address, stopped gracefully."""

import asyncio
import signal
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from ipaddress import ip_address
from typing import Any

import uvicorn

from ..config.singles import RelaySettings
from ..core.errors import ConfigError
from .application import Relay
from .connection import connections_of


def is_loopback(host: str) -> bool:
    """Whether only programs on this machine reach an address.

    >>> is_loopback("127.0.0.1"), is_loopback("localhost"), is_loopback("0.0.0.0")
    (True, True, False)
    """
    if host == "localhost":
        return True
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return False


def bound(host: str, port: int) -> socket.socket:
    """A socket at an address, before anything else is begun.

    Raises:
        ConfigError: the address cannot be used.
    """
    try:
        family, kind, proto, _, address = socket.getaddrinfo(
            host, port, type=socket.SOCK_STREAM, flags=socket.AI_PASSIVE
        )[0]
        sock = socket.socket(family, kind, proto)
        try:
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            sock.bind(address)
        except OSError:
            sock.close()
            raise
    except OSError as error:
        raise ConfigError(
            f"{host}:{port} cannot be used ({error.strerror or error})",
            hint="Something else may listen there: give another --port, or 0 for a free one.",
        ) from None
    return sock


def serve(relay: Relay, host: str, port: int, ready: Callable[[str], None]) -> None:
    """Serve until told to stop (Ctrl-C, SIGTERM, SIGHUP): calls under way may come to their end.

    Args:
        ready: is called with the address once it is listened at.

    Raises:
        ConfigError: the address cannot be used, or reaches beyond this machine and there is no access token.
    """
    if not is_loopback(host) and not relay.tokens.tokens():
        raise ConfigError(
            f"{host} is reached from other machines, and there is no access token yet",
            hint="Make one first: agouti relay token NAME",
        )
    _ = relay.client  # what is wrong with the configuration is said before anybody calls
    sock = bound(host, port)
    server = made(relay, lambda: ready(address_of(sock)), relay.seen.close)
    try:
        server.run(sockets=[sock])
    finally:
        sock.close()


def address_of(sock: socket.socket) -> str:
    """The address that a socket listens at, as callers write it."""
    here = sock.getsockname()
    return f"http://[{here[0]}]:{here[1]}" if ":" in here[0] else f"http://{here[0]}:{here[1]}"


def made(application: Any, ready: Callable[[], None], stops: Callable[[], None] | None = None) -> uvicorn.Server:
    """The server of a relay, or of an application that has mounted one.

    Args:
        ready: is called once it listens.
        stops: is called when it is told to stop.
    """
    settings = application.settings if isinstance(application, Relay) else RelaySettings()
    config = uvicorn.Config(
        application,
        http=connections_of(settings),
        ws="none",
        lifespan="on",
        log_config=None,
        access_log=False,
        server_header=False,
        date_header=False,
        proxy_headers=False,
        timeout_graceful_shutdown=max(1, round(settings.drain_seconds)),
        timeout_keep_alive=75,
    )
    return _Server(config, ready, stops)


class _Server(uvicorn.Server):
    """Tells when it listens, and when it is told to stop."""

    def __init__(
        self, config: uvicorn.Config, ready: Callable[[], None], stops: Callable[[], None] | None = None
    ) -> None:
        super().__init__(config)
        self._ready = ready
        self._stops = stops
        self._loop: asyncio.AbstractEventLoop | None = None

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        self._loop = asyncio.get_running_loop()
        if self.started:
            self._ready()

    @contextmanager
    def capture_signals(self) -> Iterator[None]:
        """A terminal that closes, and a service manager that reloads, stop it as gracefully as Ctrl-C does."""
        hangup = getattr(signal, "SIGHUP", None)
        with super().capture_signals():
            if hangup is None or threading.current_thread() is not threading.main_thread():
                yield
                return
            before = signal.signal(hangup, self.handle_exit)
            try:
                yield
            finally:
                signal.signal(hangup, before)

    def handle_exit(self, sig: int, frame: Any) -> None:
        super().handle_exit(sig, frame)
        self._captured_signals.clear()  # told to stop, and stopping: no signal more at the end
        if self._loop is not None and self._stops is not None:
            self._loop.call_soon_threadsafe(self._stops)
