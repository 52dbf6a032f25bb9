"""Key rotation: a key is kept while it is fresh, fetched again when refused; several are taken in turn."""

from threading import Lock

from ..runtime.fork_reset import reset_after_fork
from .credential import Credential
from .sources import Key, SeveralKeys


class KeyRotation:
    """The keys of one provider. Holds no clock and fetches nothing: the engine does, and reports back."""

    def __init__(self, key: Key | None) -> None:
        self._keys: tuple[Key, ...] = key.keys if isinstance(key, SeveralKeys) else (key,) if key is not None else ()
        self._one = self._keys[0] if len(self._keys) == 1 else None
        self._latest: Credential | None = None
        self._credentials: dict[Key, Credential] = {}
        self._disabled: dict[Key, Credential] = {}
        self._renewed: set[Key] = set()
        self._resting: dict[Key, float] = {}
        self._next = 0
        self._lock = Lock()
        reset_after_fork(self)

    def after_fork(self) -> None:
        """Another thread of the parent may hold the lock."""
        self._lock = Lock()

    @property
    def none(self) -> bool:
        """Whether this provider wants no key."""
        return not self._keys

    @property
    def count(self) -> int:
        """How many keys there are."""
        return len(self._keys)

    def next(self, now: float) -> "Credential | Key":
        """The key to use, or the place to fetch it from first.

        Args:
            now: seconds since the epoch.
        """
        if self._one is not None:
            # On the way of every request: looking a key up would hash its whole source.
            latest = self._latest
            return latest if latest is not None and latest.fresh(now) else self._one
        with self._lock:
            usable = [key for key in self._keys if key not in self._disabled]
            if not usable:
                # Refused once is not refused for ever: a provider may have had a bad minute.
                self._disabled.clear()
                usable = list(self._keys)
            if self._resting:
                rested = [key for key in usable if self._resting.get(key, 0.0) <= now]
                # Where all have to wait, the one that waits the shortest.
                usable = rested or [min(usable, key=lambda key: self._resting.get(key, 0.0))]
            key = usable[self._next % len(usable)]
            self._next += 1
        current = self._credentials.get(key)
        return current if current is not None and current.fresh(now) else key

    def store(self, key: Key, credential: Credential) -> None:
        """A key was fetched."""
        with self._lock:
            self._credentials[key] = self._latest = credential

    def succeeded(self, credential: Credential) -> None:
        """The provider took this key: should it refuse it later, it is worth fetching again."""
        if self._renewed:
            with self._lock:
                self._renewed -= {key for key, current in self._credentials.items() if current is credential}

    def free(self, now: float) -> int:
        """How many keys are neither refused nor at rest."""
        if self._one is not None:
            return 1
        with self._lock:
            return sum(key not in self._disabled and self._resting.get(key, 0.0) <= now for key in self._keys)

    def limited(self, credential: Credential, until: float) -> bool:
        """The provider wants no more requests with a key for a while: is there another one meanwhile?

        Args:
            until: seconds since the epoch.
        """
        if self._one is not None:
            return False
        with self._lock:
            key = next((key for key, current in self._credentials.items() if current is credential), None)
            now_free = [each for each in self._keys if each not in self._disabled and each is not key]
            if key is not None:
                self._resting[key] = until
            return any(self._resting.get(each, 0.0) < until for each in now_free)

    def refused(self, credential: Credential) -> bool:
        """The provider refused a key: is another try worth it?

        Yes, once, where fetching it again may give another one, and where there are other keys.
        """
        with self._lock:
            key = next((key for key, current in self._credentials.items() if current is credential), None)
            if key is None:
                # Another call has been told before: is there another value meanwhile, or may there be one?
                held_secrets = [current.secret for current in self._credentials.values()]
                return (
                    credential.renewable
                    if not held_secrets
                    else any(each != credential.secret for each in held_secrets)
                )
            del self._credentials[key]
            self._latest = None
            if credential.renewable and key not in self._renewed:
                self._renewed.add(key)
                return True
            if len(self._keys) > 1:
                self._disabled[key] = credential
                return len(self._disabled) < len(self._keys)
            return False
