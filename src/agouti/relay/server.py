"""The relay as a server of its own: uvicorn on one address or socket file, in one process or several."""

import asyncio
import os
import signal
import socket
import stat
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from ipaddress import ip_address
from typing import Any

import uvicorn

from ..config.tables import RelaySettings
from ..core.errors import ConfigError
from . import connection
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


def bound_file(path: str) -> socket.socket:
    """A socket at a file, which its owner alone can reach.

    Raises:
        ConfigError: the file cannot be used.
    """
    if not hasattr(socket, "AF_UNIX"):
        raise ConfigError("this system has no socket files", hint="Leave --unix out, and take --host and --port.")
    sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    before = os.umask(0o177)
    try:
        if _is_left(path):
            os.unlink(path)
        sock.bind(path)
    except OSError as error:
        sock.close()
        raise ConfigError(
            f"{path} cannot be used ({error.strerror or error})",
            hint="Another relay may listen there; name another file in a folder that you can write to.",
        ) from None
    finally:
        os.umask(before)
    return sock


def _is_left(path: str) -> bool:
    """Whether a socket file was left by a program that listens there no more."""
    try:
        if not stat.S_ISSOCK(os.stat(path).st_mode):
            return False
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as probe:
            probe.settimeout(1.0)
            probe.connect(path)
    except ConnectionRefusedError:
        return True
    except OSError:
        return False
    return False


def listening(relay: Relay, host: str, port: int, unix: str = "") -> socket.socket:
    """The socket that a relay is to serve, once all that can be wrong has been looked at.

    Raises:
        ConfigError: the address cannot be used, or reaches beyond this machine and there is no access token.
    """
    if not unix and not is_loopback(host) and not relay.tokens.tokens():
        raise ConfigError(
            f"{host} is reached from other machines, and there is no access token yet",
            hint="Make one first: agouti relay token NAME",
        )
    _ = relay.client  # what is wrong with the configuration is said before anybody calls
    return bound_file(unix) if unix else bound(host, port)


def serve(relay: Relay, host: str, port: int, ready: Callable[[str], None]) -> None:
    """Serve at an address until told to stop: see `serve_socket`.

    Raises:
        ConfigError: the address cannot be used, or reaches beyond this machine and there is no access token.
    """
    serve_socket(relay, listening(relay, host, port), ready)


def serve_socket(relay: Relay, sock: socket.socket, ready: Callable[[str], None]) -> None:
    """Serve until told to stop (Ctrl-C, SIGTERM): calls under way may come to their end.

    SIGHUP reads the configuration again; from a terminal that closes it stops the relay.

    Args:
        sock: bound, see `listening`.
        ready: is called with the address once it is listened at.
    """
    _more_descriptors(relay.settings.connections)
    server = bound_socket(relay, lambda: ready(address_of(sock)), relay.stop, None if _at_terminal() else relay.reload)
    try:
        server.run(sockets=[sock])
    finally:
        sock.close()


def _at_terminal() -> bool:
    return any(each is not None and each.isatty() for each in (sys.stdin, sys.stderr))


def _more_descriptors(connections: int) -> None:
    """Let the process have as many files open as connections need, as far as it may."""
    try:
        import resource
    except ImportError:  # no such limits on this system
        return
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    needed = 2 * connections + 256
    if soft != resource.RLIM_INFINITY and soft < needed:
        limit = needed if hard == resource.RLIM_INFINITY else min(needed, hard)
        with suppress(ValueError, OSError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (limit, hard))


def address_of(sock: socket.socket) -> str:
    """The address that a socket listens at, as callers write it; the file of one that has a file."""
    address = sock.getsockname()
    if isinstance(address, str):
        return f"unix:{address}"
    return f"http://[{address[0]}]:{address[1]}" if ":" in address[0] else f"http://{address[0]}:{address[1]}"


def bound_socket(
    application: Any,
    ready: Callable[[], None],
    stops: Callable[[], None] | None = None,
    reload: Callable[[], object] | None = None,
) -> uvicorn.Server:
    """The server of a relay, or of an application that has mounted one.

    Args:
        ready: is called once it listens.
        stops: is called when it is told to stop.
        reload: is called at SIGHUP; it stops the server where there is none.
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
        timeout_keep_alive=round(connection._IDLE_SECONDS),
    )
    return _Server(config, ready, stops, reload)


class _Server(uvicorn.Server):
    """Tells when it listens, and when it is told to stop."""

    def __init__(
        self,
        config: uvicorn.Config,
        ready: Callable[[], None],
        stops: Callable[[], None] | None = None,
        reload: Callable[[], object] | None = None,
    ) -> None:
        super().__init__(config)
        self._ready = ready
        self._stops = stops
        self._reload = reload
        self._loop: asyncio.AbstractEventLoop | None = None

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        self._loop = asyncio.get_running_loop()
        if self.started:
            self._ready()

    @contextmanager
    def capture_signals(self) -> Iterator[None]:
        """A terminal that closes stops it as gracefully as Ctrl-C does; a service manager has it reload."""
        hangup = getattr(signal, "SIGHUP", None)
        with super().capture_signals():
            if hangup is None or threading.current_thread() is not threading.main_thread():
                yield
                return
            before = signal.signal(hangup, self._hung_up)
            try:
                yield
            finally:
                signal.signal(hangup, before)

    def _hung_up(self, sig: int, frame: Any) -> None:
        if self._reload is None or self._loop is None:
            self.handle_exit(sig, frame)
        else:
            self._loop.call_soon_threadsafe(self._reload)

    def handle_exit(self, sig: int, frame: Any) -> None:
        super().handle_exit(sig, frame)
        self._captured_signals.clear()  # told to stop, and stopping: no signal more at the end
        if self._loop is not None and self._stops is not None:
            self._loop.call_soon_threadsafe(self._stops)
