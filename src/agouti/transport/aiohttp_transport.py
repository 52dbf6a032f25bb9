"""Asynchronous HTTP through aiohttp: one session per client, made in the loop that first uses it."""

import asyncio
import os
import re
import socket
import threading
import time
from collections.abc import Awaitable, Callable, Mapping
from contextlib import suppress
from contextvars import ContextVar
from functools import partial
from io import BytesIO
from typing import Any

import aiohttp
from aiohttp.abc import AbstractResolver, ResolveResult
from aiohttp.client_proto import ResponseHandler
from aiohttp.http_exceptions import HttpProcessingError
from multidict import CIMultiDict
from yarl import URL

from ..core.http.exchange import (
    REPLY_BYTES,
    TOTAL_OVER,
    HttpRequest,
    Timeouts,
    TimeoutsWithin,
    TransportFailure,
    without_traceback,
)
from ..core.secrets.secret import SecretText
from ..runtime.fork_reset import reset_after_fork
from .base import closed
from .deadline_monitor import PATROLS
from .heads import fault_of
from .proxies import Proxies
from .public_addresses import checked, is_address
from .tls import Contexts

_LINGER = 0.05  # see the synchronous transport


class AiohttpTransport:
    """See `transport.base.AsyncTransport`."""

    def __init__(self, *, connections: int = 256) -> None:
        self._connections = connections
        self._contexts = Contexts()
        self._proxies = Proxies(os.environ)
        self._under_way: dict[Any, _Watched] = {}
        # A session belongs to the loop that made it; what the last request used is most often what the next one uses.
        self._latest: tuple[asyncio.AbstractEventLoop, aiohttp.ClientSession] | None = None
        self._sessions: dict[tuple[asyncio.AbstractEventLoop, str], aiohttp.ClientSession] = {}
        self._lock = threading.Lock()
        self._closed = False
        reset_after_fork(self)
        self._urls: dict[str, URL] = {}
        self._timeouts: dict[Timeouts, aiohttp.ClientTimeout] = {}
        # What the last request used is most often what the next one uses: the engine keeps both.
        self._default_timeout: tuple[Timeouts | None, aiohttp.ClientTimeout | None] = (None, None)
        self._headers: tuple[dict[str, str] | None, CIMultiDict[str]] = (None, CIMultiDict())

    async def open(self, request: HttpRequest, timeouts: Timeouts) -> "AiohttpReply":
        loop = asyncio.get_running_loop()
        latest = self._latest  # read once: other loops may set it
        if request.socket:
            session = self._session_of(loop, kind=request.socket)
        elif request.public_only:
            session = self._public_session(request.url, loop)
        elif latest is not None and latest[0] is loop:
            session = latest[1]
        else:
            session = self._session_of(loop)
            self._latest = (loop, session)
        default_client = self._default_timeout
        limit = default_client[1] if timeouts is default_client[0] else self._timeouts.get(timeouts)
        if limit is None:
            if len(self._timeouts) > 64:
                self._timeouts.clear()
            limit = self._timeouts[timeouts] = aiohttp.ClientTimeout(
                total=None,
                connect=max(timeouts.connect, timeouts.first_byte),
                sock_connect=timeouts.connect,
                sock_read=timeouts.first_byte,
            )
            self._default_timeout = (timeouts, limit)
        if self._headers[0] is not request.headers:
            # Never in a local variable: tracebacks that print locals would show the key.
            self._headers = (request.headers, _multidict(request.headers))
        failure: TransportFailure
        watched = _Watched(loop)
        self._under_way[watched.task] = watched
        number = PATROLS.watch(timeouts.total, watched.end)
        before = _CONNECTED.set(request.connected)
        try:
            if isinstance(timeouts, TimeoutsWithin):
                # The deadline holds for all of it: the library's own limits are one for each phase.
                async with asyncio.timeout(timeouts.within):
                    response = await self._sent(session, request, limit)
            else:
                response = await self._sent(session, request, limit)
        except TransportFailure as private:
            failure = private
        except (aiohttp.ClientError, OSError, ValueError) as error:
            failure = _failure(error)
        except asyncio.CancelledError as cancelled:
            if not watched.over:
                raise without_traceback(cancelled)  # noqa: B904
            watched.task.uncancel()
            failure = TransportFailure("timeout", TOTAL_OVER, "total")
            if watched.stopped:
                failure = TransportFailure("lost", "the call was given up", sent=True)
        except BaseException as interruption:
            raise without_traceback(interruption)  # noqa: B904
        else:
            return AiohttpReply(response, timeouts)
        finally:
            _CONNECTED.reset(before)
            watched.leftover = True
            self._under_way.pop(watched.task, None)
            PATROLS.leave(number)
        raise failure  # after the foreign exception is gone: see TransportFailure

    def _sent(
        self, session: aiohttp.ClientSession, request: HttpRequest, limit: aiohttp.ClientTimeout
    ) -> Awaitable[aiohttp.ClientResponse]:
        through = self._proxy(request) if self._proxies else {}
        return session.request(
            request.method,
            self._url(request),
            data=request.body if request.body is None or len(request.body) < 2**20 else BytesIO(request.body),
            headers=through.pop("headers", None) or self._headers[1],
            allow_redirects=False,
            timeout=limit,
            ssl=self._contexts.of(request.tls) if request.url.startswith("https") else True,
            **through,
        )

    def _proxy(self, request: HttpRequest) -> dict[str, Any]:
        """How a request goes through a proxy; nothing where it does not."""
        if request.public_only or request.socket:
            return {}  # whether an address is public can be seen only where it is connected to
        proxy = self._proxies.of(request.target[:])
        if proxy is None:
            return {}
        if (authorization := proxy.authorization) is None:
            return {"proxy": proxy.address}
        login = {"proxy-authorization": authorization.reveal()}
        if request.target.startswith("https:"):
            return {"proxy": proxy.address, "proxy_headers": login}
        return {"proxy": proxy.address, "headers": CIMultiDict([*self._headers[1].items(), *login.items()])}

    def interrupt(self, task: Any) -> None:
        """End the request for whose head a task waits."""
        watched = self._under_way.get(task)
        if watched is not None:
            watched.stop()

    async def close(self) -> None:
        with self._lock:
            self._closed = True
            self._latest = None
            sessions, self._sessions = self._sessions, {}
        running = asyncio.get_running_loop()
        for (loop, _), session in sessions.items():
            if loop is running:
                await session.close()
            elif loop.is_running():
                await asyncio.wrap_future(asyncio.run_coroutine_threadsafe(session.close(), loop))
            else:
                _leave(session)

    def after_fork(self) -> None:
        """The connections are the parent's: two processes on one would get each other's answers."""
        self._lock = threading.Lock()
        # Kept, so that nothing of them is closed in a way that the parent would notice.
        self._of_parent = self._sessions
        self._sessions, self._latest, self._under_way = {}, None, {}

    def _session_of(self, loop: asyncio.AbstractEventLoop, *, kind: str = "") -> aiohttp.ClientSession:
        """The session of a loop; those of loops that have ended are dropped.

        Args:
            kind: ``public``: it reaches no private network; else a socket file that it connects to.
        """
        with self._lock:
            if self._closed:
                raise closed()
            for key in [key for key in self._sessions if key[0].is_closed()]:
                _leave(self._sessions.pop(key))
            session = self._sessions.get((loop, kind))
            if session is None:
                if kind in ("", _PUBLIC):
                    connector: aiohttp.BaseConnector = _Connector(
                        limit=0, limit_per_host=self._connections, resolver=_PublicResolver() if kind else None
                    )
                else:
                    connector = _SocketConnector(kind, limit=self._connections)
                session = self._sessions[loop, kind] = self._new_session(connector)
            return session

    def _url(self, request: HttpRequest) -> URL:
        if request.secret_url is not None:
            # Not kept: a key may change, and the cache would hold it for ever.
            return URL(request.secret_url.reveal(), encoded=True)
        url = self._urls.get(request.url)
        if url is None:
            if len(self._urls) > 1000:
                self._urls.clear()
            url = self._urls[request.url] = URL(request.url, encoded=True)
        return url

    def _public_session(self, url: str, loop: asyncio.AbstractEventLoop) -> aiohttp.ClientSession:
        """A session that reaches no private network."""
        host = URL(url).host or ""
        if is_address(host):
            checked([host])  # addresses are looked up nowhere
        return self._session_of(loop, kind=_PUBLIC)

    @staticmethod
    def _new_session(connector: aiohttp.BaseConnector) -> aiohttp.ClientSession:
        return aiohttp.ClientSession(
            connector=connector,
            cookie_jar=aiohttp.DummyCookieJar(),
            read_bufsize=2**18,
            max_line_size=2**16,
            max_field_size=2**16,
        )


