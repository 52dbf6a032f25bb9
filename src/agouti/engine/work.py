"""Do pieces of the caller's own work side by side: in threads, or as tasks where they are coroutines."""

import asyncio
import contextvars
import inspect
from collections.abc import Awaitable, Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import Any, cast

_MOST_THREADS = 16


def perform(work: Sequence[Callable[[], Any]]) -> list[Any]:
    """The result of each, or its exception, in their order; coroutines run in an event loop of their own."""
    if len(work) == 1:
        return [_done(work[0])]
    with ThreadPoolExecutor(min(len(work), _MOST_THREADS)) as pool:
        # Each in the context of the caller: a logging or tracing context has to hold there too.
        return [each.result() for each in [pool.submit(contextvars.copy_context().run, _done, one) for one in work]]


def _done(work: Callable[[], Any]) -> Any:
    try:
        result = work()
        return asyncio.run(_awaited(result)) if inspect.isawaitable(result) else result
    except Exception as error:
        return error


async def _awaited(result: Awaitable[Any]) -> Any:
    return await result


async def perform_async(work: Sequence[Callable[[], Any]]) -> list[Any]:
    """`perform` for asyncio: coroutine functions as tasks of this loop, others in threads so that it goes on."""
    return await asyncio.gather(*(_done_async(one) for one in work))


async def _done_async(work: Callable[[], Any]) -> Any:
    function = work.func if isinstance(work, partial) else work
    try:
        if inspect.iscoroutinefunction(function) or inspect.iscoroutinefunction(type(function).__call__):
            return await cast("Awaitable[Any]", work())
        result = await asyncio.to_thread(work)
        return await result if inspect.isawaitable(result) else result
    except Exception as error:
        return error
