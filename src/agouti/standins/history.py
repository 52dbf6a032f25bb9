"""A past for the ledger: made-up usage of the seed library, for examples, pictures and measurements."""

import random
import time
from collections.abc import Iterator
from pathlib import Path

from ..ledger.rows import PICO, LedgerRow

# label, name, provider, share of the calls, price in and out per million tokens (none: not known), seconds
_MODELS = (
    ("almanac", "quill-large", "northbank", 0.30, (0.27, 0.81), 1.6),
    ("almanac-local", "loam-2b", "shed", 0.25, None, 3.2),
    ("clerk", "quill-small", "northbank", 0.30, (0.05, 0.20), 0.7),
    ("finder", "petal-embed", "northbank", 0.15, (0.02, 0.0), 0.2),
)
_FEATURES = ("counter", "newsletter", "notes", "search")


def usage_history(days: int, calls: int, *, until: float | None = None, seed: int = 7) -> Iterator[LedgerRow]:
    """Rows of calls in the days before a time, the oldest first; the same for the same seed and time.

    Args:
        days: how many.
        calls: on an ordinary day; there are fewer on Sundays, and more in spring.
        until: seconds since the epoch; now where not given.

    Example:
        >>> rows = list(usage_history(2, 10, until=1_780_000_000))
        >>> len(rows) > 10, sorted({row.currency for row in rows})
        (True, ['', 'USD'])
    """
    chance = random.Random(seed)
    end = time.time() if until is None else until
    shares = [share for _, _, _, share, _, _ in _MODELS]
    for day in range(days):
        begins = end - (days - day) * 86400
        moment = time.gmtime(begins)
        many = calls * (0.4 if moment.tm_wday == 6 else 1.0) * (1.6 if moment.tm_mon in (3, 4, 5) else 1.0)
        times = sorted(begins + chance.random() * 86400 for _ in range(round(many * chance.uniform(0.7, 1.3))))
        for at in times:
            yield _row(chance, at, *chance.choices(_MODELS, shares)[0])


def _row(
    chance: random.Random,
    at: float,
    label: str,
    name: str,
    provider: str,
    share: float,
    price: tuple[float, float] | None,
    seconds: float,
) -> LedgerRow:
    embeds = name == "petal-embed"
    failed = chance.random() < (0.06 if provider == "northbank" else 0.01)
    into, out = round(chance.lognormvariate(5.5, 0.6)), 0 if embeds else round(chance.lognormvariate(4.3, 0.7))
    cached = into // 2 if chance.random() < 0.3 and not embeds and provider == "northbank" else 0
    cost = None if price is None or failed else round((into * price[0] + out * price[1]) / 1e6 * PICO)
    took = seconds * chance.lognormvariate(0, 0.5)
    return LedgerRow(
        at=at,
        provider=provider,
        name=name,
        label=label,
        operation="embeddings" if embeds else "chat",
        outcome="failed" if failed else "answered",
        error="Overloaded" if failed else "",
        status=503 if failed else 200,
        input_tokens=None if failed else into,
        output_tokens=None if failed else out,
        cached_tokens=None if failed else cached,
        cost=cost,
        currency="" if price is None else "USD",
        seconds=took,
        first_token=None if embeds or failed else took / 4,
        tags={"feature": chance.choice(_FEATURES)},
    )


def write_history(store: str | Path, days: int = 30, calls: int = 200, *, until: float | None = None) -> int:
    """Put such a past into a ledger. Returns how many rows.

    Args:
        store: as in ``[ledger]``.

    Raises:
        ConfigError: it is no ledger.
    """
    from ..config.tables import LedgerSettings
    from ..core.secrets.secret import Secret
    from ..ledger.open import open_ledger

    ledger = open_ledger(LedgerSettings(Secret(str(store))))
    written, batch = 0, []
    try:
        for row in usage_history(days, calls, until=until):
            batch.append(row)
            if len(batch) == 5000:
                ledger.add(batch)
                written, batch = written + len(batch), []
        ledger.add(batch)
    finally:
        ledger.close()
    return written + len(batch)
