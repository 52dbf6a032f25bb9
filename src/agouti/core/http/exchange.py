"""One HTTP request, what comes back and how it fails, as plain data: the words between engine and transport."""

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

from msgspec import Struct

from ..secrets.secret import SecretText

if TYPE_CHECKING:
    from ..secrets.masking import Masker

REPLY_BYTES = 128 * 1024 * 1024
"""The most that is read of one whole reply: more than any model writes, less than what stops a machine."""

TOTAL_OVER = "the request and its reply took longer than they may"
"""What is said of a try that ``Timeouts.total`` has ended."""

_A_YEAR = 366 * 86400.0


class Timeouts(Struct, frozen=True, gc=False, forbid_unknown_fields=True):
    """Time limits by phase, in seconds.

    Attributes:
        connect: name look-up, connection and TLS handshake.
        first_byte: from the request sent to the first byte of the reply. A model may think for
            minutes before it answers, hence the generous default.
        between_chunks: the longest silence within a reply.
        total: for one request and its whole reply, a stream or a job of the provider's included, however slowly but
            surely it comes. Where a call has a deadline, that holds as well.
    """

    connect: float = 10.0
    first_byte: float = 300.0
    between_chunks: float = 60.0
    total: float = 1800.0

    def __post_init__(self) -> None:
        for name in ("connect", "first_byte", "between_chunks", "total"):
            if not 0 < getattr(self, name) < _A_YEAR:  # written so that NaN is refused
                raise ValueError(f"{name} takes a number of seconds above 0")


class TimeoutsWithin(Timeouts, frozen=True, gc=False):
    """Time limits of a request within a deadline.

    Attributes:
        within: seconds for all of it up to the head of the reply, however it is spread over the phases.
    """

    within: float = 0.0


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
        url: the address as it can be printed: a mask stands for every secret in it.
        secret_url: the address itself, where it holds a secret.
        tls: certificates beside the system's own.
        confidential: it is about a key; a transport that records leaves it out.
        public_only: the address is a stranger's: a transport must not connect to this machine or a private network.
        masker: takes the secrets in use out of texts, for a transport that writes down what goes over it.
        connected: a transport calls it when there is a connection, and the first byte is about to go out.
        socket: a socket file to connect to, instead of the host of the address.
    """

    method: str
    url: str
    headers: dict[str, str]
    body: bytes | None = None
    secret_url: SecretText | None = None
    tls: Tls | None = None
    confidential: bool = False
    public_only: bool = False
    masker: "Masker | None" = None
    connected: "Callable[[], None] | None" = None
    socket: str = ""

    def __repr__(self) -> str:
        # The body may hold a secret, and a prompt is nobody else's.
        return f"HttpRequest({self.method!r}, {self.url!r}, {len(self.body or b'')} bytes)"

    def __rich_repr__(self) -> list[tuple[str, Any]]:
        return [("method", self.method), ("url", self.url)]

    @property
    def target(self) -> str:
        """The address that goes on the wire; prints as its mask when it holds a key."""
        return self.url if self.secret_url is None else self.secret_url


class HttpReply(Struct, frozen=True, gc=False):
    """A whole reply. ``headers`` is a case-insensitive mapping."""

    status: int
    headers: Mapping[str, str]
    body: bytes


Reason: TypeAlias = Literal[
    "dns", "refused", "unreachable", "tls", "proxy", "not http", "garbled", "lost", "timeout", "private", "too large"
]
"""How a request can fail without a whole reply: see `TransportFailure`."""


class TransportFailure(Exception):
    """No reply, or not the whole of it.

    It is raised without the foreign exception as its cause: frames of HTTP libraries hold the bytes
    of the request, key included, and tracebacks that print locals would show them.

    Attributes:
        reason: what kind of failure; ``private`` where ``public_only`` forbade the connection, ``garbled`` where a
            server breaks the rules of HTTP.
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


def without_traceback(error: BaseException) -> BaseException:
    """An exception without the frames that it came through: they hold the bytes of the request, key included."""
    error.__traceback__ = None
    error.__context__ = None
    return error
