"""Every error that Agouti raises.

    AgoutiError
    |-- ConfigError                 the configuration is wrong: file, line, nearest valid key
    |   `-- LabelUnknown            no such label; near ones are named
    |-- RequestError                the call itself is wrong; nothing was sent
    |   |-- LimitReached            a limit of your own entries: its turn would come too late
    |   |-- BudgetExceeded          a budget of your own has less than the call could cost
    |   |-- NotRecorded             replay: the archive has no reply to this request
    |   `-- ParameterUnsupported    this dialect or provider has no such parameter
    |-- CredentialError
    |   |-- CredentialMissing       no key: where was looked, and what is named alike
    |   `-- CredentialRefused       the provider does not accept the key
    |-- ConnectionFailed            no reply came
    |   |-- AddressWrong            no such host, not HTTP, or another service answers there
    |   |-- NotRunning              nothing listens there
    |   |-- TLSFailed               the certificate does not verify, or it is not TLS
    |   |-- ProxyFailed             the proxy on the way refused
    |   |-- ConnectionLost          the connection broke before the reply was whole
    |   |-- TimedOut                one of the time limits ran out; ``phase`` says which
    |   `-- CircuitOpen             not tried: this provider failed again and again just now
    |-- ProviderError               the provider answered with an error
    |   |-- RequestRefused          the request is at fault (400, 413, 422)
    |   |   |-- ContextOverflow     prompt and answer do not fit the context window
    |   |   `-- ContentRefused      the provider's content rules refuse the prompt
    |   |-- NoAccess                this account may not use it, or not in this region
    |   |-- ModelUnknown            no such model; near ones from the provider's list
    |   |-- OutOfCredit             the account has run out of credit or budget
    |   |-- RateLimited             too many requests or tokens; waiting helps
    |   |-- Overloaded              the provider has too much to do; waiting helps
    |   `-- ProviderFault           an error inside the provider (500 and its kin)
    |-- ReplyError                  a reply came, but not a usable one
    |   |-- ReplyUnreadable         not what the dialect promises: HTML, broken JSON, other JSON
    |   |   `-- FramingError        a stream whose frames cannot be told apart
    |   |-- StreamCut               the stream ended early; ``partial`` is what had come
    |   |-- NotFilled               no answer fitted the form; ``answers`` has all of them
    |   |-- ToolCallInvalid         the model calls what there is not, or with arguments that do not fit
    |   `-- TooManyRounds           the model goes on calling functions and does not answer
    `-- DeadlineExceeded            the whole call took longer than its deadline allows

Besides, `AgoutiWarning` says that something was left out where the configuration allows that.

All carry the same facts, `None` or empty where not known:

    >>> try:
    ...     raise NotRunning("nothing listens at 127.0.0.1:9", provider="shed", hint="Start the server.")
    ... except AgoutiError as error:
    ...     print(error.provider, error.status, error.retryable, "|", error.hint)
    shed None True | Start the server.
"""

from typing import TYPE_CHECKING, Any, ClassVar, Self

if TYPE_CHECKING:
    from typing import TypedDict, Unpack

    from .attempt import Attempt

    class Facts(TypedDict, total=False):
        """What every error can be told when it is made: see `AgoutiError`."""

        hint: str
        provider: str | None
        model: str | None
        status: int | None
        request_id: str | None
        provider_message: str | None
        code: str | None
        retryable: bool | None
        attempts: "tuple[Attempt, ...]"
        partial: Any
        wait: float | None


