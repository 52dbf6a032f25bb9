"""urllib3's connections, taught what they lack: interim replies, one limit for a request, no secrets in its logs."""

import http.client
import re
import socket
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from functools import cache
from typing import Any

import urllib3
from urllib3 import exceptions as wrong

from ..core.http.exchange import TOTAL_OVER, Timeouts, TransportFailure
from ..core.secrets.secret import SecretText
from .connect import connected
from .deadline_monitor import WATCHMAN
from .heads import check_field, check_status_line


class Headers(dict[str, str]):
    """Headers, the path where it holds a secret, and the seconds that all of it may take.

    urllib3 writes every path into its log, so the true one is put in only when the connection writes the
    request line: see `_Connection`.
    """

    path: SecretText | None = None
    total: float | None = None

    def copy(self) -> "Headers":
        same = Headers(self)
        same.path, same.total = self.path, self.total
        return same


_BLANK = (b"\r\n", b"\n")
_LINE = 65536
"""Bytes of the longest line of a head."""


class _HeadLines:
    """The lines of a head, each looked at as it is read; it remembers the last one."""

    __slots__ = ("inner", "last", "number", "readline_of")

    def __init__(self, inner: Any) -> None:
        self.inner = inner
        self.readline_of = inner.readline
        self.number = 0
        self.last = b""

    def readline(self, limit: int = -1) -> bytes:
        """The next line.

        Raises:
            http.client.HTTPException: it is no line of a head.
        """
        line: bytes = self.readline_of(limit)
        if self.number == 0 and line in _BLANK:
            line = self.readline_of(limit)  # one that is left of the reply before
        self.last = line
        if line.endswith(b"\n") and line not in _BLANK and len(line) <= _LINE:
            if self.number == 0:
                check_status_line(line)
            else:
                check_field(line, first=self.number == 1)
        self.number += 1
        return line

    def begin_again(self) -> None:
        """A head follows, behind that of an interim reply."""
        self.number = 0

    def close(self) -> None:
        """Close the file itself."""
        self.inner.close()


_CHUNK_SIZE = re.compile(rb"[0-9a-fA-F]{1,15}")


class _Response(http.client.HTTPResponse):
    """Reads over interim replies (1xx) of every kind; the standard library knows one of them.

    Attributes:
        garbled: a chunk was none.
    """

    garbled = False

    def begin(self) -> None:
        # A head that breaks off reads like one that is whole: the end of the headers has to be seen.
        noting: Any = _HeadLines(self.fp)
        self.fp = noting
        try:
            super().begin()
        finally:
            if self.fp is noting:
                self.fp = noting.inner  # type: ignore[attr-defined]
        if noting.last not in (b"\r\n", b"\n"):
            self._close_conn()  # type: ignore[attr-defined]
            raise http.client.RemoteDisconnected("the server closed it within the head of the reply")

    def _read_status(self) -> tuple[str, int, str]:
        lines: Any = self.fp
        while True:
            if isinstance(lines, _HeadLines):  # not where a proxy's answer to CONNECT is read
                lines.begin_again()
            version, status, reason = super()._read_status()  # type: ignore[misc]
            if not 101 < status < 200:
                return version, status, reason
            while lines.readline(_LINE + 1) not in (*_BLANK, b""):
                pass

    def _read_next_chunk_size(self) -> int:
        # The standard library takes all that looks like a number to Python, and calls the rest an early end.
        size_line = self.fp.readline(_LINE + 1)
        line = size_line.partition(b";")[0].strip(b" \t\r\n")
        if not _CHUNK_SIZE.fullmatch(line) or not size_line.endswith(b"\r\n"):
            self.garbled = size_line.endswith(b"\n")
            self._close_conn()  # type: ignore[attr-defined]
            raise ValueError(line[:40])
        return int(line, 16)

    def _get_chunk_left(self) -> int | None:
        if self.chunk_left == 0:
            # The standard library takes whatever stands at the end of a chunk.
            if (end := self._safe_read(2)) != b"\r\n":  # type: ignore[attr-defined]
                self.garbled = True
                self._close_conn()  # type: ignore[attr-defined]
                raise http.client.IncompleteRead(end)
            self.chunk_left = None
        remaining: int | None = super()._get_chunk_left()  # type: ignore[misc]
        return remaining


class Watched:
    """A request under way in a thread: how long it may take altogether, and the socket that it goes over."""

    def __init__(self, timeouts: Timeouts) -> None:
        self.silence = timeouts.between_chunks
        self.connected: Callable[[], None] | None = None
        self.sock: socket.socket | None = None
        self.over = self.stopped = False

    def stop(self) -> None:
        """Nobody wants it any more."""
        self.stopped = True
        self.end()

    def failure(self) -> TransportFailure:
        """Why it has ended."""
        if self.stopped:
            return TransportFailure("lost", "the call was given up", sent=True)
        return TransportFailure("timeout", TOTAL_OVER, "total")

    def end(self) -> None:
        """Its time is over."""
        self.over = True
        if self.sock is not None:
            with suppress(OSError):
                self.sock.shutdown(socket.SHUT_RDWR)


THREAD_STATE = threading.local()
# More than a socket takes at once: such a body is sent in pieces, none of which may take too long.
_BLOCK = 2**17


