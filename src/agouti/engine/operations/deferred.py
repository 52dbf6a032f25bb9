"""Deferred batches: requests handed over at once, looked after, and their results fetched; each step one exchange."""

from collections.abc import Callable
from typing import Generic, TypeVar

from ...core.http.exchange import Timeouts
from ...dialects.base import DeferredBatches
from ...dialects.wire import Fault, Outgoing
from ..attempts.call_loop import exchange
from ..call import Call
from ..effects import Steps
from ..operation import unsupported_feature
from ..providers.provider import Target
from .model_operation import ModelOperation

T = TypeVar("T")

MISSING_STATUSES = (404, 410)
"""Statuses of a batch that is not there any more."""
_LARGE = Timeouts(connect=10.0, first_byte=300.0, between_chunks=60.0, total=3600.0)


class Step(ModelOperation[None, T], Generic[T]):
    """One request about batches.

    Args:
        outgoing: what is sent.
        read: what its reply means.
    """

    name = "deferred"

    def __init__(self, outgoing: Outgoing, read: Callable[[bytes], T]) -> None:
        self._outgoing = outgoing
        self._read = read

    def prepare(self, call: Call, target: Target) -> Steps[None]:
        yield from ()

    def encode(self, request: None, target: Target) -> Outgoing:
        return self._outgoing

    def decode(self, body: bytes, request: None, target: Target) -> T | Fault:
        return self._read(body)


def done(call: Call, outgoing: Outgoing, read: Callable[[bytes], T]) -> Steps[T]:
    """Send a request about batches, and read its reply.

    Raises:
        AgoutiError: there is none.
    """
    from msgspec.structs import replace

    exchanged = yield from exchange(replace(call, until=None, timeouts=_LARGE), Step(outgoing, read))
    return exchanged.answer.value


def batches_of(target: Target) -> DeferredBatches:
    """How the provider of a model hands batches over.

    Raises:
        RequestError: its format has no such way.
    """
    batches = target.provider.dialect.deferred_batches()
    if batches is None:
        raise unsupported_feature(
            target, "deferred batches", "Leave --deferred (deferred=True) out: each row is asked by itself."
        )
    return batches


def path_of(result: str) -> Outgoing:
    """The request that fetches results."""
    return Outgoing("follow", result, None, "GET", "*/*")
