"""Hooks: what is told of every attempt, and may make it wait or refuse it.

Limits, budgets, a ledger, a cache and telemetry plug in here; the exchange knows none of them.

    client = agouti.Client(hooks=[MyLedger()])

A hook is an object with the three methods of `Hook`; it inherits from it for those that it does not need. Hooks are
shared by all threads and tasks of a client. What ``after`` and ``end`` raise is logged and never fails a call.
"""

from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import TYPE_CHECKING, Literal, Protocol, TypeAlias

from msgspec import Struct

from ..core.canonical.usage import Usage

if TYPE_CHECKING:
    from ..core.errors import AgoutiError
    from .effects import Steps
    from .outgoing import OutgoingRequest
    from .question import Question


class AttemptDetails(Struct, frozen=True, kw_only=True):
    """An attempt that is about to be made.

    Attributes:
        operation: ``chat``, ``embeddings``, ``models``, ``count``, ...; ``batch`` of an answer of a deferred batch.
        label: the label that the caller asked.
        model: label of the model that is tried; another one where it has taken over.
        name: exactly what the provider calls it.
        provider: label of the provider.
        number: which attempt of the call it is, from 1.
        question: what is asked, where it is a question.
        request: the same made ready for this model, whatever the operation asks.
        outgoing: the request as it goes out: body, caps, tokens, fingerprint (see `agouti.engine.outgoing`).
        tags: what the call is for, in the application's own words.
        left: seconds to the deadline of the call; `None`: there is none.
        takes: seconds that it may take at most, its waits for limits included.
        call: the same number for all attempts of one call, and of no other that is under way.
        cache: whether the caller wants it answered from a cache, or not; `None`: nothing was said.
        fits: says of an answer whether it is what the caller has asked for; `None`: any is.
        group: number of the group that the call is part of (see `GroupHook`); 0: of none.
    """

    operation: str
    label: str
    model: str
    name: str
    provider: str
    number: int
    question: "Question | None" = None
    request: object = None
    outgoing: "OutgoingRequest" = None  # type: ignore[assignment]
    tags: Mapping[str, str] = {}
    left: float | None = None
    takes: float | None = None
    call: int = 0
    cache: bool | None = None
    fits: "Callable[[object], bool] | None" = None
    group: int = 0


Outcome: TypeAlias = Literal["answered", "failed", "abandoned", "cached"]


class AttemptResult(Struct, frozen=True, kw_only=True):
    """An attempt that has ended, and how.

    Attributes:
        attempt: what it was.
        outcome: ``abandoned`` where the caller left the stream, cancelled the task or interrupted; ``cached`` where a
            hook had the answer, and nothing was sent.
        error: what went wrong.
        status: the HTTP status, where a reply came.
        headers: of the reply: request id, rate limits.
        usage: token counts as the provider reports them, where they were told.
        sent: whether a request went out.
        cost: what it cost, in the currency of the entry's price; `None` where that is not known: also of a request
            that failed after it was sent, where the provider has not said that it did no work.
        exact_cost, currency: the same as a decimal number.
        estimated: whether tokens and cost are estimated: of a reply that was left before the provider told them.
        key: fingerprint of the key that was sent; empty where there was none.
        seconds: how long it took, without what it had waited for before it was sent.
        first_token: seconds from the call to the first piece of text; streams only.
        answer: what came, where it was answered: an `agouti.core.canonical.chat.Completion` of a chat.
        body: of a whole reply, as it came.
    """

    attempt: AttemptDetails
    outcome: Outcome
    error: "AgoutiError | None" = None
    status: int | None = None
    headers: Mapping[str, str] = {}
    usage: Usage | None = None
    sent: bool = True
    cost: float | None = None
    exact_cost: Decimal | None = None
    currency: str = ""
    estimated: bool = False
    key: str = ""
    seconds: float = 0.0
    first_token: float | None = None
    answer: object = None
    body: bytes = b""


