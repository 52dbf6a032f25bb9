"""What the index of a run says of its rows."""

from threading import Lock
from typing import Any

from ..runtime.fork_guard import undisturbed
from .result_index import Index, digest_of
from .run_parts import twin_of


class IndexedRows:
    """Rows as an index knows them."""

    _index: Index
    _keyed: bool
    _has_earlier: bool
    _lock: Lock

    def named(self, name: Any) -> tuple[Any, bytes]:
        """The key of a row as an earlier run has it, and what stands for it: ``1`` and ``"1"`` are one."""
        digest = digest_of(name)
        if self._has_earlier and self._keyed and (twin := twin_of(name)) is not None:
            twin_digest = digest_of(twin)
            with self._lock, undisturbed():
                if self._index.has_of_earlier_run(twin_digest) and not self._index.has_of_earlier_run(digest):
                    return twin, twin_digest
        return name, digest

    def counts(self) -> tuple[int, int]:
        """How many rows have a result, and how many of those failed."""
        with self._lock:
            return self._index.counts()

    def kinds(self) -> dict[str, int]:
        """How many results there are of each kind that is to be told: see `Known.why`."""
        with self._lock:
            return self._index.kinds()

    def submissions(self) -> list[tuple[str, str, int, float, str]]:
        """The batches that were handed over to a provider: see `Index.handed`."""
        return self._index.submissions()

    def is_submitted(self, digest: bytes, content: bytes) -> bool:
        """Whether a row is in one of the batches, with this very question."""
        return self._index.is_submitted(digest, content)

    def submitted_row(self, digest: bytes, mark: str) -> tuple[bytes, str] | None:
        """What was asked of a row of a batch, and how its result begins."""
        return self._index.submitted_row(digest, mark)

    def count_submission(self, digest: bytes, mark: str) -> bool:
        """Note that the answer to a row of a batch is in the books: see `Index.count_submission`."""
        return self._index.count_submission(digest, mark)

    def submitted_keys(self, mark: str) -> list[bytes]:
        """The digests of the keys of the rows of a batch."""
        return self._index.submitted_keys(mark)

    def accepts(self, digest: bytes, content: bytes, *, failed: bool) -> bool:
        """Whether what came of a row that was handed over is to be kept: see `Index.takes`."""
        return self._index.accepts(digest, content, failed=failed)
