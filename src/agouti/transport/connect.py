"""A connection to a host by name, within one limit for the look-up and all of its addresses together."""

import socket
import threading
import time
from collections.abc import Iterable
from typing import Any

from .public_addresses import is_address


def connected(host: str, port: int, seconds: float | None, options: Iterable[Any] = ()) -> socket.socket:
    """A socket that is connected to a host, by whichever of its addresses answers first in their order.

    Raises:
        socket.gaierror: there is no such host.
        TimeoutError: it took too long.
        OSError: no address can be reached.
    """
    until = None if seconds is None else time.monotonic() + seconds
    failure: OSError | None = None
    for family, kind, protocol, _, address in addresses_of(host, port, seconds):
        remaining = None if until is None else until - time.monotonic()
        if remaining is not None and remaining <= 0:
            break
        sock = None
        try:
            sock = socket.socket(family, kind, protocol)
            for option in options:
                sock.setsockopt(*option)
            sock.settimeout(remaining)
            sock.connect(address)
        except OSError as error:
            failure = error
            if sock is not None:
                sock.close()
        else:
            sock.settimeout(seconds)
            return sock
    raise failure or TimeoutError("no connection in time")


def addresses_of(host: str, port: int, seconds: float | None) -> list[Any]:
    """What a name stands for; the look-up itself cannot be stopped, so a thread of its own waits for it.

    Raises:
        socket.gaierror: there is no such host.
        TimeoutError: it took too long.
    """
    if seconds is None or is_address(host):
        return socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    outcome: list[Any] = []

    def look_up() -> None:
        try:
            outcome.append(socket.getaddrinfo(host, port, type=socket.SOCK_STREAM))
        except (OSError, UnicodeError) as error:
            outcome.append(error)

    thread = threading.Thread(target=look_up, name="agouti-look-up", daemon=True)
    thread.start()
    thread.join(seconds)
    if not outcome:
        raise TimeoutError("the name was not looked up in time")
    if isinstance(outcome[0], UnicodeError):
        raise socket.gaierror(socket.EAI_NONAME, "no name of a host")
    if isinstance(outcome[0], BaseException):
        raise outcome[0]
    found: list[Any] = outcome[0]
    return found
