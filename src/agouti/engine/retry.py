"""Whether a failed try is repeated, and after how long; whether the next model takes over.

A repeat must be safe and able to help. Safe: nothing of the reply had come, or the provider itself said
that it did not do the work. Able to help: the cause may pass. A wait that the provider names wins over ours.
Source of the waits: exponential growth with full jitter, which spreads many clients best.
"""

from collections.abc import Iterator

from ..core.errors import (
    AgoutiError,
    CircuitOpen,
    ConnectionFailed,
    ConnectionLost,
    CredentialError,
    DeadlineExceeded,
    ModelUnknown,
    NoAccess,
    NotRunning,
    OutOfCredit,
    Overloaded,
    ProviderFault,
    RateLimited,
    ReplyUnreadable,
    StreamCut,
    TimedOut,
)
from ..core.retries import Retries


def repeats(error: AgoutiError, *, began: bool) -> bool:
    """Whether repeating can help and is safe.

    Args:
        began: a part of the reply had come.
    """
    match error:
        case RateLimited() | Overloaded() | ProviderFault():
            return True
        case CircuitOpen():
            return False
        case NotRunning():
            return True
        case ConnectionLost():
            return not began
        case TimedOut():
            # Later phases: the provider may be at work on it, and bill for it.
            return error.phase == "connect"
        case _:
            return False


def pause(error: AgoutiError, tries: int, retries: Retries, chance: float) -> float | None:
    """Seconds to wait before the next try; `None`: there is none.

    Args:
        tries: how many repeats there have been.
        chance: a random number from 0 to 1.

    >>> pause(AgoutiError("x"), 1, Retries(base=0.5), 0.5)
    0.5
    >>> pause(AgoutiError("x", wait=40.0), 0, Retries(longest=30), 0.5) is None
    True
    """
    if tries >= retries.most:
        return None
    if error.wait is not None:
        return error.wait if error.wait <= retries.longest else None
    return float(min(retries.longest, retries.base * 2**tries) * chance)


def job_pauses() -> Iterator[float]:
    """Seconds between two looks at work under way: short at first, then ever longer, without end.

    >>> [round(next(pauses), 2) for pauses in [job_pauses()] for _ in range(4)]
    [0.1, 0.15, 0.23, 0.34]
    """
    pause = 0.1
    while True:
        yield pause
        pause = min(pause * 1.5, 5.0)


def falls_back(error: AgoutiError) -> bool:
    """Whether the next model may do what this one could not: not when the request itself is at fault."""
    return isinstance(
        error,
        (
            ConnectionFailed,
            CredentialError,
            NoAccess,
            ModelUnknown,
            OutOfCredit,
            RateLimited,
            Overloaded,
            ProviderFault,
            ReplyUnreadable,
            StreamCut,
        ),
    ) and not isinstance(error, DeadlineExceeded)
