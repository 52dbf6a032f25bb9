"""Send one request and receive its reply, whole or as a stream: one try, without retry or fallback."""

from collections.abc import Callable, Mapping
from typing import TypeAlias

import msgspec
from msgspec import Struct

from ..core.chat import Completion
from ..core.errors import AgoutiError, DeadlineExceeded, ReplyUnreadable, StreamCut
from ..core.events import Event, Finished, Reasoning, Text
from ..core.http import HttpReply, HttpRequest, Timeouts
from ..credentials.credential import Credential
from ..dialects.base import Fault, JsonStreamDecoder, Pending, VerbatimDecoder
from ..transport.base import TransportFailure
from .effects import Drop, Emit, Finish, Open, OpenReply, Parting, Receive, Send, Sleep, Steps
from .gather import Gathering, as_events
from .retry import job_pauses
from .target import Clock, Target
from .trouble import connection_error, missing_path, provider_error, unexpected_reply, unreadable

# An error of more than this is no error message; a reply of more than that is no reply.
_ERROR_BYTES = 1_000_000
_REPLY_BYTES = 1024 * 1024 * 1024


def no_credential() -> Steps[Credential | None]:
    """For a provider without key."""
    yield from ()
    return None


class Try(Struct, frozen=True, gc=False):
    """One try: the request as it is sent, and how long it may take.

    Attributes:
        until: when the whole call must have ended, by ``clock``; `None`: no deadline.
        credential: gets the key for a further request of the same try.
        cap: the most tokens that were asked for.
    """

    target: Target
    request: HttpRequest
    clock: Clock
    timeouts: Timeouts
    until: float | None = None
    credential: Callable[[], Steps[Credential | None]] = no_credential
    cap: int | None = None

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
    """A try failed: the error, whether a part of the reply had come, and whether work under way forbids another."""

    def __init__(self, error: AgoutiError, *, began: bool = False, once: bool = False) -> None:
        super().__init__(error.what)
        self.error = error
        self.began = began
        self.once = once


Receiver: TypeAlias = Callable[[Try], Steps[Answer]]


def whole(this: Try) -> Steps[Answer]:
    """The whole reply.

    Raises:
        Failed: there is no usable one.
    """
    try:
        reply = yield from sent(this, this.request)
    except TransportFailure as failure:
        failed = not_received(failure, this)
    except DeadlineExceeded as late:
        failed = Failed(late, began=True)
    else:
        if 200 <= reply.status < 300:
            found = _decoded(this, reply.status, reply.headers, reply.body)
            if isinstance(found, Pending):
                return (yield from awaited(this, found))
            return Answer(found, reply.status, reply.body)
        failed = Failed(refusal(reply.status, reply.headers, reply.body, this.target, this.request.url), began=True)
    raise failed


def sent(this: Try, request: HttpRequest) -> Steps[HttpReply]:
    """Send one request and get its whole reply, within the deadline.

    Raises:
        TransportFailure: there is none.
        DeadlineExceeded: it did not come in time.
    """
    if this.until is None:
        reply: HttpReply = yield Send(request, this.timeouts)
        return reply
    # A reply that trickles in would keep every limit on silence and overrun the deadline.
    opened: OpenReply = yield Open(request, this.timeouts)
    reply = HttpReply(opened.status, opened.headers, (yield from _rest(this, _REPLY_BYTES)))
    yield Finish()
    return reply


def awaited(this: Try, pending: Pending) -> Steps[Answer]:
    """Ask again and again until the work is done. Whoever gives up meanwhile cancels it.

    Raises:
        Failed: it failed, or nothing could be learned about it.
    """
    yield from _cancel_on_exit(this, pending)
    for wait in job_pauses():
        left = this.left()
        if left is not None and left <= wait:
            raise Failed(DeadlineExceeded("the call took longer than its deadline"), began=True)
        yield Sleep(wait)
        reply = yield from _told(this, pending.poll)
        found = _decoded(this, reply.status, reply.headers, reply.body)
        if not isinstance(found, Pending):
            yield Parting(None)
            return Answer(found, reply.status, reply.body)
    raise AssertionError("the pauses do not end")


def _cancel_on_exit(this: Try, pending: Pending) -> Steps[None]:
    if pending.cancel:
        key = yield from this.credential()
        yield Parting(this.target.endpoint.request_at(pending.cancel, "POST", "application/json", key))


def _told(this: Try, address: str) -> Steps[HttpReply]:
    """What an address says of work under way: a hiccup there must not cost the work, which is paid for."""
    hiccups = 0
    while True:
        key = yield from this.credential()
        request = this.target.endpoint.request_at(address, "GET", "application/json", key)
        try:
            reply = yield from sent(this, request)
        except TransportFailure as failure:
            failed = not_received(failure, this)
            passes = True
        except DeadlineExceeded as late:
            raise Failed(late, began=True) from None
        else:
            if 200 <= reply.status < 300:
                return reply
            failed = Failed(refusal(reply.status, reply.headers, reply.body, this.target, request.url), began=True)
            passes = reply.status in (408, 429) or reply.status >= 500
        hiccups += 1
        if not passes or hiccups > this.target.endpoint.retries.most:
            # Sending the whole request again would start the work a second time.
            raise Failed(failed.error, began=True, once=True)
        yield Drop()
        yield Sleep(min(hiccups, this.left() or hiccups))


