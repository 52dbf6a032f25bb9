"""Rows of the ledger: one for each attempt, made of what hooks are told."""

from collections.abc import Mapping
from decimal import ROUND_HALF_EVEN, Decimal

from msgspec import Struct

from ..core.attempt import request_id_in
from ..core.canonical.usage import Usage, exactly
from ..engine.hooks import AttemptResult
from ..tables.statistics import bucket_of

PICO = 10**12
"""Amounts are whole numbers of a millionth of a millionth: sums lose nothing."""


class LedgerRow(Struct, frozen=True, kw_only=True):
    """One attempt.

    Attributes:
        at: when it ended, in seconds since the epoch.
        provider, name: label of the provider, and what it calls the model.
        label: what the caller asked for.
        operation: ``chat``, ``embeddings``, ...
        key: fingerprint of the key; empty where there was none.
        outcome: ``answered``, ``failed``, ``abandoned`` or ``cached``.
        error: class of the error.
        sent: whether a request went out.
        audio_input_tokens, audio_output_tokens: of the input and the output, those that are sound.
        cost: in millionths of a millionth of ``currency``; `None` where it is not known.
        provider_cost: the same as the provider says it, where it does.
        estimated: whether tokens and cost are estimated, because the provider did not tell them.
        tags: what the call was for.
        prompt: the question, where the ledger keeps it.
    """

    at: float
    provider: str
    name: str
    label: str
    operation: str
    key: str = ""
    outcome: str = "answered"
    error: str = ""
    status: int | None = None
    request_id: str = ""
    input_tokens: int | None = None
    output_tokens: int | None = None
    cached_tokens: int | None = None
    cache_write_tokens: int | None = None
    reasoning_tokens: int | None = None
    cost: int | None = None
    currency: str = ""
    estimated: bool = False
    seconds: float = 0.0
    first_token: float | None = None
    tags: Mapping[str, str] = {}
    prompt: str = ""
    sent: bool = True
    audio_input_tokens: int | None = None
    audio_output_tokens: int | None = None
    provider_cost: int | None = None

    @property
    def bucket(self) -> int | None:
        """The step of its latency, where it was answered."""
        return bucket_of(self.seconds) if self.outcome == "answered" and self.sent else None


def row_of(result: AttemptResult, at: float, *, prompts: bool = False) -> LedgerRow:
    """The row of an attempt that has ended."""
    attempt, usage = result.attempt, result.usage
    return LedgerRow(
        at=at,
        provider=attempt.provider,
        name=attempt.name,
        label=attempt.label,
        operation=attempt.operation,
        key=result.key,
        outcome=result.outcome,
        error="" if result.error is None else type(result.error).__name__,
        status=result.status,
        request_id=request_id_in(result.headers) or (result.error.request_id if result.error is not None else "") or "",
        input_tokens=None if usage is None else _sane(usage.input_tokens),
        output_tokens=None if usage is None else _sane(usage.output_tokens),
        cached_tokens=None if usage is None else _sane(usage.cached_tokens),
        cache_write_tokens=None if usage is None else _sane(usage.cache_write_tokens),
        reasoning_tokens=None if usage is None else _sane(usage.reasoning_tokens),
        cost=None if result.exact_cost is None else picos(result.exact_cost),
        currency=result.currency,
        estimated=result.estimated,
        seconds=result.seconds,
        first_token=result.first_token,
        tags={_storable(name): _storable(value) for name, value in attempt.tags.items()},
        prompt=_storable(repr(attempt.question)) if prompts and attempt.question is not None else "",
        sent=result.sent,
        audio_input_tokens=None if usage is None else _sane(usage.audio_input_tokens),
        audio_output_tokens=None if usage is None else _sane(usage.audio_output_tokens),
        provider_cost=_provider_cost(usage) if result.sent else None,
    )


def picos(amount: Decimal) -> int:
    """An amount as the ledger keeps it, however large."""
    return int((amount * PICO).to_integral_value(ROUND_HALF_EVEN))


def _provider_cost(usage: Usage | None) -> int | None:
    """What the provider says that it costs, where that is an amount."""
    if usage is None or usage.cost is None or not 0 <= usage.cost < _MAX_AMOUNT:
        return None
    return picos(exactly(usage.cost))


# More tokens than any request takes, and few enough for sums of millions of them in 64 bits.
_MAX_AMOUNT = 10**12


def _sane(count: int | None) -> int | None:
    """A count of tokens as a server tells it, as far as it can be one."""
    return None if count is None else min(max(count, 0), _MAX_AMOUNT)


def _storable(text: str) -> str:
    """A text without halves of surrogate pairs and zeros, which databases do not take."""
    if "\0" in text:
        text = text.replace("\0", "\N{REPLACEMENT CHARACTER}")
    return text if text.isascii() else text.encode("utf-8", "replace").decode()
