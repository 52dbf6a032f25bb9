"""Asynchronous HTTP through aiohttp: one session per client, made in the loop that first uses it."""

import asyncio
import os
import socket
from collections.abc import Mapping

import aiohttp
from aiohttp.abc import AbstractResolver, ResolveResult
from multidict import CIMultiDict
from yarl import URL

from ..core.address import with_query
from ..core.http import HttpRequest, Timeouts, TransportFailure, bare
from ..core.secret import SecretText
from .public import checked, is_address
from .tls import Contexts

_LINGER = 0.05  # see the synchronous transport


class AiohttpTransport:
    """See `transport.base.AsyncTransport`."""

    def __init__(self, *, connections: int = 256) -> None:
        self._connections = connections
        self._contexts = Contexts()
        self._session: aiohttp.ClientSession | None = None
        self._public: aiohttp.ClientSession | None = None
        self._urls: dict[str, URL] = {}
        self._timeouts: dict[Timeouts, aiohttp.ClientTimeout] = {}
        # What the last request used is most often what the next one uses: the engine keeps both.
        self._usual: tuple[Timeouts | None, aiohttp.ClientTimeout | None] = (None, None)
        self._headers: tuple[dict[str, str] | None, CIMultiDict[str]] = (None, CIMultiDict())

    async def open(self, request: HttpRequest, timeouts: Timeouts) -> "AiohttpReply":
        session = self._session
        if request.public_only:
            session = self._public_session(request.url)
        elif session is None:
            session = self._session = self._new_session()
        usual = self._usual
        limit = usual[1] if timeouts is usual[0] else self._timeouts.get(timeouts)
        if limit is None:
            if len(self._timeouts) > 64:
                self._timeouts.clear()
            limit = self._timeouts[timeouts] = aiohttp.ClientTimeout(
                total=None,
                connect=max(timeouts.connect, timeouts.first_byte),
                sock_connect=timeouts.connect,
                sock_read=timeouts.first_byte,
            )
            self._usual = (timeouts, limit)
        if self._headers[0] is not request.headers:
            # Never in a local variable: tracebacks that print locals would show the key.
            self._headers = (request.headers, _plain(request.headers))
        failure: TransportFailure
        try:
            response = await session.request(
                request.method,
                self._url(request),
                data=request.body,
                headers=self._headers[1],
                allow_redirects=False,
                timeout=limit,
                ssl=self._contexts.of(request.tls) if request.url.startswith("https") else True,
            )
        except TransportFailure as private:
            failure = private
        except (aiohttp.ClientError, OSError, ValueError) as error:
            failure = _failure(error)
        except BaseException as interruption:
            raise bare(interruption)  # noqa: B904
        else:
            return AiohttpReply(response, timeouts)
        raise failure  # after the foreign exception is gone: see TransportFailure

    async def close(self) -> None:
        sessions, self._session, self._public = (self._session, self._public), None, None
        for session in sessions:
            if session is not None:
                await session.close()

    def _url(self, request: HttpRequest) -> URL:
        if request.secret_query is not None:
            # Not kept: a key may change, and the cache would hold it for ever.
            return URL(with_query(request.url, request.secret_query.reveal()), encoded=True)
        url = self._urls.get(request.url)
        if url is None:
            if len(self._urls) > 1000:
                self._urls.clear()
            url = self._urls[request.url] = URL(request.url, encoded=True)
        return url

    def _public_session(self, url: str) -> aiohttp.ClientSession:
        """A session that reaches no private network."""
        host = URL(url).host or ""
        if is_address(host):
            checked([host])  # addresses are looked up nowhere
        if self._public is None:
            self._public = self._new_session(_PublicResolver())
        return self._public

    def _new_session(self, resolver: AbstractResolver | None = None) -> aiohttp.ClientSession:
        proxied = any(name.lower().endswith("_proxy") for name in os.environ)
        connector = aiohttp.TCPConnector(limit=0, limit_per_host=self._connections, resolver=resolver)
        return aiohttp.ClientSession(
            connector=connector,
            trust_env=proxied,
            cookie_jar=aiohttp.DummyCookieJar(),
            read_bufsize=2**18,
        )


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

    __slots__ = ("_response", "_silence", "headers", "status")

    def __init__(self, response: aiohttp.ClientResponse, timeouts: Timeouts) -> None:
        self._response = response
        self._silence = timeouts.between_chunks
        self.status = response.status
        self.headers: Mapping[str, str] = response.headers

    async def receive(self, limit: float | None = None) -> bytes:
        content = self._response.content
        try:
            data = content.read_nowait()
            if data or content.at_eof():
                return data
            async with asyncio.timeout(self._silence if limit is None or limit > self._silence else max(limit, 0.001)):
                return await content.readany()
        except BaseException as error:
            raise self._broken(error) from None

    async def read(self) -> bytes:
        try:
            return await self._response.read()
        except BaseException as error:
            raise self._broken(error) from None

    def _broken(self, error: BaseException) -> BaseException:
        self.abort()
        if isinstance(error, (aiohttp.ClientError, OSError, ValueError)):
            failure = _failure(error, "between chunks")
            failure.began = True
            return bare(failure)
        return bare(error)

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

    def abort(self) -> None:
        self._response.close()


def _plain(headers: dict[str, str]) -> "CIMultiDict[str]":
    # aiohttp prints each value with str(), which masks.
    return CIMultiDict(
        [(name, value.reveal() if isinstance(value, SecretText) else value) for name, value in headers.items()]
    )


def _failure(error: Exception, phase: str = "first byte") -> TransportFailure:
    """What an aiohttp or socket exception means. Order matters: the classes overlap."""
    if isinstance(error, (aiohttp.ClientProxyConnectionError, aiohttp.ClientHttpProxyError)):
        return TransportFailure("proxy", _words(error))
    if isinstance(error, aiohttp.ConnectionTimeoutError):
        return TransportFailure("timeout", "no connection in time", "connect")
    if isinstance(error, TimeoutError):
        return TransportFailure("timeout", "nothing came in time", phase)
    if isinstance(error, aiohttp.ClientConnectorDNSError):
        return TransportFailure("dns", _words(error))
    if isinstance(error, (aiohttp.ClientSSLError, aiohttp.ServerFingerprintMismatch)):
        return TransportFailure("tls", _words(error))
    if isinstance(error, aiohttp.ClientConnectorError):
        refused = isinstance(error.os_error, ConnectionRefusedError) or "Connect call failed" in str(error.os_error)
        return TransportFailure("refused" if refused else "unreachable", _words(error.os_error))
    if isinstance(error, aiohttp.ServerDisconnectedError):
        if not isinstance(error.message, str) and error.message is not None:
            return TransportFailure("not http", str(error.message)[:300])
        return TransportFailure("lost", "the server closed the connection without a reply")
    if isinstance(error, aiohttp.ClientResponseError):
        return TransportFailure("not http", error.message[:300])
    return TransportFailure("lost", _words(error))


def _words(error: BaseException) -> str:
    if isinstance(error, aiohttp.ClientPayloadError):
        return "the server closed it in the middle of the reply"
    inner = getattr(error, "os_error", error)
    if isinstance(inner, OSError) and inner.strerror:
        return inner.strerror
    return (str(inner) or type(inner).__name__)[:300]