def streamed(so_far: Gathering, verbatim: bool) -> Receiver:
    """A receiver that emits events as they come, and gathers them.

    Args:
        verbatim: chunks that are in the canonical form already come as they are, too.
    """

    def receive(this: Try) -> Steps[Answer]:
        try:
            reply: OpenReply = yield Open(this.request, this.timeouts)
            so_far.status = reply.status
            return (yield from _events(this, reply, so_far, verbatim))
        except TransportFailure as failure:
            failed = not_received(failure, this)
        except DeadlineExceeded as late:
            failed = Failed(late, began=True)
        if so_far.began:
            if isinstance(failed.error, DeadlineExceeded):
                failed.error.partial = so_far.reply(this.clock())
            else:
                failed = Failed(_cut(so_far, failed.error.what, failed.error), began=True)
        raise failed

    return receive


def _events(this: Try, reply: OpenReply, so_far: Gathering, verbatim: bool) -> Steps[Answer]:
    target, status = this.target, reply.status
    if not 200 <= status < 300:
        body = yield from _rest(this, _ERROR_BYTES)
        yield Drop()
        raise Failed(refusal(status, reply.headers, body, target, this.request.url), began=True)
    decoder = target.endpoint.dialect.stream_decoder()
    media_type = reply.headers.get("content-type", "").partition(";")[0].strip().lower()
    pending: Pending | None = None
    if decoder is None or (media_type == "application/json" and not isinstance(decoder, JsonStreamDecoder)):
        # The format has no streams, or the server passes over the wish for one, or the stream is elsewhere.
        body = yield from _rest(this, _REPLY_BYTES)
        yield Finish()
        found = _decoded(this, status, reply.headers, body)
        if decoder is None or not isinstance(found, Pending) or not found.stream:
            completion = (yield from awaited(this, found)).completion if isinstance(found, Pending) else found
            yield from _emitted(as_events(completion), so_far, this)
            return Answer(so_far.completion(), status)
        pending = found
        reply = yield from _opened_elsewhere(this, pending)
    if verbatim and isinstance(decoder, VerbatimDecoder):
        decoder.verbatim = True
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
    if pending is not None:
        yield from _settled(this, pending, so_far)
    completion = so_far.completion()
    if (reason := _reason_by_cap(completion, this.cap)) is not None:
        yield from _emitted([Finished(reason)], so_far, this)
        completion = so_far.completion()
    return Answer(completion, status)


def _opened_elsewhere(this: Try, pending: Pending) -> Steps[OpenReply]:
    """The stream at the address that the provider gave for it."""
    yield from _cancel_on_exit(this, pending)
    key = yield from this.credential()
    request = this.target.endpoint.request_at(pending.stream, "GET", "text/event-stream", key)
    reply: OpenReply = yield Open(request, this.timeouts)
    if 200 <= reply.status < 300:
        return reply
    body = yield from _rest(this, _ERROR_BYTES)
    raise Failed(refusal(reply.status, reply.headers, body, this.target, request.url), began=True, once=True)


def _settled(this: Try, pending: Pending, so_far: Gathering) -> Steps[None]:
    """The stream told the text; what it cost, and whether it is whole, stands at the other address."""
    try:
        answer = yield from awaited(this, msgspec.structs.replace(pending, cancel=""))
    except Failed as failed:
        if failed.once:
            yield Parting(None)
            return  # that address is out of order: no reason to lose a text that is there
        failed.error.partial = so_far.reply(this.clock())
        raise
    told: list[Event] = [event for event in as_events(answer.completion) if not isinstance(event, (Text, Reasoning))]
    yield from _emitted(told, so_far, this)


def _emitted(events: list[Event], so_far: Gathering, this: Try) -> Steps[None]:
    so_far.take(events, this.clock)
    yield Emit(events)


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


def _decoded(this: Try, status: int, headers: Mapping[str, str], body: bytes) -> Completion | Pending:
    target = this.target
    try:
        completion = target.endpoint.dialect.decode_chat(body)
    except ReplyUnreadable as wrong:
        error = unexpected_reply(status, headers, body, target) or unreadable(wrong, target, status)
        raise Failed(error, began=True) from None
    if isinstance(completion, Fault):
        raise Failed(provider_error(completion, status, headers, target), began=True)
    if isinstance(completion, Completion) and (reason := _reason_by_cap(completion, this.cap)) is not None:
        choice = msgspec.structs.replace(completion.choices[0], finish_reason=reason)
        return msgspec.structs.replace(completion, choices=(choice,))
    return completion


def _reason_by_cap(completion: Completion, cap: int | None) -> str | None:
    """The reason for the end where the format gives none: as many tokens as the cap allows mean that it cut."""
    choices, usage = completion.choices, completion.usage
    if cap is None or len(choices) != 1 or choices[0].finish_reason is not None or usage is None:
        return None
    return "length" if usage.output_tokens is not None and usage.output_tokens >= cap else None


def not_received(failure: TransportFailure, this: Try) -> Failed:
    """The failure of a try whose reply did not come."""
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
