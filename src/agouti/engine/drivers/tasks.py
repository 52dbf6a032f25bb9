"""Tasks of the asynchronous driver: work side by side, functions that may block, signals from other threads."""

import asyncio
import inspect
import sys
from collections.abc import Awaitable, Callable, Iterable, Sized
from contextlib import suppress
from functools import partial
from typing import Any, TypeVar

from ...core.http.exchange import HttpReply, HttpRequest, Timeouts, TransportFailure
from ..effects import Signal
from .base import TOKEN_BYTES

T = TypeVar("T")


async def side_by_side(
    work: Iterable[T],
    run_one: Callable[[T], Awaitable[Any]],
    concurrency: int,
    stopped: Callable[[], None] | None = None,
    *,
    keep: bool = True,
) -> list[Any]:
    """The result of each piece of work, in order, where they are wanted. The first error cancels the others.

    Args:
        stopped: is called when they were.
    """
    numbered = enumerate(work)
    results: dict[int, Any] = {}

    async def loop() -> None:
        for number, each in numbered:
            result = await run_one(each)
            if keep:
                results[number] = result

    tasks = min(concurrency, len(work)) if isinstance(work, Sized) else concurrency
    if tasks <= 1:
        await loop()
        return [results[number] for number in sorted(results)]
    try:
        async with asyncio.TaskGroup() as group:
            for _ in range(tasks):
                group.create_task(loop())
    except* Exception as several:
        raise several.exceptions[0] from None
    finally:
        if stopped is not None and sys.exc_info()[0] is not None:
            stopped()
    return [results[number] for number in sorted(results)]


async def call(function: Callable[[], Any], seconds: float | None = None) -> Any:
    """What a function gives: one that may block runs in a thread, so that the loop goes on.

    Args:
        seconds: how long at most.

    Raises:
        TimeoutError: it took longer.
    """
    async with asyncio.timeout(seconds):
        inner = function.func if isinstance(function, partial) else function
        if inspect.iscoroutinefunction(inner) or inspect.iscoroutinefunction(type(inner).__call__):
            return await function()
        result = await asyncio.to_thread(function)
        return await result if inspect.isawaitable(result) else result


async def token_reply(transport: Any, request: HttpRequest, timeouts: Timeouts) -> HttpReply:
    """What a token endpoint answers; as `driving.token_reply`."""
    reply = await transport.open(request, timeouts)
    body = b""
    while data := await reply.receive():
        body += data
        if len(body) > TOKEN_BYTES:
            reply.abort()
            raise TransportFailure("too large", "the answer has more than 1 MB")
    await reply.finish()
    return HttpReply(reply.status, reply.headers, body)


async def wait_for(signal: Signal, seconds: float | None) -> bool:
    """Whether a signal was set in time; it may be set by any thread."""
    ready = asyncio.Event()
    loop = asyncio.get_running_loop()

    def wake() -> None:
        with suppress(RuntimeError):  # the loop has ended meanwhile: nobody waits any more
            loop.call_soon_threadsafe(ready.set)

    signal.when_set(wake)
    with suppress(TimeoutError):
        async with asyncio.timeout(seconds):
            await ready.wait()
    return ready.is_set()
