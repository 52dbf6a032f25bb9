"""The exchange: key, send, retry, fallback, decided in one place for every kind of call.

`ask` ends with the whole reply. `stream` emits events as they come and keeps the reply so far in a
`Gathering`, which the caller can look at at any moment. Nothing here does I/O: see `effects`.
"""

import logging
import time
import warnings
from collections.abc import Callable
from functools import partial
from random import random
from typing import Any

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..core.chat import Request
from ..core.errors import (
    AgoutiError,
    AgoutiWarning,
    CircuitOpen,
    ConnectionFailed,
    ConnectionLost,
    CredentialRefused,
    DeadlineExceeded,
    ModelUnknown,
    Overloaded,
    ParameterUnsupported,
    ProviderFault,
    ReplyUnreadable,
    RequestError,
    RequestRefused,
)
from ..core.http import HttpReply, HttpRequest, Timeouts
from ..core.near import near
from ..core.reply import Attempt, Reply
from ..credentials.credential import Credential
from ..dialects.base import Outgoing
from ..transport.base import TransportFailure
from .effects import Drop, Fetch, Perform, Send, Sleep, Steps
from .gather import Gathering
from .receive import Answer, Failed, Receiver, Try, streamed, whole
from .retry import falls_back, pause, repeats
from .target import Clock, Endpoint, Target
from .trouble import placed

log = logging.getLogger("agouti.exchange")

# A list of models is only wanted for a better error message: it must not keep anybody waiting.
_LIST_TIMEOUTS = Timeouts(connect=2.0, first_byte=5.0, between_chunks=5.0)


class Call(Struct, frozen=True, gc=False):
    """One call.

    Attributes:
        targets: the model that is asked, and those that take over when it cannot.
        build: makes the request for a target.
        clock: the time in seconds, from any beginning.
        deadline: seconds that the whole call may take.
        chance: random numbers from 0 to 1, for the waits.
        now: the time in seconds since the epoch, for the expiry of keys.
        encode: makes what is sent of a request; what the dialect makes of it where not given.
        receive: gets the reply; a whole chat reply where not given.
        verbatim: a stream's chunks that are in the canonical form already come as they are, too.
    """

    targets: tuple[Target, ...]
    build: Callable[[Target], Request]
    clock: Clock
    deadline: float | None = None
    chance: Callable[[], float] = random
    now: Clock = time.time
    verbatim: bool = False
    encode: Callable[[Target, Request], Outgoing] | None = None
    receive: Receiver | None = None


def ask(call: Call) -> Steps[Reply]:
    """Get the whole reply."""
    return _exchange(call, call.receive or whole, None)


def stream(call: Call, so_far: Gathering) -> Steps[Reply]:
    """Emit the events of the reply as they come; ends with the whole reply."""
    return _exchange(call, streamed(so_far, call.verbatim), so_far)


def _exchange(call: Call, receive: Receiver, so_far: Gathering | None) -> Steps[Reply]:
    started = call.clock()
    until = None if call.deadline is None else started + call.deadline
    attempts: list[Attempt] = []
    last = call.targets[-1]
    for target in call.targets:
        if so_far is not None:
            so_far.begin(target, started, attempts)
        try:
            answer = yield from _at_target(call, target, receive, attempts, until)
        except AgoutiError as error:
            placed(error, target)
            error.attempts = tuple(attempts)
            if error.partial is None and target is not last and falls_back(error):
                log.info("%s: %s; %s takes over", target.model.label, error.what, _next(call, target).model.label)
                continue
            if isinstance(error, ModelUnknown):
                yield from _name_near_models(error, target, call)
            raise
        return Reply.of(
            answer.completion,
            label=call.targets[0].model.label,
            provider=target.endpoint.provider.label,
            price=target.model.price,
            elapsed=call.clock() - started,
            attempts=tuple(attempts),
            body=answer.body,
            first_token=so_far.first_token if so_far is not None else None,
        )
    raise AssertionError("a call has at least one target")


def _next(call: Call, target: Target) -> Target:
    return call.targets[call.targets.index(target) + 1]


