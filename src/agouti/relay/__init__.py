"""The relay: every configured model at one address, for programs in any language.

    import agouti.relay

    application = agouti.relay.app("agouti.toml")        # an ASGI application, to run or to mount in one of your own

``agouti relay`` runs it from a shell.
"""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from .application import Relay as Relay
    from .application import app as app

__all__ = ["Relay", "app"]


def __getattr__(name: str) -> object:
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from . import application

    return getattr(application, name)
