"""The cache of lists of models: a file in the user's cache folder, with the time of each list."""

import hashlib
import time
from pathlib import Path

import msgspec
from msgspec import Struct

from ..config.entries import Config
from ..dialects.wire import ListedModel
from ..runtime.atomic_files import write_whole

_MOST_SECONDS = 24 * 3600


class CachedList(Struct, frozen=True):
    """A provider's list, and when it was fetched, in seconds since the epoch."""

    at: float
    models: tuple[ListedModel, ...]


class ModelCache:
    """The lists of a configuration's providers.

    Args:
        folder: where they are kept.
    """

    def __init__(self, config: Config, folder: Path) -> None:
        self._config = config
        self._path = folder / "models.json"
        self._all = self._read()

    def known(self) -> dict[str, CachedList]:
        """The lists that are there and at most a day old, by label of the provider."""
        now = time.time()
        by_label = {label: self._all.get(self._key(label)) for label in self._config.providers}
        return {
            label: each for label, each in by_label.items() if each is not None and 0 <= now - each.at < _MOST_SECONDS
        }

    def keep(self, lists: dict[str, tuple[ListedModel, ...]]) -> None:
        """Keep lists that have just been fetched; where that cannot be, they are fetched again next time."""
        now = time.time()
        lists_now = {self._key(label): CachedList(now, models) for label, models in lists.items()}
        fresh = {key: each for key, each in self._read().items() if 0 <= now - each.at < _MOST_SECONDS}
        try:
            self._path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(self._path, msgspec.json.encode({**fresh, **lists_now}).decode(), mode=0o600)
        except OSError:
            return

    def _key(self, label: str) -> str:
        """What a list belongs to: an address and where its key comes from, whatever the entry is called."""
        entry = self._config.providers[label]
        key_text = "" if entry.key is None else entry.key.describe()
        identity = repr(
            (entry.address, entry.dialect, key_text, sorted(entry.paths.items()), sorted(map(str, entry.values)))
        )
        return hashlib.sha256(identity.encode()).hexdigest()[:32]

    def _read(self) -> dict[str, CachedList]:
        try:
            return msgspec.json.decode(self._path.read_bytes(), type=dict[str, CachedList])
        except (OSError, msgspec.DecodeError):
            return {}
