"""Jobs: a reply that is still to come is asked for at the addresses that the provider named."""

from typing import Any

from ...core.http.exchange import HttpReply
from ...dialects.wire import Pending
from ..attempts.credentials import credential_for
from ..attempts.decide import job_pauses
from ..attempts.time_limits import retries_of
from ..effects import Drop, OnAbandon, Settled, Sleep, Steps
from ..operation import Try
from ..outcome import AttemptOutcome, Failed, Request, Result
from .error_messages import refusal
from .one_request import read, send, too_late


def poll_until_done(
    context: Try[Request, Result], pending: Pending, cancel: OnAbandon | None = None
) -> Steps[AttemptOutcome[Result]]:
    """Ask again and again until the work is done. Whoever gives up meanwhile cancels it.

    Args:
        cancel: what cancels it, where that is arranged already.
    """
    if cancel is None:
        cancel = yield from cancel_on_abandon(context, pending)
    for wait in job_pauses():
        if context.left() <= wait:
            return too_late(context)
        yield Sleep(wait)
        reply = yield from _poll(context, pending.poll)
        outcome = reply if isinstance(reply, Failed) else read(context, reply, pending.poll)
        if not isinstance(outcome, Pending):
            if cancel is not None and not isinstance(reply, Failed):
                yield Settled(cancel)
            return outcome
    raise AssertionError("the pauses do not end")


def cancel_on_abandon(context: Try[Any, Any], pending: Pending) -> Steps[OnAbandon | None]:
    """Arrange that the work is cancelled when the call is given up; `None` where it cannot be."""
    if not pending.cancel:
        return None
    key = yield from credential_for(context.call, context.target)
    cancel = OnAbandon(context.target.provider.request_at(pending.cancel, "POST", "application/json", key))
    yield cancel
    return cancel


def _poll(context: Try[Any, Any], address: str) -> Steps[HttpReply | Failed]:
    """What an address says of work under way: a hiccup there must not cost the work, which is paid for."""
    hiccups = 0
    while True:
        key = yield from credential_for(context.call, context.target)
        reply = yield from send(context, context.target.provider.request_at(address, "GET", "application/json", key))
        if isinstance(reply, Failed):
            error, passes = reply.error, not context.is_late
        elif 200 <= reply.status < 300:
            return reply
        else:
            error = refusal(reply.status, reply.headers, reply.body, context.target, address)
            passes = reply.status in (408, 429) or reply.status >= 500
        hiccups += 1
        if not passes or hiccups > retries_of(context.call, context.target).max:
            # Sending the whole request again would start the work a second time, and pay for it.
            return Failed(error.with_context(retryable=False), started=True, final=True)
        yield Drop()
        yield Sleep(min(hiccups, max(context.left(), 0.0)))
