"""The exchange: one generator per kind of call. It decides; the driver acts.

`ask` ends with the whole reply. `stream` emits events as they come and keeps the reply so far in a
`Gathering`, which the caller can look at at any moment.
"""

from collections.abc import Mapping

from msgspec import Struct

from ..core.chat import Completion, Request
from ..core.errors import AgoutiError, ReplyUnreadable, StreamCut
from ..core.http import HttpReply, HttpRequest
from ..core.reply import Attempt, Reply
from ..credentials.fetch import Credential
from ..dialects.base import Fault, Outgoing
from ..transport.base import TransportFailure
from .effects import Emit, Fetch, Finish, Open, OpenReply, Receive, Send, Steps
from .gather import Gathering, as_events
from .target import Clock, Target
from .trouble import connection_error, missing_path, provider_error, unexpected_reply, unreadable

_WHOLE_REPLY = 256 * 1024 * 1024


class Call(Struct, frozen=True):
    """One call: what is asked, of whom, and the clock to time it with."""

    target: Target
    request: Request
    clock: Clock


def ask(call: Call) -> Steps[Reply]:
    """Send a request, get the whole reply."""
    target = call.target
    started = call.clock()
    request = yield from _prepare(target, target.endpoint.dialect.encode_chat(call.request))
    try:
        answer: HttpReply = yield Send(request, target.endpoint.timeouts)
    except TransportFailure as failure:
        error = connection_error(failure, target)
    else:
        status = answer.status
        if 200 <= status < 300:
            completion = _completion(target, status, answer.headers, answer.body)
            elapsed = call.clock() - started
            label = target.endpoint.provider.label
            return Reply.of(
                completion,
                label=target.model.label,
                provider=label,
                price=target.model.price,
                elapsed=elapsed,
                attempts=(Attempt(label, target.model.name, "answered", status, elapsed),),
                body=answer.body,
            )
        error = _refusal(answer.status, answer.headers, answer.body, target, request)
    raise error


def stream(call: Call, so_far: Gathering) -> Steps[Reply]:
    """Send a request, emit the events of its reply as they come; ends with the whole reply."""
    target = call.target
    started = call.clock()
    request = yield from _prepare(target, target.endpoint.dialect.encode_chat(call.request))
    reply: OpenReply
    try:
        reply = yield Open(request, target.endpoint.timeouts)
    except TransportFailure as failure:
        error: AgoutiError = connection_error(failure, target)
    else:
        so_far.opened(target, started, reply.status)
        try:
            return (yield from _body(call, reply, so_far, request))
        except TransportFailure as failure:
            error = connection_error(failure, target)
            if so_far.began:
                error = _cut(so_far, call.clock(), error.what)
    raise error


def _body(call: Call, reply: OpenReply, so_far: Gathering, request: HttpRequest) -> Steps[Reply]:
    target = call.target
    if not 200 <= reply.status < 300:
        body = yield from _rest()
        raise _refusal(reply.status, reply.headers, body, target, request)
    if reply.headers.get("content-type", "").partition(";")[0].strip().lower() == "application/json":
        return (yield from _not_streamed(call, reply, so_far))
    decoder = target.endpoint.dialect.stream_decoder()
    first = True
    while not decoder.done:
        data: bytes = yield Receive()
        if not data:
            break
        if first:
            first = False
            if wrong := unexpected_reply(reply.status, reply.headers, data, target):
                raise wrong
        events = decoder.feed(data)
        if events:
            so_far.take(events, call.clock)
            yield Emit(events)
        if decoder.failure is not None:
            raise _failed(decoder.failure, reply, so_far, call)
    if not decoder.end():
        raise _cut(so_far, call.clock(), "the connection was closed before the end of the reply")
    yield Finish()
    return so_far.reply(call.clock())


def _not_streamed(call: Call, reply: OpenReply, so_far: Gathering) -> Steps[Reply]:
    """Some servers pass over the wish for a stream and send the whole reply at once."""
    body = yield from _rest(_WHOLE_REPLY)
    events = as_events(_completion(call.target, reply.status, reply.headers, body))
    so_far.take(events, call.clock)
    yield Emit(events)
    yield Finish()
    return so_far.reply(call.clock())


def _completion(target: Target, status: int, headers: Mapping[str, str], body: bytes) -> Completion:
    try:
        completion = target.endpoint.dialect.decode_chat(body)
    except ReplyUnreadable as wrong:
        raise (unexpected_reply(status, headers, body, target) or unreadable(wrong, target, status)) from None
    if isinstance(completion, Fault):
        raise provider_error(completion, status, headers, target)
    return completion


def _rest(most: int = 1_000_000) -> Steps[bytes]:
    """The rest of a reply; the first MB of an error is more than anybody writes."""
    pieces: list[bytes] = []
    size = 0
    while size < most:
        data: bytes = yield Receive()
        if not data:
            return b"".join(pieces)
        pieces.append(data)
        size += len(data)
    return b"".join(pieces)


def _prepare(target: Target, outgoing: Outgoing) -> Steps[HttpRequest]:
    endpoint = target.endpoint
    key = endpoint.provider.key
    if key is not None and endpoint.credential is None:
        try:
            credential: Credential = yield Fetch(key)
        except AgoutiError as error:
            error.provider, error.model = endpoint.provider.label, target.model.label
            raise
        endpoint.use(credential)
    return endpoint.request(outgoing)


def _refusal(status: int, headers: Mapping[str, str], body: bytes, target: Target, request: HttpRequest) -> AgoutiError:
    wrong = unexpected_reply(status, headers, body, target)
    if wrong is not None:
        return wrong
    fault = target.endpoint.dialect.classify(status, headers, body)
    return missing_path(status, fault, target, request.url) or provider_error(fault, status, headers, target)


def _failed(fault: Fault, reply: OpenReply, so_far: Gathering, call: Call) -> AgoutiError:
    error = provider_error(fault, None, reply.headers, call.target)
    if so_far.began:
        error.partial = so_far.reply(call.clock())
    return error


def _cut(so_far: Gathering, now: float, why: str) -> StreamCut:
    partial = so_far.reply(now)
    return StreamCut(
        f"the stream from {partial.provider} was cut off after {len(partial.text)} characters: {why}",
        provider=partial.provider,
        model=partial.label,
        partial=partial,
        attempts=partial.attempts,
    )
