"""Budgets of blocks of code, and which blocks a thread was started in: its context does not say, a task's does."""

import threading
from contextvars import ContextVar
from decimal import Decimal
from types import TracebackType
from typing import TYPE_CHECKING, Any, Protocol

from ..config.budgets import Budget
from ..core.errors import ConfigError
from .allowances import Allowance

if TYPE_CHECKING:
    pass

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


class BlockHook(Protocol):
    """What keeps the budgets of blocks."""

    def opened(self, block: "BlockBudget") -> None:
        """A block is entered."""

    def closed(self, block: "BlockBudget") -> None:
        """A block is left."""


class BlockBudget:
    """A budget for a block of code; made by `Client.budget`. It counts what is called within the block.

    Attributes:
        amount, currency: what may be spent.
        entered: how many are in it now.
        named: what errors call it.

    Example:
        >>> import agouti, agouti.standins
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     with client.budget(0.0002, "USD") as budget:
        ...         try:
        ...             for _ in range(10):
        ...                 reply = client.ask("almanac", "When do peas go in?", max_tokens=60)
        ...         except agouti.BudgetExceeded as error:
        ...             print(budget.spent <= budget.amount)
        True
    """

    def __init__(self, hook: BlockHook, amount: float, currency: str) -> None:
        self._hook = hook
        number = isinstance(amount, (int, float, Decimal)) and not isinstance(amount, bool)
        if not number or not isinstance(currency, str):
            problem = f"a budget cannot be {amount!r:.80} of {currency!r:.80}"
            raise ConfigError(problem, hint='Pass an amount and a currency: client.budget(1.50, "USD").')
        self._budget = Budget("block", float(amount), currency, "run")
        self.allowance = Allowance(self._budget.exact)
        self.amount = amount
        self.currency = currency
        self.entered = 0
        self.named = "the budget of the block"

    @property
    def spent(self) -> float:
        """What has been spent in the block."""
        return float(self.allowance.spent)

    @property
    def left(self) -> float:
        """What may be spent still, with what is reserved for requests under way taken off."""
        return float(self.allowance.amount - self.allowance.spent - self.allowance.reserved)

    @property
    def budget(self) -> Budget:
        """What counts."""
        return self._budget

    def __enter__(self) -> "BlockBudget":
        OPEN.set((*OPEN.get(), self))
        remember_blocks()
        self._hook.opened(self)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._hook.closed(self)
        # Whatever context this is: generators are closed by other tasks, and blocks may be entered by several threads.
        open_here = list(OPEN.get())
        if self in open_here:
            open_here.reverse()
            open_here.remove(self)
            OPEN.set(tuple(reversed(open_here)))