_NO_CAUSE = RuntimeError("no cause")


class _Watched:
    """A request under way in a task, which may take so long altogether."""

    __slots__ = ("_loop", "leftover", "over", "stopped", "task")

    def __init__(self, loop: asyncio.AbstractEventLoop) -> None:
        self._loop = loop
        self.task: Any = asyncio.current_task()
        self.over = self.leftover = self.stopped = False

    def stop(self) -> None:
        self.stopped = True
        self.end()

    def end(self) -> None:
        self._loop.call_soon_threadsafe(self._cancel)

    def _cancel(self) -> None:
        if not self.leftover:
            self.over = True
            self.task.cancel()


class _Handler(ResponseHandler):
    """Tells whoever reads a body that the rest of it makes no sense; the library lets them wait."""

    def close(self) -> None:
        # What is not sent yet will not be: a transport that waits for that is open as long as the server pleases.
        if self.transport is not None and self.transport.get_write_buffer_size():
            self.abort()
        else:
            super().close()

    def set_exception(self, exc: Any, exc_cause: BaseException = _NO_CAUSE) -> None:
        super().set_exception(exc, exc_cause)
        payload = getattr(self, "_payload", None)
        if payload is not None and not payload.is_eof() and payload.exception() is None:
            payload.set_exception(aiohttp.ClientPayloadError("the body breaks the rules of HTTP"), exc_cause)


