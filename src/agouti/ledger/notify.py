"""Telling somebody that a budget is nearly spent: a function of the application, or an address."""

import logging
import threading
from collections.abc import Mapping
from importlib import import_module
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

import msgspec
from msgspec import Struct

from ..core.http.exchange import HttpReply, HttpRequest, Timeouts
from ..credentials.sources import GivenKey, Key

if TYPE_CHECKING:
    from ..config.budgets import Budget

log = logging.getLogger("agouti.budgets")
_PATIENCE = Timeouts(connect=5.0, first_byte=10.0, between_chunks=10.0, total=20.0)


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


def notify(budget: "Budget", part: str, share: float, message: str, environment: Mapping[str, str]) -> None:
    """Tell whom the budget names, in a thread of its own: nobody waits for it, and nothing fails by it."""
    amount = float(budget.exact)
    warning = BudgetWarning(budget.label, part, share, amount, budget.unit, message)
    thread = threading.Thread(
        target=_notify, args=(budget.notify, warning, environment), name="agouti-notify", daemon=True
    )
    try:
        thread.start()
    except RuntimeError:  # the program is at its end, and takes no new threads
        log.warning("nobody could be told of budget %s: the program is at its end", budget.label)


def _notify(notify: str | Key, warning: BudgetWarning, environment: Mapping[str, str]) -> None:
    whom = ""
    try:
        whom = notify if isinstance(notify, str) else _address(notify, environment)
        if "://" in whom:
            _post(whom, warning)
        else:
            module, _, name = whom.partition(":")
            function: Any = import_module(module)
            for each in name.split("."):
                function = getattr(function, each)
            function(warning)
    except Exception as error:
        # An address of that kind is a secret by itself: its host alone is told, and no words that may repeat it.
        display = f"{whom.partition('://')[0]}://{urlsplit(whom).hostname}" if "://" in whom else whom
        log.warning("%s could not be told of budget %s (%s)", display, warning.budget, type(error).__name__)


def _address(key: Key, environment: Mapping[str, str]) -> str:
    from ..credentials.fetch import fetch

    if isinstance(key, GivenKey):
        return key.value.reveal()
    return fetch(key, environment, _no_endpoint, 20.0).secret.reveal()


def _no_endpoint(request: HttpRequest) -> HttpReply:
    raise TypeError("addresses are not made at endpoints")


def _post(address: str, warning: BudgetWarning) -> None:
    from ..transport.urllib3_transport import Urllib3Transport

    transport = Urllib3Transport(connections=1)
    try:
        request = HttpRequest("POST", address, {"content-type": "application/json"}, msgspec.json.encode(warning))
        reply = transport.open(request, _PATIENCE)
        reply.read()
    finally:
        transport.close()
    if reply.status >= 400:
        raise ValueError(f"HTTP {reply.status}")
