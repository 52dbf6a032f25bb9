"""For tests of applications: no network, no keys, no cost.

`scripted` says what models answer, whatever their format; `archived` answers from what was recorded; `offline` sees
that nothing goes out; `watched` writes down what was asked. `FakeTransport` answers with bytes. With pytest all of that
is there as fixtures and markers, without any import: see the guide. For real HTTP against simulated providers there is
`agouti.standins`, and the fixture ``providers``.
"""

from .fake import AsyncFakeTransport, FakeTransport
from .network import WentOut, archived, offline, watched
from .script import Script, Sent, scripted

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
