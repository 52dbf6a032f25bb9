"""The asynchronous driver: does what the engine asks, and nothing else. `drive` is its twin."""

import asyncio
from collections.abc import Awaitable, Callable, Mapping
from contextlib import suppress
from typing import Any, Generic, TypeVar

from ..core.errors import AgoutiError
from ..core.events import Event
from ..core.http import HttpReply, HttpRequest, Timeouts
from ..credentials.credential import Credential
from ..credentials.fetch import fetch, quick
from ..transport.base import AsyncReply, AsyncTransport, TransportFailure, bare
from .effects import (
    PARTING_TIMEOUTS,
    Drop,
    Effect,
    Emit,
    Fetch,
    Finish,
    Open,
    Parting,
    Perform,
    Receive,
    Send,
    Sleep,
    Steps,
)

T = TypeVar("T")


class AsyncRun(Generic[T]):
    """One call under way.

    Attributes:
        result: what the call ended with, once `advance` has returned `None`.
    """

    __slots__ = ("_environment", "_opened", "_parting", "_steps", "_transport", "result")

    def __init__(self, steps: Steps[T], transport: AsyncTransport, environment: Mapping[str, str]) -> None:
        self._steps = steps
        self._transport = transport
        self._environment = environment
        self._opened: AsyncReply | None = None
        self._parting: HttpRequest | None = None
        self.result: T

    async def advance(self) -> list[Event] | None:
        """Go on until there are events for the caller; `None` at the end."""
        resume: Callable[[Any], Effect] = self._steps.send
        answer: Any = None
        try:
            while True:
                effect = resume(answer)
                if isinstance(effect, Emit):
                    return effect.events
                try:
                    answer = await _DO[type(effect)](self, effect)
                    resume = self._steps.send
                except (TransportFailure, AgoutiError) as error:
                    answer = error
                    resume = self._steps.throw
        except StopIteration as stop:
            self.result = stop.value
            await self.close()
            return None
        except BaseException:
            await self.close()
            raise

    async def close(self) -> None:
        """Give the call up; what is open is closed at once."""
        opened, self._opened = self._opened, None
        if opened is not None:
            opened.abort()
        parting, self._parting = self._parting, None
        if parting is not None:
            with suppress(TransportFailure, AgoutiError):
                await (await self._transport.open(parting, PARTING_TIMEOUTS)).read()
        self._steps.close()

    async def _send(self, effect: Send) -> HttpReply:
        reply = self._opened = await self._transport.open(effect.request, effect.timeouts)
        body = await reply.read()
        self._opened = None
        return HttpReply(reply.status, reply.headers, body)

    async def _open(self, effect: Open) -> AsyncReply:
        self._opened = await self._transport.open(effect.request, effect.timeouts)
        return self._opened

    async def _receive(self, effect: Receive) -> bytes:
        return await self._opened.receive(effect.limit) if self._opened is not None else b""

    async def _finish(self, effect: Finish) -> None:
        opened, self._opened = self._opened, None
        if opened is not None:
            await opened.finish()

    async def _drop(self, effect: Drop) -> None:
        opened, self._opened = self._opened, None
        if opened is not None:
            opened.abort()

    async def _sleep(self, effect: Sleep) -> None:
        await asyncio.sleep(effect.seconds)

    async def _part(self, effect: Parting) -> None:
        self._parting = effect.request

    async def _perform(self, effect: Perform) -> list[Any]:
        from .work import perform_async

        return await perform_async(effect.work)

    async def _fetch(self, effect: Fetch) -> Credential:
        try:
            if quick(effect.key):
                return fetch(effect.key, self._environment, _post)
            return await asyncio.to_thread(fetch, effect.key, self._environment, _post)
        except (AgoutiError, TransportFailure) as error:
            raise bare(error) from None


def _post(request: HttpRequest) -> HttpReply:
    """Fetching a key is synchronous, in a thread of its own, and so is what it sends."""
    from ..transport.sync import Urllib3Transport

    transport = Urllib3Transport(connections=1)
    try:
        reply = transport.open(request, Timeouts())
        return HttpReply(reply.status, reply.headers, reply.read())
    finally:
        transport.close()


_DO: dict[type[Effect], Callable[[AsyncRun[Any], Any], Awaitable[Any]]] = {
    Send: AsyncRun._send,
    Open: AsyncRun._open,
    Receive: AsyncRun._receive,
    Finish: AsyncRun._finish,
    Drop: AsyncRun._drop,
    Sleep: AsyncRun._sleep,
    Parting: AsyncRun._part,
    Perform: AsyncRun._perform,
    Fetch: AsyncRun._fetch,
}
