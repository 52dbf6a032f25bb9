"""What ledgers of every kind are made of: names of columns, and the few things that each kind does itself."""

import json
import logging
from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from threading import RLock
from typing import Any, ClassVar

from .rows import LedgerRow

log = logging.getLogger("agouti.ledger")

VERSION = 2
PAGE = 5000
# Lists of models and counts of tokens cost nothing: they have rows, and stand in no sum.
USES = frozenset({"chat", "embeddings", "batch"})
COLUMNS = tuple(name for name in LedgerRow.__struct_fields__)
ADDED = ("sent", "audio_input_tokens", "audio_output_tokens", "provider_cost")
"""Columns that the first version did not have."""
UNTIMED = frozenset({"operation", "key", "error"})
"""Columns by which latencies are not kept."""
AMOUNTS = ("cost", "provider_cost", "compared_cost")
"""Sums of amounts, which have no ceiling."""
SUMS = (
    "calls", "failures", "abandoned", "cached_answers", "unsent", "input_tokens", "output_tokens", "cached_tokens",
    "cache_write_tokens", "reasoning_tokens", "cost", "provider_cost", "compared_cost", "unpriced", "estimated",
)  # fmt: skip
"""``compared_cost`` is what those requests cost by our price of which the provider says the cost itself."""
OLD_SUMS = (
    "calls", "failures", "abandoned", "input_tokens", "output_tokens", "cached_tokens", "cache_write_tokens",
    "reasoning_tokens", "cost", "unpriced", "estimated",
)  # fmt: skip
"""Those of the first version."""
OLD_KEYS = ("day", "provider", "name", "label", "tags", "currency")
KEYS = (*OLD_KEYS, "operation", "key", "error")
LATENCY_KEYS = OLD_KEYS[:-1]
GROUPS = {
    "day": "day", "provider": "provider", "model": "name", "label": "label", "operation": "operation", "key": "key",
    "error": "error",
}  # fmt: skip


class LedgerTables(ABC):
    """The tables of a ledger, whatever keeps them.

    Attributes:
        address: where it is, for messages.
        errors: all errors of the database.
        prefix: of the names of its tables.
        mark: what stands for a value in a statement.
        tag: the expression for a tag of a call, with one value in it.
    """

    address: str
    errors: ClassVar[tuple[type[Exception], ...]]
    prefix: ClassVar[str] = ""
    mark: ClassVar[str] = "?"
    tag: ClassVar[str]

    def __init__(self) -> None:
        self._lock = RLock()
        self._numbers: dict[str, int] = {}

    @abstractmethod
    def may_retry(self, error: Exception) -> bool:
        """Whether the same may be written later: the disk is full, somebody holds a lock, the server is away."""

    def is_damaged(self, error: Exception) -> bool:
        """Whether it is no ledger any more; another one may be put in its place."""
        return False

    def _disconnected(self, error: Exception) -> bool:
        """Whether an error says that the connection was closed."""
        return False

    @abstractmethod
    def _execute(self, statement: str, values: Sequence[Any] = ()) -> Any:
        """Run a statement; what it has found can be iterated and fetched from."""

    @abstractmethod
    def _execute_many(self, statement: str, rows: Sequence[Sequence[Any]]) -> None:
        """Run a statement for each row of values."""

    @abstractmethod
    def _inserted(self, statement: str, values: Sequence[Any]) -> int:
        """Run a statement that puts one row in; the number of the row."""

    @contextmanager
    @abstractmethod
    def _transaction(self) -> Iterator[None]:
        """All that the block writes is kept, or nothing."""
        yield

    def _lock_exclusively(self) -> None:
        """Nobody else writes rows until the transaction is over; so it is by itself where only one can write."""
        return

    def _amount(self, value: Any) -> int:
        """An amount as it is kept."""
        return int(value)

    def _values(self, row: LedgerRow) -> tuple[Any, ...]:
        """A row as it is kept."""
        return tuple([tags_of(row) if name == "tags" else getattr(row, name) for name in COLUMNS])

    @abstractmethod
    def _add_sums(self, sums: Sequence[tuple[tuple[str, ...], Sequence[int]]]) -> None:
        """Add to the sums of days."""

    @abstractmethod
    def _add_latencies(self, counts: Sequence[tuple[Any, ...]]) -> None:
        """Add to the counts of latencies."""

    @abstractmethod
    def tag_value(self, name: str) -> str:
        """The value in the expression for a tag."""

    @abstractmethod
    def close(self) -> None:
        """Let go of it."""

    def close_now(self) -> bool:
        """Let go of it, unless another thread is in the middle of something; whether it was."""
        if not self._lock.acquire(blocking=False):
            return False
        try:
            self.close()
        finally:
            self._lock.release()
        return True

    def redacted(self, error: Exception) -> str:
        """What an error says, in one line."""
        return " ".join(str(error).split())

    def _sql_of(self, statement: str) -> str:
        """A statement with the names of tables, and the marks for values, that this ledger has."""
        return statement.replace("{", self.prefix).replace("}", "").replace("?", self.mark)


def day_of(at: float) -> str:
    """The day of a time, by UTC."""
    return datetime.fromtimestamp(at, UTC).date().isoformat()


def tags_of(row: LedgerRow) -> str:
    """The tags of a row, as they are kept."""
    return json.dumps(dict(sorted(row.tags.items())), ensure_ascii=False)


def key_of(row: LedgerRow) -> tuple[str, ...]:
    """The key of the sums that a row adds to."""
    error = row.error if row.outcome == "failed" else ""
    texts = (row.provider, row.name, row.label, tags_of(row), row.currency, row.operation, row.key, error)
    return (day_of(row.at), *texts)


def counted(row: LedgerRow) -> tuple[int, ...]:
    """What a row adds to its sums."""
    tokens = (row.input_tokens, row.output_tokens, row.cached_tokens, row.cache_write_tokens, row.reasoning_tokens)
    sent = row.sent
    has_both = row.provider_cost is not None and row.cost is not None
    return (
        int(sent),
        int(sent and row.outcome == "failed"),
        int(sent and row.outcome == "abandoned"),
        int(row.outcome == "cached"),
        int(not sent and row.outcome != "cached"),
        *[each or 0 for each in tokens],
        row.cost or 0,
        row.provider_cost or 0,
        (row.cost or 0) if has_both else 0,
        int(sent and row.cost is None),
        int(row.estimated),
    )