class AgoutiError(Exception):
    """The root of all of them.

    Attributes:
        message: what happened, one line.
        hint: what to do next, one line.
        provider: label of the provider's entry.
        model: label of the model, or the name that was sent.
        status: the HTTP status.
        request_id: the provider's own identifier of the request.
        provider_message: the provider's own words.
        code: the provider's own word for it, where it gives one.
        attempts: what was tried before this, in order.
        partial: the reply so far, where a stream broke; the `agouti.Embeddings` of the other texts, where some failed.
        wait: seconds that the provider asked to wait.
        answers: the `agouti.FilledAnswer` that `fill` had got before this, and had paid for.
    """

    default_hint: ClassVar[str] = ""
    may_pass: ClassVar[bool] = False
    """Whether the cause of such an error may pass: ``retryable`` where nobody says otherwise."""

    def __init__(self, message: str, /, **facts: "Unpack[Facts]") -> None:
        super().__init__(message)
        if "message" in facts:  # what the provider's words were called in 0.2
            facts = _renamed(facts)
        self.message = message
        self.hint = facts.get("hint") or self.default_hint
        self.provider = facts.get("provider")
        self.model = facts.get("model")
        self.status = facts.get("status")
        self.request_id = facts.get("request_id")
        self.provider_message = facts.get("provider_message")
        self.code = facts.get("code")
        self.attempts = facts.get("attempts", ())
        self.partial: Any = facts.get("partial")
        self.wait = facts.get("wait")
        self.answers: tuple[Any, ...] = ()
        self._retryable = facts.get("retryable")

    @property
    def retryable(self) -> bool:
        """Whether the same call may succeed later."""
        return self.may_pass if self._retryable is None else self._retryable

    def with_context(self, *, before: str = "", **facts: "Unpack[Facts]") -> Self:
        """The same error, told more of what is known; the only way in which one changes after it was made.

        Args:
            before: what to put before the words, unless they begin so already: a place, or who said it.
            facts: as for the error itself; those that are not given stay as they are.
        """
        if before and not self.message.startswith(before):
            self.message = f"{before}: {self.message}"
            self.args = (self.message,)
        if "message" in facts:
            facts = _renamed(facts)
        for name, fact in facts.items():
            setattr(self, "_retryable" if name == "retryable" else name, fact)
        return self

    if not TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            from .._former import attribute

            return attribute(self, name)

    def __str__(self) -> str:
        return f"{self.message}\n{self.hint}" if self.hint else self.message

    def __reduce__(self) -> tuple[Any, ...]:
        # The default would call the class with ``args`` alone and lose every keyword.
        return _rebuild, (type(self), self.message, self.__dict__.copy())


def _renamed(facts: Any) -> Any:
    from .._former import current

    return current("an error", facts)


def _rebuild(kind: type[AgoutiError], message: str, facts: dict[str, Any]) -> AgoutiError:
    error = kind.__new__(kind)
    Exception.__init__(error, message)
    if "what" in facts:  # of 0.2, whose `message` had the provider's own words
        facts = {**facts, "message": facts["what"], "provider_message": facts.get("message")}
        del facts["what"]
    error.__dict__.update(facts)
    return error


class AgoutiWarning(UserWarning):
    """Something was left out or put right on the way; said once."""


class ConfigError(AgoutiError):
    """The configuration is wrong. ``file`` and ``line`` say where, where that is known."""

    def __init__(
        self, message: str, /, *, file: str | None = None, line: int | None = None, **facts: "Unpack[Facts]"
    ) -> None:
        super().__init__(message, **facts)
        self.file = file
        self.line = line


class LabelUnknown(ConfigError):
    """No model or provider of that label."""


class RequestError(AgoutiError, ValueError):
    """The call is wrong; nothing was sent."""


class LedgerUnavailable(RequestError):
    """Nobody can say now what is left of a budget: its ledger is out of reach. Nothing was sent."""

    may_pass = True
    default_hint = "Try again, or see what is the matter with the ledger."


class ParameterUnsupported(RequestError):
    """A parameter that this dialect, provider or model does not take. ``parameter`` names it."""

    def __init__(self, message: str, /, *, parameter: str | None = None, **facts: "Unpack[Facts]") -> None:
        super().__init__(message, **facts)
        self.parameter = parameter


class CallRefused(RequestError):
    """A hook of the application has refused the call: nothing was sent.

    Args:
        fallback: whether the next model of the entry's ``fallback`` may take over.

    Example:
        >>> import agouti, agouti.standins
        >>> class Closed(agouti.Hook):
        ...     def before(self, attempt):
        ...         raise agouti.CallRefused("the library is closed", hint="Ask again after eight.")
        >>> with agouti.standins.serve() as served, agouti.Client(served.config, hooks=[Closed()]) as client:
        ...     try:
        ...         client.ask("almanac", "When do peas go in?")
        ...     except agouti.CallRefused as error:
        ...         print(error.message)
        the library is closed
    """

    default_hint = "A hook of this application refuses it: see who passes hooks= to the client."

    def __init__(self, message: str, /, *, fallback: bool = False, **facts: "Unpack[Facts]") -> None:
        super().__init__(message, **facts)
        self.fallback = fallback


class LimitReached(RequestError):
    """A limit of your own entries is reached, and the turn would come later than it may; ``wait`` says when."""

    may_pass = True
    default_hint = "Try again then, raise wait in the limits of the entry, or name a fallback model."


class BudgetExceeded(RequestError):
    """A budget of your own has less left than the call could cost; nothing was sent, and nothing spent."""

    default_hint = "Raise the budget, lower max_tokens, or name a cheaper model as fallback."


class NotRecorded(RequestError):
    """The archive that answers instead of the network has no reply to this request."""


class CredentialError(AgoutiError):
    """Something about the key."""


class CredentialMissing(CredentialError):
    """There is no key where the entry says that it lives."""


class CredentialRefused(CredentialError):
    """The provider does not accept the key."""

    default_hint = "Make a new key on the provider's pages, put it where this entry looks, then run: agouti check"


