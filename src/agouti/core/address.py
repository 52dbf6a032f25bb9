"""Addresses as people paste them, made regular.

A base address, the full address of one operation, or one with a query: all amount to a base, and
often tell the dialect, the model and where the model goes in the path.

    >>> parse("https://api.northbank.example/v1/chat/completions").base
    'https://api.northbank.example/v1'
    >>> parse("localhost:8080/v1/").base
    'http://localhost:8080/v1'
"""

import re
from urllib.parse import parse_qsl, unquote, urlsplit

from msgspec import Struct

from .errors import ConfigError

# Operation paths at the end of an address, the longest first: (pattern, dialect, operation).
# `model` is what stands where the path names a model.
_OPERATIONS: tuple[tuple[str, str, str], ...] = (
    (r"/deployments/(?P<model>[^/]+)/chat/completions", "chat", "chat"),
    (r"/deployments/(?P<model>[^/]+)/embeddings", "chat", "embeddings"),
    (r"/chat/completions", "chat", "chat"),
    (r"/completions", "prompt", "chat"),
    (r"/responses", "responses", "chat"),
    (r"/messages", "messages", "chat"),
    (r"/(?P<model>(?:models|tunedModels)/[^/:]+):(?:streamGenerateContent|generateContent|embedContent|batchEmbedContents|countTokens)", "contents", "chat"),
    (r"/api/generate", "lines", "chat"),
    (r"/api/(?:chat|tags|embed|show|version)", "lines", "chat"),
    (r"/(?P<model>[^/:]+):predict", "predict", "chat"),
    (r"/models/(?P<model>[^/]+/[^/]+)/predictions", "jobs", "chat"),
    (r"/predictions", "jobs", "chat"),
    (r"/model/(?P<model>[^/]+)/(?:converse|converse-stream|invoke)", "converse", "chat"),
    (r"/embeddings", "chat", "embeddings"),
    (r"/models", "", "models"),
)  # fmt: skip
# Most addresses are bases: a look at the last word of the path saves compiling the patterns.
_LAST_WORDS = re.compile(
    r"(?:completions|embeddings|responses|messages|models|predictions|converse|converse-stream|invoke"
    r"|/api/\w+|:\w+)$"
)

SECRET_QUERY = frozenset({"key", "api_key", "apikey", "api-key", "access_token", "token", "subscription-key"})

_LOCAL_NAMES = frozenset({"localhost", "ip6-localhost"})


class Address(Struct, frozen=True):
    """What a pasted address amounts to.

    Attributes:
        base: scheme, host, port and path prefix, without a slash at the end.
        dialect: told by the operation path; empty where the address does not tell.
        operation: ``chat``, ``embeddings`` or ``models``; empty for a base.
        model: the model that the path names.
        path: path template of the operation with ``{model}`` where the model stands, when that is
            not the dialect's usual one.
        query: query parameters that hold no key.
        key_name: the query parameter that holds a key, and
        key: its value.
    """

    base: str
    dialect: str = ""
    operation: str = ""
    model: str | None = None
    path: str | None = None
    query: dict[str, str] = {}
    key_name: str | None = None
    key: str | None = None

    @property
    def plain_http(self) -> bool:
        """Whether a key sent there could be read on the way: http to a host that is not local."""
        return self.base.startswith("http:") and not is_local(host_of(self.base))


def parse(text: str, named: str = "") -> Address:
    """The parts of a pasted address.

    Args:
        named: the dialect that an entry names; to ``predict`` a ``/models`` at the end belongs to the base.

    Raises:
        ConfigError: it is no http or https address.
    """
    pasted = text.strip().strip("<>\"'` ")
    shown = repr(text.partition("?")[0][:200])  # what follows may hold a key
    if not pasted or any(mark in pasted for mark in " \n\t"):
        raise ConfigError(f"{shown} is not an address", hint="Give it as https://HOST/PATH.")
    if "://" not in pasted:
        host = re.split(r"[/?]", pasted, maxsplit=1)[0]
        local = is_local(host.rsplit(":", 1)[0] if not host.endswith("]") else host)
        pasted = f"{'http' if local else 'https'}://{pasted}"
    try:
        parts = urlsplit(pasted)
        _ = parts.port
    except ValueError as error:
        raise ConfigError(f"{shown} is not an address: {error}", hint="Give it as https://HOST:PORT/PATH.") from None
    if parts.scheme.lower() not in ("http", "https"):
        raise ConfigError(f"{shown} is neither an http nor an https address", hint="Give it as https://HOST/PATH.")
    if not parts.hostname:
        raise ConfigError(f"{shown} names no host", hint="Give it as https://HOST/PATH.")
    if "@" in parts.netloc:
        raise ConfigError(
            f"the address of {parts.hostname} holds a user name or password",
            hint='Take it out of the address and name where it lives: key = { env = "NAME" }.',
        )
    path = parts.path.rstrip("/")
    found = Address(f"{parts.scheme.lower()}://{parts.netloc}{path}")
    for pattern, dialect, operation in _OPERATIONS if _LAST_WORDS.search(path) else ():
        match = re.search(f"{pattern}$", path)
        if match and not (operation == "models" and named == "predict"):
            found = _of_operation(parts.scheme.lower(), parts.netloc, path, match, dialect, operation)
            break
    query = dict(parse_qsl(parts.query, keep_blank_values=True))
    query.pop("alt", None) if found.dialect == "contents" else None
    key_name = next((name for name in query if name.lower() in SECRET_QUERY), None)
    key = query.pop(key_name) if key_name else None
    return Address(found.base, found.dialect, found.operation, found.model, found.path, query, key_name, key)


def _of_operation(scheme: str, netloc: str, path: str, match: re.Match[str], dialect: str, operation: str) -> Address:
    model = unquote(match["model"]) if match.groupdict().get("model") else None
    template = "/api/generate" if path.endswith("/api/generate") else None
    if path[match.start() :].startswith("/deployments/"):
        template = path[match.start() :].replace(f"/{match['model']}/", "/{model}/", 1)
    if model is not None and model.startswith("{"):
        model = None
    return Address(f"{scheme}://{netloc}{path[: match.start()]}", dialect, operation, model, template)


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
    usual = {"http": 80, "https": 443}.get(parts.scheme)
    host = parts.hostname or ""
    host = f"[{host}]" if ":" in host else host
    return f"{parts.scheme}://{host}" + (f":{port}" if port and port != usual else "")


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
