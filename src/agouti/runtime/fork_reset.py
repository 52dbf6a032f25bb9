"""What a forked process must not share with its parent: connections, locks that another thread held."""

import os
from typing import Protocol
from weakref import WeakSet


class Forgetful(Protocol):
    """Something that begins anew in a child process."""

    def after_fork(self) -> None:
        """This is a child: forget what is the parent's, without telling anybody."""


_ALIVE: "WeakSet[Forgetful]" = WeakSet()


def reset_after_fork(thing: Forgetful) -> None:
    """From now on `after_fork` of a thing is called in every child process."""
    _ALIVE.add(thing)


def _in_child() -> None:
    for thing in list(_ALIVE):
        thing.after_fork()


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_in_child)