class CallResult(Struct, frozen=True, kw_only=True):
    """A call that has ended, all its attempts included.

    Attributes:
        label: the label that the caller asked.
        operation: ``chat``, ``embeddings``, ...
        outcome: how it ended.
        error: what the caller gets to see.
        attempts: how many were made.
        seconds: how long it took.
        tags: what the call was for.
        call: its number, as its attempts have it.
    """

    label: str
    operation: str
    outcome: Outcome
    error: "AgoutiError | None" = None
    attempts: int = 0
    seconds: float = 0.0
    tags: Mapping[str, str] = {}
    call: int = 0


class GroupDetails(Struct, frozen=True):
    """Calls that belong together.

    Attributes:
        number: its own; the ``group`` of each attempt in it.
        operation: ``fill``: a form with its repairs; ``tools``: a question with its functions; ``execute_tool``: one
            function run; ``batch``: a run over rows.
        name: of the form or the function.
        label: the label that is asked.
        within: number of the group that this one is part of; 0: of none.
        tags: what it is for.
    """

    number: int
    operation: str
    name: str
    label: str
    within: int
    tags: Mapping[str, str]


class Hook(Protocol):
    """What a hook can do; each method does nothing unless it is written."""

    def before(self, attempt: AttemptDetails) -> "Steps[None] | None":
        """Before an attempt: raise `agouti.CallRefused` to refuse it, or return steps that make it wait.

        Those of an application are asked after the cache, and before budgets and limits: what they refuse has waited
        for nothing and counts nowhere. Work that takes its time is `agouti.run_in_thread(function)`.

        To release something when the call is cancelled, yield an `agouti.engine.effects.OnAbandon` among the steps.
        `after` must release it too. Your release function may run twice, so make it idempotent.
        """
        return None

    def after(self, result: AttemptResult) -> None:
        """After an attempt that `before` has let through, however it ended; must be quick and wait for nothing."""
        return

    def end(self, result: CallResult) -> None:
        """At the end of a call, however it ended; must be quick and wait for nothing."""
        return


class SendingHook(Hook):
    """A hook that is told of the moment when a request goes out as well."""

    def sending(self, attempt: AttemptDetails) -> Mapping[str, str] | None:
        """The request of an attempt goes out now: its key is there, and nothing else is waited for.

        Returns:
            Headers that it is to carry besides, where there are any.
        """
        return None

    def connected(self, attempt: AttemptDetails) -> None:
        """There is a connection, and the first byte goes out; must be quick. Not told by every transport."""
        return


class BrokenAnswer(Struct, frozen=True):
    """An answer that breaks off: what an `AnsweringHook` may give, as a provider might.

    Attributes:
        answer: an `agouti.core.canonical.chat.Completion`, as far as it came.
        error: how it ended.
    """

    answer: object
    error: "AgoutiError"


class AnsweringHook(Hook):
    """A hook that may have the answer already: then nothing is sent, and no other hook makes it wait.

    Attributes:
        caches: whether its answers have been paid for before, and cost nothing.
        stands_in: whether it stands for the provider: the application's own hooks have their say before it, and nobody
            else's.
    """

    caches: bool = True
    stands_in: bool = False

    def identifies(self, attempt: AttemptDetails) -> bool:
        """Whether ``attempt.outgoing.fingerprint`` has to be known before it is asked: the key is fetched then."""
        return False

    def kept(self, attempt: AttemptDetails) -> "Steps[object | None]":
        """The answer (such as an `agouti.core.canonical.chat.Completion`), or the error instead of it or behind it.

        Returns:
            `None`: it has to be asked. Told before ``before``.
        """
        raise NotImplementedError


class SeeingHook(Hook):
    """A hook that is told as well of what was answered without being sent, or long after it was."""

    def cached(self, result: AttemptResult) -> None:
        """A hook had the answer; must be quick and wait for nothing."""
        return

    def deferred(self, result: AttemptResult) -> None:
        """The answer to a request of a deferred batch was fetched; must be quick and wait for nothing."""
        return


class GroupHook(Hook):
    """A hook that is told as well of calls that belong together; both methods must be quick and wait for nothing."""

    def begin_group(self, group: GroupDetails) -> None:
        """The first call of a group is about to be made."""
        return

    def end_group(self, group: GroupDetails, error: BaseException | None) -> None:
        """A group has ended; with `GeneratorExit` where the caller has left it."""
        return