def _at_target(
    call: Call, target: Target, receive: Receiver, attempts: list[Attempt], until: float | None
) -> Steps[Answer]:
    """Ask one model, as often as it makes sense."""
    endpoint = target.endpoint
    request = _expressible(endpoint.without_refused(call.build(target)), target)
    if target.model.sees is False or request.fetch != "no":
        request = yield from _seen(request, target)
    tries, stale, waited = 0, False, 0.0
    while True:
        began = call.clock()
        if until is not None and began >= until:
            raise DeadlineExceeded("the call took longer than its deadline")
        rest = endpoint.circuit.closed_for(began)
        if rest is not None:
            raise _circuit_open(target, rest)
        credential = yield from credential_for(call, target)
        timeouts = endpoint.timeouts if until is None else _within(endpoint.timeouts, until, began)
        encoded = endpoint.dialect.encode_chat(request) if call.encode is None else call.encode(target, request)
        sent = endpoint.request(encoded, target.model.name, credential)
        failed = None
        try:
            cap = request.parameters.get("max_tokens")
            key = partial(credential_for, call, target)
            answer = yield from receive(Try(target, sent, call.clock, timeouts, until, key, cap))
        except Failed as failure:
            failed = failure
        if failed is None:
            took = call.clock() - began
            attempts.append(
                Attempt(endpoint.provider.label, target.model.name, "answered", answer.status, took, waited)
            )
            endpoint.circuit.worked()
            endpoint.answered = True
            if credential is not None:
                endpoint.turns.worked(credential)
            if log.isEnabledFor(logging.DEBUG):
                log.debug("%s %s -> %s in %.0f ms", sent.method, sent.url, answer.status, took * 1e3)
            return answer
        error = failed.error
        took = call.clock() - began
        _note(attempts, target, error, took, waited)
        log.info("%s %s -> %s in %.0f ms", sent.method, sent.url, error.status or type(error).__name__, took * 1e3)
        if error.partial is not None:
            raise error
        yield Drop()
        wait: float | None = None
        if failed.once:
            raise error
        if isinstance(error, ConnectionLost) and not failed.began and endpoint.answered and not stale:
            # A server may close a kept connection at the moment when it is used again: that says
            # nothing about the request. Both HTTP libraries look before use, so once is enough.
            stale = True
            wait = 0.0
        elif isinstance(error, CredentialRefused) and credential is not None and endpoint.turns.refused(credential):
            log.info("%s: key refused, another try", endpoint.provider.label)
            wait = 0.0
        elif (reduced := _without_unsupported(error, request, target)) is not None:
            request = reduced
            wait = 0.0
        else:
            _count(error, endpoint, call.clock())
            if repeats(error, began=failed.began):
                wait = pause(error, tries, endpoint.retries, call.chance())
                tries += 1
        if wait is None or (until is not None and call.clock() + wait >= until):
            raise error
        if wait:
            log.info("%s: waiting %.1f s before another try", endpoint.provider.label, wait)
            yield Sleep(wait)
        waited = wait


def _note(attempts: list[Attempt], target: Target, error: AgoutiError, took: float, waited: float) -> None:
    attempts.append(
        Attempt(
            target.endpoint.provider.label,
            target.model.name,
            type(error).__name__,
            error.status,
            took,
            waited,
            error.what,
        )
    )


def _count(error: AgoutiError, endpoint: Endpoint, now: float) -> None:
    if isinstance(error, (ConnectionFailed, Overloaded, ProviderFault)):
        endpoint.circuit.failed(now)


def _circuit_open(target: Target, rest: float) -> CircuitOpen:
    provider = target.endpoint.provider.label
    return CircuitOpen(
        f"{provider} failed again and again; it is left alone for {rest:.0f} s more",
        hint="See what is wrong with: agouti check; or name a fallback model in the entry.",
        wait=rest,
    )


def _within(timeouts: Timeouts, until: float, now: float) -> Timeouts:
    left = max(until - now, 0.001)
    return Timeouts(min(timeouts.connect, left), min(timeouts.first_byte, left), timeouts.between_chunks)


def credential_for(call: Call, target: Target) -> Steps[Credential | None]:
    """The key to send, fetched where it is not at hand; `None` where the entry names none."""
    turns = target.endpoint.turns
    if turns.none:
        return None
    found = turns.next(call.now())
    if isinstance(found, Credential):
        return found
    try:
        credential: Credential = yield Fetch(found)
    except TransportFailure as failure:
        error = CredentialRefused(
            f"no token: its token endpoint cannot be reached ({failure.detail})",
            hint="Check token_address in the entry's key, and the network.",
            retryable=True,
        )
    else:
        turns.got(found, credential)
        return credential
    raise error


