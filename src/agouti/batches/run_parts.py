"""What a run is taken apart into: rows that wait for another try, those of a sample, what a failure leaves."""

import random
from collections import deque
from collections.abc import Iterable, Iterator
from typing import Any

from msgspec import Struct

from ..core.errors import AgoutiError, RequestError
from ..tables.row_files import Row
from .types import Source, Unit

# The rate is of so many seconds.
_SPAN = 20.0


class Waiting(Struct, frozen=True, order=True):
    """Rows that are asked again later.

    Attributes:
        at: when.
        number: tells those of one moment apart.
        tries: how often they have failed in a way that passes.
        since: when they did so first.
    """

    at: float
    number: int
    units: list[Unit]
    tries: int
    since: float | None


class Rate:
    """How many rows a second come to their end, lately.

    >>> rate = Rate()
    >>> for at in range(30):
    ...     rate.add(at / 10)
    >>> rate.at(3.0)
    10.0
    """

    def __init__(self) -> None:
        self._times: deque[float] = deque(maxlen=4096)

    def add(self, now: float) -> None:
        """A row has come to its end."""
        self._times.append(now)

    def at(self, now: float) -> float:
        """Rows a second; 0 where it is too early to say."""
        while self._times and now - self._times[0] > _SPAN:
            self._times.popleft()
        span = now - (self._times[0] if self._times else now)
        return len(self._times) / span if span > 0.2 else 0.0


def storable_value(value: Any) -> Any:
    """A value of a column as it stands in a result; of bytes only how many."""
    return f"({len(value)} bytes)" if isinstance(value, bytes) else value


def failure_facts(error: Exception) -> dict[str, Any]:
    """An error as a result; what had been paid before it is kept with it."""
    facts: dict[str, Any] = {"error": f"{type(error).__name__}: {getattr(error, 'message', error)}"}
    if isinstance(error, AgoutiError) and error.answers:
        replies = [answer.reply for answer in error.answers]
        facts["answer"] = replies[-1].text
        costs = [reply.cost for reply in replies if reply.cost is not None]
        if costs and replies[-1].price is not None:
            facts |= {"cost": sum(costs), "currency": replies[-1].price.currency}
    return facts


def key_of(key: str | None, position: int, row: Row) -> Any:
    """What a row is called in the results: by its column of that name, or its number."""
    if key is None:
        return position
    if row.columns.get(key) in (None, ""):
        return f"line {row.line}"  # it cannot be read, or has no such column: told in its result
    return row.columns[key]


def twin_of(name: Any) -> Any:
    """The same key in a file of another kind: tables of text know no numbers; `None` where there is none.

    >>> twin_of(7), twin_of("7"), twin_of("07"), twin_of("pea"), twin_of(True)
    ('7', 7, None, None, None)
    """
    if isinstance(name, str):
        # As an int is written, and of a length that is read at once.
        return int(name) if len(name) < 20 and name.isascii() and name.isdigit() and str(int(name)) == name else None
    return str(name) if isinstance(name, int) and not isinstance(name, bool) else None


def too_many(failed: int, done: int, share: float, last: str) -> RequestError | None:
    """The error of a run of which more than a share of rows fails, once a hundred have been asked.

    >>> too_many(4, 96, 0.05, "") is None, str(too_many(6, 94, 0.05, "Refused: no")).partition(";")[0]
    (True, '6 of 100 rows failed, more than 5 %')
    """
    if failed + done < 100 or failed <= share * (failed + done):
        return None
    return RequestError(
        f"{failed} of {failed + done} rows failed, more than {share * 100:.3g} %; the last: {last}",
        hint="Mend it and say --retry-failed (retry_failed=True); what is there is kept.",
    )


def numbered(source: Source) -> Iterator[tuple[int, Row]]:
    """The rows of a source, counted from 1. Empty ones are left out of text files: a blank line means nothing."""
    return enumerate((row for row in source.rows() if not (source.has_lines and row.is_empty)), 1)


def sampled(rows: Iterable[tuple[int, Row]], count: int) -> list[tuple[int, Row]]:
    """So many of the rows, by chance, in their order; the same ones each time."""
    chance = random.Random(count)
    sample: list[tuple[int, Row]] = []
    for number, each in enumerate(rows):
        if number < count:
            sample.append(each)
        elif (position := chance.randrange(number + 1)) < count:
            sample[position] = each
    return sorted(sample, key=lambda each: each[0])
