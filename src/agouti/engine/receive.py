"""Send one request and receive its whole reply: one try, without retry or fallback."""

from typing import TYPE_CHECKING, Any, Generic

from msgspec import Struct

from ..core.errors import DeadlineExceeded, ReplyUnreadable
from ..core.http import REPLY_BYTES, TOTAL_OVER, HttpReply, HttpRequest, Timeouts, TransportFailure
from ..credentials.credential import Credential
from ..dialects.base import Fault, Pending
from ..reply import Attempt
from .call import DEADLINE, Call
from .credentials import credential_for
from .driving import body_lost
from .effects import Finish, Open, OpenReply, Receive, Send, Steps
from .outcome import Answer, Answered, AttemptOutcome, Failed, Request, Result
from .provider import Target

if TYPE_CHECKING:
    from .operation import Operation

# An error of more than this is no error message; a reply of more than that is no reply.
ERROR_BYTES = 1_000_000


class Kept(Struct, frozen=True, gc=False):
    """What an answer that a hook has is received for.

    Attributes:
        attempts: those before it.
    """

    call: Call
    target: Target
    attempts: list[Attempt]


class Try(Struct, Generic[Request, Result], frozen=True, gc=False, kw_only=True):
    """One try: the request as it is sent, and how long it may take.

    Attributes:
        request: what the operation asks.
        http: the same as it is sent.
        timeouts: those of the provider, within the deadline.
        attempts: those before it.
        until: when it must have ended, by the call's clock.
    """

    call: Call
    operation: "Operation[Request, Result]"
    target: Target
    request: Request
    http: HttpRequest
    timeouts: Timeouts
    attempts: list[Attempt]
    until: float

    def credential(self) -> Steps[Credential | None]:
        """The key for a further request of the same try."""
        return credential_for(self.call, self.target)

    @property
    def late(self) -> bool:
        """Whether its time is over."""
        return self.call.clocks.clock() >= self.until

    def left(self) -> float:
        """Seconds that it may still take."""
        return self.until - self.call.clocks.clock()


def receive_whole(this: Try[Request, Result]) -> Steps[AttemptOutcome[Result]]:
    """The whole reply, where the provider has it ready or will tell about it elsewhere."""
    reply = yield from send(this, this.http)
    outcome = reply if isinstance(reply, Failed) else read(this, reply)
    if isinstance(outcome, Pending):
        from .polling import poll_until_done

        outcome = yield from poll_until_done(this, outcome)
    return outcome


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
        from .errors_from import refusal  # only needed once something is wrong

        error = refusal(status, headers, reply.body, this.target, url or this.http.url)
        return Failed(error, began=True, status=status, headers=headers)
    try:
        value = this.operation.decode(reply.body, this.request, this.target)
    except ReplyUnreadable as wrong:
        from .errors_from import unexpected_reply, unreadable

        error = unexpected_reply(status, headers, reply.body, this.target) or unreadable(wrong, this.target, status)
        return Failed(error, began=True, status=status, headers=headers)
    if isinstance(value, Pending):
        return value
    if isinstance(value, Fault):
        from .errors_from import provider_error

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
    from .errors_from import connection_error

    return Failed(connection_error(failure, this.target, url), began=failure.began)


def too_late(this: Try[Any, Any]) -> Failed:
    """The failure of a try whose time is over."""
    deadline = this.call.until
    if deadline is not None and deadline <= this.until:
        return Failed(DeadlineExceeded(DEADLINE), began=True)
    from .errors_from import connection_error

    return Failed(connection_error(TransportFailure("timeout", TOTAL_OVER, "total"), this.target), began=True)
