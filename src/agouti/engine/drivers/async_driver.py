"""The asynchronous driver: does what the engine asks, and nothing else. `sync_driver` is its twin."""

import asyncio
from collections.abc import Awaitable, Callable
from contextlib import suppress
from typing import TYPE_CHECKING, Any, TypeVar

from ...core.errors import AgoutiError, RequestError
from ...core.http.exchange import HttpReply, HttpRequest, TransportFailure, without_traceback
from ...credentials.credential import Credential
from ...credentials.fetch import fetch, quick
from .. import effects as e
from .base import BaseDriver, body_lost, pause, seconds_left
from .tasks import call, side_by_side, token_reply, wait_for

if TYPE_CHECKING:
    from ...core.canonical.events import Event
    from ...transport.base import AsyncReply

T = TypeVar("T")


class AsyncDriver(BaseDriver[T]):
    """One call under way, in the task that advances it."""

    __slots__ = ()

    async def advance(self) -> "list[Event] | None":
        """Go on until there are events for the caller; `None` at the end."""
        resume: Callable[[Any], e.Effect] = self._steps.send
        answer: Any = None
        try:
            self._busy, self._owner = True, asyncio.current_task()
        except RuntimeError:
            hint = "Call it in a coroutine that asyncio runs; elsewhere take Client, in a thread."
            raise RequestError("AsyncClient runs in an event loop of asyncio: there is none here", hint=hint) from None
        try:
            while True:
                effect = resume(answer)
                if isinstance(effect, e.Emit):
                    return effect.events
                try:
                    answer = await _DO[type(effect)](self, effect)
                    resume = self._steps.send
                except Exception as error:
                    answer = error
                    resume = self._steps.throw
        except StopIteration as stop:
            self.result = stop.value
            self._busy = False
            if self._opened is not None or self._undo:
                await self.close()
            return None
        except BaseException:
            self._busy = False
            await self.close()
            raise
        finally:
            self._busy = False

    async def close(self) -> None:
        """Give the call up, as `SyncDriver.close`: whoever advances it meanwhile is woken."""
        if self._stop():
            return
        await self._drop(None)
        self._steps.close()
        for request in self._undo.undo():
            with suppress(TransportFailure, AgoutiError):
                await (await self._transport.open(request, e.UNDO_TIMEOUTS)).read()

    async def _send(self, effect: e.Send) -> HttpReply:
        reply = self._opened = await self._opening(effect)
        try:
            body = await reply.read()
        except TransportFailure as failure:
            body = body_lost(reply.status, failure)
        self._opened = None
        return HttpReply(reply.status, reply.headers, body)

    async def _open(self, effect: e.Open) -> "AsyncReply":
        reply: AsyncReply = await self._opening(effect)
        self._is_open(reply)
        return reply

    async def _receive(self, effect: e.Receive) -> bytes:
        return await self._opened.receive(effect.limit) if self._opened is not None else b""

    async def _finish(self, effect: e.Finish) -> None:
        if (opened := self._advance()) is not None:
            await opened.finish()

    async def _drop(self, effect: e.Drop | None) -> None:
        if (opened := self._advance()) is not None:
            opened.abort()

    async def _sleep(self, effect: e.Sleep) -> None:
        await asyncio.sleep(pause(effect.seconds, self._transport))

    async def _wait(self, effect: e.WaitFor) -> bool:
        return await wait_for(effect.signal, effect.seconds)

    async def _on_abandon(self, effect: e.OnAbandon) -> None:
        self._undo.add(effect)

    async def _settled(self, effect: e.Settled) -> None:
        self._undo.settle(effect)

    async def _call(self, effect: e.RunCallable) -> Any:
        return await call(effect.function, effect.seconds)

    async def _fetch(self, effect: e.FetchKey) -> Credential:
        loop = asyncio.get_running_loop()

        def post(request: HttpRequest) -> HttpReply:
            received = token_reply(self._transport, request, effect.timeouts)
            return asyncio.run_coroutine_threadsafe(received, loop).result()

        try:
            if quick(effect.key):
                return fetch(effect.key, self._environment, post)
            remaining = seconds_left(effect.timeouts)
            return await asyncio.to_thread(fetch, effect.key, self._environment, post, remaining)
        except (AgoutiError, TransportFailure) as error:
            raise without_traceback(error) from None

    async def _together(self, effect: e.Together) -> list[Any]:
        async def run_steps(steps: "e.Steps[Any]") -> Any:
            driver = AsyncDriver(steps, self._transport, self._environment)
            while await driver.advance() is not None:
                pass
            return driver.result

        return await side_by_side(effect.steps, run_steps, effect.concurrency, effect.stopped, keep=effect.keep)


_DO: dict[type[e.Effect], Callable[[AsyncDriver[Any], Any], Awaitable[Any]]] = {
    e.Send: AsyncDriver._send,
    e.Open: AsyncDriver._open,
    e.Receive: AsyncDriver._receive,
    e.Finish: AsyncDriver._finish,
    e.Drop: AsyncDriver._drop,
    e.Sleep: AsyncDriver._sleep,
    e.WaitFor: AsyncDriver._wait,
    e.OnAbandon: AsyncDriver._on_abandon,
    e.Settled: AsyncDriver._settled,
    e.RunCallable: AsyncDriver._call,
    e.FetchKey: AsyncDriver._fetch,
    e.Together: AsyncDriver._together,
}