_CONNECTED: "ContextVar[Callable[[], None] | None]" = ContextVar("agouti_connected", default=None)


class _Announcing(aiohttp.BaseConnector):
    """What all connectors share: replies that are read as ours are, and callers who hear of a connection."""

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self._factory = partial(_Handler, loop=self._loop)  # type: ignore[assignment]

    async def connect(self, req: Any, traces: Any, timeout: Any) -> Any:  # noqa: ASYNC109
        connection = await super().connect(req, traces, timeout)
        connected = _CONNECTED.get()
        if connected is not None:
            connected()
        return connection


class _Connector(_Announcing, aiohttp.TCPConnector):
    """One limit for the look-up of a name, all of its addresses and the handshake."""

    async def _create_connection(self, req: Any, traces: Any, timeout: Any) -> Any:  # noqa: ASYNC109
        try:
            async with asyncio.timeout(timeout.sock_connect):
                return await super()._create_connection(req, traces, timeout)
        except TimeoutError:
            raise aiohttp.ConnectionTimeoutError("no connection in time") from None


class _SocketConnector(_Announcing, aiohttp.UnixConnector):
    """Connections to a socket file."""


_PUBLIC = "public"


def _leave(session: aiohttp.ClientSession) -> None:
    """Let go of a session whose loop has ended: nothing can be awaited there any more."""
    connector: Any = session.connector
    session.detach()
    # Closing would be awaited, in a loop that is no more: the sockets are closed under their transports.
    with suppress(AttributeError, TypeError):
        for connection in list(connector._conns.values()):
            for protocol, *_ in connection:
                transport = protocol.transport
                with suppress(AttributeError, OSError):
                    transport._sock.close()
                    transport._sock = None
        connector._conns.clear()
    with suppress(AttributeError, RuntimeError):
        connector._close_immediately()


class _PublicResolver(AbstractResolver):
    """Looks names up, and refuses those that lead into a private network."""

    def __init__(self) -> None:
        self._inner = aiohttp.ThreadedResolver()

    async def resolve(
        self, host: str, port: int = 0, family: socket.AddressFamily = socket.AF_INET
    ) -> list[ResolveResult]:
        resolved = await self._inner.resolve(host, port, family)
        checked(each["host"] for each in resolved)
        return resolved

    async def close(self) -> None:
        await self._inner.close()


class AiohttpReply:
    """See `transport.base.AsyncReply`."""

    __slots__ = ("_response", "_seen_error", "_silence", "_total", "headers", "status")

    def __init__(self, response: aiohttp.ClientResponse, timeouts: Timeouts) -> None:
        self._response = response
        self._silence = timeouts.between_chunks
        self._total = timeouts.total
        self._seen_error: Exception | None = None
        self.status = response.status
        self.headers: Mapping[str, str] = response.headers
        if (fault := fault_of(self.headers, response.version)) is not None:
            response.close()
            raise fault
        # The library would go on to hold the limit of the first byte against every later one.
        connection = response.connection
        if connection is not None and connection.protocol is not None:
            connection.protocol.read_timeout = None
            if (drop := getattr(connection.protocol, "_drop_timeout", None)) is not None:
                drop()

    async def receive(self, limit: float | None = None) -> bytes:
        content = self._response.content
        if self._seen_error is not None:
            raise self._broken(self._seen_error) from None
        if (error := content.exception()) is not None and (buffered := _left_in(content)):
            self._seen_error = error if isinstance(error, Exception) else None
            return buffered
        try:
            data = content.read_nowait()
            if data or content.at_eof():
                return data
            async with asyncio.timeout(self._silence if limit is None or limit > self._silence else max(limit, 0.001)):
                return await content.readany()
        except BaseException as error:
            raise self._broken(error) from None

    async def read(self) -> bytes:
        content = self._response.content
        if content.is_eof() and content.exception() is None:
            return content.read_nowait()  # nearly every reply comes at once
        chunks, size = [], 0
        until = time.monotonic() + self._total
        while data := await self.receive():
            chunks.append(data)
            size += len(data)
            if time.monotonic() > until:
                self.abort()
                raise TransportFailure("timeout", TOTAL_OVER, "total", began=True)
            if size >= REPLY_BYTES:
                self.abort()
                raise TransportFailure("too large", "", began=True)
        return chunks[0] if len(chunks) == 1 else b"".join(chunks)

    def _broken(self, error: BaseException) -> BaseException:
        self.abort()
        if isinstance(error, (aiohttp.ClientError, OSError, ValueError)):
            failure = _failure(error, "between chunks")
            failure.began = True
            return without_traceback(failure)
        return without_traceback(error)

    async def finish(self) -> None:
        content = self._response.content
        try:
            async with asyncio.timeout(_LINGER):
                while not content.at_eof():
                    if await content.readany():
                        break
        except (aiohttp.ClientError, OSError, ValueError):
            pass
        self._response.release()

    def interrupt(self) -> None:
        self._response.close()

    def abort(self) -> None:
        self._response.close()


