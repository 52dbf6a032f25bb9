"""Send one request and receive its reply, whole or as a stream: one try, without retry or fallback."""

from collections.abc import Callable, Mapping
from typing import TypeAlias

from msgspec import Struct

from ..core.chat import Completion
from ..core.errors import AgoutiError, DeadlineExceeded, ReplyUnreadable, StreamCut
from ..core.http import HttpReply, HttpRequest, Timeouts
from ..dialects.base import Fault
from ..transport.base import TransportFailure
from .effects import Drop, Emit, Finish, Open, OpenReply, Receive, Send, Steps
from .gather import Gathering, as_events
from .target import Clock, Target
from .trouble import connection_error, missing_path, provider_error, unexpected_reply, unreadable

# An error of more than this is no error message; a reply of more than that is no reply.
_ERROR_BYTES = 1_000_000
_REPLY_BYTES = 1024 * 1024 * 1024


class Try(Struct, frozen=True, gc=False):
    """One try: the request as it is sent, and how long it may take.

    Attributes:
        until: when the whole call must have ended, by ``clock``; `None`: no deadline.
    """

    target: Target
    request: HttpRequest
    clock: Clock
    timeouts: Timeouts
    until: float | None = None

    def left(self) -> float | None:
        """Seconds to the deadline; `None`: there is none."""
        return None if self.until is None else self.until - self.clock()

    def check(self) -> None:
        """Raise when the deadline has passed."""
        if self.until is not None and self.clock() >= self.until:
            raise DeadlineExceeded("the call took longer than its deadline")


class Answer(Struct, frozen=True, gc=False):
    """What one try ended with."""

    completion: Completion
    status: int
    body: bytes = b""


class Failed(Exception):
    """A try failed: the error, and whether a part of the reply had come."""

    def __init__(self, error: AgoutiError, *, began: bool = False) -> None:
        super().__init__(error.what)
        self.error = error
        self.began = began


Receiver: TypeAlias = Callable[[Try], Steps[Answer]]


def whole(this: Try) -> Steps[Answer]:
    """The whole reply.

    Raises:
        Failed: there is no usable one.
    """
    try:
        reply: HttpReply
        if this.until is None:
            reply = yield Send(this.request, this.timeouts)
        else:
            # A reply that trickles in would keep every limit on silence and overrun the deadline.
            opened: OpenReply = yield Open(this.request, this.timeouts)
            reply = HttpReply(opened.status, opened.headers, (yield from _rest(this, _REPLY_BYTES)))
            yield Finish()
    except TransportFailure as failure:
        failed = _not_received(failure, this)
    except DeadlineExceeded as late:
        failed = Failed(late, began=True)
    else:
        if 200 <= reply.status < 300:
            return Answer(_completion(this.target, reply.status, reply.headers, reply.body), reply.status, reply.body)
        failed = Failed(refusal(reply.status, reply.headers, reply.body, this.target, this.request.url), began=True)
    raise failed


def streamed(so_far: Gathering) -> Receiver:
    """A receiver that emits events as they come, and gathers them."""

    def receive(this: Try) -> Steps[Answer]:
        try:
            reply: OpenReply = yield Open(this.request, this.timeouts)
            so_far.status = reply.status
            return (yield from _events(this, reply, so_far))
        except TransportFailure as failure:
            failed = _not_received(failure, this)
        except DeadlineExceeded as late:
            failed = Failed(late, began=True)
        if so_far.began:
            if isinstance(failed.error, DeadlineExceeded):
                failed.error.partial = so_far.reply(this.clock())
            else:
                failed = Failed(_cut(so_far, failed.error.what, failed.error), began=True)
        raise failed

    return receive


def _events(this: Try, reply: OpenReply, so_far: Gathering) -> Steps[Answer]:
    target, status = this.target, reply.status
    if not 200 <= status < 300:
        body = yield from _rest(this, _ERROR_BYTES)
        yield Drop()
        raise Failed(refusal(status, reply.headers, body, target, this.request.url), began=True)
    if reply.headers.get("content-type", "").partition(";")[0].strip().lower() == "application/json":
        # Some servers pass over the wish for a stream and send the whole reply at once.
        body = yield from _rest(this, _REPLY_BYTES)
        events = as_events(_completion(target, status, reply.headers, body))
        so_far.take(events, this.clock)
        yield Emit(events)
        yield Finish()
        return Answer(so_far.completion(), status)
    decoder = target.endpoint.dialect.stream_decoder()
    first = True
    until = this.until
    while not decoder.done:
        data: bytes = yield Receive(this.left()) if until is not None else _RECEIVE
        if not data:
            break
        if until is not None:
            this.check()
        if first:
            first = False
            if wrong := unexpected_reply(status, reply.headers, data, target):
                raise Failed(wrong, began=True)
        events = decoder.feed(data)
        if events:
            so_far.take(events, this.clock)
            yield Emit(events)
        if decoder.failure is not None:
            raise Failed(_reported(decoder.failure, reply, so_far, this), began=True)
    if not decoder.end():
        raise Failed(_cut(so_far, "the connection was closed before the end of the reply"), began=True)
    yield Finish()
    return Answer(so_far.completion(), status)


_RECEIVE = Receive()


def _rest(this: Try, most: int) -> Steps[bytes]:
    pieces: list[bytes] = []
    size = 0
    while size < most:
        data: bytes = yield Receive(this.left())
        if not data:
            break
        this.check()
        pieces.append(data)
        size += len(data)
    return b"".join(pieces)


def _completion(target: Target, status: int, headers: Mapping[str, str], body: bytes) -> Completion:
    try:
        completion = target.endpoint.dialect.decode_chat(body)
    except ReplyUnreadable as wrong:
        error = unexpected_reply(status, headers, body, target) or unreadable(wrong, target, status)
        raise Failed(error, began=True) from None
    if isinstance(completion, Fault):
        raise Failed(provider_error(completion, status, headers, target), began=True)
    return completion


def _not_received(failure: TransportFailure, this: Try) -> Failed:
    left = this.left()
    if failure.reason == "timeout" and left is not None and left <= 0.01:
        return Failed(DeadlineExceeded("the call took longer than its deadline"), began=True)
    return Failed(connection_error(failure, this.target), began=failure.began)


def refusal(status: int, headers: Mapping[str, str], body: bytes, target: Target, url: str) -> AgoutiError:
    """The error for a reply whose status says that something is wrong."""
    wrong = unexpected_reply(status, headers, body, target)
    if wrong is not None:
        return wrong
    fault = target.endpoint.dialect.classify(status, headers, body)
    return missing_path(status, fault, target, url) or provider_error(fault, status, headers, target)


def _reported(fault: Fault, reply: OpenReply, so_far: Gathering, this: Try) -> AgoutiError:
    error = provider_error(fault, None, reply.headers, this.target)
    if so_far.began:
        error.partial = so_far.reply(this.clock())
    return error


def _cut(so_far: Gathering, why: str, error: AgoutiError | None = None) -> StreamCut:
    partial = so_far.reply(None)
    cut = StreamCut(
        f"the stream from {partial.provider} was cut off after {len(partial.text)} characters: {why}",
        provider=partial.provider,
        model=partial.label,
        partial=partial,
    )
    if error is not None:
        cut.status = error.status
    return cut
