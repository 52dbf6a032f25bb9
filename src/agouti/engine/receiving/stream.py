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
        accumulator: the reply as far as it has come.
        pending: events of an answer that has not begun yet.
    """

    accumulator: ReplyAccumulator
    pending: list[Event]

    def let_go(self) -> list[Event]:
        """The events that were held back; none is any more."""

    def passes(self, target: Target) -> bool:
        """Whether what the provider sends goes through as it came."""

    def reason_by_cap(self, completion: Completion, request: Request) -> str | None:
        """The reason for the end where the format gives none."""


def receive_stream(
    context: "Try[Request, Completion]", operation: StreamedOperation
) -> Steps[AttemptOutcome[Completion]]:
    """Emit the events of the reply as they come; ends with what they amount to."""
    accumulator = operation.accumulator
    try:
        reply: OpenReply = yield Open(context.http, context.timeouts)
        accumulator.status, accumulator.headers = reply.status, reply.headers
        outcome = yield from _received(context, reply, operation)
    except TransportFailure as failure:
        outcome = not_received(failure, context)
    if isinstance(outcome, Failed) and accumulator.started and outcome.error.partial is None:
        # What had come is the caller's, whatever comes of the rest.
        if isinstance(outcome.error, ConnectionFailed):
            return _cut(accumulator.reply(), outcome.error.message, outcome.error)
        outcome.error.with_context(partial=accumulator.reply(context.call.clocks.clock()))
    return outcome


def _received(
    context: "Try[Request, Completion]", reply: OpenReply, operation: StreamedOperation
) -> Steps[AttemptOutcome[Completion]]:
    status, headers = reply.status, reply.headers
    if not 200 <= status < 300:
        return (yield from _refused(context, reply, context.http.url))
    dialect = context.target.provider.dialect
    tag = context.target.model.reasoning_tag
    verbatim = operation.passes(context.target)
    decoder = dialect.verbatim_decoder() if verbatim else dialect.stream_decoder()
    if verbatim and decoder is not None and not dialect.abilities.payloads:
        decoder = _Raw(decoder)
    if tag and decoder is not None:
        decoder = _Tagged(decoder, tag)
    if decoder is None or (media_type(headers) == "application/json" and not dialect.abilities.streams_json):
        # The format has no streams, or the server passes over the wish for one, or the stream is elsewhere.
        body = yield from receive_rest(context, REPLY_BYTES, must_fit=True)
        if isinstance(body, Failed):
            return body
        yield Finish()
        outcome = read(context, HttpReply(status, headers, body))
        if isinstance(outcome, Pending):
            if outcome.stream and decoder is not None:
                return (yield from _usage_outside(context, outcome, decoder, operation))
            outcome = yield from poll_until_done(context, outcome)
        if isinstance(outcome, Failed):
            return outcome
        if verbatim and dialect.abilities.canonical:
            operation.pending.append(_as_chunk(outcome.answer.body))
        yield from _emitted(as_events(outcome.answer.value), context, operation)
        return Answered(Answer(operation.accumulator.completion(), status, headers))
    failed = yield from _events(context, reply, decoder, operation)
    if failed is not None:
        return failed
    return (yield from _complete(context, operation))


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
        chunks = data.split(_EVENT_END)
        for number, chunk in enumerate(chunks):
            complete = chunk + _EVENT_END if number < len(chunks) - 1 else chunk
            if complete and self.failure is None:
                events += self._fed(complete)
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
    context: "Try[Request, Completion]", reply: OpenReply, decoder: StreamDecoder, operation: StreamedOperation
) -> Steps[Failed | None]:
    """Emit what the decoder makes of the bytes, until its format's end."""
    accumulator, clock = operation.accumulator, context.call.clocks.clock
    capped = context.call.until is not None
    first = True
    # What comes before the answer itself waits for it: if the stream breaks before, another model may take over.
    started = accumulator.started
    ends: float | None = None
    while not decoder.done:
        try:
            if ends is None:
                data: bytes = yield Receive(context.left()) if capped else _RECEIVE
            else:
                data = yield Receive(min(ends - clock(), context.left()))
        except TransportFailure:
            if (yield from _ended(decoder, context, operation)):
                # All of it has come; only the end of the connection was none.
                yield Drop()
                return None
            raise
        if not data:
            break
        if context.is_late:
            return too_late(context)
        if first:
            first = False
            if error := unexpected_reply(reply.status, reply.headers, data, context.target):
                return Failed(error, started=True, status=reply.status, headers=reply.headers)
            if data[:1] == b"{" and media_type(reply.headers) == "text/event-stream" and b'"error"' in data[:200]:
                # No event begins so: an error, under the head of the events that were to come.
                body = yield from receive_rest(context, ERROR_BYTES)
                fault = context.target.provider.dialect.classify(
                    200, {}, data + (body if isinstance(body, bytes) else b"")
                )
                return Failed(_reported(fault, reply, context, operation), started=True, headers=reply.headers)
        events = decoder.feed(data)
        if events:
            accumulator.add(events, clock)
            if started:
                yield Emit(events)
            else:
                operation.pending += events
                if started := accumulator.started:
                    yield Emit(operation.let_go())
        if ends is None and accumulator.finished:
            ends = clock() + _AFTER_END
        elif ends is not None and clock() >= ends:
            if (yield from _ended(decoder, context, operation)):
                yield Drop()
                return None
            ends = inf
        if decoder.failure is not None:
            return Failed(_reported(decoder.failure, reply, context, operation), started=True, headers=reply.headers)
    complete = decoder.done or (yield from _ended(decoder, context, operation))
    if complete and accumulator.is_empty:
        complete = False  # an end mark alone is no answer
    if decoder.failure is not None and not complete and not issubclass(decoder.failure.kind, ReplyUnreadable):
        return Failed(_reported(decoder.failure, reply, context, operation), started=True, headers=reply.headers)
    if not complete:
        reason = "the connection was closed before the end of the reply"
        return _cut(accumulator.reply(), reason, started=accumulator.started)
    yield Finish()
    if operation.pending:
        yield Emit(operation.let_go())
    return None


