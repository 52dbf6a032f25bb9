"""Allowances: what is spent and put aside of an amount, in this process."""

from decimal import Decimal
from threading import Lock

from ..config.budgets import Budget


class Allowance:
    """An amount that is spent from, by all threads and tasks of a process."""

    def __init__(self, amount: Decimal) -> None:
        self.amount = amount
        self.spent = Decimal(0)
        self.reserved = Decimal(0)
        self._lock = Lock()

    def reserve(self, cost: Decimal) -> Decimal | None:
        """Put an amount aside; what is left without it where that is too little, `None` where it is done."""
        with self._lock:
            remaining = self.amount - self.spent - self.reserved
            if cost > remaining:
                return remaining
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


class Purses:
    """The purses of a budget of a run: one, or one for each value of what it is for each of."""

    def __init__(self, budget: Budget) -> None:
        self.budget = budget
        self.warns_at = budget.exact * Decimal(repr(budget.warn))
        self.parts: dict[str, Allowance] = {}

    def of(self, part: str) -> Allowance:
        """The purse of a part."""
        found = self.parts.get(part)
        return found if found is not None else self.parts.setdefault(part, Allowance(self.budget.exact))

    def after_fork(self) -> None:
        """What was put aside is the parent's."""
        for allowance in self.parts.values():
            allowance.after_fork()
