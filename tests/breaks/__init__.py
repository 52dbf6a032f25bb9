"""Changes that break a promise of the documentation each, by package; `tests/broken_promises.py` makes them."""

from importlib import import_module
from pkgutil import iter_modules

from .row import Row

ROWS: dict[str, list[Row]] = {
    name: import_module(f"{__name__}.{name}").ROWS for _, name, _ in iter_modules(__path__) if name != "row"
}
