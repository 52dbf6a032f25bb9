"""Budgets as a hook: the most that a request can cost is reserved before it is sent, and settled after."""

import logging
import time
from collections.abc import Callable
from decimal import Decimal
from functools import partial
from threading import Event, Lock
from typing import TYPE_CHECKING

from msgspec import Struct

from ..config.budgets import TOKENS, Budget
from ..core.canonical.usage import Price
from ..core.errors import BudgetExceeded, DeadlineExceeded
from ..core.warn import warn
from ..engine.effects import OnAbandon, RunCallable, Settled, Steps
from ..engine.hooks import AttemptDetails, AttemptResult, Hook
from ..engine.store_thread import in_a_task, wait_for_job
from ..runtime.fork_reset import reset_after_fork
from .allowances import Allowance, Purses
from .blocks import BlockBudget, blocks_here
from .budget_sums import ReservationRequest, definition_of, part_of, providers_of
from .rows import PICO, picos

if TYPE_CHECKING:
    from ..config.entries import Config
    from ..engine.outgoing import OutgoingRequest
    from .budget_status import BudgetStatus
    from .hook import LedgerHook
    from .store import Ledger

log = logging.getLogger("agouti.budgets")

# A process that was killed leaves its reservations: they hold for as long as its call may take, and a little more.
_RESERVATION_SECONDS = 1800.0
_RENEWAL_SECONDS = 60.0


