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


def send(this: Try[Any, Any], request: HttpRequest) -> Steps[HttpReply | Failed]:
    """Send one request and get its whole reply, within the deadline."""
    try:
        if this.call.until is None:
            reply: HttpReply = yield Send(request, this.timeouts)
            return reply
        # A reply that trickles in would keep every limit on silence and overrun the deadline.
        opened: OpenReply = yield Open(request, this.timeouts)
        body = yield from receive_rest(this, REPLY_BYTES, whole=True, status=opened.status)
        if isinstance(body, Failed):
            return body
        yield Finish()
        return HttpReply(opened.status, opened.headers, body)
    except TransportFailure as failure:
        return not_received(failure, this, request.url)


def receive_rest(this: Try[Any, Any], limit: int, *, whole: bool = False, status: int = 200) -> Steps[bytes | Failed]:
    """The rest of an opened reply, so many bytes of it at most.

    Args:
        whole: a reply with more of them is of no use.
        status: of the reply; one that refuses does so by its status alone, if its body breaks off.
    """
    pieces: list[bytes] = []
    size = 0
    while size < limit:
        try:
            data: bytes = yield Receive(this.left())
        except TransportFailure as failure:
            body_lost(status, failure)
            break
        if not data:
            break
        if this.late:
            return too_late(this)
        pieces.append(data)
        size += len(data)
    if whole and size >= limit:
        return not_received(TransportFailure("too large", "", began=True), this)
    return b"".join(pieces)


def read(this: Try[Request, Result], reply: HttpReply, url: str = "") -> "AttemptOutcome[Result] | Pending":
    """What a whole reply means.

    Args:
        url: where it came from, if that is not where the request went.
    """
    status, headers = reply.status, reply.headers
    if not 200 <= status < 300:
        from .error_messages import refusal  # only needed once something is wrong

        error = refusal(status, headers, reply.body, this.target, url or this.http.url)
        return Failed(error, began=True, status=status, headers=headers)
    try:
        value = this.operation.decode(reply.body, this.request, this.target)
    except ReplyUnreadable as wrong:
        from .error_messages import unexpected_reply, unreadable

        error = unexpected_reply(status, headers, reply.body, this.target) or unreadable(wrong, this.target, status)
        return Failed(error, began=True, status=status, headers=headers)
    if isinstance(value, Pending):
        return value
    if isinstance(value, Fault):
        from .error_messages import provider_error

        error = provider_error(value, status, headers, this.target)
        return Failed(error, began=True, status=status, headers=headers)
    return Answered(Answer(value, status, headers, reply.body))


def not_received(failure: TransportFailure, this: Try[Any, Any], url: str = "") -> Failed:
    """The failure of a try whose reply did not come.

    Args:
        url: where it was to come from, if that is not where the request went.
    """
    if failure.reason == "timeout" and this.left() <= 0.01:
        return too_late(this)
    from .error_messages import connection_error

    return Failed(connection_error(failure, this.target, url), began=failure.began)


def too_late(this: Try[Any, Any]) -> Failed:
    """The failure of a try whose time is over."""
    deadline = this.call.until
    if deadline is not None and deadline <= this.until:
        return Failed(DeadlineExceeded(DEADLINE), began=True)
    from .error_messages import connection_error

    return Failed(connection_error(TransportFailure("timeout", TOTAL_OVER, "total"), this.target), began=True)