def _without_unsupported(error: AgoutiError, request: Request, target: Target) -> Request | None:
    """The request without the parameter that the provider does not know, where the entry allows that."""
    if not isinstance(error, RequestRefused) or error.parameter is None:
        return None
    name = error.parameter.partition(".")[0]
    name = next((ours for ours, theirs in target.endpoint.provider.rename.items() if theirs == name), name)
    if name not in request.parameters:
        return None
    provider = target.endpoint.provider
    if provider.unsupported == "error":
        error.hint = f'Leave {name} out, or set unsupported = "warn" in providers.{provider.label} to go on without it.'
        return None
    target.endpoint.refused_parameters.add(name)
    warnings.warn(f"{provider.label} does not take {name}; going on without it", AgoutiWarning, stacklevel=2)
    return target.endpoint.without_refused(request)


def _seen(request: Request, target: Target) -> Steps[Request]:
    """The request with its pictures as the model can take them.

    Raises:
        RequestError: the entry says that the model sees none, or a picture cannot be fetched.
    """
    # Few calls have pictures: the others do not wait for this to be loaded.
    from base64 import b64encode

    from ..core.parts import pictures_in, with_pictures
    from ..transport.pictures import fetch_picture

    if not any(True for _ in pictures_in(request.messages)):
        return request
    if target.model.sees is False:
        raise RequestError(
            f"{target.model.label} sees no pictures (sees = false in its entry)",
            hint="Ask a model that does, or leave the pictures out.",
        )
    if getattr(target.endpoint.dialect, "takes_addresses", True):
        return request
    addresses = list(dict.fromkeys(each for each in pictures_in(request.messages) if not each.startswith("data:")))
    fetched: list[Any] = yield Perform(
        tuple([partial(fetch_picture, each, private=request.fetch == "private") for each in addresses])
    )
    data: dict[str, str] = {}
    for address, found in zip(addresses, fetched, strict=True):
        if isinstance(found, BaseException):
            raise found
        media_type, body = found
        data[address] = f"data:{media_type};base64,{b64encode(body).decode()}"
    return replace(request, messages=with_pictures(request.messages, data))


def _expressible(request: Request, target: Target) -> Request:
    """The request as far as the dialect can express it; what it lacks is an error, or said once and left out."""
    endpoint = target.endpoint
    takes = endpoint.dialect.takes
    if takes is None or not (lacking := request.parameters.keys() - takes):
        return request
    name = min(lacking)
    provider = endpoint.provider
    if provider.unsupported == "error":
        error = ParameterUnsupported(
            f"dialect {endpoint.dialect.name} (provider {provider.label}) has no parameter {name}",
            hint=f'Leave {name} out, or set unsupported = "warn" in providers.{provider.label} to go on without it.',
        )
        error.parameter = name
        raise error
    endpoint.refused_parameters |= lacking
    warnings.warn(f"{provider.label} does not take {', '.join(sorted(lacking))}; going on without", AgoutiWarning, 2)
    return endpoint.without_refused(request)


def _name_near_models(error: ModelUnknown, target: Target, call: Call) -> Steps[None]:
    """Ask for the provider's list, to name the models that look like the unknown one."""
    endpoint = target.endpoint
    outgoing = endpoint.dialect.encode_models()
    if outgoing is None:
        return
    try:
        credential = yield from credential_for(call, target)
        request: HttpRequest = endpoint.request(outgoing, target.model.name, credential)
        reply: HttpReply = yield Send(request, _LIST_TIMEOUTS)
        names = [model.name for model in endpoint.dialect.decode_models(reply.body)] if reply.status == 200 else []
    except (TransportFailure, AgoutiError, ReplyUnreadable, msgspec.MsgspecError):
        return  # the error at hand says more than why its list could not be had
    if not names:
        return
    wanted = target.model.name
    error.near = near(wanted, names)
    some = ", ".join(error.near or sorted(names)[:5])
    error.hint = f"{'Near names' if error.near else 'It has'}: {some}. Correct name = {wanted!r} in the entry."
