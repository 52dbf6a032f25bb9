"""The synchronous driver: does what the engine asks, and nothing else. `drive_async` is its twin."""

import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import Any, Generic, TypeVar

from ..core.errors import AgoutiError
from ..core.events import Event
from ..core.http import HttpReply, HttpRequest, Timeouts
from ..credentials.credential import Credential
from ..credentials.fetch import fetch
from ..transport.base import SyncReply, SyncTransport, TransportFailure, bare
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


class Run(Generic[T]):
    """One call under way.

    Attributes:
        result: what the call ended with, once `advance` has returned `None`.
    """

    __slots__ = ("_environment", "_opened", "_parting", "_steps", "_transport", "result")

    def __init__(self, steps: Steps[T], transport: SyncTransport, environment: Mapping[str, str]) -> None:
        self._steps = steps
        self._transport = transport
        self._environment = environment
        self._opened: SyncReply | None = None
        self._parting: HttpRequest | None = None
        self.result: T

    def advance(self) -> list[Event] | None:
        """Go on until there are events for the caller; `None` at the end."""
        resume: Callable[[Any], Effect] = self._steps.send
        answer: Any = None
        try:
            while True:
                effect = resume(answer)
                if isinstance(effect, Emit):
                    return effect.events
                try:
                    answer = _DO[type(effect)](self, effect)
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
        parting, self._parting = self._parting, None
        if parting is not None:
            with suppress(TransportFailure, AgoutiError):
                self._transport.open(parting, PARTING_TIMEOUTS).read()
        self._steps.close()

    def _send(self, effect: Send) -> HttpReply:
        reply = self._opened = self._transport.open(effect.request, effect.timeouts)
        body = reply.read()
        self._opened = None
        return HttpReply(reply.status, reply.headers, body)

    def _open(self, effect: Open) -> SyncReply:
        self._opened = self._transport.open(effect.request, effect.timeouts)
        return self._opened

    def _receive(self, effect: Receive) -> bytes:
        return self._opened.receive(effect.limit) if self._opened is not None else b""

    def _finish(self, effect: Finish) -> None:
        opened, self._opened = self._opened, None
        if opened is not None:
            opened.finish()

    def _drop(self, effect: Drop) -> None:
        opened, self._opened = self._opened, None
        if opened is not None:
            opened.abort()

    def _sleep(self, effect: Sleep) -> None:
        time.sleep(effect.seconds)

    def _part(self, effect: Parting) -> None:
        self._parting = effect.request

    def _perform(self, effect: Perform) -> list[Any]:
        from .work import perform

        return perform(effect.work)

    def _fetch(self, effect: Fetch) -> Credential:
        try:
            return fetch(effect.key, self._environment, self._post)
        except (AgoutiError, TransportFailure) as error:
            raise bare(error) from None

    def _post(self, request: HttpRequest) -> HttpReply:
        reply = self._transport.open(request, Timeouts())
        return HttpReply(reply.status, reply.headers, reply.read())


_DO: dict[type[Effect], Callable[[Run[Any], Any], Any]] = {
    Send: Run._send,
    Open: Run._open,
    Receive: Run._receive,
    Finish: Run._finish,
    Drop: Run._drop,
    Sleep: Run._sleep,
    Parting: Run._part,
    Perform: Run._perform,
    Fetch: Run._fetch,
}
