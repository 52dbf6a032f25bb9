"""Operations: one kind of thing that is asked of a provider, as the exchange sees it."""

from typing import ClassVar, Generic

from msgspec import Struct

from ..core.attempt import Attempt
from ..core.canonical.chat import Completion
from ..core.canonical.usage import Usage
from ..core.errors import AgoutiError, RequestError
from ..core.http.exchange import HttpRequest, Timeouts
from ..dialects.wire import Fault, Outgoing, Pending
from .call import Call
from .effects import Steps
from .outcome import Answer, Answered, AttemptOutcome, Request, Result
from .providers.provider import Target


class CachedContext(Struct, frozen=True, gc=False):
    """What an answer that a hook has is received for.

    Attributes:
        attempts: those before it.
    """

    call: Call
    target: Target
    attempts: list[Attempt]


class Try(Struct, Generic[Request, Result], frozen=True, gc=False, kw_only=True):
    """One try: the request as it is sent, and how long it may take.

    Attributes:
        request: what the operation asks.
        http: the same as it is sent.
        timeouts: those of the provider, within the deadline.
        attempts: those before it.
        until: when it must have ended, by the call's clock.
    """

    call: Call
    operation: "Operation[Request, Result]"
    target: Target
    request: Request
    http: HttpRequest
    timeouts: Timeouts
    attempts: list[Attempt]
    until: float

    @property
    def is_late(self) -> bool:
        """Whether its time is over."""
        return self.call.clocks.clock() >= self.until

    def left(self) -> float:
        """Seconds that it may still take."""
        return self.until - self.call.clocks.clock()


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

    def receive(self, context: Try[Request, Result]) -> Steps[AttemptOutcome[Result]]:
        """Send the request, and get the answer."""
        raise NotImplementedError

    def receive_cached(self, value: Result, context: CachedContext) -> Steps[Answered[Result]]:
        """The answer that a hook has, as if it had been received."""
        yield from ()
        return Answered(Answer(value, 0, {}, cached=True))

    def reduced(self, error: AgoutiError, request: Request, target: Target) -> Request | None:
        """The request without what the provider refuses, where the entry allows that."""
        return None

    def explain_failure(self, error: AgoutiError, call: Call, target: Target) -> Steps[None]:
        """Say more of why a call has failed, in the error: near names of a model that is unknown."""
        yield from ()

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


def unsupported_feature(target: Target, feature: str, hint: str) -> RequestError:
    """The error for an operation that the dialect of a provider does not have."""
    provider = target.provider
    return RequestError(
        f"dialect {provider.dialect.name} (provider {provider.entry.label}) has no {feature}", hint=hint
    )
