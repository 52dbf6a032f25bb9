"""The connection to a Redis server that keeps limits for several programs and machines."""

import itertools
import threading
import time
import uuid
import weakref
from collections import deque
from collections.abc import Sequence
from queue import Empty, SimpleQueue
from typing import Any, TypeAlias

from ..config.tables import LimitStore, redact_store, shown_store
from ..core.errors import ConfigError
from ..engine.effects import Signal
from .redis_script import SCRIPT
from .shared_schedule import LEASE, StoreLost

try:
    import redis
    from redis.backoff import NoBackoff
    from redis.retry import Retry
except ImportError:
    raise ConfigError(
        "limits that are shared need the redis package", hint="Install it: pip install 'agouti-client[redis]'."
    ) from None

_PATIENCE = 2.0
_WAITING = 10_000
_Command: TypeAlias = "tuple[Sequence[str], Sequence[Any]]"


class RedisStore:
    """A server, and what this process waits for and holds there.

    Args:
        settings: where it is.

    Attributes:
        address: its address without a password.
        process: a name for this process, another one in each.
    """

    def __init__(self, settings: LimitStore) -> None:
        self._settings = settings
        self.address = shown_store(settings.store)
        self._begin()

    def _begin(self) -> None:
        self._lock = threading.Lock()
        self._work: _Work | None = None
        self._numbers = itertools.count()
        self.process = uuid.uuid4().hex

    def after_fork(self) -> None:
        """A child is another process, with nothing under way."""
        self._begin()

    def member(self) -> str:
        """A name for one request."""
        return f"{self.process}|{next(self._numbers)}"

    def ask(self, keys: Sequence[str], arguments: Sequence[Any]) -> tuple[str, str]:
        """Run the script, and wait for its answer.

        Raises:
            StoreLost: the server is out of reach.
            ConfigError: it is no Redis server, or does not let us in.
        """
        kind, value = self._working().run(keys, arguments)
        return kind.decode(), value.decode()

    def later(self, keys: Sequence[str], arguments: Sequence[Any]) -> None:
        """Run the script beside the calls; nobody waits for its answer."""
        if (work := self._work) is not None:
            work.queue.put((keys, arguments))

    def expect(self, member: str, signal: Signal) -> None:
        """A signal is set when there is a word for a member."""
        self._working().signals[member] = signal

    def forget(self, member: str) -> None:
        """Nobody waits for a word any more."""
        if (work := self._work) is not None:
            work.signals.pop(member, None)

    def _working(self) -> "_Work":
        with self._lock:
            if self._work is None:
                self._work = _Work(self._settings, self.process)
                weakref.finalize(self, self._work.stop)  # nobody has the client any more
            return self._work

    def close(self) -> None:
        """Give back what is held, and let go of the server."""
        with self._lock:
            work, self._work = self._work, None
        if work is not None:
            work.stop()


class _Work:
    """The connection, a thread that listens for words, and one that writes beside the calls."""

    def __init__(self, settings: LimitStore, process: str) -> None:
        self._store = settings.store
        self._address = shown_store(settings.store)
        self._process = process
        self.queue: SimpleQueue[_Command | None] = SimpleQueue()
        self.signals: dict[str, Signal] = {}
        try:
            self._client = redis.Redis.from_url(
                settings.store.reveal(),
                socket_connect_timeout=_PATIENCE,
                socket_timeout=_PATIENCE,
                retry=Retry(NoBackoff(), 1),
                client_name="agouti",
            )
        except ValueError as error:
            raise ConfigError(
                f"[limits] store {self._address} cannot be read ({redact_store(self._store, error)})",
                hint='Write store = "redis://127.0.0.1:6379/0".',
            ) from None
        self._script = self._client.register_script(SCRIPT)
        self._tried(self._client.ping)
        self._heard = self._client.pubsub(ignore_subscribe_messages=True)  # type: ignore[no-untyped-call]
        self._tried(lambda: self._heard.subscribe(f"agouti:wake:{process}"))
        self._ended = False
        for target, name in ((self._listen, "agouti-limits-words"), (self._write, "agouti-limits")):
            try:
                threading.Thread(target=target, name=name, daemon=True).start()
            except RuntimeError:  # the program is at its end, and takes no new threads
                raise StoreLost("the program is at its end") from None

    def run(self, keys: Sequence[str], arguments: Sequence[Any]) -> Any:
        """Run the script."""
        try:
            return self._script(keys=list(keys), args=list(arguments))
        except (redis.RedisError, OSError) as error:  # it was there: full, read-only now, or away
            raise StoreLost(redact_store(self._store, error)) from None

    def _tried(self, action: Any) -> Any:
        """The first words with the server."""
        try:
            return action()
        except (redis.ConnectionError, redis.TimeoutError, redis.BusyLoadingError, OSError) as error:
            if isinstance(error, redis.AuthenticationError):
                raise self._refused(error) from None
            raise StoreLost(redact_store(self._store, error)) from None
        except redis.RedisError as error:
            raise self._refused(error) from None

    def _refused(self, error: Exception) -> ConfigError:
        return ConfigError(
            f"[limits] store {self._address} is no Redis server that lets us in ({redact_store(self._store, error)})",
            hint="Name the address of one, with user and password where it wants them.",
        )

    def stop(self) -> None:
        """End the threads once all before this is written."""
        self.queue.put(None)

    def _listen(self) -> None:
        while not self._ended:
            try:
                message = self._heard.get_message(timeout=1.0)
            except (redis.RedisError, OSError, ValueError, AttributeError):
                if not self._ended:
                    threading.Event().wait(0.2)  # it is out of reach; whoever waits looks again by himself
                continue
            if message is not None and (signal := self.signals.get(message["data"].decode())) is not None:
                signal.set()

    def _write(self) -> None:
        waiting: deque[_Command] = deque(maxlen=_WAITING)  # for a server that is out of reach
        ended, renewed_at = False, -LEASE
        while not ended:
            try:
                command = self.queue.get(timeout=LEASE / 3 if not waiting else 0.2)
            except Empty:
                command = ((), ())
            if command is None:
                ended = True
            elif command[0]:
                waiting.append(command)
            try:
                if not ended and (now := time.monotonic()) - renewed_at >= LEASE / 4:
                    self._client.set(f"agouti:alive:{self._process}", "1", px=round(LEASE * 1000))
                    renewed_at = now
                while waiting:
                    self._script(keys=list(waiting[0][0]), args=list(waiting[0][1]))
                    waiting.popleft()
            except (redis.RedisError, OSError):
                continue  # what has ended is told later: its permit is held until then
        self._ended = True
        try:
            self._client.delete(f"agouti:alive:{self._process}")
            self._heard.close()
            self._client.close()
        except (redis.RedisError, OSError):
            return
