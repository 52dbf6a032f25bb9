"""The asynchronous driver: does what the engine asks, and nothing else. `drive` is its twin."""

from collections.abc import Awaitable, Callable, Mapping
from typing import Any, Generic, TypeVar

from ..core.errors import AgoutiError
from ..core.events import Event
from ..core.http import HttpReply
from ..credentials.fetch import Credential, fetch
from ..transport.base import AsyncReply, AsyncTransport, TransportFailure
from .effects import Effect, Emit, Fetch, Finish, Open, Receive, Send, Steps

T = TypeVar("T")


class AsyncRun(Generic[T]):
    """One call under way.

    Attributes:
        result: what the call ended with, once `advance` has returned `None`.
    """

    __slots__ = ("_environment", "_opened", "_steps", "_transport", "result")

    def __init__(self, steps: Steps[T], transport: AsyncTransport, environment: Mapping[str, str]) -> None:
        self._steps = steps
        self._transport = transport
        self._environment = environment
        self._opened: AsyncReply | None = None
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
            self.close()
            return None
        except BaseException:
            self.close()
            raise

    def close(self) -> None:
        """Give the call up; what is open is closed at once."""
        opened, self._opened = self._opened, None
        if opened is not None:
            opened.abort()
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
        return await self._opened.receive() if self._opened is not None else b""

    async def _finish(self, effect: Finish) -> None:
        opened, self._opened = self._opened, None
        if opened is not None:
            await opened.finish()

    async def _fetch(self, effect: Fetch) -> Credential:
        return fetch(effect.key, self._environment)


_DO: dict[type[Effect], Callable[[AsyncRun[Any], Any], Awaitable[Any]]] = {
    Send: AsyncRun._send,
    Open: AsyncRun._open,
    Receive: AsyncRun._receive,
    Finish: AsyncRun._finish,
    Fetch: AsyncRun._fetch,
}
