"""Receive a chat reply as a stream: events are emitted as they come, and put together to the reply."""

import logging
from math import inf
from typing import TYPE_CHECKING, Protocol

from ...core.canonical.chat import Completion, Request
from ...core.canonical.events import Event, Finished, Passed, Reasoning, Text
from ...core.errors import AgoutiError, ConnectionFailed, ReplyUnreadable
from ...core.http.exchange import REPLY_BYTES, HttpReply, HttpRequest, TransportFailure
from ...core.http.headers import media_type
from ...dialects.base import StreamDecoder
from ...dialects.wire import Fault, Pending
from ...replies.errors import StreamCut
from ..attempts.credentials import credential_for
from ..effects import Drop, Emit, Finish, Open, OpenReply, Receive, Settled, Steps
from ..operation import Try
from ..outcome import Answer, Answered, AttemptOutcome, Failed
from ..providers.provider import Target
from .accumulate import ReplyAccumulator, as_events
from .error_messages import provider_error, refusal, unexpected_reply
from .one_request import ERROR_BYTES, not_received, read, receive_rest, too_late
from .polling import cancel_on_abandon, poll_until_done

if TYPE_CHECKING:
    from ...replies.reply import Reply

log = logging.getLogger("agouti.exchange")
_RECEIVE = Receive()
_EVENT_END = b"\n\n"
# Seconds that a server may take from the reason for the end to the end: counts of tokens come in them.
_AFTER_END = 5.0


class StreamedOperation(Protocol):
    """An operation whose reply comes as a stream.

    Attributes:
        so_far: the reply as far as it has come.
        held: events of an answer that has not begun yet.
    """

    so_far: ReplyAccumulator
    held: list[Event]

    def let_go(self) -> list[Event]:
        """The events that were held back; none is any more."""

    def passes(self, target: Target) -> bool:
        """Whether what the provider sends goes through as it came."""

    def reason_by_cap(self, completion: Completion, request: Request) -> str | None:
        """The reason for the end where the format gives none."""


def receive_stream(this: "Try[Request, Completion]", operation: StreamedOperation) -> Steps[AttemptOutcome[Completion]]:
    """Emit the events of the reply as they come; ends with what they amount to."""
    so_far = operation.so_far
    try:
        reply: OpenReply = yield Open(this.http, this.timeouts)
        so_far.status, so_far.headers = reply.status, reply.headers
        outcome = yield from _received(this, reply, operation)
    except TransportFailure as failure:
        outcome = not_received(failure, this)
    if isinstance(outcome, Failed) and so_far.began and outcome.error.partial is None:
        # What had come is the caller's, whatever comes of the rest.
        if isinstance(outcome.error, ConnectionFailed):
            return _cut(so_far.reply(), outcome.error.message, outcome.error)
        outcome.error.with_context(partial=so_far.reply(this.call.clocks.clock()))
    return outcome


def _received(
    this: "Try[Request, Completion]", reply: OpenReply, operation: StreamedOperation
) -> Steps[AttemptOutcome[Completion]]:
    status, headers = reply.status, reply.headers
    if not 200 <= status < 300:
        return (yield from _refused(this, reply, this.http.url))
    dialect = this.target.provider.dialect
    tag = this.target.model.reasoning_tag
    verbatim = operation.passes(this.target)
    decoder = dialect.verbatim_decoder() if verbatim else dialect.stream_decoder()
    if verbatim and decoder is not None and not dialect.abilities.payloads:
        decoder = _Raw(decoder)
    if tag and decoder is not None:
        decoder = _Tagged(decoder, tag)
    if decoder is None or (media_type(headers) == "application/json" and not dialect.abilities.streams_json):
        # The format has no streams, or the server passes over the wish for one, or the stream is elsewhere.
        body = yield from receive_rest(this, REPLY_BYTES, whole=True)
        if isinstance(body, Failed):
            return body
        yield Finish()
        outcome = read(this, HttpReply(status, headers, body))
        if isinstance(outcome, Pending):
            if outcome.stream and decoder is not None:
                return (yield from _elsewhere(this, outcome, decoder, operation))
            outcome = yield from poll_until_done(this, outcome)
        if isinstance(outcome, Failed):
            return outcome
        if verbatim and dialect.abilities.canonical:
            operation.held.append(_as_chunk(outcome.answer.body))
        yield from _emitted(as_events(outcome.answer.value), this, operation)
        return Answered(Answer(operation.so_far.completion(), status, headers))
    failed = yield from _events(this, reply, decoder, operation)
    if failed is not None:
        return failed
    return (yield from _complete(this, operation))


