"""The hooks that a configuration asks for: the cache, budgets, limits, the ledger."""

from typing import TYPE_CHECKING

from msgspec import Struct

from ..config.entries import Config

if TYPE_CHECKING:
    from collections.abc import Iterable

    from ..engine.hooks import Hook
    from ..ledger.hook import LedgerHook
    from ..limits.hook import LimitHook
    from ..limits.local_schedule import Days


class ClientHooks(Struct, frozen=True):
    """The hooks of a client.

    Attributes:
        every: all of them, in their order.
        own_hooks: those that the configuration asks for, which end with the client.
        ledger: the one among them that keeps it.
    """

    every: "tuple[Hook, ...]"
    own_hooks: "tuple[Hook, ...]"
    ledger: "LedgerHook | None"


def hooks_of_client(config: Config, own_hooks: "Iterable[Hook]") -> ClientHooks:
    """The hooks of a client; without any of that, nothing is loaded.

    In their order: what is in the cache is not asked, the waits of others stand in a trace, what the application
    refuses or may not be spent does not wait, and only what is sent has a row.

    Args:
        own_hooks: the application's own.

    Raises:
        ConfigError: one of those is none.
    """
    checked: tuple[Hook, ...] = ()
    if own_hooks != ():
        from ..engine.hook_checks import checked_hooks

        checked = checked_hooks(own_hooks)  # first: what is refused has opened nothing
    hooks: list[Hook] = []
    if config.cache is not None:
        from ..cache.hook import CacheHook

        hooks.append(CacheHook(config, config.cache))
    if config.telemetry is not None:
        from ..telemetry.hook import Telemetry

        hooks.append(Telemetry(config, content=config.telemetry.content))
    before = len(hooks)
    ledger: LedgerHook | None = None
    if config.ledger is not None:
        from ..ledger import hook

        ledger = hook.LedgerHook(config.ledger)
    if config.budgets:
        from ..ledger.budgets import BudgetHook

        hooks.append(BudgetHook(config, ledger))
    limited = [entry.limits for entry in config.providers.values()] + [entry.limits for entry in config.models.values()]
    if any(limits is not None for limits in limited):
        hooks.append(_limit_hook(config))
    if ledger is not None:
        hooks.append(ledger)
    return ClientHooks((*hooks[:before], *checked, *hooks[before:]), tuple(hooks), ledger)


def _limit_hook(config: Config) -> "LimitHook":
    from ..limits.hook import LimitHook

    def days(identity: str) -> "Days":
        from platformdirs import user_state_path

        from ..limits.day_counter import DayFile

        return DayFile(user_state_path("agouti") / "days", identity)

    if config.limit_store is None:
        return LimitHook(config, days)
    path = config.limit_store.path
    if path is not None:
        from ..limits.file_store import FileStore

        return LimitHook(config, days, FileStore(path))
    from ..limits.redis_store import RedisStore

    return LimitHook(config, days, RedisStore(config.limit_store))
