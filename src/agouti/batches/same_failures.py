"""Failures in a row: whether so many failed alone, all in the same way, that the others would too."""

from collections import Counter


class FailureCount:
    """Failures since the last success.

    A quick failure tells nothing while rows that began before it are still under way: they may be answered.

    Args:
        limit: so many end the run; four times as many once a row was answered. 0: none do.

    Example:
        >>> streak = FailureCount(2)
        >>> streak.start([b"slow"]); streak.start([b"a"]); streak.start([b"b"])
        >>> streak.failed(b"a", "no"), streak.failed(b"b", "no")
        (0, 0)
        >>> streak.failed(b"slow", "no")
        3
    """

    def __init__(self, limit: int) -> None:
        self._limit = limit
        self._count = 0
        self._under_way: dict[bytes, int] = {}
        self._first: int | None = None
        self._kinds: Counter[str] = Counter()
        self._answered = False

    def start(self, rows: list[bytes]) -> None:
        """These rows are asked now."""
        self._count += 1
        for each in rows:
            self._under_way[each] = self._count

    def answered(self, row: bytes) -> None:
        """A row was answered."""
        self._under_way.pop(row, None)
        self._kinds.clear()
        self._first, self._answered = None, True

    def waits(self, rows: list[bytes]) -> None:
        """These rows are asked again later: they say nothing of the others meanwhile."""
        for each in rows:
            self._under_way.pop(each, None)

    def failed(self, row: bytes, kind: str) -> int:
        """A row has failed; how many have by now, where that is enough to end the run, and 0 otherwise."""
        number = self._under_way.pop(row, None)
        if number is None:  # it was not asked
            return 0
        self._kinds[kind] += 1
        self._first = number if self._first is None else min(self._first, number)
        count = max(self._kinds.values())
        if not self._limit or count < (4 * self._limit if self._answered else self._limit):
            return 0
        earliest = min(self._under_way.values(), default=self._first)
        return count if earliest >= self._first else 0
