"""Simulated providers for examples, demos and tests: real HTTP on a loopback port, made-up models.

    >>> import agouti.standins
    >>> with agouti.standins.serve() as served:
    ...     print(sorted(served.config.models)[:2])
    ['almanac', 'almanac-local']

Needs the extra ``standins`` (starlette and uvicorn).
"""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from .server import Served, serve

__all__ = ["Served", "serve"]


def __getattr__(name: str) -> object:
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    try:
        return getattr(import_module(".server", __name__), name)
    except ModuleNotFoundError as error:
        if str(error.name).partition(".")[0] == "agouti":
            raise
        from ..core.errors import ConfigError

        raise ConfigError(
            f"the simulated providers need {error.name}, which is not installed",
            hint="Install it: pip install 'agouti-client[standins]'.",
        ) from None