def _ended(decoder: StreamDecoder, context: "Try[Request, Completion]", operation: StreamedOperation) -> Steps[bool]:
    """Whether the reply is complete; its last event counts although its line end has not come."""
    events = decoder.last()
    operation.accumulator.add(events, context.call.clocks.clock)
    operation.pending += events
    complete = decoder.end()
    if operation.pending and (complete or operation.accumulator.started):
        yield Emit(operation.let_go())
    return complete


def _complete(context: "Try[Request, Completion]", operation: StreamedOperation) -> Steps[AttemptOutcome[Completion]]:
    accumulator = operation.accumulator
    completion = accumulator.completion()
    if (reason := operation.reason_by_cap(completion, context.request)) is not None:
        yield from _emitted([Finished(reason)], context, operation)
        completion = accumulator.completion()
    return Answered(Answer(completion, accumulator.status or 200, accumulator.headers))


def _refused(context: "Try[Request, Completion]", reply: OpenReply, url: str) -> Steps[Failed]:
    body = yield from receive_rest(context, ERROR_BYTES, status=reply.status)
    if isinstance(body, Failed):
        return body
    yield Drop()
    error = refusal(reply.status, reply.headers, body, context.target, url)
    return Failed(error, started=True, status=reply.status, headers=reply.headers)


def _usage_outside(
    context: "Try[Request, Completion]", pending: Pending, decoder: StreamDecoder, operation: StreamedOperation
) -> Steps[AttemptOutcome[Completion]]:
    """The stream at the address that the provider gave for it; what it cost stands at another one."""
    cancel = yield from cancel_on_abandon(context, pending)
    key = yield from credential_for(context.call, context.target)
    request = context.target.provider.request_at(pending.stream, "GET", "text/event-stream", key)
    error = yield from _events_of(request, context, decoder, operation)
    if error is not None and operation.accumulator.started:
        return error
    if error is not None and not context.is_late:
        # The events cannot be had, the work can: it is under way, and paid for.
        log.info("%s: %s; it is asked for instead", context.target.provider.label, error.error.message)
        yield Drop()
        operation.pending.clear()
        outcome = yield from poll_until_done(context, pending, cancel)
        if isinstance(outcome, Answered):
            answer = outcome.answer
            yield from _emitted(as_events(answer.value), context, operation)
            return Answered(Answer(operation.accumulator.completion(), answer.status, answer.headers))
        return outcome
    if error is not None:
        return error
    outcome = yield from poll_until_done(context, pending, cancel)
    if isinstance(outcome, Failed) and not outcome.final:
        return outcome
    if isinstance(outcome, Answered):
        last_events: list[Event] = [
            each for each in as_events(outcome.answer.value) if not isinstance(each, (Text, Reasoning))
        ]
        yield from _emitted(last_events, context, operation)
    elif cancel is not None:
        yield Settled(cancel)  # that address is out of order: no reason to lose a text that is there
    return (yield from _complete(context, operation))


def _events_of(
    request: HttpRequest, context: "Try[Request, Completion]", decoder: StreamDecoder, operation: StreamedOperation
) -> Steps[Failed | None]:
    """Emit the events that stand at an address of their own; what went wrong with them."""
    try:
        reply: OpenReply = yield Open(request, context.timeouts)
        if not 200 <= reply.status < 300:
            return (yield from _refused(context, reply, request.url))
        operation.accumulator.status, operation.accumulator.headers = reply.status, reply.headers
        return (yield from _events(context, reply, decoder, operation))
    except TransportFailure as failure:
        return not_received(failure, context, request.url)


def _emitted(events: list[Event], context: "Try[Request, Completion]", operation: StreamedOperation) -> Steps[None]:
    operation.accumulator.add(events, context.call.clocks.clock)
    yield Emit([*operation.let_go(), *events])


def _reported(
    fault: Fault, reply: OpenReply, context: "Try[Request, Completion]", operation: StreamedOperation
) -> AgoutiError:
    """The error that a provider reports inside a stream."""
    error = provider_error(fault, None, reply.headers, context.target)
    if operation.accumulator.started:
        error.with_context(partial=operation.accumulator.reply(context.call.clocks.clock()))
    return error


def _cut(partial: "Reply", reason: str, error: AgoutiError | None = None, *, started: bool = True) -> Failed:
    cut = StreamCut(
        f"the stream from {partial.provider} was cut off after {len(partial.text)} characters: {reason}",
        status=error.status if error is not None else None,
        partial=partial if started else None,
    )
    return Failed(cut, started=started)
