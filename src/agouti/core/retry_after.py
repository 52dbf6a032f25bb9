"""How long a provider asks to wait: header and body forms, as seconds.

Sources: RFC 9110 section 10.2.3 (``retry-after``: seconds or a date), the ``-ms`` and ``reset``
headers of OpenAI-compatible servers, and the retry details that some put into the error body.
"""

import re
from collections.abc import Mapping
from email.utils import parsedate_to_datetime

_PART = re.compile(r"(\d+(?:\.\d+)?)(ms|[dhms])")
_SECONDS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0}
_EPOCH = 1e9
_IN_BODY = re.compile(rb'"(?:retryDelay|retry_after|retry-after|retryAfter)"\s*:\s*"?(\d+(?:\.\d+)?)(ms|[smh])?')


def seconds(text: str) -> float | None:
    """A duration such as ``1s``, ``6m0s``, ``20ms`` or plain seconds; `None` for anything else.

    >>> seconds("6m0s"), seconds("20ms"), seconds("1.5"), seconds("soon")
    (360.0, 0.02, 1.5, None)
    """
    text = text.strip().lower()
    try:
        plain = float(text)
    except ValueError:
        pass
    else:
        return plain if 0 <= plain < float("inf") else None
    parts = _PART.findall(text)
    if not parts or "".join(number + unit for number, unit in parts) != text:
        return None
    return float(sum(float(number) * _SECONDS[unit] for number, unit in parts))


def asked_wait(headers: Mapping[str, str], body: bytes = b"") -> float | None:
    """Seconds that a reply asks to wait; `None` where it does not say.

    A date is measured against the reply's own ``date`` header, so that a wrong clock here does not matter.
    """
    in_ms = headers.get("retry-after-ms")
    if in_ms is not None and (value := seconds(in_ms)) is not None:
        return value / 1000
    after = headers.get("retry-after")
    if after is not None:
        value = seconds(after)
        if value is not None:
            return value
        try:
            until = parsedate_to_datetime(after)
            now = parsedate_to_datetime(headers.get("date", ""))
            return max((until - now).total_seconds(), 0.0)
        except (ValueError, TypeError):
            pass
    resets = [
        value
        for kind in ("requests", "tokens")
        if headers.get(f"x-ratelimit-remaining-{kind}") == "0"
        and (value := seconds(headers.get(f"x-ratelimit-reset-{kind}", ""))) is not None
    ]
    # Some send the time of the reset since the epoch instead of a duration: a wait that nobody means.
    if resets and max(resets) < _EPOCH:
        return max(resets)
    match = _IN_BODY.search(body[:65536])
    if match:
        return float(match[1]) * _SECONDS[(match[2] or b"s").decode()]
    return None
