"""The relay: every configured model at one address, for programs in any language.

    import agouti.relay

    application = agouti.relay.app("agouti.toml")        # an ASGI application, to run or to mount in one of your own

``agouti relay`` runs it from a shell.
"""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from .application import Relay as Relay
    from .application import app as app
    from .server import listening as listening
    from .server import serve as serve
    from .server import serve_socket as serve_socket
    from .workers import end_with_parent as end_with_parent
    from .workers import run_workers as run_workers

__all__ = ["Relay", "app", "end_with_parent", "listening", "run_workers", "serve", "serve_socket"]
_WHERE = {
    "end_with_parent": ".workers",
    "listening": ".server",
    "run_workers": ".workers",
    "serve": ".server",
    "serve_socket": ".server",
}


def __getattr__(name: str) -> object:
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    try:
        return getattr(import_module(_WHERE.get(name, ".application"), __name__), name)
    except ModuleNotFoundError as error:
        from ..core.errors import ConfigError

        raise ConfigError(
            f"the relay needs {error.name}, which is not installed",
            hint="Install it: pip install 'agouti-client[relay]'",
        ) from None
