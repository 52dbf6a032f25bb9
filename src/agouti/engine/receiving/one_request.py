"""One request: sent, received whole, and what the reply means."""

from typing import Any

from ...core.errors import DeadlineExceeded, ReplyUnreadable
from ...core.http.exchange import REPLY_BYTES, TOTAL_OVER, HttpReply, HttpRequest, TransportFailure
from ...dialects.wire import Fault, Pending
from ..call import DEADLINE
from ..drivers.base import body_lost
from ..effects import Finish, Open, OpenReply, Receive, Send, Steps
from ..operation import Try
from ..outcome import Answer, Answered, AttemptOutcome, Failed, Request, Result

# An error of more than this is no error message; a reply of more than that is no reply.
ERROR_BYTES = 1_000_000


def send(context: Try[Any, Any], request: HttpRequest) -> Steps[HttpReply | Failed]:
    """Send one request and get its whole reply, within the deadline."""
    try:
        if context.call.until is None:
            reply: HttpReply = yield Send(request, context.timeouts)
            return reply
        # A reply that trickles in would keep every limit on silence and overrun the deadline.
        opened: OpenReply = yield Open(request, context.timeouts)
        body = yield from receive_rest(context, REPLY_BYTES, must_fit=True, status=opened.status)
        if isinstance(body, Failed):
            return body
        yield Finish()
        return HttpReply(opened.status, opened.headers, body)
    except TransportFailure as failure:
        return not_received(failure, context, request.url)


def receive_rest(
    context: Try[Any, Any], limit: int, *, must_fit: bool = False, status: int = 200
) -> Steps[bytes | Failed]:
    """The rest of an opened reply, so many bytes of it at most.

    Args:
        must_fit: a reply with more of them is of no use.
        status: of the reply; one that refuses does so by its status alone, if its body breaks off.
    """
    chunks: list[bytes] = []
    size = 0
    while size < limit:
        try:
            data: bytes = yield Receive(context.left())
        except TransportFailure as failure:
            body_lost(status, failure)
            break
        if not data:
            break
        if context.is_late:
            return too_late(context)
        chunks.append(data)
        size += len(data)
    if must_fit and size >= limit:
        return not_received(TransportFailure("too large", "", began=True), context)
    return b"".join(chunks)


def read(context: Try[Request, Result], reply: HttpReply, url: str = "") -> "AttemptOutcome[Result] | Pending":
    """What a whole reply means.

    Args:
        url: where it came from, if that is not where the request went.
    """
    status, headers = reply.status, reply.headers
    if not 200 <= status < 300:
        from .error_messages import refusal  # only needed once something is wrong

        error = refusal(status, headers, reply.body, context.target, url or context.http.url)
        return Failed(error, started=True, status=status, headers=headers)
    try:
        value = context.operation.decode(reply.body, context.request, context.target)
    except ReplyUnreadable as unexpected:
        from .error_messages import unexpected_reply, unreadable

        error = unexpected_reply(status, headers, reply.body, context.target) or unreadable(
            unexpected, context.target, status
        )
        return Failed(error, started=True, status=status, headers=headers)
    if isinstance(value, Pending):
        return value
    if isinstance(value, Fault):
        from .error_messages import provider_error

        error = provider_error(value, status, headers, context.target)
        return Failed(error, started=True, status=status, headers=headers)
    return Answered(Answer(value, status, headers, reply.body))


def not_received(failure: TransportFailure, context: Try[Any, Any], url: str = "") -> Failed:
    """The failure of a try whose reply did not come.

    Args:
        url: where it was to come from, if that is not where the request went.
    """
    if failure.reason == "timeout" and context.left() <= 0.01:
        return too_late(context)
    from .error_messages import connection_error

    return Failed(connection_error(failure, context.target, url), started=failure.began)


def too_late(context: Try[Any, Any]) -> Failed:
    """The failure of a try whose time is over."""
    deadline = context.call.until
    if deadline is not None and deadline <= context.until:
        return Failed(DeadlineExceeded(DEADLINE), started=True)
    from .error_messages import connection_error

    return Failed(connection_error(TransportFailure("timeout", TOTAL_OVER, "total"), context.target), started=True)
