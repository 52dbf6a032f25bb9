"""Measure contestants in turn, round after round, so that a slow moment of the machine hits all of them."""

import statistics
import time
from collections.abc import Callable


def cpu(contestants: dict[str, Callable[[int], None]], *, rounds: int, count: int) -> dict[str, float]:
    """CPU seconds per call of each contestant: the median over the rounds.

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
    return {name: statistics.median(times) for name, times in taken.items()}


def table(title: str, results: dict[str, float], floors: dict[str, str], unit: str = "us", scale: float = 1e6) -> None:
    """Print the results, and for each contestant the ratio to its floor."""
    print(title)
    for name, value in results.items():
        floor = floors.get(name)
        ratio = f"{value / results[floor]:6.2f} x {floor}" if floor else ""
        print(f"  {name:28s} {value * scale:9.1f} {unit}  {ratio}")