class _Raw:
    """A stream decoder that gives all bytes as they came as well, but for those that an error came in."""

    def __init__(self, decoder: StreamDecoder) -> None:
        self._decoder = decoder
        self.done = False
        self.failure: Fault | None = None

    def feed(self, data: bytes) -> list[Event]:
        if b"error" not in data:
            return self._fed(data)
        events: list[Event] = []
        # What came before an error in the same bytes goes through; the error is told in other words.
        pieces = data.split(_EVENT_END)
        for number, piece in enumerate(pieces):
            whole = piece + _EVENT_END if number < len(pieces) - 1 else piece
            if whole and self.failure is None:
                events += self._fed(whole)
        return events

    def _fed(self, data: bytes) -> list[Event]:
        events = self._decoder.feed(data)
        self.done, self.failure = self._decoder.done, self._decoder.failure
        return events if self.failure is not None else [Passed(data, framed=True), *events]

    def last(self) -> list[Event]:
        events = self._decoder.last()
        self.done, self.failure = self._decoder.done, self._decoder.failure
        return events

    def end(self) -> bool:
        return self._decoder.end()


class _Tagged:
    """A stream decoder whose texts have thinking in them, between tags."""

    def __init__(self, decoder: StreamDecoder, tag: str) -> None:
        from ...core.messages.tagged_reasoning import TaggedEvents

        self._decoder = decoder
        self._tagged = TaggedEvents(tag)
        self.done = False
        self.failure: Fault | None = None

    def feed(self, data: bytes) -> list[Event]:
        events = self._tagged.of(self._decoder.feed(data))
        self.done, self.failure = self._decoder.done, self._decoder.failure
        return events

    def last(self) -> list[Event]:
        events = self._tagged.of(self._decoder.last())
        self.done, self.failure = self._decoder.done, self._decoder.failure
        return events

    def end(self) -> bool:
        return self._decoder.end()


def _as_chunk(body: bytes) -> Passed:
    """A whole reply that came for a stream, as its one chunk."""
    import msgspec

    from ...core.json.lenient import any_json
    from ...core.messages.json_form import chunk_of_reply

    return Passed(msgspec.json.encode(chunk_of_reply(any_json(body))))


def _events(
    this: "Try[Request, Completion]", reply: OpenReply, decoder: StreamDecoder, operation: StreamedOperation
) -> Steps[Failed | None]:
    """Emit what the decoder makes of the bytes, until its format's end."""
    so_far, clock = operation.so_far, this.call.clocks.clock
    capped = this.call.until is not None
    first = True
    # What comes before the answer itself waits for it: if the stream breaks before, another model may take over.
    began = so_far.began
    ends: float | None = None
    while not decoder.done:
        try:
            if ends is None:
                data: bytes = yield Receive(this.left()) if capped else _RECEIVE
            else:
                data = yield Receive(min(ends - clock(), this.left()))
        except TransportFailure:
            if (yield from _ended(decoder, this, operation)):
                # All of it has come; only the end of the connection was none.
                yield Drop()
                return None
            raise
        if not data:
            break
        if this.late:
            return too_late(this)
        if first:
            first = False
            if wrong := unexpected_reply(reply.status, reply.headers, data, this.target):
                return Failed(wrong, began=True, status=reply.status, headers=reply.headers)
            if data[:1] == b"{" and media_type(reply.headers) == "text/event-stream" and b'"error"' in data[:200]:
                # No event begins so: an error, under the head of the events that were to come.
                rest = yield from receive_rest(this, ERROR_BYTES)
                fault = this.target.provider.dialect.classify(
                    200, {}, data + (rest if isinstance(rest, bytes) else b"")
                )
                return Failed(_reported(fault, reply, this, operation), began=True, headers=reply.headers)
        events = decoder.feed(data)
        if events:
            so_far.take(events, clock)
            if began:
                yield Emit(events)
            else:
                operation.held += events
                if began := so_far.began:
                    yield Emit(operation.let_go())
        if ends is None and so_far.finished:
            ends = clock() + _AFTER_END
        elif ends is not None and clock() >= ends:
            if (yield from _ended(decoder, this, operation)):
                yield Drop()
                return None
            ends = inf
        if decoder.failure is not None:
            return Failed(_reported(decoder.failure, reply, this, operation), began=True, headers=reply.headers)
    whole = decoder.done or (yield from _ended(decoder, this, operation))
    if whole and so_far.nothing:
        whole = False  # an end mark alone is no answer
    if decoder.failure is not None and not whole and not issubclass(decoder.failure.kind, ReplyUnreadable):
        return Failed(_reported(decoder.failure, reply, this, operation), began=True, headers=reply.headers)
    if not whole:
        why = "the connection was closed before the end of the reply"
        return _cut(so_far.reply(), why, began=so_far.began)
    yield Finish()
    if operation.held:
        yield Emit(operation.let_go())
    return None


