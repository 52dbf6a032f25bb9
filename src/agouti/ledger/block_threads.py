"""Which blocks a thread was started in: its context does not say, a task's does."""

import threading
from contextvars import ContextVar
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from .budgets import BlockBudget

OPEN: "ContextVar[tuple[BlockBudget, ...]]" = ContextVar("agouti_budgets", default=())
"""The blocks that this context is in."""

_NAME = "_agouti_blocks"
_LOCK = threading.Lock()
_DONE: list[bool] = []


def blocks_here() -> "tuple[BlockBudget, ...]":
    """The blocks that this context is in; in a thread that has entered none itself, those that it was started in."""
    return OPEN.get() or getattr(threading.current_thread(), _NAME, ())


def remember_blocks() -> None:
    """From now on every thread knows the blocks that it was started in; done once, with the first block."""
    with _LOCK:
        if _DONE:  # whoever has wrapped it since
            return
        start = threading.Thread.start

        def started(self: threading.Thread, *args: Any, **options: Any) -> None:
            if blocks := blocks_here():
                setattr(self, _NAME, blocks)
            start(self, *args, **options)

        started.__doc__ = start.__doc__
        threading.Thread.start = started  # type: ignore[method-assign]
        _DONE.append(True)
