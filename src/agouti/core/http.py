"""One HTTP request and what comes back, as plain data: the words between engine and transport."""

from collections.abc import Mapping

from msgspec import Struct

from .secret import SecretText


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

    ``secret_query`` is the part of the query that holds a key (``key=...``); it is apart from
    ``url`` so that the address can be printed. Header values that hold a key are `SecretText`.
    """

    method: str
    url: str
    headers: dict[str, str]
    body: bytes | None = None
    secret_query: SecretText | None = None
    tls: Tls | None = None

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
