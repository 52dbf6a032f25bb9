"""Threads of the synchronous driver: work side by side, and coroutines waited for where there is no event loop."""

import asyncio
import contextvars
import inspect
from collections.abc import Awaitable, Callable, Iterable, Sized
from concurrent.futures import ThreadPoolExecutor
from threading import Lock
from typing import Any, TypeVar

T = TypeVar("T")


class _Queue:
    """Work that is taken piece by piece, by any thread, until one of them fails."""

    def __init__(self, work: Iterable[T]) -> None:
        self._work = enumerate(work)
        self._lock = Lock()
        self.results: dict[int, Any] = {}
        self.error: BaseException | None = None

    def next(self) -> tuple[int, Any] | None:
        with self._lock:
            return None if self.error is not None else next(self._work, None)

    def failed(self, error: BaseException) -> None:
        with self._lock:
            if self.error is None:
                self.error = error


def side_by_side(work: Iterable[T], take: Callable[[T], Any], at_once: int) -> list[Any]:
    """The result of each piece of work, in order. The first error stops the others and is raised.

    Each thread runs in the context of the caller: one for logging or tracing has to hold there too.
    """
    queue = _Queue(work)

    def loop() -> None:
        while (piece := queue.next()) is not None:
            number, each = piece
            try:
                queue.results[number] = take(each)
            except BaseException as error:
                queue.failed(error)

    threads = min(at_once, len(work)) if isinstance(work, Sized) else at_once
    if threads <= 1:
        loop()
    else:
        with ThreadPoolExecutor(threads) as pool:
            try:
                for future in [pool.submit(contextvars.copy_context().run, loop) for _ in range(threads)]:
                    future.result()
            except BaseException as interruption:
                # Those that have not begun would only cost.
                queue.failed(interruption)
    if queue.error is not None:
        raise queue.error
    return [queue.results[number] for number in sorted(queue.results)]


def call(function: Callable[[], Any]) -> Any:
    """What a function gives; a result that can be awaited is awaited."""
    result = function()
    return wait_for(result) if inspect.isawaitable(result) else result


def wait_for(result: Awaitable[T]) -> T:
    """What an awaitable gives; in a thread of its own where this one runs an event loop already."""

    async def awaited() -> T:
        return await result

    try:
        asyncio.get_running_loop()
    except RuntimeError:
        return asyncio.run(awaited())
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(contextvars.copy_context().run, asyncio.run, awaited()).result()
