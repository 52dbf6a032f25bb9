"""Tables of a configuration that stand alone, without labels: the ledger."""

from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from ..core.chat import Json
from ..core.errors import ConfigError
from ..core.suggest import near_hint
from .checks import placed
from .origins import Origins

SINGLES = ("ledger",)
"""Tables without labels."""


class LedgerSettings(Struct, frozen=True, forbid_unknown_fields=True):
    """Where it is kept what calls have taken and cost.

    Attributes:
        store: a file of SQLite; a relative path is taken from the folder of the configuration.
        keep_days: how long rows of single attempts are kept; sums of days stay. `None`: for ever.
        prompts: keep the questions as well; they may hold what is private.
    """

    store: str
    keep_days: int | None = None
    prompts: bool = False


def ledger_of(merged: dict[str, Json], origins: Origins) -> LedgerSettings | None:
    """The ledger's settings; `None` where there is no such table.

    Raises:
        ConfigError: they cannot be used.
    """
    values: Any = merged.get("ledger")
    if values is None:
        return None
    origin = origins.of("ledger")
    if not isinstance(values, dict):
        raise placed(
            ConfigError("ledger is not a table", hint='Write [ledger] and store = "usage.sqlite" below it.'), origin
        )
    names = LedgerSettings.__struct_fields__
    for name in values:
        if name not in names:
            raise placed(
                ConfigError(f"unknown key {name!r} in [ledger]", hint=near_hint(name, names, "key")),
                origins.of("ledger", name),
            )
    try:
        settings = msgspec.convert(values, LedgerSettings)
    except msgspec.ValidationError as error:
        raise placed(
            ConfigError(f"[ledger] is wrong: {str(error).replace('`', '')}", hint='Write store = "usage.sqlite".'),
            origin,
        ) from None
    if not settings.store.strip() or settings.store.partition("://")[1]:
        raise placed(
            ConfigError(
                f"[ledger] store = {settings.store!r} is no store", hint='Write a file: store = "usage.sqlite".'
            ),
            origins.of("ledger", "store"),
        )
    if settings.keep_days is not None and settings.keep_days < 1:
        raise placed(
            ConfigError(f"[ledger] keep_days = {settings.keep_days} is out of range", hint="It counts days, from 1."),
            origins.of("ledger", "keep_days"),
        )
    place = origins.of("ledger", "store")
    folder = Path(place.name).absolute().parent if place.kind == "file" else Path.cwd()
    return msgspec.structs.replace(settings, store=str(folder / Path(settings.store).expanduser()))
