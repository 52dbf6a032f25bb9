"""For tests of applications: no network, no keys, no cost.

`scripted` says what models answer, whatever their format; `archived` answers from what was recorded; `offline` sees
that nothing goes out; `watched` writes down what was asked. `FakeTransport` answers with bytes. With pytest all of that
is there as fixtures and markers, without any import: see the guide. For real HTTP against simulated providers there is
`agouti.standins`, and the fixture ``providers``.
"""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from .fake import AsyncFakeTransport, FakeTransport
    from .network import WentOut, archived, offline, watched
    from .script import Script, Sent, scripted

_HOME = {
    "AsyncFakeTransport": "fake",
    "FakeTransport": "fake",
    "Script": "script",
    "Sent": "script",
    "WentOut": "network",
    "archived": "network",
    "offline": "network",
    "scripted": "script",
    "watched": "network",
}

__all__ = [
    "AsyncFakeTransport",
    "FakeTransport",
    "Script",
    "Sent",
    "WentOut",
    "archived",
    "offline",
    "scripted",
    "watched",
]


def __getattr__(name: str) -> object:
    # Pytest loads the plugin of this package in every run: what it does not use is not loaded with it.
    if name not in _HOME:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    value: object = getattr(import_module(f".{_HOME[name]}", __name__), name)
    globals()[name] = value
    return value
