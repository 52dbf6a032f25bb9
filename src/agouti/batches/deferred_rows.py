"""What the index says of rows that were handed over to a provider."""

from .index import Index


class DeferredRows:
    """Rows that were handed over, as an index knows them."""

    _index: Index

    def handed(self) -> list[tuple[str, str, int, float, str]]:
        """The batches that were handed over to a provider: see `Index.handed`."""
        return self._index.handed()

    def is_handed(self, digest: bytes, content: bytes) -> bool:
        """Whether a row is in one of the batches, with this very question."""
        return self._index.is_handed(digest, content)

    def handed_row(self, digest: bytes, mark: str) -> tuple[bytes, str] | None:
        """What was asked of a row of a batch, and how its result begins."""
        return self._index.handed_row(digest, mark)

    def count_handed(self, digest: bytes, mark: str) -> bool:
        """Note that the answer to a row of a batch is in the books: see `Index.count_handed`."""
        return self._index.count_handed(digest, mark)

    def handed_keys(self, mark: str) -> list[bytes]:
        """The digests of the keys of the rows of a batch."""
        return self._index.handed_keys(mark)

    def takes(self, digest: bytes, content: bytes, *, failed: bool) -> bool:
        """Whether what came of a row that was handed over is to be kept: see `Index.takes`."""
        return self._index.takes(digest, content, failed=failed)
