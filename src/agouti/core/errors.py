"""Every error that Agouti raises.

    AgoutiError
    |-- ConfigError                 the configuration is wrong: file, line, nearest valid key
    |   `-- LabelUnknown            no such label; near ones are named
    |-- RequestError                the call itself is wrong; nothing was sent
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
    |   |-- NotFilled               no answer fitted the form; ``tries`` has all of them
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

from typing import TYPE_CHECKING, Any, ClassVar

if TYPE_CHECKING:
    from .filled import Filling
    from .reply import Attempt, Reply


class AgoutiError(Exception):
    """The root of all of them.

    Attributes:
        what: what happened, one line.
        hint: what to do next, one line.
        provider: label of the provider's entry.
        model: label of the model, or the name that was sent.
        status: the HTTP status.
        request_id: the provider's own identifier of the request.
        message: the provider's own words.
        retryable: whether the same call may succeed later.
        attempts: what was tried before this, in order.
        partial: the reply so far, where a stream broke.
        wait: seconds that the provider asked to wait.
    """

    retryable: bool = False
    default_hint: ClassVar[str] = ""

    def __init__(
        self,
        what: str,
        *,
        hint: str = "",
        provider: str | None = None,
        model: str | None = None,
        status: int | None = None,
        request_id: str | None = None,
        message: str | None = None,
        retryable: bool | None = None,
        attempts: "tuple[Attempt, ...]" = (),
        partial: "Reply | None" = None,
        wait: float | None = None,
    ) -> None:
        super().__init__(what)
        self.what = what
        self.hint = hint or self.default_hint
        self.provider = provider
        self.model = model
        self.status = status
        self.request_id = request_id
        self.message = message
        if retryable is not None:
            self.retryable = retryable
        self.attempts = attempts
        self.partial = partial
        self.wait = wait

    def __str__(self) -> str:
        return f"{self.what}\n{self.hint}" if self.hint else self.what

    def __reduce__(self) -> tuple[Any, ...]:
        # The default would call the class with ``args`` alone and lose every keyword.
        return _rebuild, (type(self), self.what, self.__dict__.copy())


def _rebuild(kind: type[AgoutiError], what: str, facts: dict[str, Any]) -> AgoutiError:
    error = kind.__new__(kind)
    Exception.__init__(error, what)
    error.__dict__.update(facts)
    return error


class AgoutiWarning(UserWarning):
    """Something was left out or put right on the way; said once."""


class ConfigError(AgoutiError):
    """The configuration is wrong. ``file`` and ``line`` say where, where that is known."""

    file: str | None = None
    line: int | None = None


class LabelUnknown(ConfigError):
    """No model or provider of that label."""


class RequestError(AgoutiError, ValueError):
    """The call is wrong; nothing was sent."""


class ParameterUnsupported(RequestError):
    """A parameter that this dialect, provider or model does not take. ``parameter`` names it."""

    parameter: str | None = None


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

    retryable = True


class AddressWrong(ConnectionFailed):
    """No such host, no HTTP there, or another service than this dialect expects."""

    retryable = False


class NotRunning(ConnectionFailed):
    """Nothing listens at the address."""


class TLSFailed(ConnectionFailed):
    """No trusted encrypted connection could be made."""

    retryable = False


class ProxyFailed(ConnectionFailed):
    """The proxy between here and the provider refused or could not be reached."""

    retryable = False


class ConnectionLost(ConnectionFailed):
    """The connection broke before the reply was whole."""


class TimedOut(ConnectionFailed):
    """A time limit ran out. ``phase``: ``connect``, ``first byte``, ``between chunks``."""

    phase: str | None = None


class CircuitOpen(ConnectionFailed):
    """The provider failed so often just now that it is left alone for a while."""


class ProviderError(AgoutiError):
    """The provider answered with an error; its own words are in ``message``."""


class RequestRefused(ProviderError):
    """The provider finds fault with the request. ``parameter`` names the field where it says so."""

    parameter: str | None = None
    default_hint = "Change the request as the provider says, or see what is sent with: agouti explain LABEL"


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

    near: tuple[str, ...] = ()
    default_hint = "See the provider's names with: agouti check"


class OutOfCredit(ProviderError):
    """The account has run out of credit; waiting does not help."""

    default_hint = "Add credit or raise the budget on the provider's billing page, or name a fallback model."


class RateLimited(ProviderError):
    """Too many requests or tokens in too short a time; ``wait`` says for how long, where told."""

    retryable = True
    default_hint = "Slow down, or set limits.requests_per_minute in the provider's entry so that Agouti does."


class Overloaded(ProviderError):
    """The provider has too much to do."""

    retryable = True
    default_hint = "Try again later, or name a fallback model in the entry."


class ProviderFault(ProviderError):
    """An error inside the provider."""

    retryable = True
    default_hint = "Try again later; if it lasts, tell the provider the request id."


class ReplyError(AgoutiError):
    """A reply came, but not a usable one."""


class ReplyUnreadable(ReplyError):
    """The reply is not what the dialect promises."""

    default_hint = "Check that the address and the dialect belong together: agouti check"


class FramingError(ReplyUnreadable):
    """A stream whose frames cannot be told apart."""


class StreamCut(ReplyError):
    """The stream ended before the reply was complete; ``partial`` is what had come."""

    retryable = True
    default_hint = "What had come is in error.partial; ask again for the whole answer."


class NotFilled(ReplyError):
    """No answer fitted the form.

    Attributes:
        problem: of the last answer: ``truncated``, ``blanks``, ``refusal``, ``empty``, ``no json``, ``broken json``,
            ``several``, ``no call`` or ``invalid``.
        tries: every answer, and what was wrong with it.
    """

    default_hint = "A stronger model, a plainer form or more repairs may help; every answer is in error.tries."
    problem: str = ""
    tries: "tuple[Filling, ...]" = ()


class ToolCallInvalid(ReplyError):
    """The model calls a function that there is not, or with arguments that do not fit, also after a correction."""

    default_hint = "Make names and descriptions of the functions plainer, or take a stronger model."


class TooManyRounds(ReplyError):
    """The model goes on calling functions and does not answer."""


class DeadlineExceeded(AgoutiError):
    """The call as a whole took longer than its deadline allows."""

    retryable = True
    default_hint = "Raise deadline= of the call or of the entry, or lower max_tokens."
