"""The secrets of a request: at hand, or fetched from where they live. What many calls want at once is fetched once."""

from copy import copy

from ...core.errors import AgoutiError, CredentialRefused, Overloaded, RateLimited
from ...core.http.exchange import TransportFailure
from ...credentials.credential import Credential
from ...credentials.fetch import quick
from ...credentials.sources import Key
from ..call import Call
from ..effects import FetchKey, Sleep, Steps, WaitFor, attempted
from ..providers.provider import Target
from .decide import pause
from .time_limits import retries_of, timeouts_within


def credential_for(call: Call, target: Target) -> Steps[Credential | None]:
    """The key to send, fetched where it is not at hand; `None` where the entry names none.

    Raises:
        CredentialError: it cannot be had.
    """
    keys = target.provider.keys
    if keys.none:
        return None
    current = keys.next(call.clocks.now())
    if isinstance(current, Credential):
        return current
    credential = yield from _fetched(current, call, target)
    keys.store(current, credential)
    return credential


def settings_for(call: Call, target: Target) -> Steps[None]:
    """Fetch what the entry's headers, query, values and fields name a place for, where it is not at hand.

    Raises:
        CredentialError: it cannot be had.
    """
    provider = target.provider
    for source in provider.sources.missing(call.clocks.now()):
        provider.store(source, (yield from _fetched(source, call, target)))


def _fetched(key: Key, call: Call, target: Target) -> Steps[Credential]:
    if quick(key):
        return (yield from _fetch(key, call, target))
    single_flight = target.provider.single_flight
    while True:
        flight, is_own = single_flight.joined(key)
        if is_own:
            try:
                flight.outcome = yield from _fetch(key, call, target)
            except AgoutiError as error:
                flight.outcome = error
                raise
            finally:
                single_flight.over(key, flight)
        else:
            yield WaitFor(flight.landed, call.left())
        outcome = flight.outcome
        if isinstance(outcome, Credential):
            return outcome
        if outcome is not None:
            raise copy(outcome)  # each call adds its own attempts to it
        call.check_time()


def _fetch(key: Key, call: Call, target: Target) -> Steps[Credential]:
    """Fetch a secret; what cannot be had just now is asked for again, as often as a request is."""
    retries, repeats = retries_of(call, target), 0
    while True:
        outcome = yield from attempted(_fetch_once(key, call, target), AgoutiError)
        if isinstance(outcome, Credential):
            return outcome
        wait = pause(outcome, repeats, retries, call.clocks.chance()) if isinstance(outcome, _MAY_PASS) else None
        remaining = call.left()
        if wait is None or (remaining is not None and remaining <= wait):
            raise outcome
        repeats += 1
        yield Sleep(wait)


_MAY_PASS = (RateLimited, Overloaded)


def _fetch_once(key: Key, call: Call, target: Target) -> Steps[Credential]:
    try:
        credential: Credential = yield FetchKey(key, timeouts_within(call, target))
    except TransportFailure as failure:
        error = CredentialRefused(
            f"no token: its token endpoint cannot be reached ({failure.detail})",
            hint="Check token_address in the entry's key, and the network.",
            retryable=True,
        )
    else:
        return credential
    # Behind the handler, so that the failure, which holds the request, is no part of it.
    raise error
