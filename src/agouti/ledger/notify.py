"""Telling somebody that a budget is nearly spent: a function of the application, or an address."""

import logging
import threading
import urllib.request
from importlib import import_module
from typing import TYPE_CHECKING

import msgspec
from msgspec import Struct

if TYPE_CHECKING:
    from ..config.budgets import Budget

log = logging.getLogger("agouti.budgets")
_PATIENCE = 10.0


class BudgetWarning(Struct, frozen=True):
    """A budget is nearly spent.

    Attributes:
        budget: its label.
        part: of a budget with ``each``: the value that it is of.
        share: what is spent or put aside, 1.0 for all of it.
        amount, unit: all of it; a currency, or ``tokens``.
        message: the same in words.
    """

    budget: str
    part: str
    share: float
    amount: float
    unit: str
    message: str


def notify(budget: "Budget", part: str, share: float, message: str) -> None:
    """Tell whom the budget names, in a thread of its own: nobody waits for it, and nothing fails by it."""
    amount = float(budget.exact)
    warning = BudgetWarning(budget.label, part, share, amount, budget.unit, message)
    thread = threading.Thread(target=_tell, args=(budget.notify, warning), name="agouti-notify", daemon=True)
    thread.start()


def _tell(whom: str, warning: BudgetWarning) -> None:
    try:
        if "://" in whom:
            _post(whom, warning)
        else:
            module, _, name = whom.partition(":")
            function = import_module(module)
            for each in name.split("."):
                function = getattr(function, each)
            function(warning)  # type: ignore[operator]
    except Exception:
        log.exception("%s could not be told of budget %s", whom.partition("?")[0], warning.budget)


def _post(address: str, warning: BudgetWarning) -> None:
    if not address.startswith(("http://", "https://")):
        raise ValueError("an address to notify begins with http:// or https://")
    body = msgspec.json.encode(warning)
    request = urllib.request.Request(address, body, {"content-type": "application/json"}, method="POST")  # noqa: S310
    with urllib.request.urlopen(request, timeout=_PATIENCE) as reply:  # noqa: S310
        reply.read(1000)