class Reservation(Struct, frozen=True):
    """What is put aside for an attempt in this process.

    Attributes:
        highest, tokens: how much at most: of its cost, and of its tokens.
        purses: where of the cost; ``of_tokens``: where of the tokens.
    """

    highest: Decimal
    tokens: Decimal
    purses: list[Allowance]
    of_tokens: list[Allowance]


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
        self._definitions = {each.label: definition_of(each, config) for each in self._budgets if each.per != "run"}
        self._providers = {each.label: providers_of(each, config) for each in self._budgets}
        self._purses = {each.label: Purses(each) for each in self._budgets if each.per == "run"}
        self._blocks: tuple[BlockBudget, ...] = ()
        self._reservations: dict[int, Reservation] = {}
        self._warned: set[str] = set()
        self._lock = Lock()
        reset_after_fork(self)

    def after_fork(self) -> None:
        """A child has spent what its parent had, and has nothing under way."""
        self._lock = Lock()
        self._reservations = {}
        for purses in self._purses.values():
            purses.after_fork()
        for block in self._blocks:
            block.allowance.after_fork()

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
        blocks = [each for each in dict.fromkeys(blocks_here()) if each in self._blocks] if self._blocks else []
        if not attempt.outgoing.paid:
            return None
        paid = paid_labels(attempt, self._config)
        counting = [each for each in blocks if each.budget.counts(paid, attempt.tags)]
        budgets = [
            each
            for each in self._budgets
            if each.counts(paid, attempt.tags, attempt.provider, self._providers[each.label])
        ]
        if not counting and not budgets:
            return None
        outgoing = attempt.outgoing
        price = outgoing.price
        if price is None:
            amounts = [each for each in budgets if each.tokens is None]
            if counting or amounts:
                self._warn_once(
                    f"price {attempt.model}", f"calls to {attempt.model} have no price, and count in no budget"
                )
            counting, budgets = [], [each for each in budgets if each.tokens is not None]
        else:
            budgets = self._of_currency(attempt, counting, budgets, price)
            counting = [each for each in counting if each.budget.currency == price.currency]
        if not counting and not budgets:
            return None
        highest = Decimal(0) if price is None else most_of(outgoing, price)
        tokens = Decimal(0)
        if any(each.tokens is not None for each in budgets):
            tokens = Decimal(outgoing.at_most + outgoing.answer_at_most)
        purses = [(block.named, block.allowance, highest, block.budget) for block in counting]
        ledger_budgets: list[Budget] = []
        changes: list[tuple[Purses, str, Allowance]] = []
        for budget in budgets:
            if budget.per != "run":
                ledger_budgets.append(budget)
                continue
            part = part_of(budget, attempt)
            allowance = self._purses[budget.label].of(part)
            changes.append((self._purses[budget.label], part, allowance))
            purses.append((named(budget, attempt), allowance, highest if budget.tokens is None else tokens, budget))
        reservation = self._reserve_allowances(attempt, highest, tokens, purses)
        if not ledger_budgets:
            self._check_warnings(reservation, changes)
            self._reservations[id(attempt)] = reservation
            return None
        return self._reserved(attempt, reservation, ledger_budgets)

    def _of_currency(
        self, attempt: AttemptDetails, counting: list[BlockBudget], budgets: list[Budget], price: Price
    ) -> list[Budget]:
        """The budgets that count what is paid in this currency; that others do not is told once."""
        units = [
            *[each.budget.currency for each in counting],
            *[each.currency for each in budgets if each.tokens is None],
        ]
        currencies = sorted({each for each in units if each != price.currency})
        if currencies:
            self._warn_once(
                f"currency {attempt.model} {currencies}",
                f"calls to {attempt.model} are paid in {price.currency}, and count in no budget "
                f"in {', '.join(currencies)}",
            )
        return [each for each in budgets if each.unit in (price.currency, TOKENS)]

    def _reserve_allowances(
        self,
        attempt: AttemptDetails,
        highest: Decimal,
        tokens: Decimal,
        purses: list[tuple[str, Allowance, Decimal, Budget]],
    ) -> Reservation:
        """Reserve an amount in several purses, or in none.

        Raises:
            BudgetExceeded: one of them has too little.
        """
        reservation = Reservation(highest, tokens, [], [])
        for name, allowance, amount, budget in purses:
            remaining = allowance.reserve(amount)
            if remaining is not None:
                _give_back(reservation)
                raise _exceeded(name, attempt, amount, remaining, budget)
            (reservation.purses if budget.tokens is None else reservation.of_tokens).append(allowance)
        return reservation

    def _check_warnings(self, reservation: Reservation, changes: list[tuple[Purses, str, Allowance]]) -> None:
        """Say what is nearly spent; where that is an error, because warnings are, nothing stays put aside."""
        try:
            for purses, part, allowance in changes:
                used = allowance.spent + allowance.reserved
                if used >= purses.warns_at:
                    self._nearly(purses.budget, part, used / allowance.amount)
        except Exception:
            _give_back(reservation)
            raise

    def _reserved(self, attempt: AttemptDetails, reservation: Reservation, ledger_budgets: list[Budget]) -> Steps[None]:
        cancelled = Event()

        def give_back() -> None:
            cancelled.set()
            _give_back(reservation)
            if self._ledger is not None:
                self._ledger.release(attempt)

        undo = OnAbandon(give_back)
        yield undo
        reserve = partial(self._reserve_in_ledger, attempt, reservation, ledger_budgets, cancelled)
        try:
            # A task, or a call with a deadline, waits beside: a ledger that is slow keeps nobody longer than he may.
            if self._ledger is not None and (attempt.left is not None or in_a_task()):
                try:
                    yield from wait_for_job(self._ledger.thread.submit(reserve), attempt.left)
                except TimeoutError:
                    raise DeadlineExceeded(
                        f"the ledger of {_labels(ledger_budgets)} did not answer within the deadline",
                        hint="Nothing was sent. See what keeps the ledger busy, or raise deadline=.",
                        provider=attempt.provider,
                        model=attempt.model,
                    ) from None
            else:
                yield RunCallable(reserve, None)
        except Exception:
            give_back()
            yield Settled(undo)
            raise
        self._reservations[id(attempt)] = reservation
        yield Settled(undo)

    def _reserve_in_ledger(
        self, attempt: AttemptDetails, reservation: Reservation, ledger_budgets: list[Budget], cancelled: Event
    ) -> None:
        if self._ledger is None:
            return
        now = self._now()
        requests = []
        for budget in ledger_budgets:
            of_tokens = budget.tokens is not None
            amount = int(reservation.tokens) if of_tokens else picos(reservation.highest)
            highest = int(budget.exact) if of_tokens else picos(budget.exact)
            ledger_budget = self._definitions[budget.label]
            requests.append(
                ReservationRequest(budget, ledger_budget, budget.begins(now), part_of(budget, attempt), amount, highest)
            )
        expires = now + (_RESERVATION_SECONDS if attempt.takes is None else attempt.takes) + _RENEWAL_SECONDS
        reserved, full = self._ledger.budgets().reserve(requests, now, expires)
        if full is not None:
            each, remaining = full
            unit = 1 if each.budget.tokens is not None else PICO
            name = f"{named(each.budget, attempt)} of this {each.budget.per}"
            raise _exceeded(name, attempt, Decimal(each.amount) / unit, Decimal(remaining) / unit, each.budget)
        numbers = {number: each.ends(now) for each, (number, _) in zip(ledger_budgets, reserved, strict=True)}
        in_tokens = frozenset(
            number for each, (number, _) in zip(ledger_budgets, reserved, strict=True) if each.tokens is not None
        )
        most_cost = 0 if len(in_tokens) == len(ledger_budgets) else picos(reservation.highest)
        self._ledger.settles(attempt, numbers, most_cost, in_tokens)
        if cancelled.is_set():  # the call was given up meanwhile, and nobody else would take them back
            self._ledger.release(attempt)
            return
        for each, (_, share) in zip(requests, reserved, strict=True):
            self._nearly(each.budget, each.value, share)

    def _nearly(self, budget: Budget, part: str, share: Decimal) -> None:
        if share >= budget.warn:
            key = f"warn {budget.label} {part} {budget.begins(self._now())}"
            if key in self._warned:
                return
            of_part = f" for {part}" if budget.each else ""
            message = f"budget {budget.label}{of_part} is nearly spent: {share:.0%} of {budget.whole}"
            if budget.notify:
                from .notify import notify

                notify(budget, part, float(share), message, self._config.environment)
            self._warn_once(key, message)

    def _warn_once(self, key: str, message: str) -> None:
        if key not in self._warned:
            self._warned.add(key)
            log.warning(message)
            warn(message)

    def after(self, result: AttemptResult) -> None:
        """Settle what was reserved by what it has cost."""
        reservation = self._reservations.pop(id(result.attempt), None)
        if reservation is not None:
            # Where nobody says how much it has cost: not more than was reserved.
            cost = reservation.highest if result.exact_cost is None else result.exact_cost
            for allowance in reservation.purses:
                allowance.settle(reservation.highest, cost)
            if reservation.of_tokens:
                tokens = _tokens_of(result)
                for allowance in reservation.of_tokens:
                    allowance.settle(reservation.tokens, reservation.tokens if tokens is None else Decimal(tokens))
        if self._ledger is not None:
            self._ledger.release(result.attempt)  # where the ledger has a row of it, it has taken them already

    @property
    def runs(self) -> "dict[str, list[tuple[str, Decimal, Decimal]]]":
        """What is spent and put aside of budgets of this run, by parts."""
        return {
            label: [(part, allowance.spent, allowance.reserved) for part, allowance in list(purses.parts.items())]
            for label, purses in self._purses.items()
        }


