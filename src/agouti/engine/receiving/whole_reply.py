"""Send one request and receive its whole reply: one try, without retry or fallback."""

from ...dialects.wire import Pending
from ..effects import Steps
from ..operation import Operation, Try
from ..outcome import AttemptOutcome, Failed, Request, Result
from .one_request import read, send


class WholeReply(Operation[Request, Result]):
    """An operation whose reply is received whole."""

    def receive(self, context: Try[Request, Result]) -> Steps[AttemptOutcome[Result]]:
        return receive_whole(context)


def receive_whole(context: Try[Request, Result]) -> Steps[AttemptOutcome[Result]]:
    """The whole reply, where the provider has it ready or will tell about it elsewhere."""
    reply = yield from send(context, context.http)
    outcome = reply if isinstance(reply, Failed) else read(context, reply)
    if isinstance(outcome, Pending):
        # Few providers have jobs: the others do not wait for it to be loaded.
        from .polling import poll_until_done

        outcome = yield from poll_until_done(context, outcome)
    return outcome
