"""The budgets of a run: of this run alone, and of all runs that wrote into its file."""

from collections.abc import Mapping
from contextlib import ExitStack
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from ...calls.calls import calls_of
from ...core.errors import RequestError

if TYPE_CHECKING:
    from ...client.async_client import AsyncClient
    from ...client.client import Client
    from ...ledger.blocks import BlockBudget

RUN_BUDGETS = {"budget": "the budget of this run", "budget_in_all": "the budget of all runs on the file"}
"""The options that limit what is spent, and what errors call them."""


def run_budgets(
    client: "Client | AsyncClient", label: str, options: Mapping[str, Any], costs: Mapping[str, float]
) -> ExitStack:
    """The budgets that the run counts in, open until the stack is closed.

    Args:
        costs: of the results that are in the file, by currency: they count in the budget of all runs.
    """
    stack = ExitStack()
    for name in RUN_BUDGETS:
        if (amount := options.get(name)) is not None:
            budget = run_budget(client, label, amount, name)
            if name == "budget_in_all":
                budget.allowance.spent = Decimal(repr(costs.get(budget.currency, 0.0)))
            stack.enter_context(budget)
    return stack


def run_budget(client: "Client | AsyncClient", label: str, amount: float, name: str) -> "BlockBudget":
    """A budget in the currency of its model.

    Raises:
        AgoutiError: the model has no price, or the amount is none.
    """
    price = calls_of(client).target(label).price
    if price is None:
        raise RequestError(f"a budget is kept by prices, and {label} has none", hint="Write its price into its entry.")
    budget = client.budget(amount, price.currency)
    budget.named = RUN_BUDGETS[name]
    return budget
