"""Headers by name, whatever its case (RFC 9110 section 5.1)."""

from collections.abc import Iterable, Iterator, Mapping


class Headers(Mapping[str, str]):
    """A case-insensitive mapping; of a repeated name the last value counts.

    >>> Headers([("Retry-After", "3")]).get("retry-after")
    '3'
    """

    __slots__ = ("_values",)

    def __init__(self, pairs: Iterable[tuple[str, str]] = ()) -> None:
        self._values = {name.lower(): value for name, value in pairs}

    def __getitem__(self, name: str) -> str:
        return self._values[name.lower()]

    def __iter__(self) -> Iterator[str]:
        return iter(self._values)

    def __len__(self) -> int:
        return len(self._values)
