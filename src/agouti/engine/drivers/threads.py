"""Threads of the synchronous driver: work side by side, and coroutines waited for where there is no event loop."""

import contextvars
import inspect
import threading
import time
from collections.abc import Awaitable, Callable, Iterable, Sized
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


def side_by_side(
    work: Iterable[T],
    run_one: Callable[[T], Any],
    concurrency: int,
    stop: Callable[[], None] = lambda: None,
    keep: bool = True,
) -> list[Any]:
    """The result of each piece of work, in order. The first error stops the others and is raised.

    Args:
        stop: ends what is under way, when nobody waits for it any more.
        keep: whether the results are wanted.

    Each thread runs in the context of the caller: one for logging or tracing has to hold there too.
    """
    queue = _Queue(work)

    def loop() -> None:
        while (item := queue.next()) is not None:
            number, each = item
            try:
                result = run_one(each)
                if keep:
                    queue.results[number] = result
            except BaseException as error:
                queue.failed(error)

    threads = min(concurrency, len(work)) if isinstance(work, Sized) else concurrency
    if threads <= 1:
        loop()
    else:
        from concurrent.futures import ThreadPoolExecutor

        with ThreadPoolExecutor(threads) as pool:
            try:
                for future in [pool.submit(contextvars.copy_context().run, loop) for _ in range(threads)]:
                    future.result()
            except BaseException as interruption:
                # Those that have not begun would only cost, and those that have would keep everybody waiting.
                queue.failed(interruption)
                stop()
    if queue.error is not None:
        raise queue.error
    return [queue.results[number] for number in sorted(queue.results)]


def call(function: Callable[[], Any], seconds: float | None = None) -> Any:
    """What a function gives; a result that can be awaited is awaited.

    Args:
        seconds: how long at most.

    Raises:
        TimeoutError: it took longer.
    """
    if seconds is None:
        return _called(function, None)
    outcome: list[Any] = []
    until = time.monotonic() + seconds
    context = contextvars.copy_context()

    def run() -> None:
        try:
            outcome.append((True, context.run(_called, function, until - time.monotonic())))
        except BaseException as error:
            outcome.append((False, error))

    thread = threading.Thread(target=run, name="agouti-tool", daemon=True)
    thread.start()
    thread.join(max(seconds, 0.0))
    if not outcome:
        raise TimeoutError("the function took too long")
    succeeded, value = outcome[0]
    if not succeeded:
        raise value
    return value


def _called(function: Callable[[], Any], seconds: float | None) -> Any:
    result = function()
    if not inspect.isawaitable(result):
        return result
    import asyncio  # for those alone: a thread that outlives the main one cannot load it any more

    return wait_for(result if seconds is None else asyncio.wait_for(_awaited(result), max(seconds, 0.0)))


async def _awaited(result: Awaitable[T]) -> T:
    return await result


def wait_for(result: Awaitable[T]) -> T:
    """What an awaitable gives; in a thread of its own where this one runs an event loop already."""

    import asyncio
    from concurrent.futures import ThreadPoolExecutor

    async def awaited() -> T:
        return await result

    try:
        asyncio.get_running_loop()
    except RuntimeError:
        return asyncio.run(awaited())
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(contextvars.copy_context().run, asyncio.run, awaited()).result()