class _Connection:
    """Mixed into urllib3's connections."""

    response_class: Any = _Response
    _until: float | None = None
    _head: bytes | None = None
    _secret_path: SecretText | None = None
    sock: Any
    host: str
    port: int
    timeout: Any
    socket_options: Any
    _dns_host: str

    def _new_conn(self) -> Any:
        limit = self.timeout if isinstance(self.timeout, (int, float)) else None
        try:
            return connected(self._dns_host.strip("[]"), self.port, limit, self.socket_options or ())
        except socket.gaierror as error:
            raise wrong.NameResolutionError(self.host, self, error) from error  # type: ignore[arg-type]
        except TimeoutError as error:
            raise wrong.ConnectTimeoutError(self, "no connection in time") from error
        except OSError as error:
            raise wrong.NewConnectionError(self, str(error)) from error  # type: ignore[arg-type]

    def request(self, method: str, url: str, body: Any = None, headers: Any = None, **options: Any) -> None:
        self._until = self._secret_path = None
        watched = getattr(THREAD_STATE, "watched", None)
        self._head = None
        if watched is not None:
            if watched.connected is not None:
                if self.sock is None:
                    self.connect()  # type: ignore[attr-defined]
                watched.connected()
            if body:
                if len(body) <= _BLOCK:
                    self._head = b""
                else:
                    if self.sock is None:
                        self.connect()  # type: ignore[attr-defined]
                    self.sock.settimeout(watched.silence)
            watched.sock = self.sock
        if not isinstance(headers, Headers):
            super().request(method, url, body=body, headers=headers, **options)  # type: ignore[misc]
            return
        self._secret_path = headers.path
        if headers.total is None:
            super().request(method, url, body=body, headers=headers, **options)  # type: ignore[misc]
            return
        self._until = time.monotonic() + headers.total
        if self.sock is None:
            self.connect()  # type: ignore[attr-defined]
        with WATCHMAN.within(self.sock, headers.total):
            super().request(method, url, body=body, headers=headers, **options)  # type: ignore[misc]

    def putrequest(self, method: str, url: str, *args: Any, **options: Any) -> None:
        # Only here: what `request` is given, urllib3 keeps, and logs where a head is odd.
        secret, self._secret_path = self._secret_path, None
        super().putrequest(method, url if secret is None else secret.reveal(), *args, **options)  # type: ignore[misc]

    def send(self, data: Any) -> None:
        head = self._head
        if head is not None:
            # Head and body go out together: the library would send a packet for each.
            if not head:
                self._head = data
                return
            self._head = None
            data = head + data
        if isinstance(data, bytes) and len(data) > _BLOCK:
            view = memoryview(data)
            for start in range(0, len(view), _BLOCK):
                super().send(view[start : start + _BLOCK])  # type: ignore[misc]
        else:
            super().send(data)  # type: ignore[misc]

    def getresponse(self) -> Any:
        watched = getattr(THREAD_STATE, "watched", None)
        if watched is not None:
            watched.sock = self.sock
        try:
            if self._until is None:
                return super().getresponse()  # type: ignore[misc]
            with WATCHMAN.within(self.sock, max(self._until - time.monotonic(), 0.0)):
                return super().getresponse()  # type: ignore[misc]
        except (OSError, http.client.HTTPException) as error:
            error.sent = True  # type: ignore[union-attr]  # for `_failure`: the request had gone out whole
            raise


class PlainConnection(_Connection, urllib3.connection.HTTPConnection):
    """A connection without TLS."""


class TlsConnection(_Connection, urllib3.connection.HTTPSConnection):
    """A connection with TLS."""

    def connect(self) -> None:
        try:
            super().connect()
        except TimeoutError as error:  # there is a connection: one that is none is told otherwise
            raise wrong.SSLError("the TLS handshake had no answer") from error


@cache
def socket_connection(path: str) -> type[PlainConnection]:
    """Connections to a socket file, of one program to another on the same machine."""

    class SocketConnection(PlainConnection):
        def _new_conn(self) -> Any:
            limit = self.timeout if isinstance(self.timeout, (int, float)) else None
            sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
            try:
                sock.settimeout(limit)
                sock.connect(path)
            except TimeoutError as error:
                sock.close()
                raise wrong.ConnectTimeoutError(self, "no connection in time") from error
            except OSError as error:
                sock.close()
                raise wrong.NewConnectionError(self, str(error)) from error
            return sock

    return SocketConnection


class _Public:
    """Mixed into connections to an address that is a stranger's: they reach no private network."""

    _dns_host: str
    port: int

    def _new_conn(self) -> Any:
        from .public_addresses import public_addresses

        host, port = self._dns_host, self.port
        addresses = public_addresses(host, port)
        # Connected to the very address that was looked at: a name could lead elsewhere the next moment.
        self._dns_host = addresses[0]
        try:
            return super()._new_conn()  # type: ignore[misc]
        finally:
            self._dns_host = host


class PublicConnection(_Public, _Connection, urllib3.connection.HTTPConnection):
    """A connection to a stranger's address."""


class PublicTlsConnection(_Public, _Connection, urllib3.connection.HTTPSConnection):
    """The same with TLS."""
