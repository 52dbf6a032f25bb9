"""Base addresses of providers, from whatever people paste: a base, the full address of one operation, a query.

Which paths are operations is known by the dialects; here is only how an address is taken apart.

    >>> parse("localhost:8080/v1/").base
    'http://localhost:8080/v1'
    >>> parse("unix:/run/model.sock:/v1").socket
    '/run/model.sock'
    >>> ends = lambda path: Match(Ending(r"/say/(?P<model>[^/]+)", keep=True), "say")
    >>> parse("https://hub.example/v1/say/quill", ends).path
    '/say/{model}'
"""

import re
from collections.abc import Callable
from typing import TypeAlias
from urllib.parse import parse_qsl, quote, unquote, urlsplit

from msgspec import Struct
from msgspec.structs import replace

from ..errors import ConfigError, RequestError

SECRET_QUERY = frozenset({"key", "api_key", "apikey", "api-key", "access_token", "token", "subscription-key"})

_LOCAL_NAMES = frozenset({"localhost", "ip6-localhost"})


class Ending(Struct, frozen=True):
    """The path of an operation at the end of an address.

    Attributes:
        pattern: a regular expression; its group ``model`` is what stands where the path names a model.
        operation: which one it is the path of.
        keep: the path is not the dialect's usual one: the operation goes there from now on.
        drops: query parameters that belong to the operation and not to the address.
    """

    pattern: str
    operation: str = "chat"
    keep: bool = False
    drops: tuple[str, ...] = ()


class Match(Struct, frozen=True):
    """An ending that fits, and the dialect that it is of."""

    ending: Ending
    dialect: str


FindEnding: TypeAlias = Callable[[str], Match | None]
"""Finds the operation at the end of a path."""


class Address(Struct, frozen=True):
    """What a pasted address amounts to.

    Attributes:
        base: scheme, host, port and path prefix, without a slash at the end.
        dialect: told by the operation path; empty where the address does not tell.
        operation: ``chat``, ``embeddings`` or ``models``; empty for a base.
        model: the model that the path names.
        path: path template of the operation with ``{model}`` where the model stands, where that is not the dialect's
            usual one.
        query: query parameters that hold no key.
        key_name: the query parameter that holds a key, and
        key: its value.
        socket: the socket file that is connected to instead of a host; empty where there is none.
    """

    base: str
    dialect: str = ""
    operation: str = ""
    model: str | None = None
    path: str | None = None
    query: dict[str, str] = {}
    key_name: str | None = None
    key: str | None = None
    socket: str = ""

    @property
    def plain_http(self) -> bool:
        """Whether a key sent there could be read on the way: http to a host that is not local."""
        return self.base.startswith("http:") and not is_local(host_of(self.base))


_ASSIGNED = re.compile(r"(?:export\s+)?[A-Za-z_]\w*\s*=(?=\s*[\"']?https?://)")
_ONE_SLASH = re.compile(r"(https?):/(?!/)", re.IGNORECASE)
_SOCKET = re.compile(r"unix:(?://)?(?P<path>/[^:?#]+)(?::(?P<base>/?[^?#]*))?", re.IGNORECASE)


def _at_socket(text: str, find: FindEnding | None) -> Address:
    """An address of a socket file, and behind a second colon the path of the API there."""
    match = _SOCKET.fullmatch(text)
    if match is None:
        raise ConfigError(
            f"{text[:200]!r} is no address of a socket file",
            hint="Write unix:/run/model.sock, and the path of the API behind a colon: unix:/run/model.sock:/v1",
        )
    base = (match["base"] or "").strip("/")
    return replace(parse(f"http://localhost/{base}", find), socket=match["path"])


