"""Retry policy: what becomes of a call when it ends in one of the errors. Nothing else knows these facts.

One row for each class of `core.errors`. A repeat must be safe and able to help. Safe: nothing of the reply had come,
or the provider itself said that it did not do the work. Able to help: the cause may pass. The next model takes over
when it may do what this one could not: not when the request itself is at fault.

    >>> from agouti.core.errors import RateLimited, TimedOut
    >>> policy_of(RateLimited).repeat, policy_of(TimedOut).repeat
    (<Repeat.ALWAYS: 'always'>, <Repeat.CONNECTING: 'connecting'>)
"""

from enum import Enum

from msgspec import Struct

from ...core import errors as e
from ...replies.errors import NotFilled, StreamCut


class Repeat(Enum):
    """When the same request is sent again to the same model.

    Attributes:
        NEVER: it would end in the same way, or could be paid twice.
        CONNECTING: while no connection had been made.
        UNANSWERED: while nothing of a reply had come.
        ALWAYS: the provider itself said that it did not do the work.
    """

    NEVER = "never"
    CONNECTING = "connecting"
    UNANSWERED = "unanswered"
    ALWAYS = "always"


class Policy(Struct, frozen=True):
    """What becomes of a call that ended in an error of one class.

    Attributes:
        repeat: when the request is sent again to the same model.
        next_model: whether the next model of the entry's ``fallback`` takes over.
        opens_circuit: whether it counts towards leaving the provider alone for a while.
        exit_code: of a command that ends in it.
        status: HTTP status with which a relay tells it to its own caller.
    """

    repeat: Repeat
    next_model: bool
    opens_circuit: bool
    exit_code: int
    status: int = 500


_NEVER, _CONNECTING, _UNANSWERED, _ALWAYS = Repeat.NEVER, Repeat.CONNECTING, Repeat.UNANSWERED, Repeat.ALWAYS

# fmt: off
POLICY: dict[type[e.AgoutiError], Policy] = {
    #                             repeat       next model  circuit  exit code  status
    e.AgoutiError:          Policy(_NEVER,      False,      False,   1,        500),
    e.ConfigError:          Policy(_NEVER,      False,      False,   2,        500),
    e.LabelUnknown:         Policy(_NEVER,      False,      False,   2,        404),
    e.RequestError:         Policy(_NEVER,      False,      False,   2,        400),
    e.CallRefused:          Policy(_NEVER,      False,      False,   1,        403),
    e.LedgerUnavailable:    Policy(_NEVER,      False,      False,   1,        503),
    e.LimitReached:         Policy(_NEVER,      True,       False,   1,        429),
    e.BudgetExceeded:       Policy(_NEVER,      True,       False,   1,        402),
    e.NotRecorded:          Policy(_NEVER,      False,      False,   2,        404),
    e.ParameterUnsupported: Policy(_NEVER,      False,      False,   2,        400),
    e.CredentialError:      Policy(_NEVER,      True,       False,   1,        502),
    e.CredentialMissing:    Policy(_NEVER,      True,       False,   2,        502),
    e.CredentialRefused:    Policy(_NEVER,      True,       False,   1,        502),
    e.ConnectionFailed:     Policy(_NEVER,      True,       True,    1,        502),
    e.AddressWrong:         Policy(_NEVER,      True,       True,    1,        502),
    e.NotRunning:           Policy(_ALWAYS,     True,       True,    1,        502),
    e.TLSFailed:            Policy(_NEVER,      True,       True,    1,        502),
    e.ProxyFailed:          Policy(_NEVER,      True,       True,    1,        502),
    e.ConnectionLost:       Policy(_UNANSWERED, True,       True,    1,        502),
    e.TimedOut:             Policy(_CONNECTING, True,       True,    1,        504),
    e.CircuitOpen:          Policy(_NEVER,      True,       False,   1,        503),
    e.ProviderError:        Policy(_NEVER,      False,      False,   1,        502),
    e.RequestRefused:       Policy(_NEVER,      False,      False,   1,        400),
    e.ContextOverflow:      Policy(_NEVER,      False,      False,   1,        400),
    e.ContentRefused:       Policy(_NEVER,      False,      False,   1,        400),
    e.NoAccess:             Policy(_NEVER,      True,       False,   1,        403),
    e.ModelUnknown:         Policy(_NEVER,      True,       False,   1,        404),
    e.OutOfCredit:          Policy(_NEVER,      True,       False,   1,        402),
    e.RateLimited:          Policy(_ALWAYS,     True,       False,   1,        429),
    e.Overloaded:           Policy(_ALWAYS,     True,       True,    1,        503),
    e.ProviderFault:        Policy(_ALWAYS,     True,       True,    1,        502),
    e.ReplyError:           Policy(_NEVER,      False,      False,   1,        502),
    e.ReplyUnreadable:      Policy(_NEVER,      True,       False,   1,        502),
    e.FramingError:         Policy(_NEVER,      True,       False,   1,        502),
    StreamCut:              Policy(_UNANSWERED, True,       False,   1,        502),
    NotFilled:              Policy(_NEVER,      False,      False,   1,        502),
    e.NotAccepted:          Policy(_NEVER,      False,      False,   1,        502),
    e.ToolCallInvalid:      Policy(_NEVER,      False,      False,   1,        502),
    e.TooManyRounds:        Policy(_NEVER,      False,      False,   1,        502),
    e.DeadlineExceeded:     Policy(_NEVER,      False,      False,   1,        504),
}
# fmt: on

HOLDS_FOR_ALL = (
    e.ConfigError, e.CredentialError, e.NoAccess, e.ModelUnknown, e.OutOfCredit, e.AddressWrong, e.TLSFailed,
    e.ProxyFailed, e.BudgetExceeded,
)  # fmt: skip
"""Errors of one piece of a long work that all the others would end in as well."""


def lets_next(error: e.AgoutiError) -> bool:
    """Whether the next model may take over after an error."""
    return policy_of(type(error)).next_model or (isinstance(error, e.CallRefused) and error.fallback)


def policy_of(kind: type[e.AgoutiError]) -> Policy:
    """The row of a class of errors; of the nearest class above where it is an application's own."""
    return next(POLICY[each] for each in kind.__mro__ if each in POLICY)
