"""Fetch a picture from its address, for formats that take only the picture itself.

The address comes from whoever wrote the prompt, so it is treated as a stranger's: it must not reach into the
network that this program stands in, lead elsewhere, or send without end.
"""

import ipaddress
import socket
from urllib.parse import urlsplit

from ..core.errors import RequestError
from ..core.media import MOST_BYTES, media_type_of

_SECONDS = 20.0


def fetch_picture(address: str, *, private: bool = False) -> tuple[str, bytes]:
    """Media type and bytes of the picture at an address.

    Args:
        private: allow addresses of this machine and of private networks.

    Raises:
        RequestError: it cannot be had, is not a picture, or stands where it may not be fetched from.
    """
    import urllib3

    parts = urlsplit(address)
    host = parts.hostname or ""
    port = parts.port or (443 if parts.scheme == "https" else 80)
    shown = address.partition("?")[0]
    place = _resolved(host, port, shown, private)
    path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    timeout = urllib3.Timeout(connect=10.0, read=_SECONDS)
    pool: urllib3.HTTPConnectionPool
    # Connected to the very address that was looked at: a name could lead elsewhere the next moment.
    if parts.scheme == "https":
        pool = urllib3.HTTPSConnectionPool(place, port, timeout=timeout, server_hostname=host, assert_hostname=host)
    else:
        pool = urllib3.HTTPConnectionPool(place, port, timeout=timeout)
    try:
        with pool:
            reply = pool.urlopen(
                "GET",
                path,
                headers={"host": parts.netloc.rpartition("@")[2], "user-agent": "agouti", "accept": "image/*"},
                redirect=False,
                retries=False,
                preload_content=False,
            )
            data = reply.read(MOST_BYTES + 1)
            reply.close()
    except urllib3.exceptions.HTTPError as error:
        raise RequestError(
            f"the picture {shown} cannot be fetched: {error}", hint="Fetch it yourself and pass the bytes."
        ) from None
    if reply.status != 200:
        where = reply.headers.get("location", "").partition("?")[0]
        raise RequestError(
            f"the picture {shown} cannot be fetched: HTTP {reply.status}" + (f", it is at {where}" if where else ""),
            hint="Give the address where it is." if where else "Check the address.",
        )
    return media_type_of(data, shown), data


def _resolved(host: str, port: int, shown: str, private: bool) -> str:
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError) as error:
        raise RequestError(f"there is no host {host!r} ({error})", hint="Check the address of the picture.") from None
    addresses = [str(each[4][0]) for each in found]
    if not private:
        for each in addresses:
            if not ipaddress.ip_address(each.partition("%")[0]).is_global:
                raise RequestError(
                    f"the picture {shown} stands in a private network ({each}): it is not fetched",
                    hint='Fetch it yourself and pass the bytes, or say fetch_images="private".',
                )
    return addresses[0]
