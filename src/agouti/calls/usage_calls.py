"""What clients say of what was used and spent: from the ledger, and of budgets."""

from typing import TYPE_CHECKING

from ..core.errors import ConfigError
from .calls import BaseClient

if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import date

    from ..ledger.budget_status import BudgetStatus
    from ..ledger.store import Ledger
    from ..ledger.usage import UsageReport


class LedgerReader(BaseClient):
    """Reads the ledger of a configuration."""

    def _usage(self, since: "date | str | None", until: "date | str | None", by: "Sequence[str]") -> "UsageReport":
        """What was used and spent, from the ledger; all that this client has sent is in it.

        Raises:
            ConfigError: the configuration has no ledger, or it cannot be read.
            RequestError: the days are the wrong way round, or there is no such column.
        """
        from ..ledger.open import open_ledger
        from ..ledger.usage import usage_of

        settings = self.config.ledger
        if settings is None:
            raise ConfigError("there is no ledger", hint='Write [ledger] and store = "usage.sqlite" into agouti.toml.')
        if self._ledger is not None:
            self._ledger.flush()
        columns = [by] if isinstance(by, str) else by
        ledger = open_ledger(settings, reading=True)
        try:
            budgets = self._budgets(ledger)
            return usage_of(ledger, since, until, columns, self.config.plans.values(), budgets=budgets)
        finally:
            ledger.close()

    def _budgets(self, ledger: "Ledger | None" = None) -> "list[BudgetStatus]":
        """What is spent, put aside and left of the budgets of the configuration.

        Args:
            ledger: open already.

        Raises:
            ConfigError: the ledger cannot be read.
        """
        from ..ledger.budgets import BudgetHook, states_of

        if self._ledger is not None and ledger is None:
            self._ledger.flush()
        return states_of(self.config, [each for each in self._calls.hooks if isinstance(each, BudgetHook)], ledger)


class UsageCalls(LedgerReader):
    """What was used and spent."""

    def usage(
        self,
        *,
        since: "date | str | None" = None,
        until: "date | str | None" = None,
        by: "Sequence[str]" = ("day", "model"),
    ) -> "UsageReport":
        """What was used and spent, from the ledger; all that this client has sent is in it.

        Args:
            since: the first day, by UTC; the first of the month of ``until`` where not given.
            until: the last day; today where not given.
            by: of ``day``, ``provider``, ``model``, ``label``, ``operation``, ``key``, ``error`` and ``tag:NAME``.

        Raises:
            ConfigError: the configuration has no ledger, or it cannot be read.
            RequestError: the days are the wrong way round, or there is no such column.
        """
        return self._usage(since, until, by)

    def budgets(self) -> "list[BudgetStatus]":
        """What is spent, put aside and left of each budget of the configuration, and until when.

        Example:
            >>> import agouti, agouti.standins
            >>> from msgspec.structs import replace
            >>> from agouti.config.budgets import Budget
            >>> with agouti.standins.serve() as served:
            ...     config = replace(served.config, budgets={"tries": Budget("tries", 0.5, "USD", "run")})
            ...     with agouti.Client(config) as client:
            ...         reply = client.ask("almanac", "When do peas go in?", max_tokens=20)
            ...         for budget in client.budgets():
            ...             print(budget.label, budget.left < budget.amount, budget.reserved)
            tries True 0

        Raises:
            ConfigError: the ledger cannot be read.
        """
        return self._budgets()


class AsyncUsageCalls(LedgerReader):
    """What was used and spent; a ledger that is slow stops no other task."""

    async def usage(
        self,
        *,
        since: "date | str | None" = None,
        until: "date | str | None" = None,
        by: "Sequence[str]" = ("day", "model"),
    ) -> "UsageReport":
        """What was used and spent, from the ledger; all that this client has sent is in it.

        Args:
            since: the first day, by UTC; the first of the month of ``until`` where not given.
            until: the last day; today where not given.
            by: of ``day``, ``provider``, ``model``, ``label``, ``operation``, ``key``, ``error`` and ``tag:NAME``.

        Raises:
            ConfigError: the configuration has no ledger, or it cannot be read.
            RequestError: the days are the wrong way round, or there is no such column.
        """
        import asyncio

        return await asyncio.to_thread(self._usage, since, until, by)

    async def budgets(self) -> "list[BudgetStatus]":
        """What is spent, put aside and left of each budget of the configuration, and until when.

        Raises:
            ConfigError: the ledger cannot be read.
        """
        import asyncio

        return await asyncio.to_thread(self._budgets)
