"""Connections of the relay: HTTP as its standard has it, and limits that hold whatever was asked on them.

Limits of time and number belong to connections, not to what answers: a head, a body, an idle connection and an answer
that nobody takes each have their time, whether the request was good or refused.
"""

import asyncio
import logging
import re
from collections import Counter
from typing import TYPE_CHECKING, Any

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from .http_exchange import ABORT

if TYPE_CHECKING:
    from ..config.tables import RelaySettings

log = logging.getLogger("agouti.relay")

# The head of a request may take so long, and be so large; a connection without a request is kept so long.
_HEAD_SECONDS = 15.0
_HEAD_BYTES = 64 * 1024
_IDLE_SECONDS = 75.0
# So many bytes are read of a request that was answered before it was whole: closing resets the connection.
_REST_SECONDS = 5.0
_REST_BYTES = 256_000_000
_METHOD = re.compile(rb"[A-Z]{1,20} ")
_UPGRADE = re.compile(rb"(?im)^(upgrade|http2-settings)[ \t]*:")
_OFFER = re.compile(rb"(?im)^(connection[ \t]*:)(.*)$")


class Counts:
    """How many connections there are, in all and by address."""

    def __init__(self, settings: "RelaySettings") -> None:
        self.settings = settings
        self.open = 0
        self.refused = 0
        self.by_address: Counter[str] = Counter()

    def full(self, address: str) -> bool:
        """Whether one more is too many."""
        return self.open >= self.settings.connections or self.by_address[address] >= self.settings.connections_each

    def add(self, address: str) -> None:
        """One more."""
        self.open += 1
        self.by_address[address] += 1

    def remove(self, address: str) -> None:
        """One less."""
        self.open -= 1
        self.by_address[address] -= 1
        if not self.by_address[address]:
            del self.by_address[address]


class Connection(HttpToolsProtocol):
    """One connection.

    Attributes:
        counts: of the server; set by `connections_of`.
    """

    counts: Counts
    _clock: asyncio.TimerHandle | None = None
    _unread: asyncio.TimerHandle | None = None
    _address: str | None = None
    _in_head = True
    _is_complete = True
    _pending = b""
    _size = 0
    _remaining = 0
    _closes = False

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        address = self.client[0] if self.client else ""
        if self.counts.full(address):
            self.counts.refused += 1
            if self.counts.refused in (1, 10, 100) or not self.counts.refused % 1000:
                log.warning("too many connections: %d refused, %d open", self.counts.refused, self.counts.open)
            self._say(503, "too many connections: come again later", "retry-after: 1\r\n")
            return
        self._address = address
        self.counts.add(address)
        self._begin(_HEAD_SECONDS)

    def connection_lost(self, exc: Exception | None) -> None:
        self._stop()
        if self._unread is not None:
            self._unread.cancel()
            self._unread = None
        if self._address is not None:
            self.counts.remove(self._address)
            self._address = None
        super().connection_lost(exc)

    # What comes.

    def data_received(self, data: bytes) -> None:
        if self.transport.is_closing():
            return
        if self._in_head:
            if self._is_complete and not self._pending:
                data = data.lstrip(b"\r\n")  # empty lines between requests begin none
                if not data:
                    return
            if self._pending or (self._is_complete and _METHOD.match(data)):
                if self._clock is None:
                    self._begin(_HEAD_SECONDS)
                self._pending += data
                if b"\r\n\r\n" not in self._pending and b"\n\n" not in self._pending:
                    if len(self._pending) > _HEAD_BYTES:
                        self._say(431, "the head of the request is too large")
                    return
                data, self._pending = _without_upgrade(self._pending), b""
            else:  # more of a head that began behind a body, or no HTTP: the parser says so
                self._size += len(data)
                if self._size > _HEAD_BYTES:
                    self._say(431, "the head of the request is too large")
                    return
        super().data_received(data)

    def on_message_begin(self) -> None:
        super().on_message_begin()
        self._in_head, self._is_complete, self._size, self._remaining = True, False, 0, 0
        if self._clock is None:
            self._begin(_HEAD_SECONDS)
        # A caller who does not read cannot be told anything: the connection is broken off.
        self.scope["extensions"] = {ABORT: {"abort": self.transport.abort, "linger": self._linger}}

    def on_header(self, name: bytes, value: bytes) -> None:
        if self._in_head:  # what comes behind a body is none of the head
            super().on_header(name, value)

    def on_headers_complete(self) -> None:
        super().on_headers_complete()
        self._in_head = False
        self._begin(self.counts.settings.read_seconds + _REST_SECONDS)
        if self.scope["http_version"] == "1.0":
            _Unframed(self.cycle)

    def on_body(self, body: bytes) -> None:
        if self.cycle.response_complete:
            self._remaining += len(body)
            if self._remaining > _REST_BYTES:
                self.transport.abort()
        super().on_body(body)

    def on_message_complete(self) -> None:
        super().on_message_complete()
        self._in_head, self._is_complete = True, True
        self._stop()
        if self._closes and self.cycle.response_complete:
            self.transport.close()
        elif self.cycle.response_complete:
            self._begin(_IDLE_SECONDS)

    def on_response_complete(self) -> None:
        super().on_response_complete()
        if not self._is_complete and not self.transport.is_closing():
            self._begin(self.counts.settings.read_seconds)

    def _linger(self) -> None:
        """The answer goes out before the request is whole: its rest is read away before the connection is closed."""
        self._closes = True
        self.cycle.keep_alive = True

    # What goes out.

    def pause_writing(self) -> None:
        super().pause_writing()
        if self._unread is None:
            self._unread = self.loop.call_later(self.counts.settings.write_seconds, self._give_up)

    def resume_writing(self) -> None:
        super().resume_writing()
        if self._unread is not None:
            self._unread.cancel()
            self._unread = None

    def _give_up(self) -> None:
        self._unread = None
        self.transport.abort()

    def _say(self, status: int, message: str, further_headers: str = "") -> None:
        """Answer without asking the application, and close."""
        reason = {431: "Request Header Fields Too Large", 503: "Service Unavailable"}[status]
        head = f"HTTP/1.1 {status} {reason}\r\ncontent-type: text/plain; charset=utf-8\r\n{further_headers}"
        self.transport.write(f"{head}content-length: {len(message)}\r\nconnection: close\r\n\r\n{message}".encode())
        self.transport.close()

    # Its time.

    def _begin(self, seconds: float) -> None:
        self._stop()
        self._clock = self.loop.call_later(seconds, self._on_timeout)

    def _on_timeout(self) -> None:
        self._clock = None
        if not self.transport.is_closing():
            self.transport.close()
            # Where something waits to be taken, closing would wait for it without an end.
            self.loop.call_later(_REST_SECONDS, self.transport.abort)

    def _stop(self) -> None:
        if self._clock is not None:
            self._clock.cancel()
            self._clock = None


