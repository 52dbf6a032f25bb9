"""Retry and fallback: what follows from an attempt, as a pure function over the table of `error_policy`.

Source of the waits: exponential growth with full jitter, which spreads many clients best. A wait that the provider
names wins over ours.
"""

from collections.abc import Iterator
from typing import Generic, TypeAlias

from msgspec import Struct

from ...core.errors import AgoutiError, ConnectionLost, TimedOut
from ...core.settings.retries import Retries
from ..outcome import Answer, Answered, AttemptOutcome, Failed, Request, Result
from .error_policy import Repeat, lets_next, policy_of

# Seconds within which a server closes a connection that it had meant to close anyway.
_SOON_SECONDS = 1.0


class Situation(Struct, Generic[Request], frozen=True, kw_only=True):
    """What else is known when an attempt has ended.

    Attributes:
        request: what was sent.
        repeats: how many repeats of the policy's own there have been at this model.
        retries: how many there may be, and how long the waits.
        was_reused: the connection may have been a kept one, which the server closed just then.
        seconds: how long the attempt took.
        other_key: another key, or the same one fetched anew, may be taken instead of a refused one.
        reduced: the request without the parameter that was refused, where the entry allows that.
        next_model: whether there is a model that could take over.
        chance: a random number from 0 to 1.
        left: seconds to the deadline; `None`: there is none.
        waits: whether what passes is waited for here; whoever asks does it otherwise.
    """

    request: Request
    repeats: int = 0
    retries: Retries = Retries()
    was_reused: bool = False
    seconds: float = 0.0
    other_key: bool = False
    reduced: Request | None = None
    next_model: bool = False
    chance: float = 1.0
    left: float | None = None
    waits: bool = True


class Done(Struct, Generic[Result], frozen=True, gc=False):
    """It was answered."""

    answer: Answer[Result]


class Retry(Struct, Generic[Request], frozen=True):
    """The same model is asked again.

    Attributes:
        wait: seconds to wait before.
        request: what is sent then.
        why: ``kept connection``, ``other key``, ``reduced`` or ``policy``.
    """

    wait: float
    request: Request
    why: str


class NextModel(Struct, frozen=True):
    """The next model takes over."""

    error: AgoutiError


class GiveUp(Struct, frozen=True):
    """The call ends in this error."""

    error: AgoutiError


Decision: TypeAlias = Done[Result] | Retry[Request] | NextModel | GiveUp


def decide(outcome: AttemptOutcome[Result], situation: Situation[Request]) -> Decision[Result, Request]:
    """What follows from an attempt.

    >>> from agouti.core.errors import Overloaded, RequestRefused
    >>> decide(Failed(Overloaded("busy")), Situation(request="Q", retries=Retries(base=0.5)))
    Retry(wait=0.5, request='Q', why='policy')
    >>> type(decide(Failed(RequestRefused("no")), Situation(request="Q", next_model=True))).__name__
    'GiveUp'
    """
    if isinstance(outcome, Answered):
        return Done(outcome.answer)
    error = outcome.error
    if error.partial is not None:
        # Pieces of the answer have reached the caller: another one cannot take them back.
        return GiveUp(error)
    delay = None if outcome.final or not outcome.sent else _retry(outcome, situation)
    if delay is not None and (situation.left is None or delay.wait < situation.left):
        return delay
    if situation.next_model and lets_next(error):
        return NextModel(error)
    return GiveUp(error)


def _retry(failed: Failed, situation: Situation[Request]) -> Retry[Request] | None:
    error = failed.error
    is_soon = situation.seconds < _SOON_SECONDS and situation.retries.max > 0
    if isinstance(error, ConnectionLost) and not failed.started and situation.was_reused and is_soon:
        # A server may close a kept connection at the moment when it is used again: that says nothing about the
        # request. Both HTTP libraries look before use, so once is enough. One that takes its time has begun to work.
        return Retry(0.0, situation.request, "kept connection")
    if situation.other_key:
        return Retry(0.0, situation.request, "other key")
    if situation.reduced is not None:
        return Retry(0.0, situation.reduced, "reduced")
    if not repeats(error, started=failed.started, after_sending=situation.retries.after_sending):
        return None
    if not situation.waits and policy_of(type(error)).repeat is Repeat.ALWAYS:
        return None
    wait = pause(error, situation.repeats, situation.retries, situation.chance)
    return None if wait is None else Retry(wait, situation.request, "policy")


def repeats(error: AgoutiError, *, started: bool, after_sending: bool = False) -> bool:
    """Whether repeating the same request can help and is safe.

    Args:
        started: a part of the reply had come.
        after_sending: it is safe enough although the request had gone out whole.
    """
    match policy_of(type(error)).repeat:
        case Repeat.ALWAYS:
            return True
        case Repeat.UNANSWERED:
            sent = isinstance(error, ConnectionLost) and error.sent
            return not started and (after_sending or not sent)
        case Repeat.CONNECTING:
            # Later phases: the provider may be at work on it, and bill for it.
            return isinstance(error, TimedOut) and error.phase == "connect"
        case Repeat.NEVER:
            return False


def pause(error: AgoutiError, repeats: int, retries: Retries, chance: float) -> float | None:
    """Seconds to wait before the next attempt; `None`: there is none.

    Args:
        repeats: how many there have been.
        chance: a random number from 0 to 1.

    >>> pause(AgoutiError("x"), 1, Retries(base=0.5), 0.5)
    0.5
    >>> pause(AgoutiError("x", wait=40.0), 0, Retries(max_wait=30), 0.5) is None
    True
    """
    if repeats >= retries.max:
        return None
    if error.wait is not None:
        # Those who were sent away together must not come back together.
        return error.wait + chance * min(error.wait / 10, 1.0) if error.wait <= retries.max_wait else None
    return float(min(retries.max_wait, retries.base * 2**repeats) * chance)


def job_pauses() -> Iterator[float]:
    """Seconds between two looks at work under way: short at first, then ever longer, without end.

    >>> [round(next(pauses), 2) for pauses in [job_pauses()] for _ in range(4)]
    [0.1, 0.15, 0.23, 0.34]
    """
    pause = 0.1
    while True:
        yield pause
        pause = min(pause * 1.5, 5.0)