def states_of(config: "Config", hooks: "list[BudgetHook]", ledger: "Ledger | None") -> "list[BudgetStatus]":
    """What is spent, put aside and left of each budget now.

    Args:
        hooks: of a client: they know of its run.
        ledger: where the others are kept; opened where it is not given.

    Raises:
        ConfigError: the ledger cannot be read.
    """
    from .budget_status import statuses
    from .open import open_ledger

    runs: dict[str, list[tuple[str, Decimal, Decimal]]] = {}
    for hook in hooks:
        runs.update(hook.runs)
    opened = None
    ledger_budgets = any(each.per != "run" for each in config.budgets.values())
    if ledger is None and ledger_budgets and config.ledger is not None:
        if config.ledger.path is None or config.ledger.path.exists():
            opened = open_ledger(config.ledger, reading=True)
        else:  # nothing was asked yet
            return statuses(config, None, runs, time.time())
    try:
        return statuses(config, ledger or opened, runs, time.time())
    finally:
        if opened is not None:
            opened.close()


def _tokens_of(result: AttemptResult) -> int | None:
    """The tokens that an attempt has taken; `None` where nobody tells."""
    usage = result.usage
    if not result.sent or result.exact_cost == 0:
        return 0
    if usage is None or usage.input_tokens is None:
        return None
    return usage.input_tokens + (usage.output_tokens or 0)


def _give_back(reservation: Reservation) -> None:
    for allowance in reservation.purses:
        allowance.settle(reservation.highest, Decimal(0))
    for allowance in reservation.of_tokens:
        allowance.settle(reservation.tokens, Decimal(0))


def named(budget: Budget, attempt: AttemptDetails) -> str:
    """A budget's name, with the part of it that a call counts in."""
    return f"budget {budget.label}" + (f" for {part_of(budget, attempt) or 'no ' + budget.each}" if budget.each else "")


def _labels(budgets: list[Budget]) -> str:
    return ", ".join([f"budget {each.label}" for each in budgets])


def paid_labels(attempt: AttemptDetails, config: "Config") -> tuple[str, ...]:
    """The labels of the model that is paid: its own, and those of its entries where it was asked by its name."""
    if attempt.model in config.models:
        return (attempt.model,)
    same = [
        each.label for each in config.models.values() if (each.name, each.provider) == (attempt.name, attempt.provider)
    ]
    return (attempt.model, *same)


def most_of(outgoing: "OutgoingRequest", price: Price) -> Decimal:
    """The most that a request can cost, as it goes out: prompt and answers at the dearest of their prices."""
    return price.dearest(outgoing.at_most, outgoing.answer_at_most, images=outgoing.images)


def _exceeded(
    name: str, attempt: AttemptDetails, highest: Decimal, remaining: Decimal, budget: Budget
) -> BudgetExceeded:
    has, needed = max(remaining, Decimal(0)), highest
    if budget.tokens is not None:
        message = f"{name} has {has:,.0f} tokens left, and this call to {attempt.model} could take {needed:,.0f}"
    else:
        message = f"{name} has {has:.6f} left, and this call to {attempt.model} could cost {needed:.6f}"
    return BudgetExceeded(message, provider=attempt.provider, model=attempt.model)
