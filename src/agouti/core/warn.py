"""Warnings that point at the caller's own line, wherever in the library they are given."""

import sys
import warnings

from .errors import AgoutiWarning

_PACKAGE = __name__.partition(".")[0]


def warn(message: str) -> None:
    """Warn, as from the nearest line outside of the library.

    ``skip_file_prefixes`` of the standard library does the same, from Python 3.12.
    """
    level, frame = 1, sys._getframe()
    while frame.f_back is not None and frame.f_globals.get("__name__", "").partition(".")[0] == _PACKAGE:
        level, frame = level + 1, frame.f_back
    warnings.warn(message, AgoutiWarning, stacklevel=level)