def _ended(decoder: StreamDecoder, this: "Try[Request, Completion]", operation: StreamedOperation) -> Steps[bool]:
    """Whether the reply is complete; its last event counts although its line end has not come."""
    events = decoder.last()
    operation.so_far.take(events, this.call.clocks.clock)
    operation.held += events
    whole = decoder.end()
    if operation.held and (whole or operation.so_far.began):
        yield Emit(operation.let_go())
    return whole


def _complete(this: "Try[Request, Completion]", operation: StreamedOperation) -> Steps[AttemptOutcome[Completion]]:
    so_far = operation.so_far
    completion = so_far.completion()
    if (reason := operation.reason_by_cap(completion, this.request)) is not None:
        yield from _emitted([Finished(reason)], this, operation)
        completion = so_far.completion()
    return Answered(Answer(completion, so_far.status or 200, so_far.headers))


def _refused(this: "Try[Request, Completion]", reply: OpenReply, url: str) -> Steps[Failed]:
    body = yield from receive_rest(this, ERROR_BYTES, status=reply.status)
    if isinstance(body, Failed):
        return body
    yield Drop()
    error = refusal(reply.status, reply.headers, body, this.target, url)
    return Failed(error, began=True, status=reply.status, headers=reply.headers)


def _elsewhere(
    this: "Try[Request, Completion]", pending: Pending, decoder: StreamDecoder, operation: StreamedOperation
) -> Steps[AttemptOutcome[Completion]]:
    """The stream at the address that the provider gave for it; what it cost stands at another one."""
    cancel = yield from cancel_on_abandon(this, pending)
    key = yield from credential_for(this.call, this.target)
    request = this.target.provider.request_at(pending.stream, "GET", "text/event-stream", key)
    wrong = yield from _events_of(request, this, decoder, operation)
    if wrong is not None and operation.so_far.began:
        return wrong
    if wrong is not None and not this.late:
        # The events cannot be had, the work can: it is under way, and paid for.
        log.info("%s: %s; it is asked for instead", this.target.provider.label, wrong.error.message)
        yield Drop()
        operation.held.clear()
        outcome = yield from poll_until_done(this, pending, cancel)
        if isinstance(outcome, Answered):
            answer = outcome.answer
            yield from _emitted(as_events(answer.value), this, operation)
            return Answered(Answer(operation.so_far.completion(), answer.status, answer.headers))
        return outcome
    if wrong is not None:
        return wrong
    outcome = yield from poll_until_done(this, pending, cancel)
    if isinstance(outcome, Failed) and not outcome.final:
        return outcome
    if isinstance(outcome, Answered):
        more: list[Event] = [
            each for each in as_events(outcome.answer.value) if not isinstance(each, (Text, Reasoning))
        ]
        yield from _emitted(more, this, operation)
    elif cancel is not None:
        yield Settled(cancel)  # that address is out of order: no reason to lose a text that is there
    return (yield from _complete(this, operation))


def _events_of(
    request: HttpRequest, this: "Try[Request, Completion]", decoder: StreamDecoder, operation: StreamedOperation
) -> Steps[Failed | None]:
    """Emit the events that stand at an address of their own; what went wrong with them."""
    try:
        reply: OpenReply = yield Open(request, this.timeouts)
        if not 200 <= reply.status < 300:
            return (yield from _refused(this, reply, request.url))
        operation.so_far.status, operation.so_far.headers = reply.status, reply.headers
        return (yield from _events(this, reply, decoder, operation))
    except TransportFailure as failure:
        return not_received(failure, this, request.url)


def _emitted(events: list[Event], this: "Try[Request, Completion]", operation: StreamedOperation) -> Steps[None]:
    operation.so_far.take(events, this.call.clocks.clock)
    yield Emit([*operation.let_go(), *events])


def _reported(
    fault: Fault, reply: OpenReply, this: "Try[Request, Completion]", operation: StreamedOperation
) -> AgoutiError:
    """The error that a provider reports inside a stream."""
    error = provider_error(fault, None, reply.headers, this.target)
    if operation.so_far.began:
        error.with_context(partial=operation.so_far.reply(this.call.clocks.clock()))
    return error


def _cut(partial: "Reply", why: str, error: AgoutiError | None = None, *, began: bool = True) -> Failed:
    cut = StreamCut(
        f"the stream from {partial.provider} was cut off after {len(partial.text)} characters: {why}",
        status=error.status if error is not None else None,
        partial=partial if began else None,
    )
    return Failed(cut, began=began)
