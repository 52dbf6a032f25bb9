"""Amounts in SQLite, however large: its whole numbers end at 64 bits."""

# Whole numbers of SQLite end there; larger amounts are kept as a text, with a letter so that it stays one.
LARGEST = 2**63 - 1
_LETTER = "p"


class Total:
    """The sum of amounts, however large."""

    def __init__(self) -> None:
        self._sum = 0

    def step(self, value: int | str | None) -> None:
        """One more."""
        self._sum += value if isinstance(value, int) else read_amount(value)

    def finalize(self) -> int | str:
        """All of them."""
        return stored_amount(self._sum)


def added(one: int | str, second: int | str) -> int | str:
    """Two amounts as one, for SQLite."""
    if isinstance(one, int) and isinstance(second, int) and -LARGEST <= one + second <= LARGEST:
        return one + second
    return stored_amount(read_amount(one) + read_amount(second))


def sum_of(one: int | str, second: int | str) -> int | str:
    """Two amounts as one."""
    return one + second if isinstance(one, int) and isinstance(second, int) else read_amount(one) + read_amount(second)


def read_amount(value: int | str | None) -> int:
    """An amount as it is kept in the file."""
    return int(value.rstrip(_LETTER)) if isinstance(value, str) else int(value or 0)


def stored_amount(value: int) -> int | str:
    """An amount as the file takes it."""
    return value if -LARGEST <= value <= LARGEST else f"{value}{_LETTER}"
