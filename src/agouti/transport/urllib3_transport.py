"""Synchronous HTTP through urllib3: one pool per origin, its own retries and redirects off."""

import http.client
import os
import socket
import threading
import weakref
from collections.abc import Mapping
from contextlib import suppress
from typing import TYPE_CHECKING, Any

import urllib3
from urllib3 import exceptions as wrong

from ..core.http.exchange import (
    REPLY_BYTES,
    TOTAL_OVER,
    HttpRequest,
    Reason,
    Timeouts,
    TimeoutsWithin,
    Tls,
    TransportFailure,
    without_traceback,
)
from ..core.secrets.secret import SecretText
from ..runtime.fork_reset import reset_after_fork
from .base import closed
from .deadline_monitor import PATROLS
from .heads import GarbledHead, fault_of
from .proxies import Proxies, Proxy
from .urllib3_connections import (
    THREAD_STATE,
    Headers,
    PlainConnection,
    PublicConnection,
    PublicTlsConnection,
    TlsConnection,
    Watched,
    socket_connection,
)

if TYPE_CHECKING:
    import ssl

    from .tls import Contexts

_NO_RETRIES = urllib3.Retry(False, redirect=False)
# How long to wait for the end of a body whose format has already said that it is complete. It comes
# in the same packet or the next one; a server that holds the connection open costs this much once.
_LINGER = 0.05
# What is read at once at most: without a number, as much room would be made as a server only announces.
_CHUNK_BYTES = 2**18


