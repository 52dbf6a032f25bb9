"""Statistics of repeated answers: means and rates with confidence intervals, and how alike texts are."""

import math
from collections.abc import Iterable, Sequence
from difflib import SequenceMatcher
from functools import lru_cache
from itertools import combinations
from random import Random

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
    by = student(count - 1) * deviation / math.sqrt(count)
    return Estimate(middle, round(middle - by, 10), round(middle + by, 10), count)


def student(freedom: int) -> float:
    """The two-sided 95 % quantile of Student's distribution.

    >>> student(2), round(student(16), 3)
    (4.303, 2.12)
    """
    # Beyond the table: Cornish and Fisher's expansion, right to three places there.
    return _STUDENT[freedom - 1] if freedom <= len(_STUDENT) else _expanded(freedom)


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
    share = passed / count
    low, high = _wilson(share, count)
    return Estimate(share, round(low, 10), round(high, 10), count)


def _wilson(share: float, count: float) -> tuple[float, float]:
    square = _NORMAL**2
    middle = (share + square / (2 * count)) / (1 + square / count)
    by = _NORMAL * math.sqrt(share * (1 - share) / count + square / (4 * count**2)) / (1 + square / count)
    return max(middle - by, 0.0), min(middle + by, 1.0)


def means_of(groups: Iterable[Sequence[float]]) -> list[float]:
    """The mean of each group of repeated measurements: what is repeated is one measurement, and not many."""
    return [math.fsum(each) / len(each) for each in groups if each]


def mean_over(
    groups: Sequence[Sequence[float]], *, step: float = 0.0, within: tuple[float, float] | None = None
) -> Estimate | None:
    """The mean over groups of repeated measurements, with Student's interval over the groups.

    Args:
        step: how exactly each can be measured; a spread that is less than that is none that was seen.
        within: between which values it lies in any case.

    >>> mean_over([[1.0, 3.0], [4.0], [6.0]]).value, mean_over([[1.0, 2.0, 3.0]]).low
    (4.0, None)
    """
    group_means = means_of(groups)
    estimate = mean(group_means)
    if estimate is None or estimate.low is None or estimate.high is None:
        return estimate
    minimum = step / math.sqrt(12)
    deviation = math.sqrt(math.fsum((each - estimate.value) ** 2 for each in group_means) / (len(group_means) - 1))
    by = (estimate.high - estimate.low) / 2
    if deviation < minimum:
        by = student(len(group_means) - 1) * minimum / math.sqrt(len(group_means))
    low, high = estimate.value - by, estimate.value + by
    if within is not None:
        low, high = max(low, within[0]), min(high, within[1])
    return Estimate(estimate.value, round(low, 10), round(high, 10), estimate.count)


def share_over(groups: Sequence[Sequence[float]]) -> Estimate | None:
    """A share over groups of repeated answers, with Wilson's interval for as many answers as they are worth.

    Answers to one prompt are alike: forty of them to each of four prompts are worth little more than four. How many
    they are worth is seen from the spread between the groups (Kish's effective size); `None` ends for one group.

    >>> share_over([[1.0], [1.0], [0.0], [1.0]]) == rate(3, 4)
    True
    >>> apart = share_over([[1.0] * 40, [1.0] * 40, [0.0] * 40, [0.0] * 40])
    >>> round(apart.low, 2), round(apart.high, 2)
    (0.13, 0.87)
    """
    group_means = means_of(groups)
    count = len(group_means)
    if not count:
        return None
    value = math.fsum(group_means) / count
    if count < 2:
        return Estimate(value, None, None, count)
    total = sum(map(len, groups))
    worth = float(count)
    square = math.fsum((each - value) ** 2 for each in group_means) / (count - 1) / count
    if total > count and square:
        worth = min(value * (1 - value) / square, float(total))
    low, high = _wilson(value, worth)
    return Estimate(value, round(low, 10), round(high, 10), count)


def difference_over(differences: Sequence[float], *, shares: bool) -> Estimate | None:
    """The mean of differences, one for each prompt that both were asked, with its interval.

    Args:
        shares: they are differences of shares, from -1 to 1: then half a prompt is added for each way in which two can
            differ (Agresti and Min), or no difference at all would be a sure one.

    >>> difference_over([0.0] * 10, shares=True).high > 0.1
    True
    """
    count = len(differences)
    if not shares or count < 2:
        return mean(differences)
    value = math.fsum(differences) / count
    middle = math.fsum(differences) / (count + 2)
    squares = math.fsum(each * each for each in differences) + 1
    by = _NORMAL * math.sqrt(max(squares / (count + 2) - middle**2, 0.0) / (count + 2))
    return Estimate(value, round(max(middle - by, -1.0), 10), round(min(middle + by, 1.0), 10), count)


def quantile(values: Sequence[float], part: float) -> float | None:
    """The value below which a part of them lies, between two of them where it falls there; `None` of none.

    >>> quantile([1.0, 2.0, 3.0, 4.0], 0.5), quantile([1.0], 0.95)
    (2.5, 1.0)
    """
    if not values:
        return None
    ordered = sorted(values)
    rank = part * (len(ordered) - 1)
    lower = int(rank)
    upper = min(lower + 1, len(ordered) - 1)
    return ordered[lower] + (ordered[upper] - ordered[lower]) * (rank - lower)


def similarity(one: str, second: str) -> float:
    """How alike two texts are, word for word: 1 for the same, 0 where they share nothing.

    >>> similarity("Sow the peas in March", "Sow the beans in March"), similarity("a", "a")
    (0.8, 1.0)
    """
    if one == second:
        return 1.0
    return SequenceMatcher(None, one.split(), second.split(), autojunk=False).ratio()


# Words that are looked at of a text, when it is laid beside others.
_MAX_TOKENS = 400


def spread(texts: Sequence[str], pairs: int = 200) -> float | None:
    """How alike texts are on average, each with each other; `None` where there are no two.

    Args:
        pairs: so many pairs are looked at, taken evenly where there are more: all of them would grow with the square.

    >>> spread(["Sow in March"] * 1000), spread(["a"])
    (1.0, None)
    """
    count = len(texts)
    every = count * (count - 1) // 2
    if not every:
        return None
    short = [" ".join(text.split()[:_MAX_TOKENS]) for text in texts]
    chosen: Iterable[tuple[int, int]] = combinations(range(count), 2)
    if every > pairs:
        chooser = Random(count)  # always the same ones
        chosen = [_pair(chooser, count) for _ in range(pairs)]
    found = [similarity(short[one], short[second]) for one, second in chosen]
    return math.fsum(found) / len(found)


def _pair(chooser: Random, count: int) -> tuple[int, int]:
    one = chooser.randrange(count)
    second = chooser.randrange(count - 1)
    return one, second + (second >= one)


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


def speed(tokens: int | None, seconds: float, writing: float | None) -> float | None:
    """Tokens a second, where that can be told: an answer that came at once was written before, nobody knows how fast.

    Args:
        seconds: from the request to the whole answer.
        writing: of those, from the first piece on.

    >>> speed(100, 2.0, 1.0), speed(5, 0.2, 0.0003)
    (100.0, None)
    """
    if not tokens or writing is None or writing < max(_BLOCK_SECONDS, seconds * _BLOCK_SECONDS):
        return None
    return round(tokens / writing, 2)


_BLOCK_SECONDS = 0.02
