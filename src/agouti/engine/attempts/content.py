"""The digest of what a call would send."""

from typing import Any

from ..call import Call
from ..effects import Steps
from ..operation import Operation
from ..outgoing import OutgoingRequest


def content_of(call: "Call", operation: "Operation[Any, Any]", request: Any) -> "Steps[str]":
    """The digest of what a call would send to its first model (see `OutgoingRequest.content`); nothing is sent.

    Raises:
        AgoutiError: it cannot be sent, or a secret of the entry cannot be had.
    """
    from .call_loop import further_headers
    from .credentials import settings_for

    target = call.targets[0]
    if target.provider.sources:
        yield from settings_for(call, target)
    outgoing = OutgoingRequest(operation, request, target)
    outgoing.identify(None, further_headers(call, target))
    return outgoing.content
