"""Text that grows by short pieces, joined now and then: a list of short texts costs ten times what they say."""

JOIN_AT = 512
"""Pieces that are joined when so many have come."""


class TextPieces:
    """Text that grows by short pieces.

    >>> pieces = TextPieces()
    >>> for piece in ("broad ", "beans"):
    ...     pieces.add(piece)
    >>> str(pieces)
    'broad beans'
    """

    __slots__ = ("_joined", "add", "chunks")

    def __init__(self, text: str = "") -> None:
        self._joined: list[str] = [text] if text else []
        self.chunks: list[str] = []
        self.add = self.chunks.append

    def compact(self) -> None:
        """Join the pieces once they are many; to be called now and then."""
        if len(self.chunks) >= JOIN_AT:
            self._joined.append("".join(self.chunks))
            self.chunks.clear()
            if len(self._joined) >= JOIN_AT:
                self._joined = ["".join(self._joined)]

    def __bool__(self) -> bool:
        return bool(self.chunks or self._joined)

    def __str__(self) -> str:
        return "".join(self._joined) + "".join(self.chunks)
