"""The key of a request: at hand, or fetched from where it lives."""

from ..core.errors import CredentialRefused
from ..core.http import Timeouts, TimeoutsWithin, TransportFailure
from ..credentials.credential import Credential
from .call import Call
from .effects import FetchKey, Steps
from .provider import Target


def credential_for(call: Call, target: Target) -> Steps[Credential | None]:
    """The key to send, fetched where it is not at hand; `None` where the entry names none.

    Raises:
        CredentialError: it cannot be had.
    """
    keys = target.provider.keys
    if keys.none:
        return None
    held = keys.next(call.clocks.now())
    if isinstance(held, Credential):
        return held
    try:
        credential: Credential = yield FetchKey(held, timeouts_within(call, target))
    except TransportFailure as failure:
        error = CredentialRefused(
            f"no token: its token endpoint cannot be reached ({failure.detail})",
            hint="Check token_address in the entry's key, and the network.",
            retryable=True,
        )
    else:
        keys.got(held, credential)
        return credential
    # Behind the handler, so that the failure, which holds the request, is no part of it.
    raise error


def timeouts_within(call: Call, target: Target) -> Timeouts:
    """The time limits of a request: those of the call or the provider, none of them beyond the deadline."""
    timeouts = call.timeouts or target.provider.timeouts
    left = call.left()
    if left is None:
        return timeouts
    left = max(left, 0.001)
    return TimeoutsWithin(min(timeouts.connect, left), min(timeouts.first_byte, left), timeouts.between_chunks, left)
