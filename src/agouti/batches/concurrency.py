"""The pace of a run: how many requests are under way at once, found while it runs.

It rises quickly as long as more at once get more done, and stops where they do not (each takes longer then), or where
the provider refuses; from then on it tries now and then whether more has become possible. Nothing here waits or sends.
"""

from collections import deque
from collections.abc import Callable
from math import sqrt
from threading import Lock

from ..engine.effects import OnAbandon, Settled, Signal, Steps, WaitFor

_START = 4
_GROWTH = 1.5
# So much more has to get done before a faster pace is kept.
_GAIN = 1.08
# Refusals of so few rows say nothing of the pace, and neither do more by so many deviations, which are chance.
_FEW, _CHANCE = 0.03, 3.0
# Otherwise a refusal takes away so much.
_STEP_BACK = 0.7
# Spans of settled pace before it is tried whether more is possible.
_TRY_AGAIN = 8


class Pace:
    """How many are under way at once.

    Args:
        fixed: so many, always; `None`: find out.
        limit: never more than so many.

    Attributes:
        limit: how many there may be.
    """

    def __init__(self, fixed: int | None, limit: int, clock: Callable[[], float]) -> None:
        self._fixed = fixed is not None
        self._maximum = limit
        self._clock = clock
        self._lock = Lock()
        self._waiting: deque[Signal] = deque()
        self._permits: set[Signal] = set()
        self.limit = min(fixed if fixed is not None else _START, limit)
        self._best = 0.0
        self._refused = self._answered = 0.0
        self._best_limit = self.limit
        self._growing = True
        self._settled_for = 0
        self._stepped_back = clock()
        self._span(clock())

    def _span(self, now: float) -> None:
        """A new span of time to count in begins."""
        self._started_at = now
        self._done = 0
        self._answered /= 2  # what was long ago says less
        self._refused /= 2

    def enter(self) -> Steps[Signal]:
        """Wait for a place; give it back with `leave`."""
        signal = Signal()
        undo = OnAbandon(lambda: self.leave(signal))
        yield undo
        with self._lock:
            if len(self._permits) < self.limit and not self._waiting:
                self._permits.add(signal)
            else:
                self._waiting.append(signal)
        if signal not in self._permits:
            yield WaitFor(signal)
        yield Settled(undo)
        return signal

    def leave(self, signal: Signal) -> None:
        """A place is free again; or nobody waits for one any more."""
        with self._lock:
            if signal in self._permits:
                self._permits.discard(signal)
            elif signal in self._waiting:
                self._waiting.remove(signal)
            ready = self._admitted()
        for each in ready:
            each.set()

    def _admitted(self) -> list[Signal]:
        ready = []
        while self._waiting and len(self._permits) < self.limit:
            signal = self._waiting.popleft()
            self._permits.add(signal)
            ready.append(signal)
        return ready

    def open(self) -> None:
        """Nobody waits any more: the run is over."""
        with self._lock:
            waiting, self._waiting = list(self._waiting), deque()
            self._permits.update(waiting)
            self.limit = self._maximum + len(self._permits)
        for each in waiting:
            each.set()

    def done(self, count: int = 1) -> None:
        """So many rows were answered."""
        with self._lock:
            if self._fixed:
                return
            self._done += count
            self._answered += count
            now = self._clock()
            # Long enough that everybody has had a turn or two at this pace.
            if self._done < 2 * self.limit or now - self._started_at < 0.2:
                return
            self._adjust(self._done / (now - self._started_at))
            self._span(now)
            ready = self._admitted()
        for each in ready:
            each.set()

    def _adjust(self, rate: float) -> None:
        """A span has ended, in which so many rows a second were answered."""
        if self._growing:
            if rate > self._best * _GAIN:
                self._best, self._best_limit = max(rate, self._best), self.limit
                if self.limit < self._maximum:
                    self.limit = min(max(int(self.limit * _GROWTH), self.limit + 1), self._maximum)
                    return
            # More at once got no more done.
            self.limit = self._best_limit
            self._growing, self._settled_for = False, 0
            return
        self._settled_for += 1
        self._best = 0.7 * self._best + 0.3 * rate
        if self._settled_for >= _TRY_AGAIN and self.limit < self._maximum:
            self._growing, self._best_limit = True, self.limit
            self.limit = min(max(int(self.limit * 1.25), self.limit + 1), self._maximum)

    def refused(self, started_at: float) -> None:
        """The provider has refused a request that began then: fewer at once."""
        with self._lock:
            # Those that were under way already at the last step back tell nothing new.
            if self._fixed or started_at < self._stepped_back:
                return
            self._refused += 1
            threshold = _FEW * self._answered
            if self._refused <= 1 + threshold + _CHANCE * sqrt(threshold):
                return  # some are refused at any pace
            now = self._clock()
            self._refused = self._answered = 0.0
            self._stepped_back = now
            self.limit = max(int(self.limit * _STEP_BACK), 1)
            self._best_limit, self._growing, self._settled_for = self.limit, False, 0
            self._best = 0.0
            self._span(now)

    @property
    def under_way(self) -> int:
        """How many are under way."""
        return len(self._permits)
