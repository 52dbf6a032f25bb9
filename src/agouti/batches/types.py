"""What a run is made of: its rows, how it goes on, how far it is."""

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from ..tables.row_files import Row
from .prompts import RowPrompt


class Progress(Struct, frozen=True, kw_only=True):
    """How far a run is.

    Attributes:
        total: rows to be done in all; `None` where that is not known.
        already_done: had their result before.
        done: have been answered by this run.
        failed: have an error, of this run.
        costs: what this run has cost so far, by currency.
        rate: rows a second, lately.
        seconds_left: until the end, at that rate; `None` where that is not known.
        at_once: how many are under way.
    """

    total: int | None
    already_done: int
    done: int
    failed: int
    costs: dict[str, float]
    rate: float
    seconds_left: float | None
    at_once: int

    if not TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            from .._former import attribute

            return attribute(self, name)


class Unit(Struct, frozen=True):
    """A row that is to be asked.

    Attributes:
        key: what it is called in the results.
        digest: of the key.
        row: the row.
        prompt: what is asked of it.
        retried: it has a result, which an error does not take the place of.
    """

    key: Any
    digest: bytes
    row: Row
    prompt: RowPrompt
    retried: bool = False


class Unusable(Struct, frozen=True):
    """A row that cannot be asked."""

    unit: Unit
    reason: str


class Settings(Struct, frozen=True, kw_only=True):
    """How a run goes on.

    Attributes:
        key: the column that names a row; `None`: its number does.
        limit: ask no more rows than so many.
        sample: only so many rows, by chance, always the same ones.
        retry_failed: ask those again that have an error.
        stop_after: so many failures in a row, and nothing else, end it; 0: none do.
        patience: seconds without any success, while errors may pass, that end it.
        stop_at_share: more than this share of failures ends it, from a hundred rows on.
        until: no row is begun after this time, in seconds since 1970.
    """

    key: str | None = None
    limit: int | None = None
    sample: int | None = None
    retry_failed: bool = False
    stop_after: int = 25
    patience: float = 300.0
    stop_at_share: float | None = None
    until: float | None = None


class Source(Struct, frozen=True):
    """Rows, gone through as often as is needed where they can be.

    Attributes:
        rows: gives them from the beginning.
        total: how many there are, where that is known.
        has_lines: whether they are lines of a file.
    """

    rows: Callable[[], Iterable[Row]]
    total: int | None = None
    has_lines: bool = True
