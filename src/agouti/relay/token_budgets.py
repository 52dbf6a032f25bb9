"""Budgets of access tokens: kept by the ledger like those of the configuration, each call counted by its token."""

from contextvars import ContextVar
from typing import TYPE_CHECKING

from msgspec.structs import replace

from ..core.canonical.usage import NO_USAGE
from ..core.errors import BudgetExceeded
from ..engine.effects import Steps
from ..engine.hooks import AttemptDetails, AttemptResult, Hook, SeeingHook
from ..ledger.budgets import BudgetHook
from .access_tokens import TAG, AccessToken, TokenFile

if TYPE_CHECKING:
    from ..config.entries import Config
    from ..ledger.hook import LedgerHook
    from .request_handlers import Outcome


CURRENT: "ContextVar[Outcome | None]" = ContextVar("agouti_relay_call", default=None)
"""The call that a request of this context belongs to."""


class Spent(SeeingHook):
    """Tells each call what its attempts have taken: metrics and page say what the ledger says."""

    def __init__(self) -> None:
        self._calls: dict[int, Outcome] = {}

    def before(self, attempt: AttemptDetails) -> Steps[None] | None:
        outcome = CURRENT.get()
        if outcome is not None:  # it may end in another context
            self._calls[id(attempt)] = outcome
        return None

    def after(self, result: AttemptResult) -> None:
        self._add(self._calls.pop(id(result.attempt), None), result)

    def cached(self, result: AttemptResult) -> None:
        self._add(CURRENT.get(), result)

    @staticmethod
    def _add(outcome: "Outcome | None", result: AttemptResult) -> None:
        if outcome is not None:
            usage = result.usage or NO_USAGE
            outcome.add(usage.input_tokens, usage.output_tokens, result.cost, result.currency)


class TokenBudgets(Hook):
    """Keeps the budgets of tokens, also of those that are made while the relay runs."""

    def __init__(self, config: "Config", tokens: TokenFile, ledger: "LedgerHook") -> None:
        self._config = config
        self._tokens = tokens
        self._ledger = ledger
        self._hooks: dict[AccessToken, BudgetHook] = {}
        self._under_way: dict[int, BudgetHook] = {}

    def before(self, attempt: AttemptDetails) -> Steps[None] | None:
        name = attempt.tags.get(TAG)
        token = next((each for each in self._tokens.tokens() if each.name == name), None) if name else None
        if token is None or token.budget is None:
            return None
        hook = self._hooks.get(token)
        if hook is None:
            budget = token.as_budget
            assert budget is not None  # noqa: S101
            hook = BudgetHook(replace(self._config, budgets={budget.label: budget}), self._ledger)
            self._hooks[token] = hook
        if self._costs_nothing(attempt, token):
            return None
        self._under_way[id(attempt)] = hook
        return hook.before(attempt)

    def _costs_nothing(self, attempt: AttemptDetails, token: AccessToken) -> bool:
        """Whether a call is free: of a model without a price, on a server that wants no key.

        Raises:
            BudgetExceeded: it costs something that nobody knows, and would count in no budget.
        """
        price = attempt.outgoing.price
        if not attempt.outgoing.paid:
            return True
        if price is not None and price.currency == token.currency:
            return False
        if price is None and not attempt.outgoing.target.provider.wants_secrets:
            return True
        raise BudgetExceeded(
            f"token {token.name} has a budget in {token.currency}, and {attempt.model} has no price in it",
            hint="Give the model a price in its entry, or take one that has.",
            provider=attempt.provider,
            model=attempt.model,
        )

    def after(self, result: AttemptResult) -> None:
        hook = self._under_way.pop(id(result.attempt), None)
        if hook is not None:
            hook.after(result)
