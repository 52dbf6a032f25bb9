"""Public addresses: where a request for a stranger may go, and where not."""

import ipaddress
import socket
from collections.abc import Iterable

from ..core.http import TransportFailure


def public_addresses(host: str, port: int) -> list[str]:
    """The addresses of a host, none of which is of this machine or a private network.

    Raises:
        TransportFailure: there is no such host, or one of its addresses is private.
    """
    try:
        resolved = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError) as error:
        failure = TransportFailure("dns", str(error))
    else:
        return checked(str(each[4][0]) for each in resolved)
    raise failure


def checked(addresses: Iterable[str]) -> list[str]:
    """The same addresses.

    Raises:
        TransportFailure: one of them is private.
    """
    kept = list(addresses)
    for each in kept:
        if not ipaddress.ip_address(each.partition("%")[0]).is_global:
            raise TransportFailure("private", each)
    return kept


def is_address(host: str) -> bool:
    """Whether a host is written as an address and not as a name."""
    try:
        ipaddress.ip_address(host.strip("[]").partition("%")[0])
    except ValueError:
        return False
    return True
