"""Proxies on the way, as the environment names them: the same rules for both transports.

``HTTPS_PROXY``, ``HTTP_PROXY`` and ``ALL_PROXY`` (or in small letters) by the scheme of the address; ``NO_PROXY`` lists
hosts, domains, ``HOST:PORT`` and networks (``10.0.0.0/8``) that are reached directly. This machine always is.
"""

import ipaddress
from base64 import b64encode
from collections.abc import Mapping
from urllib.parse import unquote, urlsplit

from msgspec import Struct

from ..core.http.address import is_local
from ..core.http.exchange import TransportFailure
from ..core.secrets.secret import Secret, SecretText

_PORTS = {"http": 80, "https": 443}


class Proxy(Struct, frozen=True):
    """A proxy.

    Attributes:
        address: scheme, host and port, without user name and password.
        user, password: what it wants to know; `None` where it wants neither.
    """

    address: str
    user: str | None = None
    password: Secret | None = None

    @property
    def authorization(self) -> SecretText | None:
        """Value of the header that has user and password."""
        if self.user is None or self.password is None:
            return None
        return SecretText(f"Basic {b64encode(f'{self.user}:{self.password.reveal()}'.encode()).decode()}")


class Proxies:
    """The proxies of an environment. Empty variables are none."""

    def __init__(self, environment: Mapping[str, str]) -> None:
        named = {name.lower(): value.strip() for name, value in environment.items() if name.lower().endswith("_proxy")}
        if "REQUEST_METHOD" in environment:
            # In a server that runs programs for requests, this variable is a header that anybody can send.
            named.pop("http_proxy", None)
        self._named = {name: value for name, value in named.items() if value}
        self._direct = [each.strip().lower() for each in self._named.pop("no_proxy", "").split(",") if each.strip()]

    def __bool__(self) -> bool:
        return bool(self._named)

    def of(self, origin: str) -> Proxy | None:
        """The proxy for an address; `None`: it is reached directly.

        Raises:
            TransportFailure: the variable names no proxy that can be used.
        """
        parts = urlsplit(origin)
        host, port = (parts.hostname or "").lower(), parts.port or _PORTS.get(parts.scheme, 0)
        name = f"{parts.scheme}_proxy" if f"{parts.scheme}_proxy" in self._named else "all_proxy"
        text = self._named.get(name)
        if text is None or is_local(host) or any(_covers(each, host, port) for each in self._direct):
            return None
        return _parsed(name.upper(), text)


def _parsed(name: str, text: str) -> Proxy:
    try:
        parts = urlsplit(text if "://" in text else f"http://{text}")
        port = parts.port
    except ValueError:
        raise TransportFailure("proxy", f"{name} is no address of a proxy") from None
    if parts.scheme not in _PORTS:
        raise TransportFailure("proxy", f"{name} names a proxy of kind {parts.scheme}; only http and https are spoken")
    if not parts.hostname or any(letter in parts.hostname for letter in " <>\"'"):
        raise TransportFailure("proxy", f"{name} is no address of a proxy")
    host = f"[{parts.hostname}]" if ":" in parts.hostname else parts.hostname
    address = f"{parts.scheme}://{host}:{port or _PORTS[parts.scheme]}"
    if parts.username is None:
        return Proxy(address)
    return Proxy(address, unquote(parts.username), Secret(unquote(parts.password or "")))


def _covers(rule: str, host: str, port: int) -> bool:
    """Whether an entry of ``NO_PROXY`` is about a host."""
    if rule == "*":
        return True
    if "/" in rule:
        try:
            return ipaddress.ip_address(host) in ipaddress.ip_network(rule, strict=False)
        except ValueError:
            return False
    name, colon, number = rule.rpartition(":")
    if colon and number.isdigit() and "]" not in number and (":" not in name or name.startswith("[")):
        if int(number) != port:
            return False
        rule = name
    rule = rule.strip("[]").removeprefix("*").removeprefix(".")
    return bool(rule) and (host == rule or host.endswith(f".{rule}"))
