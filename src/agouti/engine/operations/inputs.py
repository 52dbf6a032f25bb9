"""Images and files in a prompt, fetched from their addresses for formats that take only the thing itself.

The address comes from whoever wrote the prompt, so it is treated as a stranger's: it must not reach into the
network that this program stands in, lead elsewhere, or send without end.
"""

from base64 import b64encode
from urllib.parse import urlsplit

from msgspec.structs import replace

from ...core.canonical.chat import Request
from ...core.errors import AgoutiError, RequestError
from ...core.http.address import parse
from ...core.http.exchange import HttpRequest, TimeoutsWithin, TransportFailure
from ...core.messages.media_types import MOST_BYTES, file_type_of, media_type_of
from ...core.messages.messages import media_in, with_addresses
from ..call import Call
from ..effects import Drop, Finish, Open, OpenReply, Receive, Steps
from ..providers.provider import USER_AGENT, Target

# However slowly it comes.
_SECONDS = 60.0
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
        supported = abilities.image_addresses if kind == "image" else abilities.file_addresses
        if not supported and address[:8].lower().startswith(("http://", "https://")) and address not in data:
            data[address] = yield from _fetched(address, kind, call, private=request.fetch == "private")
    return replace(request, messages=with_addresses(request.messages, data)) if data else request


def _fetched(address: str, kind: str, call: Call, *, private: bool) -> Steps[str]:
    """The ``data:`` address of the image or file at an address."""
    display = address.partition("?")[0]
    try:
        _ = urlsplit(address).port
        parse(address)
    except (ValueError, AgoutiError):
        raise RequestError(f"{display!r} is no address of a {kind}", hint="Give it as https://HOST/PATH.") from None
    remaining = call.left()
    seconds = max(min(_SECONDS, _SECONDS if remaining is None else remaining), 0.001)
    timeouts = TimeoutsWithin(min(10.0, seconds), min(20.0, seconds), min(20.0, seconds), seconds, seconds)
    until = call.clocks.clock() + seconds
    try:
        headers = _HEADERS if kind == "image" else {**_HEADERS, "accept": "*/*"}
        reply: OpenReply = yield Open(HttpRequest("GET", address, headers, public_only=not private), timeouts)
        body = bytearray()
        while len(body) <= MOST_BYTES and (data := (yield Receive(until - call.clocks.clock()))):
            body += data
            if call.clocks.clock() >= until:
                raise TransportFailure("timeout", "it did not come in time")
        yield Drop() if len(body) > MOST_BYTES else Finish()
    except TransportFailure as failure:
        raise _unreachable(failure, f"{kind} {display}") from None
    if reply.status != 200:
        where = reply.headers.get("location", "").partition("?")[0]
        raise RequestError(
            f"the {kind} {display} cannot be fetched: HTTP {reply.status}" + (f", it is at {where}" if where else ""),
            hint="Give the address where it is." if where else "Check the address.",
        )
    found = bytes(body)
    if len(found) > MOST_BYTES:
        raise RequestError(
            f"the {kind} {display} has more than {MOST_BYTES / 1e6:.1f} MB, the most that is sent",
            hint="Fetch it yourself and make it smaller.",
        )
    media_type = media_type_of(found, display) if kind == "image" else file_type_of(found, display, display)
    return f"data:{media_type};base64,{b64encode(found).decode()}"


def _unreachable(failure: TransportFailure, display: str) -> RequestError:
    if failure.reason == "private":
        return RequestError(
            f"the {display} stands in a private network ({failure.detail}): it is not fetched",
            hint='Fetch it yourself and pass the bytes, or say fetch_images="private".',
        )
    if failure.reason == "dns":
        return RequestError(f"there is no host of the {display}", hint="Check the address.")
    return RequestError(
        f"the {display} cannot be fetched: {failure.detail}", hint="Fetch it yourself and pass the bytes."
    )


def check_inputs(request: Request, target: Target) -> None:
    """See that the model takes what is in the prompt.

    Raises:
        RequestError: it holds images, files or audio, and the entry says that the model takes none.
    """
    from ...core.messages.messages import media_in

    inputs = target.model.inputs
    if inputs is None:
        return
    for kind, _ in media_in(request.messages):
        if kind not in inputs:
            some = {"image": "images", "file": "files"}.get(kind, kind)
            raise RequestError(
                f"{target.model.label} takes no {some} (inputs in its entry)",
                hint=f'Ask a model that does, leave the {some} out, or add "{kind}" to its inputs.',
            )
