"""Synchronous HTTP through urllib3: one pool per origin, its own retries and redirects off."""

import http.client
import os
import socket
import threading
import time
from collections.abc import Mapping
from contextlib import suppress
from typing import TYPE_CHECKING, Any

import urllib3
from urllib3 import exceptions as wrong

from ..core.address import with_query
from ..core.forks import begin_anew
from ..core.http import REPLY_BYTES, HttpRequest, Reason, Timeouts, TimeoutsWithin, Tls, TransportFailure, bare
from ..core.secret import SecretText
from .base import closed
from .limits import WATCHMAN

if TYPE_CHECKING:
    import ssl

    from .tls import Contexts

_NO_RETRIES = urllib3.Retry(False, redirect=False)
# How long to wait for the end of a body whose format has already said that it is complete. It comes
# in the same packet or the next one; a server that holds the connection open costs this much once.
_LINGER = 0.05
# What is read at once at most: without a number, as much room would be made as a server only announces.
_PIECE = 2**18


class _Headers(dict[str, str]):
    """Headers, the part of the query that holds a key, and the seconds that all of it may take.

    urllib3 writes every path into its log, so the key is put on only when the connection writes the
    request line: see `_WithQuery`.
    """

    query: SecretText | None = None
    total: float | None = None

    def copy(self) -> "_Headers":
        same = _Headers(self)
        same.query, same.total = self.query, self.total
        return same


class _Response(http.client.HTTPResponse):
    """Reads over interim replies (1xx) of every kind; the standard library knows one of them."""

    def _read_status(self) -> tuple[str, int, str]:
        while True:
            version, status, reason = super()._read_status()  # type: ignore[misc]
            if not 101 < status < 200:
                return version, status, reason
            while self.fp.readline(65537) not in (b"\r\n", b"\n", b""):
                pass


class _WithQuery:
    """Mixed into urllib3's connections."""

    response_class: Any = _Response
    _until: float | None = None
    sock: Any

    def request(self, method: str, url: str, body: Any = None, headers: Any = None, **options: Any) -> None:
        self._until = None
        if not isinstance(headers, _Headers):
            super().request(method, url, body=body, headers=headers, **options)  # type: ignore[misc]
            return
        if headers.query is not None:
            url = with_query(url, headers.query.reveal())
        if headers.total is None:
            super().request(method, url, body=body, headers=headers, **options)  # type: ignore[misc]
            return
        self._until = time.monotonic() + headers.total
        if self.sock is None:
            self.connect()  # type: ignore[attr-defined]
        with WATCHMAN.within(self.sock, headers.total):
            super().request(method, url, body=body, headers=headers, **options)  # type: ignore[misc]

    def getresponse(self) -> Any:
        try:
            if self._until is None:
                return super().getresponse()  # type: ignore[misc]
            with WATCHMAN.within(self.sock, max(self._until - time.monotonic(), 0.0)):
                return super().getresponse()  # type: ignore[misc]
        except (OSError, http.client.HTTPException) as error:
            error.sent = True  # type: ignore[union-attr]  # for `_failure`: the request had gone out whole
            raise


class _HTTPConnection(_WithQuery, urllib3.connection.HTTPConnection):
    pass


class _HTTPSConnection(_WithQuery, urllib3.connection.HTTPSConnection):
    pass


class _Public:
    """Mixed into connections to an address that is a stranger's: they reach no private network."""

    response_class: Any = _Response

    _dns_host: str
    port: int

    def _new_conn(self) -> Any:
        from .public import public_addresses

        host, port = self._dns_host, self.port
        addresses = public_addresses(host, port)
        # Connected to the very address that was looked at: a name could lead elsewhere the next moment.
        self._dns_host = addresses[0]
        try:
            return super()._new_conn()  # type: ignore[misc]
        finally:
            self._dns_host = host


class _PublicHTTPConnection(_Public, urllib3.connection.HTTPConnection):
    pass


class _PublicHTTPSConnection(_Public, urllib3.connection.HTTPSConnection):
    pass


