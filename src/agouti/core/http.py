"""One HTTP request, what comes back and how it fails, as plain data: the words between engine and transport."""

from collections.abc import Mapping
from typing import Literal, TypeAlias

from msgspec import Struct

from .secret import SecretText

REPLY_BYTES = 128 * 1024 * 1024
"""The most that is read of one whole reply: more than any model writes, less than what stops a machine."""

_A_YEAR = 366 * 86400.0


class Timeouts(Struct, frozen=True, gc=False, forbid_unknown_fields=True):
    """Time limits by phase, in seconds.

    Attributes:
        connect: name look-up, connection and TLS handshake.
        first_byte: from the request sent to the first byte of the reply. A model may think for
            minutes before it answers, hence the generous default.
        between_chunks: the longest silence within a stream.
    """

    connect: float = 10.0
    first_byte: float = 300.0
    between_chunks: float = 60.0

    def __post_init__(self) -> None:
        for name in ("connect", "first_byte", "between_chunks"):
            if not 0 < getattr(self, name) < _A_YEAR:  # written so that NaN is refused
                raise ValueError(f"{name} takes a number of seconds above 0")


class TimeoutsWithin(Timeouts, frozen=True, gc=False):
    """Time limits of a request within a deadline.

    Attributes:
        total: seconds for all of it up to the head of the reply, however it is spread over the phases.
    """

    total: float = 0.0


class Tls(Struct, frozen=True, gc=False, forbid_unknown_fields=True):
    """Certificates beside the system's own.

    Attributes:
        ca: file with the certificates of an own authority.
        certificate: file with a client certificate and its key.
    """

    ca: str = ""
    certificate: str = ""


class HttpRequest(Struct, frozen=True, gc=False):
    """A request ready to be sent.

    Attributes:
        headers: values that hold a key are `SecretText`.
        secret_query: the part of the query that holds a key (``key=...``), apart from ``url`` so that the address can
            be printed.
        tls: certificates beside the system's own.
        confidential: it is about a key; a transport that records leaves it out.
        public_only: the address is a stranger's: a transport must not connect to this machine or a private network.
    """

    method: str
    url: str
    headers: dict[str, str]
    body: bytes | None = None
    secret_query: SecretText | None = None
    tls: Tls | None = None
    confidential: bool = False
    public_only: bool = False

    @property
    def target(self) -> str:
        """The address that goes on the wire; prints as its mask when it holds a key."""
        if self.secret_query is None:
            return self.url
        return SecretText("".join((self.url, "&" if "?" in self.url else "?", self.secret_query)))


class HttpReply(Struct, frozen=True, gc=False):
    """A whole reply. ``headers`` is a case-insensitive mapping."""

    status: int
    headers: Mapping[str, str]
    body: bytes


Reason: TypeAlias = Literal[
    "dns", "refused", "unreachable", "tls", "proxy", "not http", "lost", "timeout", "private", "too large"
]
"""How a request can fail without a whole reply: see `TransportFailure`."""


class TransportFailure(Exception):
    """No reply, or not the whole of it.

    It is raised without the foreign exception as its cause: frames of HTTP libraries hold the bytes
    of the request, key included, and tracebacks that print locals would show them.

    Attributes:
        reason: what kind of failure; ``private`` where ``public_only`` forbade the connection.
        detail: the HTTP library's own words.
        phase: for ``timeout``, which limit ran out.
        began: whether a part of the reply had come.
        sent: whether the request had gone out whole, so that the server may have done what it asks.
    """

    def __init__(
        self, reason: Reason, detail: str, phase: str | None = None, *, began: bool = False, sent: bool = False
    ) -> None:
        super().__init__(detail)
        self.sent = sent
        self.reason = reason
        self.detail = detail
        self.phase = phase
        self.began = began


def bare(error: BaseException) -> BaseException:
    """An exception without the frames that it came through: they hold the bytes of the request, key included."""
    error.__traceback__ = None
    error.__context__ = None
    return error
