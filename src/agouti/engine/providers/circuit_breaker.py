"""Circuit breaker: leave a model alone for a while after calls to it have failed again and again.

Closed: calls go through, failures in a row are counted. Open: calls fail at once, for `REST_SECONDS` seconds. Then one
call is let through as a trial: it closes the circuit, or opens it again. Calls are counted, not attempts: a call that
is under way may use all its retries, and whatever the provider answers closes it.
"""

from threading import Lock

from ...runtime.fork_reset import reset_after_fork

# Enough that a bad minute does not open it, and few enough to spare the rest of a batch.
THRESHOLD = 8
REST_SECONDS = 20.0


class Circuit:
    """The state for one model. Holds no clock: every method is told the time, in seconds.

    >>> circuit = Circuit()
    >>> for _ in range(THRESHOLD):
    ...     circuit.failed(0.0)
    >>> circuit.closed_for(1.0), circuit.closed_for(REST_SECONDS + 1), circuit.closed_for(REST_SECONDS + 1)
    (19.0, None, 20.0)
    """

    def __init__(self) -> None:
        self._failures = 0
        self._opened: float | None = None
        self._lock = Lock()
        reset_after_fork(self)

    def after_fork(self) -> None:
        """Another thread of the parent may hold the lock."""
        self._lock = Lock()

    def closed_for(self, now: float) -> float | None:
        """Seconds until the next trial; `None`: go ahead."""
        if self._opened is None:
            return None
        with self._lock:
            opened = self._opened
            remaining = 0.0 if opened is None else opened + REST_SECONDS - now
            if remaining > 0:
                return remaining
            if opened is not None:
                self._opened = now  # this call is the trial, the others wait for it
            return None

    def failed(self, now: float) -> None:
        """A call failed for the provider's reasons."""
        with self._lock:
            self._failures += 1
            if self._failures >= THRESHOLD:
                self._opened = now

    def succeeded(self) -> None:
        """The provider answered."""
        if self._failures:
            with self._lock:
                self._failures, self._opened = 0, None