class Urllib3Transport:
    """Thread-safe; see `transport.base.SyncTransport`."""

    def __init__(self, *, connections: int = 256) -> None:
        self._connections = connections
        self._contexts: Contexts | None = None
        self._pools: dict[str, urllib3.HTTPConnectionPool] = {}
        self._timeouts: dict[Timeouts, urllib3.Timeout] = {}
        self._usual: tuple[Timeouts | None, urllib3.Timeout] = (None, urllib3.Timeout())
        self._lock = threading.Lock()
        self._proxies = _proxies()
        self._closed = False
        begin_anew(self)

    def after_fork(self) -> None:
        """The connections are the parent's: two processes on one would get each other's answers."""
        self._lock = threading.Lock()
        # Kept, so that nothing of them is closed in a way that the parent would notice.
        self._of_parent = self._pools
        self._pools = {}

    def open(self, request: HttpRequest, timeouts: Timeouts) -> "Urllib3Reply":
        headers = request.headers
        total = timeouts.total if isinstance(timeouts, TimeoutsWithin) else None
        if request.secret_query is not None or total is not None:
            headers = _Headers(headers)
            headers.query, headers.total = request.secret_query, total
        slash = request.url.find("/", 8)
        origin = request.url[:slash] if slash > 0 else request.url
        pool = self._pools.get(origin)
        if pool is None:
            pool = self._pool(origin)
        if request.secret_query is not None or request.tls is not None or request.public_only:
            pool = self._special_pool(origin, request)
        usual = self._usual  # read once: other threads may set it
        if timeouts is usual[0]:
            limit = usual[1]
        elif (kept := self._timeouts.get(timeouts)) is not None:
            limit = kept
        else:
            limit = urllib3.Timeout(connect=timeouts.connect, read=timeouts.first_byte)
            if len(self._timeouts) > 64:
                self._timeouts.clear()
            self._timeouts[timeouts] = limit
            self._usual = (timeouts, limit)
        failure: TransportFailure
        try:
            response = pool.urlopen(
                request.method,
                request.url[len(origin) :] or "/",
                request.body,
                headers,
                _NO_RETRIES,
                redirect=False,
                assert_same_host=False,
                timeout=limit,
                pool_timeout=timeouts.first_byte,  # type: ignore[arg-type]  # the stubs know whole seconds only
                preload_content=False,
            )
        except TransportFailure as private:
            failure = private
        except (wrong.HTTPError, OSError, http.client.HTTPException) as error:
            failure = _failure(error)
        except BaseException as interruption:
            raise bare(interruption)  # noqa: B904
        else:
            return Urllib3Reply(response, timeouts)
        # Raised here, after the foreign exception is gone: see TransportFailure.
        raise failure

    def close(self) -> None:
        with self._lock:
            self._closed = True
            pools, self._pools = self._pools, {}
        for pool in pools.values():
            pool.close()

    def _pool(self, origin: str) -> urllib3.HTTPConnectionPool:
        with self._lock:
            if self._closed:
                raise closed()
            pool = self._pools.get(origin)
            if pool is None:
                pool = self._pools[origin] = self._new_pool(origin, None)
            return pool

    def _special_pool(self, origin: str, request: HttpRequest) -> urllib3.HTTPConnectionPool:
        """A pool for connections that put a key into the query, bring certificates or reach only public addresses."""
        with_query, public = request.secret_query is not None, request.public_only
        name = f"{origin} {with_query} {public} {request.tls}"
        with self._lock:
            pool = self._pools.get(name)
            if pool is None:
                pool = self._pools[name] = self._new_pool(origin, request.tls)
                https = origin.startswith("https:")
                if public:
                    pool.ConnectionCls = _PublicHTTPSConnection if https else _PublicHTTPConnection
            return pool

    def _new_pool(self, origin: str, tls: Tls | None) -> urllib3.HTTPConnectionPool:
        parts = urllib3.util.parse_url(origin)
        options: dict[str, Any] = {"maxsize": self._connections, "block": True}
        if parts.scheme == "https":
            options["ssl_context"] = self._context(tls)
        proxy = _proxy_for(self._proxies, parts.scheme or "http", parts.host or "")
        pool: urllib3.HTTPConnectionPool
        if proxy is not None:
            pool = urllib3.ProxyManager(proxy, **options).connection_from_url(origin)
        elif parts.scheme == "https":
            pool = urllib3.HTTPSConnectionPool(parts.host or "", parts.port, **options)
        else:
            pool = urllib3.HTTPConnectionPool(parts.host or "", parts.port, **options)
        pool.ConnectionCls = _HTTPSConnection if parts.scheme == "https" else _HTTPConnection
        return pool

    def _context(self, tls: Tls | None) -> "ssl.SSLContext":
        if self._contexts is None:
            from .tls import Contexts

            self._contexts = Contexts()
        return self._contexts.of(tls)