class Urllib3Transport:
    """Thread-safe; see `transport.base.SyncTransport`."""

    def __init__(self, *, connections: int = 256) -> None:
        self._connections = connections
        self._contexts: Contexts | None = None
        self._pools: dict[str, urllib3.HTTPConnectionPool] = {}
        self._timeouts: dict[Timeouts, urllib3.Timeout] = {}
        self._default_timeout: tuple[Timeouts | None, urllib3.Timeout] = (None, urllib3.Timeout())
        self._lock = threading.Lock()
        self._proxies = Proxies(os.environ)
        self._whole_addresses: dict[str, SecretText | None] = {}
        # What is going on, by thread: requests whose head has not come, and the replies behind them.
        self._under_way: dict[int, Watched] = {}
        self._latest: dict[int, weakref.ref[Urllib3Reply]] = {}
        self._closed = False
        reset_after_fork(self)

    def after_fork(self) -> None:
        """The connections are the parent's: two processes on one would get each other's answers."""
        self._lock = threading.Lock()
        # Kept, so that nothing of them is closed in a way that the parent would notice.
        self._of_parent = self._pools
        self._pools, self._under_way, self._latest = {}, {}, {}

    def open(self, request: HttpRequest, timeouts: Timeouts) -> "Urllib3Reply":
        headers = request.headers
        total = timeouts.within if isinstance(timeouts, TimeoutsWithin) else None
        url = request.url
        slash = url.find("/", 8)
        origin = url[:slash] if slash > 0 else url
        path = url[len(origin) :] or "/"
        if request.secret_url is not None or total is not None:
            headers = Headers(headers)
            headers.total = total
            if request.secret_url is not None:
                origin, headers.path = _parted(request.secret_url)
        default_pool = self._default_timeout  # read once: other threads may set it
        limit = default_pool[1] if timeouts is default_pool[0] else self._limit(timeouts)
        failure: TransportFailure
        watched = THREAD_STATE.watched = Watched(timeouts)
        watched.connected = request.connected
        thread_id = threading.get_ident()
        self._under_way[thread_id] = watched
        number = PATROLS.watch(timeouts.total, watched.end)
        try:
            pool = self._pools.get(origin)
            if pool is None or request.tls is not None or request.public_only or request.socket:
                pool = self._pool(origin, request)
            if origin in self._whole_addresses and not request.socket:
                path, headers = self._for_proxy(origin, path, headers)
            response = pool.urlopen(
                request.method,
                path,
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
            failure = watched.failure() if watched.over else _failure(error)
        except BaseException as interruption:
            raise without_traceback(interruption)  # noqa: B904
        else:
            if not watched.over:
                reply = Urllib3Reply(response, timeouts)
                self._latest[thread_id] = weakref.ref(reply)
                return reply
            # A head that breaks off looks like a short one.
            failure = watched.failure()
        finally:
            THREAD_STATE.watched = None
            self._under_way.pop(thread_id, None)
            PATROLS.leave(number)
        # Raised here, after the foreign exception is gone: see TransportFailure.
        raise failure

    def _limit(self, timeouts: Timeouts) -> urllib3.Timeout:
        """The library's own form of time limits."""
        limit = self._timeouts.get(timeouts)
        if limit is None:
            limit = urllib3.Timeout(connect=timeouts.connect, read=timeouts.first_byte)
            if len(self._timeouts) > 64:
                self._timeouts.clear()
            self._timeouts[timeouts] = limit
            self._default_timeout = (timeouts, limit)
        return limit

    def _for_proxy(self, origin: str, path: str, headers: dict[str, str]) -> tuple[str, dict[str, str]]:
        all_headers = Headers(headers)
        if isinstance(headers, Headers):
            all_headers.total = headers.total
            all_headers.path = None if headers.path is None else SecretText("".join((origin, headers.path)))
        if (authorization := self._whole_addresses[origin]) is not None:
            all_headers["proxy-authorization"] = authorization
        return f"{origin}{path}", all_headers

    def interrupt(self, thread: int) -> None:
        """End the request for whose head a thread waits."""
        watched = self._under_way.get(thread)
        if watched is not None:
            watched.stop()

    def close(self) -> None:
        with self._lock:
            self._closed = True
            pools, self._pools = self._pools, {}
        for watched in list(self._under_way.values()):
            watched.stop()
        for latest in list(self._latest.values()):
            if (reply := latest()) is not None:
                reply.interrupt()
        for pool in pools.values():
            pool.close()

    def _pool(self, origin: str, request: HttpRequest) -> urllib3.HTTPConnectionPool:
        """The pool of an origin; one apart for connections with certificates, or to public addresses alone."""
        public = request.public_only
        name = origin
        if public or request.tls is not None or request.socket:
            name = f"{''.join((origin,))} {public} {request.tls} {request.socket}"
        with self._lock:
            if self._closed:
                raise closed()
            pool = self._pools.get(name)
            if pool is None:
                pool = self._new_pool(origin, request.tls, public=public or bool(request.socket))
                self._pools[name] = pool
                https = origin.startswith("https:")
                if request.socket:
                    pool.ConnectionCls = socket_connection(request.socket)
                elif public:
                    pool.ConnectionCls = PublicTlsConnection if https else PublicConnection
            return pool

    def _new_pool(self, origin: str, tls: Tls | None, *, public: bool) -> urllib3.HTTPConnectionPool:
        parts = urllib3.util.parse_url(origin)
        options: dict[str, Any] = {"maxsize": self._connections, "block": True}
        if parts.scheme == "https":
            options["ssl_context"] = self._context(tls)
        proxy = self._proxies.of(origin) if self._proxies and not public else None
        pool: urllib3.HTTPConnectionPool
        if proxy is not None:
            pool = self._through(proxy, origin, options)
        elif parts.scheme == "https":
            pool = urllib3.HTTPSConnectionPool(parts.host or "", parts.port, **options)
        else:
            pool = urllib3.HTTPConnectionPool(parts.host or "", parts.port, **options)
        # Of plain http through a proxy that is reached by TLS, the connection is the proxy's.
        pool.ConnectionCls = TlsConnection if isinstance(pool, urllib3.HTTPSConnectionPool) else PlainConnection
        return pool

    def _through(self, proxy: Proxy, origin: str, options: dict[str, Any]) -> urllib3.HTTPConnectionPool:
        """A pool of connections to a proxy: a tunnel, or for plain http the whole address (RFC 9112 section 3.2.2)."""
        authorization = proxy.authorization
        # The standard library formats it into the head of the tunnel's request: it must be plain there.
        headers = {} if authorization is None else {"proxy-authorization": authorization.reveal()}
        if proxy.address.startswith("https:"):
            options = {**options, "proxy_ssl_context": self._context(None)}
        pool = urllib3.ProxyManager(proxy.address, proxy_headers=headers, **options).connection_from_url(origin)
        if origin.startswith("http:"):
            self._whole_addresses[origin] = authorization
        return pool

    def _context(self, tls: Tls | None) -> "ssl.SSLContext":
        if self._contexts is None:
            from .tls import Contexts

            self._contexts = Contexts()
        return self._contexts.of(tls)


class Urllib3Reply:
    """See `transport.base.SyncReply`."""

    __slots__ = (
        "__weakref__",
        "_limit",
        "_packed",
        "_process",
        "_response",
        "_silence",
        "_sock",
        "_total",
        "_unmeasured",
        "headers",
        "status",
    )

    def __init__(self, response: urllib3.BaseHTTPResponse, timeouts: Timeouts) -> None:
        self._response = response
        self._sock = _socket_of(response)
        self._process = os.getpid()
        self._silence = timeouts.between_chunks
        self._limit = timeouts.first_byte
        self._total = timeouts.total
        self.status = response.status
        self.headers: Mapping[str, str] = response.headers
        self._packed = "content-encoding" in response.headers
        self._unmeasured = response.length_remaining is None
        if (fault := fault_of(self.headers)) is not None:
            self.abort()
            raise fault

    def receive(self, limit: float | None = None) -> bytes:
        silence = self._silence if limit is None or limit > self._silence else max(limit, 0.001)
        if silence != self._limit:
            self._set_limit(silence)
        try:
            data = self._response.read1(_CHUNK_BYTES)
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
        number = PATROLS.watch(self._total, self.interrupt)
        try:
            data = self._unpacked() if self._packed else self._response.read(REPLY_BYTES)
        except BaseException as error:
            raise self._over() if not PATROLS.leave(number) else self._broken(error) from None
        if not PATROLS.leave(number):
            raise self._over()
        if len(data) >= REPLY_BYTES:
            self.abort()
            raise TransportFailure("too large", "", began=True)
        if self._response.length_remaining or (self._unmeasured and not data and not _chunked(self._response)):
            self.abort()
            raise TransportFailure("lost", "the server closed it in the middle of the reply", began=True, sent=True)
        return data

    def _over(self) -> TransportFailure:
        self.abort()
        return TransportFailure("timeout", TOTAL_OVER, "total", began=True)

    def _unpacked(self) -> bytes:
        """A body that the server has compressed unasked: a little of it may become very much."""
        chunks, size = [], 0
        while size < REPLY_BYTES and (chunk := self._response.read1(_CHUNK_BYTES)):
            chunks.append(chunk)
            size += len(chunk)
        return b"".join(chunks)

    def _broken(self, error: BaseException) -> BaseException:
        self.abort()
        if isinstance(error, (wrong.HTTPError, OSError, http.client.HTTPException)):
            failure = _failure(error, "between chunks")
            if getattr(getattr(self._response, "_original_response", None), "garbled", False):
                failure = TransportFailure("garbled", "a chunk has no size or no end", sent=True)
            failure.began = True
            return without_traceback(failure)
        return without_traceback(error)

    def finish(self) -> None:
        self._set_limit(_LINGER)
        try:
            remainder = self._response.read1(_CHUNK_BYTES)
            if remainder or self._response.read1(_CHUNK_BYTES):
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


def _parted(url: SecretText) -> tuple[SecretText, SecretText]:
    """Origin and path of an address that holds a secret."""
    slash = url.find("/", 8)
    return (SecretText(url[:slash]), SecretText(url[slash:])) if slash > 0 else (url, SecretText("/"))


def _socket_of(response: urllib3.BaseHTTPResponse) -> "socket.socket | None":
    """The socket that a reply is read from; a connection that ends with its reply holds it no more."""
    sock: socket.socket | None = getattr(response.connection, "sock", None)
    if sock is None:
        raw = getattr(getattr(response, "_fp", None), "fp", None)
        sock = getattr(getattr(raw, "raw", None), "_sock", None)
    return sock


def _chunked(response: urllib3.BaseHTTPResponse) -> bool:
    return bool(getattr(response, "chunked", False))


_GARBLED = (http.client.HTTPException, http.client.LineTooLong, GarbledHead)


def _failure(error: Exception, phase: str = "first byte") -> TransportFailure:
    """What a urllib3 or socket exception means. Order matters: the classes overlap."""
    cause: BaseException = error
    if isinstance(error, wrong.ProxyError):
        return TransportFailure("proxy", _message(error.original_error))
    if isinstance(error, wrong.ProtocolError) and len(error.args) > 1 and isinstance(error.args[1], BaseException):
        cause = error.args[1]
    reason: Reason = "lost"
    if isinstance(error, wrong.NameResolutionError):
        reason = "dns"
    elif isinstance(error, wrong.NewConnectionError):
        inner = error.__context__ or error.__cause__
        reason = "refused" if isinstance(inner, (ConnectionRefusedError, FileNotFoundError)) else "unreachable"
        cause = inner or error
    elif isinstance(error, wrong.EmptyPoolError):
        return TransportFailure("timeout", "all connections are in use", "connect")
    elif isinstance(error, wrong.ConnectTimeoutError):
        return TransportFailure("timeout", "no connection in time", "connect")
    elif isinstance(error, wrong.ReadTimeoutError) or isinstance(cause, TimeoutError):
        return TransportFailure("timeout", "nothing came in time", phase)
    elif isinstance(error, wrong.SSLError) or type(cause).__module__ == "ssl":
        reason = "tls"
    elif isinstance(cause, http.client.RemoteDisconnected):
        reason = "lost"
    elif isinstance(cause, (http.client.BadStatusLine, http.client.UnknownProtocol)):
        line = str(getattr(cause, "line", cause))
        # A line that breaks off is one of HTTP still.
        reason = "lost" if line and not line.endswith("\n") and "HTTP/1.1 200".startswith(line[:9]) else "not http"
    elif isinstance(error, (wrong.DecodeError, wrong.InvalidHeader)) or type(cause) in _GARBLED:
        reason = "garbled"
    elif isinstance(cause, wrong.InvalidChunkLength) and cause.length:
        return TransportFailure("garbled", f"a chunk of {cause.length[:20]!r} bytes", sent=True)
    return TransportFailure(reason, _message(cause), sent=getattr(cause, "sent", False))


def _message(error: BaseException) -> str:
    inner = error.__context__ or error.__cause__
    if isinstance(error, wrong.NewConnectionError) and isinstance(inner, OSError):
        error = inner  # its own words have an object of the library in them
    if isinstance(error, OSError) and error.strerror:
        return error.strerror
    if isinstance(error, (http.client.IncompleteRead, wrong.IncompleteRead, wrong.InvalidChunkLength)):
        return "the server closed it in the middle of the reply"
    return (str(error) or type(error).__name__)[:300]
