"""Secrets that are being fetched: what many calls want at once is fetched once."""

from threading import Lock

from ...core.errors import AgoutiError
from ...credentials.credential import Credential
from ...credentials.sources import Key
from ...runtime.fork_reset import reset_after_fork
from ..effects import Signal


class Flight:
    """One secret that is being fetched.

    Attributes:
        landed: set when it has ended.
        outcome: what came of it; `None` where whoever fetched it has given up.
    """

    def __init__(self) -> None:
        self.landed = Signal()
        self.outcome: Credential | AgoutiError | None = None


class SingleFlight:
    """What is being fetched at the moment."""

    def __init__(self) -> None:
        self._in_progress: dict[Key, Flight] = {}
        self._lock = Lock()
        reset_after_fork(self)

    def after_fork(self) -> None:
        """Those who fetch are threads of the parent."""
        self._in_progress, self._lock = {}, Lock()

    def joined(self, key: Key) -> tuple[Flight, bool]:
        """The flight of a key, and whether the caller is the one who fetches."""
        with self._lock:
            flight = self._in_progress.get(key)
            if flight is not None:
                return flight, False
            flight = self._in_progress[key] = Flight()
            return flight, True

    def over(self, key: Key, flight: Flight) -> None:
        """It has ended, one way or the other."""
        with self._lock:
            if self._in_progress.get(key) is flight:
                del self._in_progress[key]
        flight.landed.set()
