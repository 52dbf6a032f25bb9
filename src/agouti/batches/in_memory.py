"""Results of a run that asks for no file: held in memory, or shown in the order of the rows and forgotten."""

import json
import threading
from collections import Counter, deque
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any

from ..core.errors import RequestError
from ..tables.row_files import Row
from .result_index import State, digest_of
from .result_lines import result_line, why_of


class Memory:
    """What has come of rows, where no file was asked for: the same methods as `Results`.

    Args:
        show: is told of each result in the order of the rows, once all before it are there; nothing is held then.
    """

    finished = False
    remarks: tuple[str, ...] = ()

    def __init__(self, show: Callable[[dict[str, Any]], None] | None = None) -> None:
        self._lines: dict[bytes, bytes] = {}
        self._rows_by_digest: dict[bytes, int] = {}
        self._waiting: deque[bytes] = deque()
        self._show = show
        self._failed = self._count = 0
        self._kinds: Counter[str] = Counter()
        self.costs: dict[str, float] = {}
        self._lock = threading.Lock()

    def named(self, name: Any) -> tuple[Any, bytes]:
        """The key of a row, and what stands for it."""
        return name, digest_of(name)

    def state(self, key: Any, digest: bytes, position: int, row: Row, content: bytes) -> State:
        with self._lock:
            if digest in self._rows_by_digest:
                raise RequestError(
                    f"lines {self._rows_by_digest[digest]} and {row.line} have the same key {key!r}",
                    hint="Name a column with --id-column (id_column=...) that tells rows apart, or leave one out.",
                )
            self._rows_by_digest[digest] = row.line
            self._waiting.append(digest)
        return "new"

    def add(self, digest: bytes, result: Mapping[str, Any], *, failed: bool) -> None:
        with self._lock:
            self._lines[digest] = result_line(result)
            self._failed += failed
            self._count += 1
            self._kinds[why_of(result.get("error"), result.get("finish_reason"))] += 1
            self.add_cost(result.get("cost"), result.get("currency"))
            while self._show is not None and self._waiting and self._waiting[0] in self._lines:
                self._show(json.loads(self._lines.pop(self._waiting.popleft())))

    def add_cost(self, cost: Any, currency: Any) -> None:
        """Count what was paid."""
        if cost and currency:
            self.costs[currency] = self.costs.get(currency, 0.0) + cost

    def accepts(self, digest: bytes, content: bytes, *, failed: bool) -> bool:
        """Nothing was here before."""
        return True

    def counts(self) -> tuple[int, int]:
        with self._lock:
            return self._count, self._failed

    def kinds(self) -> dict[str, int]:
        with self._lock:
            return {reason: count for reason, count in self._kinds.most_common() if reason}

    def lines(self) -> Iterator[bytes]:
        for digest in self._rows_by_digest:
            if digest in self._lines:
                yield self._lines[digest]

    def begin_again(self) -> None:
        """The rows are gone through once more."""
        self._rows_by_digest.clear()

    def sync(self) -> None:
        """Nothing is on a disk."""

    def move_missing_rows_last(self) -> None:
        """Nothing was here before."""

    def finish(self, names: Iterable[str], *, saw_all: bool) -> None:
        """Nothing is to be written; what waits for a row that never came is shown."""
        if self._show is not None:
            for line in list(self.lines()):
                self._show(json.loads(line))
            self._lines.clear()

    def abandon(self) -> None:
        """Nothing is to be let go of."""
