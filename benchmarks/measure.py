"""Measure contestants in turn, round after round, so that a slow moment of the machine hits all of them."""

import statistics
import time
from collections.abc import Callable


def cpu(contestants: dict[str, Callable[[int], None]], *, rounds: int, count: int) -> dict[str, list[float]]:
    """CPU seconds per call of each contestant, a figure for each round.

    Each contestant is a function that makes that many calls.
    """
    taken: dict[str, list[float]] = {name: [] for name in contestants}
    for work in contestants.values():
        work(max(count // 4, 1))
    for _ in range(rounds):
        for name, work in contestants.items():
            before = time.process_time()
            work(count)
            taken[name].append((time.process_time() - before) / count)
    return taken


def table(title: str, taken: dict[str, list[float]], floors: dict[str, str], *, unit: str = "us", per: int = 1) -> None:
    """Print the medians, and for each contestant the ratio to its floor.

    The ratio is the median of those of the rounds: a machine that changes its speed changes it for a whole round.
    """
    print(title)
    for name, times in taken.items():
        floor = floors.get(name)
        ratio = ""
        if floor:
            ratios = [mine / other for mine, other in zip(times, taken[floor], strict=True)]
            ratio = f"{statistics.median(ratios):6.2f} x {floor}"
        print(f"  {name:28s} {statistics.median(times) / per * 1e6:9.1f} {unit}  {ratio}")
