"""Calls as the relay has seen them: the latest ones, sums of this run, and a stream of new ones for the page."""

import asyncio
from collections import deque
from collections.abc import AsyncIterator

import msgspec
from msgspec import Struct

_MAX_CALLS = 200
# A page that does not take so many calls is closed: it comes again and sees the latest.
_WAITING = 500


class CallSeen(Struct, frozen=True, kw_only=True):
    """One call, without anything that was said in it.

    Attributes:
        id: of the request.
        at: when it ended, in seconds since the epoch.
        token: name of the access token.
        label: what was asked.
        provider, model: who answered.
        form: the wire format of the caller.
        status: HTTP status; 499 where the caller had gone.
        cost, currency: what it cost, where that is known.
        error: what went wrong, in a word.
    """

    id: str
    at: float
    token: str
    label: str
    form: str
    status: int
    seconds: float
    provider: str = ""
    model: str = ""
    input_tokens: int | None = None
    output_tokens: int | None = None
    cost: float | None = None
    currency: str = ""
    streamed: bool = False
    error: str = ""


class CallsSeen:
    """The latest calls, and whoever looks on."""

    def __init__(self) -> None:
        self.latest: deque[CallSeen] = deque(maxlen=_MAX_CALLS)
        self._watchers: set[asyncio.Queue[CallSeen | None]] = set()

    def add(self, call: CallSeen) -> None:
        """One more."""
        self.latest.append(call)
        for queue in list(self._watchers):
            try:
                queue.put_nowait(call)
            except asyncio.QueueFull:
                self._watchers.discard(queue)
                queue.get_nowait()
                queue.put_nowait(None)

    def close(self) -> None:
        """The relay stops: nobody looks on any more."""
        for queue in list(self._watchers):
            if queue.full():
                queue.get_nowait()
            queue.put_nowait(None)

    async def follow(self, quiet: float, own_token: str | None = None) -> AsyncIterator[bytes]:
        """Server-sent events of calls as they happen; a comment where nothing has for a while.

        Args:
            quiet: seconds after which a comment shows that the connection is still there.
            own_token: only those of this token.
        """
        queue: asyncio.Queue[CallSeen | None] = asyncio.Queue(_WAITING)
        self._watchers.add(queue)
        try:
            yield b": the relay is here\n\n"
            while True:
                try:
                    call = await asyncio.wait_for(queue.get(), quiet)
                except TimeoutError:
                    yield b": nothing new\n\n"
                    continue
                if call is None:
                    return
                if own_token in (None, call.token):
                    yield b"event: call\ndata: " + msgspec.json.encode(call) + b"\n\n"
        finally:
            self._watchers.discard(queue)
