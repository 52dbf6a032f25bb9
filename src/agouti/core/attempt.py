"""An attempt: one request that was sent, and what came of it."""

from collections.abc import Mapping

from msgspec import Struct


class Attempt(Struct, frozen=True, gc=False, kw_only=True):
    """One HTTP attempt: a request that was sent, and what came of it.

    Attributes:
        provider: label of the provider's entry.
        model: the name that was sent.
        outcome: ``answered``, ``cached`` (nothing was sent), or the name of the error.
        status: HTTP status, where a reply came.
        seconds: how long it took, from the moment when it was sent.
        waited: seconds waited before it: for limits, keys, and after an attempt that failed.
        why: what went wrong, one line.
    """

    provider: str
    model: str
    outcome: str
    status: int | None = None
    seconds: float = 0.0
    waited: float = 0.0
    why: str = ""


# Where providers put their own identifier of a request; the commonest first.
_REQUEST_IDS = ("x-request-id", "request-id", "x-amzn-requestid", "x-correlation-id", "cf-ray")


def request_id_in(headers: Mapping[str, str]) -> str | None:
    """The provider's own identifier of the request, in the headers of its reply.

    >>> request_id_in({"request-id": "req_7"})
    'req_7'
    """
    for name in _REQUEST_IDS:
        if name in headers:
            return headers[name]
    return None
