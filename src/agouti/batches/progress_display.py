"""How far a run is, shown to whoever looks: a line in a notebook or on a terminal, lines in a log."""

import sys
import time
from typing import Any

from ..tables.notebook import in_notebook
from .types import Progress

# Seconds between two times: where somebody watches, and in the log of a run that nobody watches.
_WATCHED, _LOGGED = 0.1, 30.0


class ShownProgress:
    """Shows how far a run is, now and then.

    Args:
        watched: whether standard error is a terminal that somebody looks at.

    Attributes:
        last: how far it was at last.
    """

    def __init__(self, *, watched: bool) -> None:
        self._display: Any = _display() if in_notebook() else None
        self._terminal = watched and self._display is None
        self._is_shown = False
        self.last: Progress | None = None
        if self._terminal or self._display is not None:
            self.every(_WATCHED, immediately=True)
        else:
            self.every(_LOGGED, immediately=False)

    def every(self, seconds: float, *, immediately: bool) -> None:
        """Show it so often.

        Args:
            immediately: for the first time as soon as there is something to show.
        """
        self._every = seconds
        self._next = time.monotonic() + (0 if immediately else seconds)

    def __call__(self, progress: Progress) -> None:
        self.last = progress
        if (now := time.monotonic()) < self._next:
            return
        self._next = now + self._every
        self.show(progress)

    def show(self, progress: Progress) -> None:
        """Show it now."""
        text = progress_text(progress)
        if self._display is not None:
            self._display.update({"text/plain": text}, raw=True)
        elif self._terminal:
            self._is_shown = True
            sys.stderr.write(f"\r\033[K{text}")
            sys.stderr.flush()
        else:
            sys.stderr.write(f"{text}\n")
            sys.stderr.flush()

    def end(self) -> None:
        """There is no more: a terminal forgets the line, a notebook keeps the last one."""
        if self._display is not None and self.last is not None:
            self.show(self.last)
        if self._is_shown:
            sys.stderr.write("\r\033[K")
            sys.stderr.flush()


def _display() -> Any:
    from IPython.display import display

    return display({"text/plain": ""}, raw=True, display_id=True)


def progress_text(progress: Progress) -> str:
    """How far a run is, as one line.

    >>> progress_text(Progress(total=2000, already_done=0, done=500, failed=1, costs={"USD": 0.25}, rate=41.2,
    ...     seconds_left=36.4, at_once=24))
    '  501 of 2,000, 1 failed, 41/s with 24 at once, 0.25 USD, 36 s left'
    """
    through = progress.already_done + progress.done + progress.failed
    facts = [f"{through:,}" if progress.total is None else f"{through:,} of {progress.total:,}"]
    if progress.failed:
        facts.append(f"{progress.failed:,} failed")
    if progress.rate:
        rate = f"{progress.rate:.0f}/s" if progress.rate >= 2 else f"{progress.rate * 60:.0f} a minute"
        facts.append(f"{rate} with {progress.at_once} at once")
    facts += [f"{amount_text(amount)} {currency}" for currency, amount in progress.costs.items()]
    if progress.seconds_left is not None:
        facts.append(f"{time_text(progress.seconds_left)} left")
    return "  " + ", ".join(facts)


def amount_text(amount: float) -> str:
    """An amount of money, small ones to the millionth.

    >>> amount_text(2.5), amount_text(0.0123456), amount_text(0.00004)
    ('2.50', '0.012346', '0.000040')
    """
    return f"{amount:.2f}" if amount >= 0.1 else f"{amount:.6f}"


def time_text(seconds: float) -> str:
    """A span of time, as people say it.

    >>> time_text(0.23), time_text(36.4), time_text(600), time_text(9000), time_text(400000)
    ('0.2 s', '36 s', '10 min', '2 h 30 min', '4.6 days')
    """
    if 0 < seconds < 1:
        return f"{seconds:.1g} s"
    if seconds < 90:
        return f"{seconds:.0f} s"
    if seconds < 5400:
        return f"{seconds / 60:.0f} min"
    if seconds < 129600:
        hours, minutes = divmod(round(seconds / 60), 60)
        return f"{hours} h {minutes} min" if minutes else f"{hours} h"
    return f"{seconds / 86400:.1f} days"
