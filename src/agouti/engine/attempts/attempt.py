"""One attempt at one model: hooks, key, request, reply. How it ended is a value; `decide` says what follows."""

import logging
from collections.abc import Mapping
from functools import cache, partial
from math import inf
from typing import TYPE_CHECKING, Generic

from msgspec import Struct
from msgspec.structs import replace

from ...core.attempt import Attempt
from ...core.errors import AgoutiError, CircuitOpen, CredentialRefused, RateLimited
from ...core.http.exchange import HttpRequest
from ...credentials.credential import Credential
from ..call import Call
from ..effects import Drop, RunCallable, Steps
from ..operation import CachedContext, Operation, Try
from ..outcome import Answered, AttemptOutcome, Failed, Request, Result
from ..providers.provider import Target
from .credentials import credential_for, settings_for
from .time_limits import timeouts_within

if TYPE_CHECKING:
    from .hook_calls import Watch

log = logging.getLogger("agouti.exchange")


class Attempted(Struct, Generic[Result], frozen=True, gc=False):
    """An attempt that has ended.

    Attributes:
        outcome: how.
        seconds: how long it took, from the moment when it was sent.
        credential: the key that was sent.
        waited: seconds before it was sent: for limits, for a key.
    """

    outcome: AttemptOutcome[Result]
    seconds: float
    credential: Credential | None = None
    waited: float = 0.0


def attempt(
    call: Call,
    operation: Operation[Request, Result],
    target: Target,
    request: Request,
    before: list[Attempt],
    attempt_headers: Mapping[str, str] | None = None,
) -> Steps[Attempted[Result]]:
    """Ask one model once.

    Args:
        before: the attempts of the call before it.
        attempt_headers: further headers.
    """
    clock = call.clocks.clock
    started_at = clock()
    watch = None
    credential: Credential | None = None
    sent, waited = False, 0.0
    try:
        if call.hooks:
            watch = _watch()(call, operation, target, len(before) + 1, started_at, request)
            if watch.identified:
                # Whose answer a hook has, it can tell only by the key and all that goes with it.
                credential = yield from watch.identify(attempt_headers)
            cached = yield from watch.kept(CachedContext(call, target, before))
            if cached is not None:
                return Attempted(cached, clock() - started_at)
        call.check_time()
        if watch is not None:
            if target.provider.sources:
                yield from settings_for(call, target)
            # What goes out is written before anybody has a say in it.
            if operation.heavy(request):
                yield RunCallable(partial(getattr, watch.outgoing, "body"))
            watch.outgoing.body  # noqa: B018
            yield from watch.admit()
            if watch.scripted:
                sent = True
                outcome = yield from watch.says(CachedContext(call, target, before))
                took = clock() - started_at
                yield from watch.ended(outcome, took)
                return Attempted(outcome, took)
        if operation.sends_key and (credential is None or not credential.fresh(call.clocks.now())):
            credential = yield from credential_for(call, target)
        if watch is not None:
            watch.outgoing.identify(credential, attempt_headers)
            http = watch.outgoing.http(credential, attempt_headers)
            if hook_headers := watch.sends(credential):
                http = replace(http, headers={**hook_headers, **http.headers})
            if (connected := watch.connected) is not None:
                http = replace(http, connected=connected)
        else:
            if target.provider.sources:
                yield from settings_for(call, target)
            if operation.heavy(request):
                written = partial(_written, operation, request, target, credential, attempt_headers)
                http = yield RunCallable(written)
            else:
                http = _written(operation, request, target, credential, attempt_headers)
        timeouts = timeouts_within(call, target)
        attempt_context = Try(
            call=call,
            operation=operation,
            target=target,
            request=request,
            http=http,
            timeouts=timeouts,
            attempts=before,
            until=min(started_at + timeouts.total, call.until or inf),
        )
        sent = True
        waited, started_at = clock() - started_at, clock()
        outcome = yield from operation.receive(attempt_context)
    except AgoutiError as error:
        outcome = Failed(error, started=sent, sent=sent, final=sent)
    took = clock() - started_at
    if isinstance(outcome, Failed):
        target.provider.masker(credential).mask_error(outcome.error)
        if outcome.sent:
            yield Drop()
            end = outcome.error.status or type(outcome.error).__name__
            log.info("%s %s -> %s in %.0f ms", http.method, http.url, end, took * 1e3)
    elif log.isEnabledFor(logging.DEBUG):
        log.debug("%s %s -> %s in %.0f ms", http.method, http.url, outcome.answer.status, took * 1e3)
    if watch is not None:
        yield from watch.ended(outcome, took)
    return Attempted(outcome, took, credential, waited)


def _written(
    operation: Operation[Request, Result],
    request: Request,
    target: Target,
    credential: Credential | None,
    attempt_headers: Mapping[str, str] | None,
) -> HttpRequest:
    """The request as it goes out."""
    return target.provider.request(operation.encode(request, target), target.model.name, credential, attempt_headers)


@cache
def _watch() -> "type[Watch]":
    """What tells hooks; few calls have any, and the others do not wait for it to be loaded."""
    from .hook_calls import Watch

    return Watch


def circuit_open(target: Target, seconds: float) -> CircuitOpen:
    """The error for a model that is left alone for a while."""
    return CircuitOpen(
        f"{target.provider.label} failed again and again with {target.model.name or 'this'}; "
        f"it is left alone for {seconds:.0f} s more",
        hint="See what is wrong with: agouti check; or name a fallback model in the entry.",
        wait=seconds,
    )


# A key that the provider wants no more of, without saying for how long.
_REST_SECONDS = 1.0
_DAY = 86400.0


def learn(attempted: Attempted[Result], target: Target, now: float) -> bool:
    """Keep in mind what an attempt has shown of key and provider; whether another key is worth an attempt.

    Args:
        now: seconds since the epoch.
    """
    provider, outcome = target.provider, attempted.outcome
    if isinstance(outcome, Answered):
        if outcome.answer.cached:  # tells nothing of the provider
            return False
        provider.answered = True
        if attempted.credential is not None:
            provider.keys.succeeded(attempted.credential)
        return False
    if isinstance(outcome.error, RateLimited) and outcome.sent and attempted.credential is not None:
        wait = outcome.error.wait
        until = now + (_REST_SECONDS if wait is None else min(max(wait, 0.0), _DAY))
        return provider.keys.limited(attempted.credential, until) and provider.keys.free(now) > 0
    refused = isinstance(outcome.error, CredentialRefused) and outcome.sent
    if refused and provider.sources:
        provider.sources.refused()
    if refused and attempted.credential is not None:
        return provider.keys.refused(attempted.credential)
    return False
