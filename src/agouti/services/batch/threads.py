"""A run is prepared beside the event loop: looking through a file of rows takes seconds."""

import asyncio
import contextvars
from collections.abc import Callable
from typing import Any, Protocol, TypeVar


class _Prepared(Protocol):
    @property
    def results(self) -> Any: ...


_P = TypeVar("_P", bound=_Prepared)


async def prepare_in_thread(prepare: Callable[[], _P]) -> _P:
    """What a function gives that opens the files of a run; whoever does not wait for it leaves no file open."""
    context = contextvars.copy_context()
    future = asyncio.get_running_loop().run_in_executor(None, context.run, prepare)
    try:
        return await asyncio.shield(future)
    except asyncio.CancelledError:
        future.add_done_callback(_abandon)
        raise


def _abandon(future: "asyncio.Future[Any]") -> None:
    if not future.cancelled() and future.exception() is None:
        future.result().results.abandon()
