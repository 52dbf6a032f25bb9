"""The limits of a try: those of the entry, changed by the call, within its deadline."""

from collections.abc import Mapping
from typing import Any, TypeVar

from msgspec.structs import replace

from ...core.http.exchange import Timeouts, TimeoutsWithin
from ...core.settings.retries import Retries
from ..call import Call
from ..providers.provider import Target

Limits = TypeVar("Limits", Retries, Timeouts)


def retries_of(call: Call, target: Target) -> Retries:
    """How often a request is repeated."""
    return _changed(target.provider.retries, call.retries)


def own_timeouts(call: Call, target: Target) -> Timeouts:
    """The time limits of a request, whatever the deadline."""
    return _changed(target.provider.timeouts, call.timeouts)


def _changed(limits: Limits, change: Limits | Mapping[str, Any] | None) -> Limits:
    """The limits of an entry as a call changes them: all of them, or those that it names."""
    if change is None:
        return limits
    return replace(limits, **change) if isinstance(change, Mapping) else change


def timeouts_within(call: Call, target: Target) -> Timeouts:
    """The time limits of a request, none of them beyond the deadline.

    Where another model can take over, the reply must begin in the first half of what is left: otherwise one that is
    silent would leave nothing to the next.
    """
    timeouts = own_timeouts(call, target)
    remaining = call.left()
    if remaining is None:
        return timeouts
    remaining = max(remaining, 0.001)
    share = remaining if target is call.targets[-1] else remaining / 2
    return TimeoutsWithin(
        min(timeouts.connect, share),
        min(timeouts.first_byte, share),
        timeouts.between_chunks,
        timeouts.total,
        share,
    )
