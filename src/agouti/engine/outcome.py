"""How an attempt ended, as a value: answered or failed."""

from collections.abc import Mapping
from typing import Generic, TypeAlias, TypeVar

from msgspec import Struct

from ..core.errors import AgoutiError

Request = TypeVar("Request")
"""What is sent to one model: made by `prepare`, and made anew when a part of it is refused."""
Result = TypeVar("Result")


class Answer(Struct, Generic[Result], frozen=True, gc=False):
    """What a provider answered.

    Attributes:
        value: what the operation makes of it.
        status, headers: of the reply.
        body: of a whole reply, as it came; empty for a stream.
        cached: a hook had it; nothing was sent.
    """

    value: Result
    status: int
    headers: Mapping[str, str]
    body: bytes = b""
    cached: bool = False


class Answered(Struct, Generic[Result], frozen=True, gc=False):
    """An attempt that was answered."""

    answer: Answer[Result]


class Failed(Struct, frozen=True, gc=False):
    """An attempt that failed.

    Attributes:
        error: what went wrong.
        started: a part of the reply had come.
        sent: a request had gone out; otherwise it failed on the way there.
        final: work is under way at the provider: sending the request again would start it a second time.
        status, headers: of the reply, where one came.
    """

    error: AgoutiError
    started: bool = False
    sent: bool = True
    final: bool = False
    status: int | None = None
    headers: Mapping[str, str] = {}


AttemptOutcome: TypeAlias = Answered[Result] | Failed
