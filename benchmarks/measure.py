"""Measure contestants in turn, round after round, so that a slow moment of the machine hits all of them."""

import argparse
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


def ratio(taken: dict[str, list[float]], mine: str, floor: str) -> float:
    """The median of the ratios of two contestants, round by round."""
    return statistics.median(one / other for one, other in zip(taken[mine], taken[floor], strict=True))


def parser(doc: str | None) -> argparse.ArgumentParser:
    """A parser whose ``--smoke`` asks for a run that shows only that it works: its figures mean nothing."""
    made = argparse.ArgumentParser(description=doc, formatter_class=argparse.RawDescriptionHelpFormatter)
    made.add_argument("--smoke", action="store_true", help="a run that judges no figure")
    return made


class Bounds:
    """What figures are to stay within: the exit code of a benchmark.

    Args:
        judged: whether a figure beyond its bound fails the run.
    """

    def __init__(self, *, judged: bool) -> None:
        self._judged = judged
        self._beyond: list[str] = []

    def at_most(self, what: str, value: float, bound: float) -> None:
        """A figure that is to be no larger."""
        if value > bound:
            self._beyond.append(f"{what}: {value:.4g}, at most {bound:g}")

    def at_least(self, what: str, value: float, bound: float) -> None:
        """A figure that is to be no smaller."""
        if value < bound:
            self._beyond.append(f"{what}: {value:.4g}, at least {bound:g}")

    def code(self) -> int:
        """0 where all is within its bounds, 1 otherwise; what is not is printed."""
        if not self._judged:
            return 0
        print("within all bounds" if not self._beyond else "BEYOND ITS BOUND: " + "; ".join(self._beyond))
        return 1 if self._beyond else 0
