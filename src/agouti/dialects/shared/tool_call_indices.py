"""Calls of a stream: which of them a piece belongs to, also where a server leaves out what tells them apart."""

from collections.abc import Hashable


class CallNumbers:
    """The number of the call that a piece is of.

    Places are what a format counts blocks by: an index, an item's identifier. Servers leave them out, or give the same
    one to several calls; a call that begins is then told by its new identifier, and what follows belongs to the last.
    """

    __slots__ = ("_ids", "_indices", "count")

    def __init__(self) -> None:
        self._ids: dict[str, int] = {}
        self._indices: dict[Hashable, int] = {}
        self.count = 0

    def opened(self, *keys: Hashable) -> int:
        """A call begins, known by these places from now on.

        >>> numbers = CallNumbers()
        >>> [numbers.opened(0), numbers.opened(None), numbers.at(0), numbers.at(None)]
        [0, 1, 0, 1]
        """
        number = self.count
        self.count += 1
        for key in keys:
            if key is not None:
                self._indices[key] = number
        return number

    def at(self, *keys: Hashable) -> int:
        """The call at the first of these places that is known; else the last one, or a first one."""
        for key in keys:
            if key in self._indices:
                return self._indices[key]
        return self.count - 1 if self.count else self.opened(*keys)

    def known(self, key: Hashable) -> bool:
        """Whether a call is at this place."""
        return key in self._indices

    def index_of(self, key: Hashable, identifier: str | None, name: str | None) -> int:
        """The call of a piece that may be a beginning: of another identifier, at a new place, or named without a place.

        >>> numbers = CallNumbers()
        >>> [numbers.index_of(0, "a", "f"), numbers.index_of(0, None, None), numbers.index_of(0, "b", "g")]
        [0, 0, 1]
        """
        if identifier and identifier in self._ids:
            return self._ids[identifier]
        # Some servers make up an identifier for every piece: only one with a name beside it is a new call.
        begins = name is not None and bool(identifier)
        if key is None:
            number = self.opened() if begins or name or not self.count else self.count - 1
        else:
            number = self.opened(key) if begins or not self.known(key) else self._indices[key]
        if identifier:
            self._ids[identifier] = number
        return number
