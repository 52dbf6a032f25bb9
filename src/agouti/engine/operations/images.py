"""Images in a prompt, fetched from their addresses for formats that take only the image itself.

The address comes from whoever wrote the prompt, so it is treated as a stranger's: it must not reach into the
network that this program stands in, lead elsewhere, or send without end.
"""

from base64 import b64encode

from msgspec.structs import replace

from ...core.chat import Request
from ...core.errors import RequestError
from ...core.http import HttpRequest, Timeouts, TransportFailure
from ...core.media_types import MOST_BYTES, media_type_of
from ...core.messages import images_in, with_addresses
from ..call import Call
from ..effects import Drop, Finish, Open, OpenReply, Receive, Steps
from ..provider import USER_AGENT, Target
from .chat import check_inputs

_TIMEOUTS = Timeouts(connect=10.0, first_byte=20.0, between_chunks=20.0)
_HEADERS = {"user-agent": USER_AGENT, "accept": "image/*", "accept-encoding": "identity"}


def with_images_fetched(request: Request, call: Call, target: Target) -> Steps[Request]:
    """The request with its images as the model can take them.

    Raises:
        RequestError: the entry says that the model takes none, or an image cannot be fetched.
    """
    check_inputs(request, target)
    if request.fetch == "no" or target.provider.dialect.abilities.image_addresses:
        return request
    data: dict[str, str] = {}
    for address in images_in(request.messages):
        if not address.startswith("data:") and address not in data:
            data[address] = yield from _fetched(address, call, private=request.fetch == "private")
    return replace(request, messages=with_addresses(request.messages, data)) if data else request


def _fetched(address: str, call: Call, *, private: bool) -> Steps[str]:
    """The ``data:`` address of the image at an address."""
    shown = address.partition("?")[0]
    left = call.left()
    timeouts = _TIMEOUTS if left is None else Timeouts(*(max(min(limit, left), 0.001) for limit in (10.0, 20.0, 20.0)))
    try:
        reply: OpenReply = yield Open(HttpRequest("GET", address, _HEADERS, public_only=not private), timeouts)
        body = bytearray()
        while len(body) <= MOST_BYTES and (data := (yield Receive(call.left()))):
            body += data
        yield Drop() if len(body) > MOST_BYTES else Finish()
    except TransportFailure as failure:
        raise _unreachable(failure, shown) from None
    if reply.status != 200:
        where = reply.headers.get("location", "").partition("?")[0]
        raise RequestError(
            f"the image {shown} cannot be fetched: HTTP {reply.status}" + (f", it is at {where}" if where else ""),
            hint="Give the address where it is." if where else "Check the address.",
        )
    return f"data:{media_type_of(bytes(body), shown)};base64,{b64encode(body).decode()}"


def _unreachable(failure: TransportFailure, shown: str) -> RequestError:
    if failure.reason == "private":
        return RequestError(
            f"the image {shown} stands in a private network ({failure.detail}): it is not fetched",
            hint='Fetch it yourself and pass the bytes, or say fetch_images="private".',
        )
    if failure.reason == "dns":
        return RequestError(f"there is no host of the image {shown}", hint="Check the address of the image.")
    return RequestError(
        f"the image {shown} cannot be fetched: {failure.detail}", hint="Fetch it yourself and pass the bytes."
    )