class ConnectionFailed(AgoutiError):
    """No reply came."""

    may_pass = True


class AddressWrong(ConnectionFailed):
    """No such host, no HTTP there, or another service than this dialect expects."""

    may_pass = False


class NotRunning(ConnectionFailed):
    """Nothing listens at the address."""


class TLSFailed(ConnectionFailed):
    """No trusted encrypted connection could be made."""

    may_pass = False


class ProxyFailed(ConnectionFailed):
    """The proxy between here and the provider refused or could not be reached."""

    may_pass = False


class ConnectionLost(ConnectionFailed):
    """The connection broke before the reply was whole. ``sent``: the request had gone out whole before.

    Then the provider may have done what it asks, and bill for it.
    """

    def __init__(self, message: str, /, *, sent: bool = False, **facts: "Unpack[Facts]") -> None:
        super().__init__(message, **facts)
        self.sent = sent


class TimedOut(ConnectionFailed):
    """A time limit ran out. ``phase``: ``connect``, ``first byte``, ``between chunks``."""

    def __init__(self, message: str, /, *, phase: str | None = None, **facts: "Unpack[Facts]") -> None:
        super().__init__(message, **facts)
        self.phase = phase


class CircuitOpen(ConnectionFailed):
    """The provider failed so often just now that it is left alone for a while."""


class ProviderError(AgoutiError):
    """The provider answered with an error; its own words are in ``provider_message``."""


class RequestRefused(ProviderError):
    """The provider finds fault with the request. ``parameter`` names the field where it says so."""

    default_hint = "Change the request as the provider says, or see what is sent with: agouti explain LABEL"

    def __init__(self, message: str, /, *, parameter: str | None = None, **facts: "Unpack[Facts]") -> None:
        super().__init__(message, **facts)
        self.parameter = parameter


class ContextOverflow(RequestRefused):
    """Prompt and answer together are longer than the model's context window."""

    default_hint = "Shorten the prompt or lower max_tokens, or take a model with a larger context window."


class ContentRefused(RequestRefused):
    """The provider's content rules refuse the prompt."""

    default_hint = "Reword the prompt; the provider's own message says which rule."


class NoAccess(ProviderError):
    """The account may not use this model or operation, or not in this region."""

    default_hint = (
        "Ask for access to the model on the provider's pages, or take another region or a model that the account has."
    )


class ModelUnknown(ProviderError):
    """The provider has no model of that name. ``near`` holds names from its list that look alike."""

    default_hint = "See the provider's names with: agouti check"

    def __init__(self, message: str, /, *, near: tuple[str, ...] = (), **facts: "Unpack[Facts]") -> None:
        super().__init__(message, **facts)
        self.near = near

    def with_near(self, near: tuple[str, ...], hint: str) -> Self:
        """The same error, with names of the provider's list that look alike."""
        self.near = near
        return self.with_context(hint=hint)


class OutOfCredit(ProviderError):
    """The account has run out of credit; waiting does not help."""

    default_hint = "Add credit or raise the budget on the provider's billing page, or name a fallback model."


class RateLimited(ProviderError):
    """Too many requests or tokens in too short a time; ``wait`` says for how long, where told."""

    may_pass = True
    default_hint = "Slow down, raise retries.max_wait in the provider's entry, or name a fallback model in the model's."


class Overloaded(ProviderError):
    """The provider has too much to do."""

    may_pass = True
    default_hint = "Try again later, or name a fallback model in the entry."


class ProviderFault(ProviderError):
    """An error inside the provider."""

    may_pass = True
    default_hint = "Try again later; if it lasts, tell the provider the request id."


class ReplyError(AgoutiError):
    """A reply came, but not a usable one."""


class ReplyUnreadable(ReplyError):
    """The reply is not what the dialect promises."""

    default_hint = "Check that the address and the dialect belong together: agouti check"


class FramingError(ReplyUnreadable):
    """A stream whose frames cannot be told apart."""


class NotAccepted(ReplyError):
    """An answer came, and the application's own ``accept`` of a batch says that it is none; it is in ``partial``."""

    default_hint = "See what came in the row's answer; --retry-kind NotAccepted (retry_failed) asks for it once more."


class ToolCallInvalid(ReplyError):
    """The model calls a function that there is not, or with arguments that do not fit, also after a correction."""

    default_hint = "Make names and descriptions of the functions plainer, or take a stronger model."


class TooManyRounds(ReplyError):
    """The model goes on calling functions and does not answer."""


class DeadlineExceeded(AgoutiError):
    """The call as a whole took longer than its deadline allows."""

    may_pass = True
    default_hint = "Raise deadline= of the call or of the entry, or lower max_tokens."


if not TYPE_CHECKING:  # the names that have moved: see there

    def __getattr__(name: str) -> object:
        from .._former import forward

        return forward(__name__, name)
