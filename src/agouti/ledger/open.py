"""Ledgers by their address."""

from ..config.tables import LedgerSettings
from .store import Ledger


def open_ledger(settings: "LedgerSettings", *, reading: bool = False) -> Ledger:
    """The ledger that settings name; made where it is not there, unless ``reading``.

    Raises:
        ConfigError: it cannot be opened, is no ledger, or one of a newer Agouti.
    """
    if settings.path is not None:
        from .sqlite import SqliteLedger

        return SqliteLedger(settings.path, reading=reading)
    from .postgres import PostgresLedger

    return PostgresLedger(settings.store, reading=reading)
