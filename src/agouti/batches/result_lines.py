"""A line of results: written so that it can always be read, and read as far as it tells whose it is."""

import json
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple

import msgspec

from ..core.errors import RequestError

CUT = "length"
UNUSABLE = "UnusableRow"
"""The kind of the error of a row that could not be asked."""
_KIND = re.compile(r"[A-Z]\w+(?=: )")


class _Known(msgspec.Struct):
    """What is read of a result to know whose it is."""

    key: Any
    error: str | None = None
    finish_reason: str | None = None
    cost: float | None = None
    currency: str | None = None


class Known(NamedTuple):
    """What the line of a result says besides its answer.

    Attributes:
        key: of its row.
        failed: whether it is an error.
        reason: the kind of the error, `CUT` of an answer that ends at its cap; empty otherwise.
        cost, currency: of its row.
    """

    key: Any
    failed: bool
    reason: str
    cost: float
    currency: str


def why_of(error: Any, finish_reason: Any) -> str:
    """What is to be said of a result besides that it is there: see `Known`.

    >>> why_of("RateLimited: a quota is used up", None), why_of("it is empty", None), why_of(None, "length")
    ('RateLimited', 'UnusableRow', 'length')
    """
    if error is None:
        return CUT if finish_reason == CUT else ""
    found = _KIND.match(str(error))
    return found[0] if found else UNUSABLE


_DECODER = msgspec.json.Decoder(_Known)


def key_in(line: bytes) -> Known | None:
    """What the line of a result says; `None` where it is no whole result."""
    if not line.endswith(b"\n"):
        return None
    try:
        known = _DECODER.decode(line)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
        return _odd_key_in(line)
    reason = why_of(known.error, known.finish_reason)
    return Known(known.key, known.error is not None, reason, known.cost or 0.0, known.currency or "")


def _odd_key_in(line: bytes) -> Known | None:
    """The same of a line that has half of a letter in it."""
    try:
        known = json.loads(line)
        error, reason = known.get("error"), why_of(known.get("error"), known.get("finish_reason"))
        return Known(
            known["key"], error is not None, reason, float(known.get("cost") or 0), str(known.get("currency") or "")
        )
    except (ValueError, RecursionError, LookupError, TypeError, AttributeError):
        return None


def check_results(path: Path) -> None:
    """See that a file holds results.

    Raises:
        RequestError: it does not.
    """
    with path.open("rb") as file:
        line = file.readline(1 << 20)
    if key_in(line) is None:
        raise RequestError(f"{path} holds something else", hint="Name another file to keep results in.")


def result_line(result: Mapping[str, Any]) -> bytes:
    """A result as it is written."""
    try:
        return msgspec.json.encode(result, enc_hook=str) + b"\n"
    except (msgspec.MsgspecError, UnicodeEncodeError, TypeError, OverflowError):  # half of a letter, an odd number
        return json.dumps(result, default=str).encode() + b"\n"
