"""Transports that record every exchange into an HTTP Archive, and such that answer from one."""

import os
import time
from collections.abc import Mapping
from pathlib import Path

from ..core.errors import ConfigError, NotRecorded
from ..core.http.exchange import HttpRequest, Timeouts
from ..core.http.har import Archive, Received, entry
from ..core.http.headers import Headers
from .base import AsyncReply, AsyncTransport, SyncReply, SyncTransport, TransportFailure
from .recorder import Recorder


class _Exchange:
    """One exchange as it goes on: notes what comes and when, and adds itself to the archive once it is over."""

    def __init__(self, recorder: Recorder, request: HttpRequest) -> None:
        self._recorder = recorder
        self._request = request
        self._started_at = time.time()
        self._start = time.perf_counter()
        self._received = Received(chunks=[])
        self._over = False

    def opened(self, status: int, headers: Mapping[str, str]) -> None:
        self._received.status = status
        # The body is recorded as it was decoded.
        self._received.headers = tuple(pair for pair in headers.items() if pair[0].lower() != "content-encoding")
        self._received.waited = time.perf_counter() - self._start

    def received(self, data: bytes) -> bytes:
        if data:
            self._received.chunks.append((time.perf_counter() - self._start, data))
        else:
            self.over()
        return data

    def failed(self, failure: TransportFailure) -> TransportFailure:
        self._received.failure = (failure.reason, failure.detail, failure.phase)
        self.over()
        return failure

    def over(self) -> None:
        if not self._over:
            self._over = True
            self._recorder.add(
                entry(self._request, self._received, self._started_at, time.perf_counter() - self._start)
            )


class RecordingTransport:
    """Records what another transport does."""

    def __init__(self, inner: SyncTransport, recorder: Recorder) -> None:
        self._inner = inner
        self._recorder = recorder

    def open(self, request: HttpRequest, timeouts: Timeouts) -> SyncReply:
        if request.confidential:
            return self._inner.open(request, timeouts)
        exchange = _Exchange(self._recorder, request)
        try:
            reply = self._inner.open(request, timeouts)
        except TransportFailure as failure:
            raise exchange.failed(failure) from None
        return _RecordingReply(reply, exchange)

    def interrupt(self, owner: object) -> None:
        getattr(self._inner, "interrupt", lambda _: None)(owner)

    def close(self) -> None:
        self._inner.close()
        self._recorder.close()


class _RecordingReply:
    def __init__(self, inner: SyncReply, exchange: _Exchange) -> None:
        self._inner = inner
        self._exchange = exchange
        self.status, self.headers = inner.status, inner.headers
        exchange.opened(inner.status, inner.headers)

    def receive(self, limit: float | None = None) -> bytes:
        try:
            return self._exchange.received(self._inner.receive(limit))
        except TransportFailure as failure:
            raise self._exchange.failed(failure) from None

    def read(self) -> bytes:
        try:
            data = self._exchange.received(self._inner.read())
        except TransportFailure as failure:
            raise self._exchange.failed(failure) from None
        self._exchange.over()
        return data

    def finish(self) -> None:
        self._exchange.over()
        self._inner.finish()

    def interrupt(self) -> None:
        getattr(self._inner, "interrupt", self._inner.abort)()

    def abort(self) -> None:
        self._exchange.over()
        self._inner.abort()


class AsyncRecordingTransport:
    """`RecordingTransport` for asyncio."""

    def __init__(self, inner: AsyncTransport, recorder: Recorder) -> None:
        self._inner = inner
        self._recorder = recorder

    async def open(self, request: HttpRequest, timeouts: Timeouts) -> AsyncReply:
        if request.confidential:
            return await self._inner.open(request, timeouts)
        exchange = _Exchange(self._recorder, request)
        try:
            reply = await self._inner.open(request, timeouts)
        except TransportFailure as failure:
            raise exchange.failed(failure) from None
        return _AsyncRecordingReply(reply, exchange)

    def interrupt(self, owner: object) -> None:
        getattr(self._inner, "interrupt", lambda _: None)(owner)

    async def close(self) -> None:
        await self._inner.close()
        self._recorder.close()