def _left_in(content: aiohttp.StreamReader) -> bytes:
    """What had come before a body went wrong; the library would raise first, and keep it."""
    buffer = getattr(content, "_buffer", None)
    if not buffer:
        return b""
    buffered = b"".join(bytes(each) for each in buffer)[getattr(content, "_buffer_offset", 0) :]
    buffer.clear()
    content._buffer_offset = 0
    content._size = 0
    return buffered


def _multidict(headers: dict[str, str]) -> "CIMultiDict[str]":
    # aiohttp prints each value with str(), which masks.
    return CIMultiDict(
        [(name, value.reveal() if isinstance(value, SecretText) else value) for name, value in headers.items()]
    )


def _failure(error: Exception, phase: str = "first byte") -> TransportFailure:
    """What an aiohttp or socket exception means. Order matters: the classes overlap."""
    if isinstance(error, (aiohttp.ClientProxyConnectionError, aiohttp.ClientHttpProxyError)):
        return TransportFailure("proxy", _message(error))
    if isinstance(error, aiohttp.ConnectionTimeoutError):
        return TransportFailure("timeout", "no connection in time", "connect")
    if isinstance(error, TimeoutError):
        return TransportFailure("timeout", "nothing came in time", phase)
    nameless = (aiohttp.InvalidURL, aiohttp.ClientConnectorDNSError, UnicodeError)
    if isinstance(error, nameless) or isinstance(error.__cause__, UnicodeError):
        return TransportFailure("dns", _message(error))
    if isinstance(error, (aiohttp.ClientSSLError, aiohttp.ServerFingerprintMismatch)):
        return TransportFailure("tls", _message(error))
    if isinstance(error, aiohttp.ClientConnectorError):
        refused = isinstance(error.os_error, (ConnectionRefusedError, FileNotFoundError))
        refused = refused or "Connect call failed" in str(error.os_error)
        return TransportFailure("refused" if refused else "unreachable", _message(error.os_error))
    if isinstance(error, aiohttp.ServerDisconnectedError):
        # Its message may be the head as far as it had come.
        return TransportFailure("lost", "the server closed the connection without a reply", sent=True)
    if isinstance(error, (aiohttp.ClientResponseError, HttpProcessingError)) or _garbled(error):
        message = str(getattr(error.__cause__ or error, "message", "") or error)[:300]
        if any(sign in message for sign in _NO_HTTP):
            return TransportFailure("not http", _line_in(message))
        return TransportFailure("garbled", message.partition("\n")[0].rstrip(":"), sent=True)
    # Whether all of it had gone out is not told: as far as anybody knows, it had.
    return TransportFailure("lost", _message(error), sent=isinstance(error, (aiohttp.ClientOSError, ConnectionError)))


_NO_HTTP = ("Expected HTTP/", "Invalid HTTP version", "Bad status line", "Expected dot")


def _garbled(error: Exception) -> bool:
    """Whether a body did not break off but breaks the rules."""
    cause = error.__cause__
    return isinstance(error, aiohttp.ClientPayloadError) and (
        isinstance(cause, HttpProcessingError) and "Not enough data" not in str(cause)
    )


def _line_in(message: str) -> str:
    """The line that was no line of HTTP, where the library quotes it."""
    quoted = re.search(r"b'((?:[^'\\]|\\.)*)'|b\"((?:[^\"\\]|\\.)*)\"", message)
    if quoted is None:
        return message
    return (quoted[1] or quoted[2] or "").encode("latin-1", "replace").decode("unicode_escape")


def _message(error: BaseException) -> str:
    if isinstance(error, aiohttp.ClientPayloadError):
        return "the server closed it in the middle of the reply"
    inner = getattr(error, "os_error", error)
    if isinstance(inner, OSError) and inner.strerror:
        return inner.strerror
    return (str(inner) or type(inner).__name__)[:300]
