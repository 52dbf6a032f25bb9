"""Forks wait for what they would leave half done in the child."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from threading import Condition

# A fork waits so long at most; something that hangs must not keep it for ever.
_PATIENCE = 2.0


class _Quiet:
    """Counts those in the middle of something."""

    def __init__(self) -> None:
        self.begin()

    def begin(self) -> None:
        """Nobody is."""
        self.condition = Condition()
        self.count = 0

    def before(self) -> None:
        """A fork is about to be made: nobody begins anything from now on."""
        self.condition.acquire()
        self.condition.wait_for(lambda: self.count == 0, _PATIENCE)

    def in_parent(self) -> None:
        """It was made."""
        self.condition.release()


_QUIET = _Quiet()


@contextmanager
def undisturbed() -> Iterator[None]:
    """While the block runs, a fork in another thread waits.

    For libraries that hold locks of their own, such as SQLite for its memory: a child that is forked meanwhile could
    never use them.
    """
    with _QUIET.condition:
        _QUIET.count += 1
    try:
        yield
    finally:
        with _QUIET.condition:
            _QUIET.count -= 1
            if not _QUIET.count:
                _QUIET.condition.notify_all()


if hasattr(os, "register_at_fork"):
    # In the child, those who were in the middle of something are the parent's.
    os.register_at_fork(before=_QUIET.before, after_in_parent=_QUIET.in_parent, after_in_child=_QUIET.begin)
