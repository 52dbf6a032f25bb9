"""How late a provider counts a request that was sent to it."""

from math import inf

# So much is allowed for, as a share of the window and in seconds: more at first, when connections have to be opened.
# The reply shows how late it was at most: as much longer as it took than the fastest one, and a little for what those
# differ by themselves.
_SHARE = 0.02
_AT_FIRST = 0.25
_USUALLY = 0.06
_FEW = 8
_LITTLE = 0.015


class CountingDelay:
    """What the replies of a provider tell about it."""

    def __init__(self) -> None:
        self._fastest = inf
        self._replies = 0

    def latest(self, seconds: float) -> float:
        """How long after it was sent a request is counted at the latest, in a window of so many seconds."""
        return max(_SHARE * seconds, _AT_FIRST if self._replies < _FEW else _USUALLY)

    def of(self, took: float) -> float:
        """The same of a request whose reply has come after so many seconds."""
        self._fastest = min(self._fastest, took)
        self._replies += 1
        return took if self._replies < _FEW else min(took - self._fastest + _LITTLE, took)
