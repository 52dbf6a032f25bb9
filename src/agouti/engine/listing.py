"""The provider's list of models: costs no tokens, and shows whether address and key are right."""

from msgspec import Struct

from ..core.errors import AgoutiError, RequestError
from ..core.http import HttpReply, Timeouts
from ..core.reply import Attempt
from ..dialects.base import ListedModel
from ..transport.base import TransportFailure
from .effects import Send, Steps
from .exchange import Call, credential_for
from .receive import refusal
from .trouble import connection_error, placed, unexpected_reply, unreadable

_TIMEOUTS = Timeouts(connect=5.0, first_byte=15.0, between_chunks=15.0)


class Listing(Struct, frozen=True):
    """A provider's list.

    Attributes:
        models: what it offers.
        date: the reply's own date, as sent; empty where it has none.
        attempt: how long it took.
    """

    models: tuple[ListedModel, ...]
    date: str
    attempt: Attempt


def listing(call: Call, *, keyless: bool = False) -> Steps[Listing]:
    """Get the list of the provider of the call's first target.

    Args:
        keyless: send no key, only to see whether anybody answers.

    Raises:
        RequestError: the dialect has no list.
        AgoutiError: it cannot be had.
    """
    target = call.targets[0]
    endpoint = target.endpoint
    outgoing = endpoint.dialect.encode_models()
    if outgoing is None:
        raise placed(RequestError(f"dialect {endpoint.dialect.name} has no list of models"), target)
    started = call.clock()
    try:
        credential = None if keyless else (yield from credential_for(call, target))
        request = endpoint.request(outgoing, target.model.name, credential)
        reply: HttpReply = yield Send(request, _TIMEOUTS)
    except TransportFailure as failure:
        error = connection_error(failure, target)
    except AgoutiError as wrong:
        error = placed(wrong, target)
    else:
        if reply.status != 200:
            raise refusal(reply.status, reply.headers, reply.body, target, request.url)
        if wrong_service := unexpected_reply(reply.status, reply.headers, reply.body, target):
            raise wrong_service
        try:
            models = endpoint.dialect.decode_models(reply.body)
        except AgoutiError as broken:
            raise unreadable(broken, target, reply.status) from None
        took = Attempt(endpoint.provider.label, "", "answered", reply.status, call.clock() - started)
        return Listing(models, reply.headers.get("date", ""), took)
    raise error


def reaching(call: Call) -> Steps[Attempt]:
    """See whether anybody answers at the provider's address, and whether the key is turned away there.

    For formats without a list of models: any answer at the bare address will do, a 404 too. It costs no tokens.

    Raises:
        AgoutiError: nobody answers, or the key is refused.
    """
    target = call.targets[0]
    endpoint = target.endpoint
    started = call.clock()
    try:
        credential = yield from credential_for(call, target)
        request = endpoint.request_at(endpoint.base, "GET", "*/*", credential)
        reply: HttpReply = yield Send(request, _TIMEOUTS)
    except TransportFailure as failure:
        error = connection_error(failure, target)
    except AgoutiError as wrong:
        error = placed(wrong, target)
    else:
        if reply.status in (401, 403):
            raise refusal(reply.status, reply.headers, reply.body, target, request.url)
        return Attempt(endpoint.provider.label, "", "answered", reply.status, call.clock() - started)
    raise error
