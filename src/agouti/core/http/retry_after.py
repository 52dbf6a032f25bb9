"""How long a provider asks to wait: header and body forms, as seconds.

Sources: RFC 9110 section 10.2.3 (``retry-after``: seconds or a date), the ``-ms`` and ``reset``
headers of OpenAI-compatible servers, and the retry details that some put into the error body.
"""

import re
import time
from collections.abc import Mapping
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime

_PART = re.compile(r"(\d+(?:\.\d+)?)(ms|[dhms])")
_SECONDS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0}
_EPOCH = 1e9  # from here on a number is a moment, and from the next one on in milliseconds
_EPOCH_MS = 1e11
_BELIEVED = 86400.0  # whoever says more than a day means something else
_RFC_3339 = re.compile(r"\d{4}-\d\d-\d\d[T ]")
_IN_BODY = re.compile(
    rb'"(?:retryDelay|retry_after|retry-after|retryAfter)"\s*:\s*"?(\d+(?:\.\d+)?)(ms|[smh])?"?\s*[,}\]]'
)
_IN_WORDS = re.compile(rb"(?:try again|retry) (?:in|after) (\d+(?:\.\d+)?) ?(ms|millisec|s\b|sec|m\b|min)")
# In the order of their weight; those that always come count only where nothing remains.
_HEADERS = (
    ("retry-after", ""),
    ("x-ratelimit-reset-requests", "x-ratelimit-remaining-requests"),
    ("x-ratelimit-reset-tokens", "x-ratelimit-remaining-tokens"),
    ("x-ratelimit-requests-reset", "x-ratelimit-requests-remaining"),
    ("x-ratelimit-tokens-reset", "x-ratelimit-tokens-remaining"),
    ("ratelimit-requests-reset", "ratelimit-requests-remaining"),
    ("ratelimit-reset", "ratelimit-remaining"),
    ("x-ratelimit-reset", "x-ratelimit-remaining"),
    ("x-ratelimit-reset", ""),
    ("ratelimit-reset", ""),
)
# Both in one header: ``limit=9, remaining=0, reset=20``, or ``"default";r=0;t=20``.
_ONE_HEADER = re.compile(r"(?:remaining=0, *reset=|;r=0;t=)(\d{1,9})")


def seconds(text: str) -> float | None:
    """A duration such as ``1s``, ``6m0s``, ``20ms`` or plain seconds; `None` for anything else.

    >>> seconds("6m0s"), seconds("20ms"), seconds("1.5"), seconds("soon")
    (360.0, 0.02, 1.5, None)
    """
    text = text.strip().lower()
    try:
        seconds_number = float(text)
    except ValueError:
        pass
    else:
        return seconds_number if 0 <= seconds_number < float("inf") else None
    parts = _PART.findall(text)
    if not parts or "".join(number + unit for number, unit in parts) != text:
        return None
    return float(sum(float(number) * _SECONDS[unit] for number, unit in parts))


def asked_wait(headers: Mapping[str, str], body: bytes = b"", now: float | None = None) -> float | None:
    """Seconds that a reply asks to wait; `None` where it does not say.

    A date is measured against the reply's own ``date`` header, so that a wrong clock here does not matter.

    Args:
        now: seconds since the epoch, for times without such a header; those of the clock where not given.

    >>> asked_wait({"x-ratelimit-reset": "1800000003"}, now=1.8e9), asked_wait({}, b"Please try again in 2.5s.")
    (3.0, 2.5)
    """
    in_ms = headers.get("retry-after-ms")
    if in_ms is not None and (value := seconds(in_ms)) is not None:
        return value / 1000
    now = time.time() if now is None else now
    for name, zero in _HEADERS:
        text = headers.get(name)
        if text is not None and (not zero or headers.get(zero, "").strip() == "0"):
            value = seconds(text)
            if value is None:
                value = _until(text, headers.get("date", ""), now)
            elif value >= _EPOCH:
                value = (value / 1000 if value >= _EPOCH_MS else value) - (_moment(headers.get("date", "")) or now)
            if value is not None and 0 <= value <= _BELIEVED:
                return value
    if (both := headers.get("ratelimit", "")) and (one := _ONE_HEADER.search(both)) and float(one[1]) <= _BELIEVED:
        return float(one[1])
    match = _IN_BODY.search(body[:65536])
    if match:
        return float(match[1]) * _SECONDS[(match[2] or b"s").decode()]
    phrase = _IN_WORDS.search(body[:65536])
    return (
        None
        if phrase is None
        else float(phrase[1]) * _SECONDS["ms" if phrase[2] in (b"ms", b"millisec") else phrase[2][:1].decode()]
    )


def _until(text: str, date: str, now: float) -> float | None:
    until = _moment(text)
    return None if until is None else max(until - (_moment(date) or now), 0.0)


def _moment(date: str) -> float | None:
    """Seconds since the epoch of a date in a header."""
    try:
        moment = datetime.fromisoformat(date) if _RFC_3339.match(date) else parsedate_to_datetime(date)
        # A date whose zone is not known is one of Greenwich (RFC 9110 section 5.6.7 allows no other).
        return (moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)).timestamp()
    except (ValueError, TypeError, OverflowError):
        return None
