"""Budgets as a hook: the most that a request can cost is reserved before it is sent, and settled after."""

import logging
import sys
import time
from collections.abc import Callable
from contextvars import ContextVar
from decimal import Decimal
from functools import partial
from threading import Event, Lock
from types import TracebackType
from typing import TYPE_CHECKING

from ..config.budgets import Budget
from ..core.errors import BudgetExceeded
from ..core.forks import begin_anew
from ..core.usage import Price
from ..core.warn import warn
from ..engine.effects import OnAbandon, RunCallable, Settled, Steps
from ..engine.hooks import AttemptDetails, AttemptResult, Hook
from .rows import picos
from .store import BudgetModels

if TYPE_CHECKING:
    from ..config.entries import Config
    from ..engine.outgoing import OutgoingRequest
    from .hook import LedgerHook

log = logging.getLogger("agouti.budgets")

# A process that was killed leaves its reservations: they hold for as long as its call may take, and a little more.
_HOLDS = 1800.0
_MORE = 60.0

_OPEN: "ContextVar[tuple[BlockBudget, ...]]" = ContextVar("agouti_budgets", default=())


class Purse:
    """An amount that is spent from, by all threads and tasks of a process."""

    def __init__(self, amount: Decimal) -> None:
        self.amount = amount
        self.spent = Decimal(0)
        self.reserved = Decimal(0)
        self._lock = Lock()

    def reserve(self, cost: Decimal) -> Decimal | None:
        """Put an amount aside; what is left without it where that is too little, `None` where it is done."""
        with self._lock:
            left = self.amount - self.spent - self.reserved
            if cost > left:
                return left
            self.reserved += cost
            return None

    def after_fork(self) -> None:
        """What was put aside is the parent's."""
        self._lock = Lock()
        self.reserved = Decimal(0)

    def settle(self, reserved: Decimal, cost: Decimal) -> None:
        """Spend what it has cost instead of what was put aside."""
        with self._lock:
            self.reserved -= reserved
            self.spent += cost


