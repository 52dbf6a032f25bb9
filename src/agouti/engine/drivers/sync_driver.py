"""The synchronous driver: does what the engine asks, and nothing else. `async_driver` is its twin."""

import threading
import time
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from typing import TYPE_CHECKING, Any, TypeVar

from ...core.errors import AgoutiError
from ...core.http.exchange import HttpReply, HttpRequest, TransportFailure, without_traceback
from ...credentials.credential import Credential
from ...credentials.fetch import fetch
from .. import effects as e
from .base import BaseDriver, body_lost, pause, seconds_left, token_reply

if TYPE_CHECKING:
    from ...core.canonical.events import Event
    from ...transport.base import SyncReply

T = TypeVar("T")


class SyncDriver(BaseDriver[T]):
    """One call under way, in the thread that advances it."""

    __slots__ = ()

    def advance(self) -> "list[Event] | None":
        """Go on until there are events for the caller; `None` at the end."""
        resume: Callable[[Any], e.Effect] = self._steps.send
        answer: Any = None
        self._busy, self._owner = True, threading.get_ident()
        try:
            while True:
                effect = resume(answer)
                if isinstance(effect, e.Emit):
                    return effect.events
                try:
                    answer = _DO[type(effect)](self, effect)
                    resume = self._steps.send
                except Exception as error:
                    answer = error
                    resume = self._steps.throw
        except StopIteration as stop:
            self.result = stop.value
            self._busy = False
            if self._opened is not None or self._undo:
                self.close()
            return None
        except BaseException:
            self._busy = False
            self.close()
            raise
        finally:
            self._busy = False

    def close(self) -> None:
        """Give the call up: what is open is closed at once, what is not settled is undone; whoever waits is woken."""
        if self._stop():
            return
        self._drop(None)
        self._steps.close()
        for request in self._undo.undo():
            with suppress(TransportFailure, AgoutiError):
                self._transport.open(request, e.UNDO_TIMEOUTS).read()

    def _send(self, effect: e.Send) -> HttpReply:
        reply = self._opened = self._opening(effect)
        try:
            body = reply.read()
        except TransportFailure as failure:
            body = body_lost(reply.status, failure)
        self._opened = None
        return HttpReply(reply.status, reply.headers, body)

    def _open(self, effect: e.Open) -> "SyncReply":
        reply: SyncReply = self._opening(effect)
        self._is_open(reply)
        return reply

    def _receive(self, effect: e.Receive) -> bytes:
        return self._opened.receive(effect.limit) if self._opened is not None else b""

    def _finish(self, effect: e.Finish) -> None:
        if (opened := self._advance()) is not None:
            opened.finish()

    def _drop(self, effect: e.Drop | None) -> None:
        if (opened := self._advance()) is not None:
            opened.abort()

    def _sleep(self, effect: e.Sleep) -> None:
        time.sleep(pause(effect.seconds, self._transport))

    def _wait(self, effect: e.WaitFor) -> bool:
        ready = threading.Event()
        effect.signal.when_set(ready.set)
        return ready.wait(effect.seconds)

    def _on_abandon(self, effect: e.OnAbandon) -> None:
        self._undo.add(effect)

    def _settled(self, effect: e.Settled) -> None:
        self._undo.settle(effect)

    def _call(self, effect: e.RunCallable) -> Any:
        from .threads import call

        return call(effect.function, effect.seconds)

    def _fetch(self, effect: e.FetchKey) -> Credential:
        def post(request: HttpRequest) -> HttpReply:
            return token_reply(self._transport.open(request, effect.timeouts))

        try:
            return fetch(effect.key, self._environment, post, seconds_left(effect.timeouts))
        except (AgoutiError, TransportFailure) as error:
            raise without_traceback(error) from None

    def _together(self, effect: e.Together) -> list[Any]:
        from .threads import side_by_side

        busy: set[SyncDriver[Any]] = set()

        def run_steps(steps: "e.Steps[Any]") -> Any:
            busy.add(driver := SyncDriver(steps, self._transport, self._environment))
            while driver.advance() is not None:
                pass
            busy.discard(driver)
            return driver.result

        return side_by_side(
            effect.steps, run_steps, effect.concurrency, partial(close_all, busy, effect.stopped), effect.keep
        )


_DO: dict[type[e.Effect], Callable[[SyncDriver[Any], Any], Any]] = {
    e.Send: SyncDriver._send,
    e.Open: SyncDriver._open,
    e.Receive: SyncDriver._receive,
    e.Finish: SyncDriver._finish,
    e.Drop: SyncDriver._drop,
    e.Sleep: SyncDriver._sleep,
    e.WaitFor: SyncDriver._wait,
    e.OnAbandon: SyncDriver._on_abandon,
    e.Settled: SyncDriver._settled,
    e.RunCallable: SyncDriver._call,
    e.FetchKey: SyncDriver._fetch,
    e.Together: SyncDriver._together,
}


def close_all(drivers: "set[SyncDriver[Any]]", warn: Callable[[], None] | None) -> None:
    """Give all of these calls up; somebody may want to be told before."""
    if warn is not None:
        warn()
    for each in list(drivers):
        each.close()
