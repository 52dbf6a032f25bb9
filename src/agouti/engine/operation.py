"""Operations: one kind of thing that is asked of a provider, as the exchange sees it."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, ClassVar, Generic, TypeAlias, TypeVar

from msgspec import Struct

from ..core.errors import AgoutiError, RequestError
from ..core.usage import Usage
from ..dialects.base import Fault, Outgoing, Pending
from .call import Call
from .effects import Steps
from .provider import Target

if TYPE_CHECKING:
    from .receive import Try

Request = TypeVar("Request")
"""What is sent to one model: made by `prepare`, and made anew when a part of it is refused."""
Result = TypeVar("Result")


class Answer(Struct, Generic[Result], frozen=True, gc=False):
    """What a provider answered.

    Attributes:
        value: what the operation makes of it.
        status, headers: of the reply.
        body: of a whole reply, as it came; empty for a stream.
    """

    value: Result
    status: int
    headers: Mapping[str, str]
    body: bytes = b""


class Answered(Struct, Generic[Result], frozen=True, gc=False):
    """An attempt that was answered."""

    answer: Answer[Result]


class Failed(Struct, frozen=True, gc=False):
    """An attempt that failed.

    Attributes:
        error: what went wrong.
        began: a part of the reply had come.
        sent: a request had gone out; otherwise it failed on the way there.
        final: work is under way at the provider: sending the request again would start it a second time.
        status, headers: of the reply, where one came.
    """

    error: AgoutiError
    began: bool = False
    sent: bool = True
    final: bool = False
    status: int | None = None
    headers: Mapping[str, str] = {}


AttemptOutcome: TypeAlias = Answered[Result] | Failed


class Operation(Generic[Request, Result]):
    """One kind of thing that is asked of a provider: a chat, vectors, a list of models, a count of tokens.

    Attributes:
        name: what hooks and logs call it.
        sends_key: whether it goes with the provider's key.
    """

    name: ClassVar[str]
    sends_key: bool = True

    def prepare(self, call: Call, target: Target) -> Steps[Request]:
        """The request for one model; may need effects, such as fetching an image.

        Raises:
            RequestError: it cannot be asked of this model; nothing was sent.
        """
        raise NotImplementedError

    def encode(self, request: Request, target: Target) -> Outgoing:
        """The request as the provider's dialect writes it.

        Raises:
            RequestError: the dialect cannot express it.
        """
        raise NotImplementedError

    def decode(self, body: bytes, request: Request, target: Target) -> Result | Fault | Pending:
        """What a reply of good status means.

        Raises:
            ReplyUnreadable: it is not such a reply.
        """
        raise NotImplementedError

    def receive(self, this: "Try[Request, Result]") -> Steps[AttemptOutcome[Result]]:
        """Send the request, and get the answer."""
        from .receive import receive_whole

        return receive_whole(this)

    def reduced(self, error: AgoutiError, request: Request, target: Target) -> Request | None:
        """The request without what the provider refuses, where the entry allows that."""
        return None

    def usage(self, value: Result) -> Usage | None:
        """The token counts of an answer, where it tells them."""
        return None

    def first_token(self) -> float | None:
        """Seconds from the call to the first piece of text, where pieces come."""
        return None

    def partial_usage(self) -> Usage | None:
        """The token counts of what has come so far, where they have been told."""
        return None


def lacks(target: Target, what: str, hint: str) -> RequestError:
    """The error for an operation that the dialect of a provider does not have."""
    provider = target.provider
    return RequestError(f"dialect {provider.dialect.name} (provider {provider.entry.label}) has no {what}", hint=hint)