class BlockBudget:
    """A budget for a block of code; made by `Client.budget`. It counts what is called within the block.

    Attributes:
        amount, currency: what may be spent.
        entered: how many are in it now.

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

    def __init__(self, hook: "BudgetHook", amount: float, currency: str) -> None:
        self._hook = hook
        self._budget = Budget("block", float(amount), currency, "run")
        self.purse = Purse(self._budget.exact)
        self.amount = amount
        self.currency = currency
        self.entered = 0

    @property
    def spent(self) -> float:
        """What has been spent in the block."""
        return float(self.purse.spent)

    @property
    def left(self) -> float:
        """What may be spent still, with what is reserved for requests under way taken off."""
        return float(self.purse.amount - self.purse.spent - self.purse.reserved)

    @property
    def budget(self) -> Budget:
        """What counts."""
        return self._budget

    def __enter__(self) -> "BlockBudget":
        _OPEN.set((*_OPEN.get(), self))
        self._hook.opened(self)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._hook.closed(self)
        # Whatever context this is: generators are closed by other tasks, and blocks may be entered by several threads.
        open_here = list(_OPEN.get())
        if self in open_here:
            open_here.reverse()
            open_here.remove(self)
            _OPEN.set(tuple(reversed(open_here)))


class BudgetHook(Hook):
    """Keeps the budgets of a configuration, and those of blocks.

    Args:
        config: its budgets, and the prices of its models.
        ledger: where it is kept what was spent in a day, a week or a month.
    """

    def __init__(self, config: "Config", ledger: "LedgerHook | None", now: Callable[[], float] = time.time) -> None:
        self._config = config
        self._ledger = ledger
        self._now = now
        self._budgets = tuple(config.budgets.values())
        self._purses = {budget.label: Purse(budget.exact) for budget in self._budgets if budget.per == "run"}
        self._warned = [
            (budget, purse, purse.amount * Decimal(repr(budget.warn)))
            for budget in self._budgets
            if (purse := self._purses.get(budget.label)) is not None
        ]
        self._blocks: tuple[BlockBudget, ...] = ()
        self._held: dict[int, tuple[Decimal, list[Purse]]] = {}
        self._told: set[str] = set()
        self._lock = Lock()
        begin_anew(self)

    def after_fork(self) -> None:
        """A child has spent what its parent had, and has nothing under way."""
        self._lock = Lock()
        self._held = {}
        for purse in (*self._purses.values(), *[block.purse for block in self._blocks]):
            purse.after_fork()

    def opened(self, block: BlockBudget) -> None:
        """A block begins; one that has begun already is entered once more."""
        with self._lock:
            block.entered += 1
            if block.entered == 1:
                self._blocks = (*self._blocks, block)

    def closed(self, block: BlockBudget) -> None:
        """A block is left; it ends where nobody else is in it."""
        with self._lock:
            block.entered -= 1
            if block.entered == 0:
                self._blocks = tuple([each for each in self._blocks if each is not block])

    def before(self, attempt: AttemptDetails) -> Steps[None] | None:
        """Reserve the most that the attempt can cost.

        Raises:
            BudgetExceeded: a budget has less than that.
        """
        # A thread that knows of no block may work for any: it counts in all that are open.
        # A task has its own context, which says it exactly.
        blocks = [each for each in dict.fromkeys(_OPEN.get()) if each in self._blocks]
        if not blocks and self._blocks and not _in_a_task():
            blocks = list(self._blocks)
        if not attempt.outgoing.paid:
            return None
        paid = paid_labels(attempt, self._config)
        counting = [each for each in blocks if each.budget.counts(paid, attempt.tags)]
        budgets = [each for each in self._budgets if each.counts(paid, attempt.tags)]
        if not counting and not budgets:
            return None
        price = attempt.outgoing.price
        if price is None:
            self._tell(f"price {attempt.model}", f"calls to {attempt.model} have no price, and count in no budget")
            return None
        other = sorted({each.currency for each in [*[block.budget for block in counting], *budgets]} - {price.currency})
        if other:
            self._tell(
                f"currency {attempt.model} {other}",
                f"calls to {attempt.model} are paid in {price.currency}, and count in no budget in {', '.join(other)}",
            )
        purses: list[tuple[str, Purse]] = [
            ("the budget of the block", block.purse) for block in counting if block.budget.currency == price.currency
        ]
        kept: list[Budget] = []
        for budget in budgets:
            if budget.currency != price.currency:
                continue
            if budget.per == "run":
                purses.append((f"budget {budget.label}", self._purses[budget.label]))
            else:
                kept.append(budget)
        if not purses and not kept:
            return None
        most = most_of(attempt.outgoing, price)
        if not kept:
            held = self._put_aside(attempt, most, purses)
            self._look(most, held)
            self._held[id(attempt)] = (most, held)
            return None
        return self._reserved(attempt, most, purses, kept)

    def _put_aside(self, attempt: AttemptDetails, most: Decimal, purses: list[tuple[str, Purse]]) -> list[Purse]:
        """Reserve an amount in several purses, or in none.

        Raises:
            BudgetExceeded: one of them has too little.
        """
        held: list[Purse] = []
        for name, purse in purses:
            left = purse.reserve(most)
            if left is not None:
                for each in held:
                    each.settle(most, Decimal(0))
                raise _exceeded(name, attempt, most, left)
            held.append(purse)
        return held

    def _look(self, most: Decimal, held: list[Purse]) -> None:
        """Say what is nearly spent; where that is an error, because warnings are, nothing stays put aside."""
        try:
            for budget, purse, warns_at in self._warned:
                gone = purse.spent + purse.reserved
                if gone >= warns_at and purse in held:
                    self._nearly(budget, gone / purse.amount)
        except Exception:
            for each in held:
                each.settle(most, Decimal(0))
            raise

    def _reserved(
        self, attempt: AttemptDetails, most: Decimal, purses: list[tuple[str, Purse]], kept: list[Budget]
    ) -> Steps[None]:
        held = self._put_aside(attempt, most, purses)
        gone = Event()

        def give_back() -> None:
            gone.set()
            for purse in held:
                purse.settle(most, Decimal(0))
            if self._ledger is not None:
                self._ledger.release(attempt)

        undo = OnAbandon(give_back)
        yield undo
        try:
            yield RunCallable(partial(self._reserve_in_ledger, attempt, most, kept, gone), None)
        except Exception:
            give_back()
            yield Settled(undo)
            raise
        self._held[id(attempt)] = (most, held)
        yield Settled(undo)

    def _reserve_in_ledger(self, attempt: AttemptDetails, most: Decimal, kept: list[Budget], gone: Event) -> None:
        if self._ledger is None:
            return
        now = self._now()
        wanted = [(budget, budget.begins(now), pairs_of(budget, self._config)) for budget in kept]
        expires = now + (_HOLDS if attempt.takes is None else attempt.takes) + _MORE
        reserved, full = self._ledger.store().reserve(wanted, picos(most), now, expires)
        if full is not None:
            budget, left = full
            raise _exceeded(f"budget {budget.label} of this {budget.per}", attempt, most, left)
        numbers = {number: each.ends(now) for each, (number, _) in zip(kept, reserved, strict=True)}
        if gone.is_set():  # the call was given up meanwhile, and nobody else would take them back
            self._ledger.give_back(list(numbers))
            return
        self._ledger.settles(attempt, numbers, picos(most))
        for budget, (_, share) in zip(kept, reserved, strict=True):
            self._nearly(budget, share)

    def _nearly(self, budget: Budget, share: Decimal) -> None:
        if share >= budget.warn:
            self._tell(
                f"warn {budget.label} {budget.begins(self._now())}",
                f"budget {budget.label} is nearly spent: {share:.0%} of {budget.amount:g} {budget.currency}",
            )

    def _tell(self, key: str, message: str) -> None:
        if key not in self._told:
            self._told.add(key)
            log.warning(message)
            warn(message)

    def after(self, result: AttemptResult) -> None:
        """Settle what was reserved by what it has cost."""
        most, held = self._held.pop(id(result.attempt), (Decimal(0), []))
        # Where nobody says how much it has cost: not more than was reserved.
        cost = most if result.exact_cost is None else result.exact_cost
        for purse in held:
            purse.settle(most, cost)
        if self._ledger is not None:
            self._ledger.release(result.attempt)  # where the ledger has a row of it, it has taken them already


def _in_a_task() -> bool:
    """Whether an event loop runs here; programs without one do not load it for that."""
    loops = sys.modules.get("asyncio")
    if loops is None:
        return False
    try:
        loops.get_running_loop()
    except RuntimeError:
        return False
    return True


def paid_labels(attempt: AttemptDetails, config: "Config") -> tuple[str, ...]:
    """The labels of the model that is paid: its own, and those of its entries where it was asked by its name."""
    if attempt.model in config.models:
        return (attempt.model,)
    same = [
        each.label for each in config.models.values() if (each.name, each.provider) == (attempt.name, attempt.provider)
    ]
    return (attempt.model, *same)


def pairs_of(budget: Budget, config: "Config") -> "BudgetModels | None":
    """What a budget's models are called in a ledger; `None`: all count."""
    if not budget.models:
        return None
    named = [config.model(label) for label in budget.models]
    pairs = tuple(dict.fromkeys((each.provider, each.name) for each in named))
    others = [each.label for each in config.models.values() if (each.provider, each.name) in pairs]
    return BudgetModels(pairs, tuple(label for label in others if label not in budget.models))


def most_of(outgoing: "OutgoingRequest", price: Price) -> Decimal:
    """The most that a request can cost, as it goes out: prompt and answers at the dearest of their prices."""
    return price.dearest(outgoing.at_most, outgoing.answer_at_most, images=outgoing.images)


def _exceeded(name: str, attempt: AttemptDetails, most: Decimal, left: Decimal) -> BudgetExceeded:
    return BudgetExceeded(
        f"{name} has {max(left, Decimal(0)):.6f} left, and this call to {attempt.model} could cost {most:.6f}",
        provider=attempt.provider,
        model=attempt.model,
    )
