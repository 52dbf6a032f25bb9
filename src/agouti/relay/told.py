"""Errors as the relay tells them: the status and the words that a caller gets, without anything secret."""

from math import ceil

from ..core.errors import (
    AgoutiError,
    BudgetExceeded,
    ContentRefused,
    ContextOverflow,
    LabelUnknown,
    LedgerUnavailable,
    LimitReached,
    ModelUnknown,
    OutOfCredit,
    ParameterUnsupported,
    RateLimited,
    RequestRefused,
)
from ..core.policy import policy_of
from ..dialects.server.base import ErrorTold

_DAY = 86400.0
_CODES: dict[type[AgoutiError], str] = {
    LabelUnknown: "model_not_found",
    ModelUnknown: "model_not_found",
    LimitReached: "rate_limit_exceeded",
    RateLimited: "rate_limit_exceeded",
    BudgetExceeded: "insufficient_quota",
    OutOfCredit: "insufficient_quota",
    ContextOverflow: "context_length_exceeded",
    ContentRefused: "content_policy_violation",
    ParameterUnsupported: "unsupported_parameter",
}
# What ledgers say of their disks and files, and what callers get to read of it.
_CAUSES = {"full": "the disk is full", "locked": "another program holds its ledger", "damaged": "its ledger is damaged"}
# A provider's refusal of a request says so by the status of its own.
_OWN_STATUS = (400, 413, 422)


class Refused(Exception):
    """The relay itself refuses a request; nothing was sent."""

    def __init__(
        self, status: int, message: str, code: str = "", *, wait: float | None = None, allow: str = ""
    ) -> None:
        super().__init__(message)
        self.allow = allow
        self.status = status
        self.message = message
        self.code = code
        self.wait = wait


def status_of(error: AgoutiError) -> int:
    """The HTTP status that an error amounts to.

    >>> status_of(LabelUnknown("no such model")), status_of(RequestRefused("no", status=422))
    (404, 422)
    """
    if isinstance(error, RequestRefused) and error.status in _OWN_STATUS:
        return int(error.status)
    return policy_of(type(error)).status


def told(error: "AgoutiError | Refused", identifier: str) -> ErrorTold:
    """An error as it is told."""
    if isinstance(error, Refused):
        return ErrorTold(error.status, error.message, error.code, identifier=identifier)
    if isinstance(error, LedgerUnavailable):  # where it is kept is nobody's business
        why = next((words for sign, words in _CAUSES.items() if sign in error.what), "its ledger is out of reach")
        said = f"the budget cannot be looked up now: {why}. Nothing was sent: try again."
        return ErrorTold(status_of(error), said, identifier=identifier)
    message = " ".join(f"{error.what}. {error.hint}".split()) if error.hint else error.what
    code = next((_CODES[each] for each in type(error).__mro__ if each in _CODES), "")
    return ErrorTold(status_of(error), message, code, getattr(error, "parameter", None), identifier)


def retry_after(error: "AgoutiError | Refused") -> str | None:
    """Seconds after which a caller may come again, where that is known; at least one where it may help."""
    if error.wait is not None:
        return str(ceil(min(max(1.0, error.wait), _DAY)))  # also of what is no number
    return "1" if not isinstance(error, Refused) and status_of(error) in (429, 503) else None
