"""What a probe has really cost so far, and its end where that is more than was said."""

from decimal import Decimal
from threading import Lock

from ...core.canonical.usage import Price
from ...core.errors import BudgetExceeded
from ...engine.hooks import AttemptDetails, AttemptResult, Hook


class ProbeBudget(Hook):
    """Adds up what answers have cost; nothing more is asked once it is more than was said.

    A provider may pass over the cap on tokens, or count more than was reckoned with. After an answer beyond its
    cap, every further one is reckoned with as that long.

    Args:
        price: of the model; without one nothing can be added up.
        limit: what the probe may cost.

    Attributes:
        spent: what the answers have cost; those of unknown cost left out.
        unknown: whether there was one.
    """

    def __init__(self, price: Price | None, limit: float | None) -> None:
        self.spent = Decimal(0)
        self.unknown = price is None
        self._price = price
        self._limit = None if limit is None else Decimal(repr(limit))
        self._reservations: dict[int, Decimal] = {}
        self._longest = 0  # of the answers beyond their cap
        self._lock = Lock()

    def before(self, attempt: AttemptDetails) -> None:
        if self._price is None or self._limit is None:
            return
        outgoing = attempt.outgoing
        with self._lock:
            out = max(outgoing.answer_at_most, self._longest)
            bound = self._price.dearest(outgoing.expected, out, images=outgoing.images)
            spent = self.spent + sum(self._reservations.values())
            if spent + (bound if self._longest else 0) > self._limit:
                raise BudgetExceeded(
                    f"the answers have cost {self.spent:.6f}, and this one could cost {bound:.6f}: "
                    f"more than the {self._limit:.6f} that were said",
                    hint="Raise max_cost; or see why the provider writes or counts more than it was asked for.",
                    provider=attempt.provider,
                    model=attempt.model,
                )
            self._reservations[id(attempt)] = bound

    def after(self, result: AttemptResult) -> None:
        with self._lock:
            reserved = self._reservations.pop(id(result.attempt), Decimal(0))
            if result.exact_cost is None:
                self.unknown = True
                self.spent += reserved  # it may have been worked on
            else:
                self.spent += result.exact_cost
            out = None if result.usage is None else result.usage.output_tokens
            limit = result.attempt.outgoing.answer_at_most
            if out and limit and out > limit:
                self._longest = max(self._longest, out)
