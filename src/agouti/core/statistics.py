"""Statistics of repeated answers: means and rates with confidence intervals, and how alike texts are."""

import math
from collections.abc import Sequence
from difflib import SequenceMatcher
from functools import lru_cache
from itertools import combinations

from msgspec import Struct


class Estimate(Struct, frozen=True):
    """A mean or a rate, and the interval that holds the true one with 95 % confidence.

    Attributes:
        value: the mean of what was measured.
        low, high: ends of the interval; `None` where one measurement says nothing of the spread.
        count: measurements.
    """

    value: float
    low: float | None
    high: float | None
    count: int


# Two-sided 95 % quantiles of Student's distribution, by degrees of freedom.
_STUDENT = (12.706, 4.303, 3.182, 2.776, 2.571, 2.447, 2.365, 2.306, 2.262, 2.228, 2.201, 2.179, 2.160, 2.145, 2.131)
_NORMAL = 1.95996


def mean(values: Sequence[float]) -> Estimate | None:
    """The mean of measurements, with Student's interval; `None` where there are none.

    >>> mean([1.0, 2.0, 3.0])
    Estimate(value=2.0, low=-0.4843382083, high=4.4843382083, count=3)
    """
    count = len(values)
    if not count:
        return None
    middle = math.fsum(values) / count
    if count < 2:
        return Estimate(middle, None, None, count)
    deviation = math.sqrt(math.fsum((each - middle) ** 2 for each in values) / (count - 1))
    freedom = count - 1
    # Beyond the table: Cornish and Fisher's expansion, right to three places there.
    factor = _STUDENT[freedom - 1] if freedom <= len(_STUDENT) else _expanded(freedom)
    by = factor * deviation / math.sqrt(count)
    return Estimate(middle, round(middle - by, 10), round(middle + by, 10), count)


def _expanded(freedom: int) -> float:
    """Student's quantile for many degrees of freedom, from the normal one."""
    z = _NORMAL
    return (
        z
        + (z**3 + z) / (4 * freedom)
        + (5 * z**5 + 16 * z**3 + 3 * z) / (96 * freedom**2)
        + (3 * z**7 + 19 * z**5 + 17 * z**3 - 15 * z) / (384 * freedom**3)
    )


def rate(passed: int, count: int) -> Estimate | None:
    """A share, with Wilson's interval; `None` where there was nothing.

    >>> rate(9, 10)
    Estimate(value=0.9, low=0.5958506767, high=0.9821237356, count=10)
    """
    if not count:
        return None
    share, square = passed / count, _NORMAL**2
    middle = (share + square / (2 * count)) / (1 + square / count)
    by = _NORMAL * math.sqrt(share * (1 - share) / count + square / (4 * count**2)) / (1 + square / count)
    return Estimate(share, round(max(middle - by, 0.0), 10), round(min(middle + by, 1.0), 10), count)


def alike(one: str, other: str) -> float:
    """How alike two texts are, word for word: 1 for the same, 0 where they share nothing.

    >>> alike("Sow the peas in March", "Sow the beans in March"), alike("a", "a")
    (0.8, 1.0)
    """
    if one == other:
        return 1.0
    return SequenceMatcher(None, one.split(), other.split(), autojunk=False).ratio()


def spread(texts: Sequence[str]) -> float | None:
    """How alike texts are on average, each with each other; `None` where there are no two."""
    pairs = [alike(one, other) for one, other in combinations(texts, 2)]
    return math.fsum(pairs) / len(pairs) if pairs else None


_STEP = 1.05


def bucket_of(seconds: float) -> int:
    """The step of a duration on a scale of steps of five per cent, for percentiles of many."""
    return round(math.log(max(seconds, 1e-4)) / math.log(_STEP))


@lru_cache(1024)
def _seconds_of(bucket: int) -> float:
    return float(_STEP**bucket)


def percentile(buckets: dict[int, int], share: float) -> float | None:
    """A percentile of durations that are counted by `bucket_of`; right to five per cent.

    >>> percentile({bucket_of(1.0): 98, bucket_of(20.0): 2}, 0.5), round(percentile({bucket_of(20.0): 2}, 0.99))
    (1.0, 20)
    """
    if len(buckets) == 1:
        for bucket, count in buckets.items():
            return _seconds_of(bucket) if count else None
    total = sum(buckets.values())
    passed = 0
    for bucket in sorted(buckets):
        passed += buckets[bucket]
        if passed >= share * total and total:
            return _seconds_of(bucket)
    return None
