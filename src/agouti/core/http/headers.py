"""Headers by name, whatever its case (RFC 9110 section 5.1)."""

from collections.abc import Iterable, Iterator, Mapping
from typing import TypeVar, overload

T = TypeVar("T")


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

    # Looked up several times for every reply: a mapping's own way is by an exception.
    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and name.lower() in self._values

    @overload
    def get(self, name: str, /) -> str | None: ...
    @overload
    def get(self, name: str, /, default: str | T) -> str | T: ...
    def get(self, name: str, /, default: str | T | None = None) -> str | T | None:
        return self._values.get(name.lower(), default)

    def __len__(self) -> int:
        return len(self._values)


def media_type(headers: Mapping[str, str]) -> str:
    """The media type of a reply, without parameters; of a header that came twice the first.

    >>> media_type(Headers([("Content-Type", "Application/JSON; charset=utf-8, application/json")]))
    'application/json'
    """
    return headers.get("content-type", "").partition(";")[0].partition(",")[0].strip().lower()