class Urllib3Reply:
    """See `transport.base.SyncReply`."""

    __slots__ = ("_limit", "_process", "_response", "_silence", "_sock", "headers", "status")

    def __init__(self, response: urllib3.BaseHTTPResponse, timeouts: Timeouts) -> None:
        self._response = response
        self._sock = _socket_of(response)
        self._process = os.getpid()
        self._silence = timeouts.between_chunks
        self._limit = timeouts.first_byte
        self.status = response.status
        self.headers: Mapping[str, str] = response.headers

    def receive(self, limit: float | None = None) -> bytes:
        silence = self._silence if limit is None or limit > self._silence else max(limit, 0.001)
        if silence != self._limit:
            self._set_limit(silence)
        try:
            data = self._response.read1(_PIECE)
        except BaseException as error:
            raise self._broken(error) from None
        if not data and self._response.length_remaining:
            # read() would notice that less came than was announced; read1() does not.
            self.abort()
            raise TransportFailure("lost", "the server closed it in the middle of the reply", began=True)
        return data

    def read(self) -> bytes:
        if self._silence != self._limit:
            self._set_limit(self._silence)
        try:
            packed = "content-encoding" in self.headers
            data = self._unpacked() if packed else self._response.read(REPLY_BYTES)
        except BaseException as error:
            raise self._broken(error) from None
        if len(data) >= REPLY_BYTES:
            self.abort()
            raise TransportFailure("too large", "", began=True)
        if self._response.length_remaining:
            self.abort()
            raise TransportFailure("lost", "the server closed it in the middle of the reply", began=True)
        return data

    def _unpacked(self) -> bytes:
        """A body that the server has compressed unasked: a little of it may become very much."""
        pieces, size = [], 0
        while size < REPLY_BYTES and (piece := self._response.read1(_PIECE)):
            pieces.append(piece)
            size += len(piece)
        return b"".join(pieces)

    def _broken(self, error: BaseException) -> BaseException:
        self.abort()
        if isinstance(error, (wrong.HTTPError, OSError, http.client.HTTPException)):
            failure = _failure(error, "between chunks")
            failure.began = True
            return bare(failure)
        return bare(error)

    def finish(self) -> None:
        self._set_limit(_LINGER)
        try:
            rest = self._response.read1(_PIECE)
            if rest or self._response.read1(_PIECE):
                self.abort()
        except (wrong.HTTPError, OSError, http.client.HTTPException):
            self.abort()

    def interrupt(self) -> None:
        # A thread that waits for the next byte holds what close() would wait for: it is woken. Not in a child process:
        # the connection is the parent's.
        if self._sock is not None and self._process == os.getpid():
            with suppress(OSError):
                self._sock.shutdown(socket.SHUT_RDWR)

    def abort(self) -> None:
        self.interrupt()
        self._response.close()
        connection = self._response.connection
        if connection is not None:
            connection.close()
        self._response.release_conn()

    def _set_limit(self, seconds: float) -> None:
        self._limit = seconds
        if self._sock is not None:
            with suppress(OSError):  # it may have been closed meanwhile
                self._sock.settimeout(seconds)


def _socket_of(response: urllib3.BaseHTTPResponse) -> "socket.socket | None":
    """The socket that a reply is read from; a connection that ends with its reply holds it no more."""
    sock: socket.socket | None = getattr(response.connection, "sock", None)
    if sock is None:
        raw = getattr(getattr(response, "_fp", None), "fp", None)
        sock = getattr(getattr(raw, "raw", None), "_sock", None)
    return sock


def _failure(error: Exception, phase: str = "first byte") -> TransportFailure:
    """What a urllib3 or socket exception means. Order matters: the classes overlap."""
    cause: BaseException = error
    if isinstance(error, wrong.ProxyError):
        return TransportFailure("proxy", _words(error.original_error))
    if isinstance(error, wrong.ProtocolError) and len(error.args) > 1 and isinstance(error.args[1], BaseException):
        cause = error.args[1]
    reason: Reason = "lost"
    if isinstance(error, wrong.NameResolutionError):
        reason = "dns"
    elif isinstance(error, wrong.NewConnectionError):
        inner = error.__context__ or error.__cause__
        reason = "refused" if isinstance(inner, ConnectionRefusedError) else "unreachable"
        cause = inner or error
    elif isinstance(error, wrong.EmptyPoolError):
        return TransportFailure("timeout", "all connections are in use", "connect")
    elif isinstance(error, wrong.ConnectTimeoutError):
        return TransportFailure("timeout", "no connection in time", "connect")
    elif isinstance(error, (wrong.ReadTimeoutError, TimeoutError)):
        return TransportFailure("timeout", "nothing came in time", phase)
    elif isinstance(error, wrong.SSLError) or type(cause).__module__ == "ssl":
        reason = "tls"
    elif isinstance(cause, http.client.RemoteDisconnected):
        reason = "lost"
    elif isinstance(cause, (http.client.BadStatusLine, http.client.LineTooLong, http.client.UnknownProtocol)):
        reason = "not http"
    return TransportFailure(reason, _words(cause), sent=getattr(cause, "sent", False))


def _words(error: BaseException) -> str:
    if isinstance(error, OSError) and error.strerror:
        return error.strerror
    if isinstance(error, (http.client.IncompleteRead, wrong.IncompleteRead, wrong.InvalidChunkLength)):
        return "the server closed it in the middle of the reply"
    return (str(error) or type(error).__name__)[:300]


def _proxies() -> dict[str, str]:
    if not any(name.lower().endswith("_proxy") for name in os.environ):
        return {}
    from urllib.request import getproxies_environment

    return dict(getproxies_environment())


def _proxy_for(proxies: Mapping[str, str], scheme: str, host: str) -> str | None:
    address = proxies.get(scheme) or proxies.get("all")
    if not address:
        return None
    from urllib.request import proxy_bypass_environment  # type: ignore[attr-defined]  # missing in the stubs

    if proxy_bypass_environment(host, dict(proxies)):
        return None
    return address if "://" in address else f"http://{address}"