class _Unframed:
    """Sends answers to a caller of HTTP/1.0, which knows no chunks: their end is that of the connection."""

    def __init__(self, cycle: Any) -> None:
        self._cycle = cycle
        self._send = cycle.send
        cycle.chunked_encoding = False
        cycle.send = self

    async def __call__(self, message: Any) -> None:
        if message["type"] == "http.response.body":
            self._cycle.expected_content_length = len(message.get("body", b""))
        await self._send(message)


def _without_upgrade(data: bytes) -> bytes:
    """The head of a request without the offer to speak another protocol, which is not taken up.

    >>> _without_upgrade(b"GET / HTTP/1.1\\r\\nConnection: Upgrade, close\\r\\nUpgrade: h2c\\r\\n\\r\\nUpgrade: x")
    b'GET / HTTP/1.1\\r\\nConnection: close\\r\\nx-not-taken: h2c\\r\\n\\r\\nUpgrade: x'
    """
    end = data.find(b"\r\n\r\n")
    end = len(data) if end < 0 else end
    head = data[:end]
    if b"pgrade" not in head and b"PGRADE" not in head:
        return data
    head = _OFFER.sub(_rest_of_connection, _UPGRADE.sub(b"x-not-taken:", head))
    return head + data[end:]


def _rest_of_connection(match: "re.Match[bytes]") -> bytes:
    line_end = b"\r" if match[2].endswith(b"\r") else b""
    options = [each.strip() for each in match[2].split(b",")]
    remaining = [each for each in options if each.lower() not in (b"upgrade", b"http2-settings") and each]
    return match[1] + b" " + b", ".join(remaining) + line_end if remaining else b"x-not-taken: connection" + line_end


def connections_of(settings: "RelaySettings") -> type[Connection]:
    """The class of the connections of one server."""
    return type("Connection", (Connection,), {"counts": Counts(settings)})
