"""Operations: one kind of thing that is asked of a provider, as the exchange sees it."""

from typing import ClassVar, Generic

from ..core.chat import Completion
from ..core.errors import AgoutiError, RequestError
from ..core.usage import Usage
from ..dialects.base import Fault, Outgoing, Pending
from .call import Call
from .effects import Steps
from .outcome import Answer, Answered, AttemptOutcome, Request, Result
from .provider import Target
from .receive import Kept, Try, receive_whole


class Operation(Generic[Request, Result]):
    """One kind of thing that is asked of a provider: a chat, vectors, a list of models, a count of tokens.

    Attributes:
        name: what hooks and logs call it.
        sends_key: whether it goes with the provider's key.
        asks_a_model: whether a model is named, so that a list of models can help where that one is unknown.
    """

    name: ClassVar[str]
    sends_key: bool = True
    asks_a_model: ClassVar[bool] = True

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

    def receive(self, this: Try[Request, Result]) -> Steps[AttemptOutcome[Result]]:
        """Send the request, and get the answer."""
        return receive_whole(this)

    def receive_kept(self, value: Result, this: Kept) -> Steps[Answered[Result]]:
        """The answer that a hook has, as if it had been received."""
        yield from ()
        return Answered(Answer(value, 0, {}, cached=True))

    def reduced(self, error: AgoutiError, request: Request, target: Target) -> Request | None:
        """The request without what the provider refuses, where the entry allows that."""
        return None

    def heavy(self, request: Request) -> bool:
        """Whether it takes so long to write a request that others should go on meanwhile."""
        return False

    def speaks_for_itself(self, target: Target) -> bool:
        """Whether the body that goes out is in the caller's own words, as it came."""
        return False

    def usage(self, value: Result) -> Usage | None:
        """The token counts of an answer, where it tells them."""
        return None

    def first_token(self) -> float | None:
        """Seconds from the call to the first piece of text, where pieces come."""
        return None

    def partial(self) -> Completion | None:
        """What has come so far of an answer, where it comes in pieces."""
        return None

    def partial_usage(self) -> Usage | None:
        """The token counts of what has come so far, where they have been told."""
        return None


def lacks(target: Target, what: str, hint: str) -> RequestError:
    """The error for an operation that the dialect of a provider does not have."""
    provider = target.provider
    return RequestError(f"dialect {provider.dialect.name} (provider {provider.entry.label}) has no {what}", hint=hint)
