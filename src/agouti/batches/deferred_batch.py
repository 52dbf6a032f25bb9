"""A batch of rows that was handed over to a provider."""

from msgspec import Struct

# Seconds between two looks, from the first to those of a batch that takes long.
FIRST, GROWTH, LONGEST = 2.0, 1.3, 60.0


class Batch(Struct, frozen=True):
    """A batch that was handed over.

    Attributes:
        mark: our name for it.
        name: the provider's; empty while it is being handed over.
        count: its requests.
        since: when, in seconds since the epoch.
        file: the provider's name for the file of its requests, where there is one.
    """

    mark: str
    name: str
    count: int
    since: float
    file: str = ""

    def id_of(self, digest: bytes) -> str:
        """The identifier of a row in it: it proves whose batch it is."""
        return f"{self.mark}-{digest.hex()}"

    def digest_in(self, identifier: str) -> bytes | None:
        """The row of an identifier; `None` where that is of another batch."""
        mark, dash, digest = identifier.rpartition("-")
        if mark != (self.mark if dash else "") or len(digest) != 32:
            return None
        try:
            return bytes.fromhex(digest)
        except ValueError:
            return None
