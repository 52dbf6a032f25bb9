"""Errors as the relay tells them, in two texts: one for the caller, and one for the owner's log.

A caller gets what concerns the request: kind, status, code, parameter. Addresses, paths, variables, outputs of
commands, and what there is to do about them, are the owner's.
"""

import re
from collections.abc import Mapping
from math import ceil

from ..core.errors import (
    AgoutiError,
    BudgetExceeded,
    CircuitOpen,
    ConfigError,
    ConnectionFailed,
    ConnectionLost,
    ContentRefused,
    ContextOverflow,
    CredentialError,
    DeadlineExceeded,
    LabelUnknown,
    LedgerUnavailable,
    LimitReached,
    ModelUnknown,
    NoAccess,
    OutOfCredit,
    Overloaded,
    ParameterUnsupported,
    ProviderError,
    ProviderFault,
    RateLimited,
    ReplyError,
    RequestError,
    RequestRefused,
    TimedOut,
)
from ..dialects.server_base import ErrorTold
from ..engine.attempts.error_policy import policy_of
from ..replies.errors import NotFilled, StreamCut

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
# What a caller gets to read of an error that is not about the request; the nearest class counts.
_TEXTS: dict[type[AgoutiError], str] = {
    AgoutiError: "the call failed",
    ConfigError: "the relay is not set up for this",
    CredentialError: "the relay cannot sign in at the provider",
    ConnectionFailed: "the provider cannot be reached",
    ConnectionLost: "the connection to the provider broke before the answer was whole",
    TimedOut: "the provider did not answer in time",
    CircuitOpen: "the provider has failed again and again just now, and is left alone for a while",
    DeadlineExceeded: "the call took longer than it may",
    ProviderError: "the provider answered with an error",
    NoAccess: "the provider does not offer this model to the relay",
    ModelUnknown: "the provider has no such model",
    OutOfCredit: "the provider takes no more requests: the relay's account there has run out of credit",
    RateLimited: "the provider takes no more requests for a while",
    Overloaded: "the provider has too much to do",
    ProviderFault: "an error inside the provider",
    ReplyError: "the provider's answer cannot be read",
    StreamCut: "the provider's stream was cut off",
    NotFilled: "the answer does not have the form that was asked for",
}
# Hints that only somebody at the relay, or in a program of Python, could follow.
_OWN_NAMES = re.compile(
    r"[a-z_]=|\berror\.|\bagouti\b|\bproviders?\.|\bmodels\.|\[\w+[\].]|\bclient\b|\bdict|\bPass\b|_images\b"
)
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


def error_body(error: "AgoutiError | Refused", identifier: str, parameter_names: Mapping[str, str] = {}) -> ErrorTold:
    """An error as a caller is told of it.

    Args:
        parameter_names: what the caller's format calls our parameters, where that is otherwise.
    """
    if isinstance(error, Refused):
        return ErrorTold(error.status, error.message, error.code, identifier=identifier)
    if isinstance(error, LedgerUnavailable):  # where it is kept is nobody's business
        cause = next(
            (phrase for sign, phrase in _CAUSES.items() if sign in error.message), "its ledger is out of reach"
        )
        text = f"the budget cannot be looked up now: {cause}. Nothing was sent: try again."
        return ErrorTold(status_of(error), text, identifier=identifier)
    code = next((_CODES[each] for each in type(error).__mro__ if each in _CODES), "")
    parameter = getattr(error, "parameter", None)
    if isinstance(error, RequestRefused):
        message = error.provider_message or "the provider refuses the request"
        code = error.code or code
    elif isinstance(error, (RequestError, LabelUnknown)):
        hint = "" if _OWN_NAMES.search(error.hint) else error.hint
        message = _in_words_of(parameter_names, f"{error.message}. {hint}" if hint else error.message)
        parameter = parameter_names.get(parameter, parameter) if parameter else parameter
    else:
        message = next(_TEXTS[each] for each in type(error).__mro__ if each in _TEXTS)
    return ErrorTold(status_of(error), " ".join(message.split()), code, parameter, identifier)


def for_owner(error: "AgoutiError | Refused") -> str:
    """The same for the log: all that the owner needs, and nothing that was said in a request."""
    if isinstance(error, Refused):
        return error.message
    kind = type(error).__name__
    if isinstance(error, (RequestError, RequestRefused, LabelUnknown)) and not isinstance(error, _OWNERS):
        return kind  # its words may be those of the request
    summary = f"{kind}: {error.message}"
    if isinstance(error, ProviderError):
        summary = f"{kind}: HTTP {error.status}" if error.status else kind  # the provider may repeat what was said
        if error.request_id:
            summary += f", request {error.request_id}"
    return " ".join(f"{summary}. {error.hint}".split()) if error.hint else summary


_OWNERS = (BudgetExceeded, LimitReached, LedgerUnavailable)


def _in_words_of(parameter_names: Mapping[str, str], text: str) -> str:
    """The text with the names that the caller's format has."""
    for own_name, name in parameter_names.items():
        text = re.sub(rf"(?<![\w.]){re.escape(own_name)}(?![\w.])", name, text)
    return text


def retry_after(error: "AgoutiError | Refused") -> str | None:
    """Seconds after which a caller may come again, where that is known; at least one where it may help."""
    if error.wait is not None:
        return str(ceil(min(max(1.0, error.wait), _DAY)))  # also of what is no number
    return "1" if not isinstance(error, Refused) and status_of(error) in (429, 503) else None
