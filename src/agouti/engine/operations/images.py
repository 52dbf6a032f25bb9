"""Images and files in a prompt, fetched from their addresses for formats that take only the thing itself.

The address comes from whoever wrote the prompt, so it is treated as a stranger's: it must not reach into the
network that this program stands in, lead elsewhere, or send without end.
"""

from base64 import b64encode

from msgspec.structs import replace

from ...core.chat import Request
from ...core.errors import RequestError
from ...core.http import HttpRequest, Timeouts, TransportFailure
from ...core.media_types import MOST_BYTES, file_type_of, media_type_of
from ...core.messages import media_in, with_addresses
from ..call import Call
from ..effects import Drop, Finish, Open, OpenReply, Receive, Steps
from ..provider import USER_AGENT, Target
from .chat import check_inputs

_TIMEOUTS = Timeouts(connect=10.0, first_byte=20.0, between_chunks=20.0)
_HEADERS = {"user-agent": USER_AGENT, "accept": "image/*", "accept-encoding": "identity"}


def with_images_fetched(request: Request, call: Call, target: Target) -> Steps[Request]:
    """The request with its images and files as the model can take them.

    Raises:
        RequestError: the entry says that the model takes none, or one cannot be fetched.
    """
    check_inputs(request, target)
    abilities = target.provider.dialect.abilities
    if request.fetch == "no":
        return request
    data: dict[str, str] = {}
    for kind, address in media_in(request.messages):
        taken = abilities.image_addresses if kind == "image" else abilities.file_addresses
        if not taken and address.startswith(("http://", "https://")) and address not in data:
            data[address] = yield from _fetched(address, kind, call, private=request.fetch == "private")
    return replace(request, messages=with_addresses(request.messages, data)) if data else request


def _fetched(address: str, kind: str, call: Call, *, private: bool) -> Steps[str]:
    """The ``data:`` address of the image or file at an address."""
    shown = address.partition("?")[0]
    left = call.left()
    timeouts = _TIMEOUTS if left is None else Timeouts(*(max(min(limit, left), 0.001) for limit in (10.0, 20.0, 20.0)))
    try:
        headers = _HEADERS if kind == "image" else {**_HEADERS, "accept": "*/*"}
        reply: OpenReply = yield Open(HttpRequest("GET", address, headers, public_only=not private), timeouts)
        body = bytearray()
        while len(body) <= MOST_BYTES and (data := (yield Receive(call.left()))):
            body += data
        yield Drop() if len(body) > MOST_BYTES else Finish()
    except TransportFailure as failure:
        raise _unreachable(failure, f"{kind} {shown}") from None
    if reply.status != 200:
        where = reply.headers.get("location", "").partition("?")[0]
        raise RequestError(
            f"the {kind} {shown} cannot be fetched: HTTP {reply.status}" + (f", it is at {where}" if where else ""),
            hint="Give the address where it is." if where else "Check the address.",
        )
    found = bytes(body)
    if len(found) > MOST_BYTES:
        raise RequestError(
            f"the {kind} {shown} has more than {MOST_BYTES / 1e6:.1f} MB, the most that is sent",
            hint="Fetch it yourself and make it smaller.",
        )
    media_type = media_type_of(found, shown) if kind == "image" else file_type_of(found, shown, shown)
    return f"data:{media_type};base64,{b64encode(found).decode()}"


def _unreachable(failure: TransportFailure, shown: str) -> RequestError:
    if failure.reason == "private":
        return RequestError(
            f"the {shown} stands in a private network ({failure.detail}): it is not fetched",
            hint='Fetch it yourself and pass the bytes, or say fetch_images="private".',
        )
    if failure.reason == "dns":
        return RequestError(f"there is no host of the {shown}", hint="Check the address.")
    return RequestError(
        f"the {shown} cannot be fetched: {failure.detail}", hint="Fetch it yourself and pass the bytes."
    )
