"""The limits of a try: those of the entry, changed by the call, within its deadline."""

from collections.abc import Mapping

from msgspec.structs import replace

from ...core.http.exchange import Timeouts, TimeoutsWithin
from ...core.settings.retries import Retries
from ..call import Call
from ..providers.provider import Target


def retries_of(call: Call, target: Target) -> Retries:
    """How often a request is repeated."""
    call_limits, provider_limits = call.retries, target.provider.retries
    return (
        provider_limits
        if call_limits is None
        else replace(provider_limits, **call_limits)
        if isinstance(call_limits, Mapping)
        else call_limits
    )


def own_timeouts(call: Call, target: Target) -> Timeouts:
    """The time limits of a request, whatever the deadline."""
    call_limits, provider_limits = call.timeouts, target.provider.timeouts
    return (
        provider_limits
        if call_limits is None
        else replace(provider_limits, **call_limits)
        if isinstance(call_limits, Mapping)
        else call_limits
    )


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