def parse(text: str, find: FindEnding | None = None) -> Address:
    """The parts of a pasted address.

    Args:
        find: finds the operation that its path ends in; without it every path belongs to the base.

    Raises:
        ConfigError: it is no http or https address.
    """
    pasted = text.strip().strip("<>\"'` ")
    if pasted[:5].lower() == "unix:":
        return _at_socket(pasted, find)
    if (assigned := _ASSIGNED.match(pasted)) is not None:
        hint = "Take the name and the equals sign out: the address begins behind them."
        raise ConfigError(f"the address begins with {assigned[0]}: it is an assignment", hint=hint)
    display = repr(text.partition("?")[0][:200])  # what follows may hold a key
    if not pasted or any(mark in pasted for mark in " \n\t"):
        raise ConfigError(f"{display} is not an address", hint="Give it as https://HOST/PATH.")
    if (slash := _ONE_SLASH.match(pasted)) is not None:
        hint = f"Write two slashes behind the colon: {slash[1]}://{pasted[slash.end() :]}"
        raise ConfigError(f"{display} is not an address: it has one slash behind {slash[1]}:", hint=hint)
    pasted = with_scheme(pasted)
    try:
        parts = urlsplit(pasted)
        _ = parts.port
    except ValueError as error:
        raise ConfigError(f"{display} is not an address: {error}", hint="Give it as https://HOST:PORT/PATH.") from None
    if parts.scheme.lower() not in ("http", "https"):
        raise ConfigError(f"{display} is neither an http nor an https address", hint="Give it as https://HOST/PATH.")
    if not parts.hostname:
        raise ConfigError(f"{display} names no host", hint="Give it as https://HOST/PATH.")
    if "@" in parts.netloc:
        raise ConfigError(
            f"the address of {parts.hostname} holds a user name or password",
            hint='Take it out of the address and name where it lives: key = { env = "NAME" }.',
        )
    path = parts.path.rstrip("/")
    address = Address(f"{parts.scheme.lower()}://{parts.netloc}{path}")
    match = find(path) if find is not None and path else None
    if match is not None:
        address = _of_operation(address.base, path, match)
    query = dict(parse_qsl(parts.query, keep_blank_values=True))
    for name in match.ending.drops if match is not None else ():
        query.pop(name, None)
    key_name = next((name for name in query if name.lower() in SECRET_QUERY), None)
    key = query.pop(key_name) if key_name else None
    return replace(address, query=query, key_name=key_name, key=key)


def with_scheme(text: str) -> str:
    """An address with its scheme: https where none is given, plain http on this machine.

    >>> with_scheme("tokens.example/oauth"), with_scheme("localhost:8080")
    ('https://tokens.example/oauth', 'http://localhost:8080')
    """
    text = text.strip()
    if "://" in text:
        return text
    host = re.split(r"[/?]", text, maxsplit=1)[0]
    local = is_local(host.rsplit(":", 1)[0] if not host.endswith("]") else host)
    return f"{'http' if local else 'https'}://{text}"


def _of_operation(address: str, path: str, match: Match) -> Address:
    ending = match.ending
    named = re.search(f"{ending.pattern}$", path)
    if named is None:
        return Address(address)
    operation = path[named.start() :]
    model = named.groupdict().get("model")
    template = operation
    if model:
        template = path[named.start() : named.start("model")] + "{model}" + path[named.end("model") :]
    return Address(
        address[: len(address) - len(operation)],
        match.dialect,
        ending.operation,
        None if model is None or model.startswith("{") else unquote(model),
        template if ending.keep else None,
    )


def host_of(address: str) -> str:
    """The host of a regular address, without port.

    >>> host_of("http://[::1]:8080/v1")
    '::1'
    """
    return urlsplit(address).hostname or ""


def origin_of(address: str) -> str:
    """Scheme, host and port: where a key may go.

    >>> origin_of("https://API.northbank.example:443/v1")
    'https://api.northbank.example'
    """
    parts = urlsplit(address)
    port = parts.port
    default_port = {"http": 80, "https": 443}.get(parts.scheme)
    host = parts.hostname or ""
    host = f"[{host}]" if ":" in host else host
    return f"{parts.scheme}://{host}" + (f":{port}" if port and port != default_port else "")


def with_query(url: str, query: str) -> str:
    """An address with more query behind it.

    >>> with_query("https://a.example/v1?b=1", "c=2")
    'https://a.example/v1?b=1&c=2'
    """
    return f"{url}{'&' if '?' in url else '?'}{query}"


def is_local(host: str) -> bool:
    """Whether a host is this machine.

    >>> is_local("127.0.0.1"), is_local("[::1]"), is_local("api.northbank.example")
    (True, True, False)
    """
    host = host.strip("[]").lower()
    return (
        host in _LOCAL_NAMES
        or host.endswith(".localhost")
        or host == "::1"
        or bool(re.fullmatch(r"127(\.\d{1,3}){3}|0\.0\.0\.0", host))
    )


def in_path(name: str) -> str:
    """The name of a model as a part of a path; slashes in it are the provider's own.

    Raises:
        RequestError: it would lead out of the provider's address.

    >>> in_path("tuned/quill 2")
    'tuned/quill%202'
    """
    if {".", ".."} & set(name.split("/")):
        raise RequestError(f"{name!r} is no name of a model", hint="It is a part of an address: take . and .. out.")
    return quote(name, safe="/")