class _AsyncRecordingReply:
    def __init__(self, inner: AsyncReply, exchange: _Exchange) -> None:
        self._inner = inner
        self._exchange = exchange
        self.status, self.headers = inner.status, inner.headers
        exchange.opened(inner.status, inner.headers)

    async def receive(self, limit: float | None = None) -> bytes:
        try:
            return self._exchange.received(await self._inner.receive(limit))
        except TransportFailure as failure:
            raise self._exchange.failed(failure) from None

    async def read(self) -> bytes:
        try:
            data = self._exchange.received(await self._inner.read())
        except TransportFailure as failure:
            raise self._exchange.failed(failure) from None
        self._exchange.over()
        return data

    async def finish(self) -> None:
        self._exchange.over()
        await self._inner.finish()

    def interrupt(self) -> None:
        getattr(self._inner, "interrupt", self._inner.abort)()

    def abort(self) -> None:
        self._exchange.over()
        self._inner.abort()


def read_archive(path: str | os.PathLike[str]) -> Archive:
    """A recorded archive.

    Raises:
        ConfigError: it cannot be read, or is none.
    """
    try:
        text = Path(path).read_bytes()
    except OSError as error:
        raise ConfigError(
            f"{path} cannot be read ({error.strerror or error})", hint="Record it first with Client(record=...)."
        ) from None
    return Archive(text, str(path))


def _replayed(archive: Archive, request: HttpRequest) -> "CannedReply":
    received = archive.find(request)
    if received is None:
        raise NotRecorded(
            f"{archive.name} has no reply to this {request.method} {request.url}",
            hint=f"{archive.nearest(request).capitalize()}. Record it anew with Client(record=...).",
        )
    return reply_of(received)


def reply_of(received: Received) -> "CannedReply":
    """A reply that says what was received; a failure that came before any of it is raised.

    Raises:
        TransportFailure: the exchange failed before a reply.
    """
    if received.failure is not None and not received.status:
        reason, detail, phase = received.failure
        raise TransportFailure(reason, detail, phase)  # type: ignore[arg-type]
    return CannedReply(received)


class CannedReply:
    """A reply from memory, piece by piece as it was received; see `transport.base.SyncReply`."""

    def __init__(self, received: Received) -> None:
        self.status = received.status
        self.headers: Mapping[str, str] = Headers(received.headers)
        self._chunks = [chunk for _, chunk in received.chunks]
        self._failure = received.failure
        self.aborted = False

    def receive(self, limit: float | None = None) -> bytes:
        if self._chunks:
            return self._chunks.pop(0)
        if self._failure is not None:
            reason, detail, phase = self._failure
            raise TransportFailure(reason, detail, phase, began=True)  # type: ignore[arg-type]
        return b""

    def read(self) -> bytes:
        body = b""
        while data := self.receive():
            body += data
        return body

    def finish(self) -> None:
        self._chunks = []

    def abort(self) -> None:
        self._chunks = []
        self.aborted = True


class AsyncCannedReply:
    """`CannedReply` for asyncio."""

    def __init__(self, reply: CannedReply) -> None:
        self._reply = reply
        self.status, self.headers = reply.status, reply.headers

    async def receive(self, limit: float | None = None) -> bytes:
        return self._reply.receive(limit)

    async def read(self) -> bytes:
        return self._reply.read()

    async def finish(self) -> None:
        self._reply.finish()

    def abort(self) -> None:
        self._reply.abort()


class ReplayTransport:
    """Answers from an archive; opens no connection."""

    at_once = True  # no wait between attempts: nobody is there who wants it

    def __init__(self, archive: Archive) -> None:
        self._archive = archive

    def open(self, request: HttpRequest, timeouts: Timeouts) -> SyncReply:
        return _replayed(self._archive, request)

    def close(self) -> None:
        pass


class AsyncReplayTransport:
    """`ReplayTransport` for asyncio."""

    at_once = True  # no wait between attempts: nobody is there who wants it

    def __init__(self, archive: Archive) -> None:
        self._archive = archive

    async def open(self, request: HttpRequest, timeouts: Timeouts) -> AsyncReply:
        return AsyncCannedReply(_replayed(self._archive, request))

    async def close(self) -> None:
        pass
