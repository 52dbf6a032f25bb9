"""Public addresses: where a request for a stranger may go, and where not."""

import ipaddress
import socket
from collections.abc import Iterable

from ..core.http.exchange import TransportFailure


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
    public = list(addresses)
    for each in public:
        if not _is_public(ipaddress.ip_address(each.partition("%")[0])):
            raise TransportFailure("private", each)
    return public


# Addresses of the older kind within one of the newer: translators and tunnels lead there.
_WITHIN = (("64:ff9b::/96", 0), ("64:ff9b:1::/48", 0), ("2002::/16", 80), ("::/96", 0))


def _is_public(address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> bool:
    """Whether everybody can reach an address."""
    if not address.is_global or address.is_multicast or address.is_reserved:
        return False
    if isinstance(address, ipaddress.IPv6Address):
        if address.is_site_local or address.teredo is not None:
            return False
        for network, shift in _WITHIN:
            if address in ipaddress.ip_network(network):
                return _is_public(ipaddress.ip_address(int(address) >> shift & 0xFFFFFFFF))
    return True


def is_address(host: str) -> bool:
    """Whether a host is written as an address and not as a name."""
    try:
        ipaddress.ip_address(host.strip("[]").partition("%")[0])
    except ValueError:
        return False
    return True
