"""The same run on several machines: rows go to the workers of a Dask cluster, results come back to one journal.

The scheduler hands rows out, and hands out again what a lost worker had; here is only what goes there and comes back.
"""

import os
import pickle
import time
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import suppress
from importlib import import_module
from importlib.util import find_spec
from pathlib import Path
from queue import Empty, SimpleQueue
from typing import TYPE_CHECKING, Any

from msgspec import Struct
from msgspec.structs import replace

from ..config.entries import Config
from ..config.tables import LimitStore
from ..core.errors import AgoutiError, ConfigError, RequestError
from ..core.secrets.secret import Environment, Secret
from ..engine.effects import OnAbandon, RunCallable, Settled, Steps
from .run import Work
from .types import Unit

if TYPE_CHECKING:
    pass

# Rows of one piece of work; more in one go would cost more where a worker is lost.
_ROWS = 8
# Pieces that wait at each worker for the one before, so that none is idle.
_AHEAD = 2
_CONNECT = 10.0
# How the library says that its scheduler is away.
_LOST = ("CommClosedError", "CancelledError", "FutureCancelledError")
_POLL_SECONDS = 0.2
# Seconds that a run which was stopped waits for what is under way.
_DRAIN = 60.0


class BatchRequest(Struct, frozen=True, kw_only=True):
    """What workers ask of each row.

    Attributes:
        config: the configuration, pickled: no key is in it, they live where it says, on the workers too.
        file: where it was read; a worker that has the same there reads it itself.
        kind: ``answers``, ``values``, ``requests`` or ``vectors``.
        form: the form, pickled.
        options: of every call, pickled.
    """

    config: bytes
    file: str
    label: str
    kind: str
    form: bytes = b""
    options: bytes = b""
    dimensions: int | None = None
    lists: bool = True


def packed(config: Config) -> bytes:
    """A configuration without what it was read from, and without the variables of this machine.

    Raises:
        ConfigError: it holds the address of a store with a password, which goes to no other machine.
    """
    from ..config.tables import has_password

    for settings, name in ((config.limit_store, "limits"), (config.ledger, "ledger")):
        if settings is not None and has_password(settings.store) and not config.files:
            raise ConfigError(
                f"[{name}] store has a password in it, which is sent to no worker",
                hint='Keep the configuration in a file that the workers have too, with store = { env = "NAME" }.',
            )
    stores = {
        "limit_store": None if config.limit_store is None else config.limit_store.store.reveal(),
        "ledger": None if config.ledger is None else config.ledger.store.reveal(),
    }
    variables = {name: None if text is None or has_password(Secret(text)) else text for name, text in stores.items()}
    return pickle.dumps((replace(config, environment=Environment({}), files=(), origins=None), variables))


def unpacked(data: bytes, file: str) -> Config:
    """The configuration on a worker: its own file where that says the same, with the variables of that machine."""
    from ..config.load import load

    loaded, stores = pickle.loads(data)  # noqa: S301  # the scheduler's own connection brings it
    if file and Path(file).exists():
        with suppress(AgoutiError):
            settings_file = load(file)
            if packed(settings_file) == data:
                return settings_file
    for name, text in stores.items():
        settings = getattr(loaded, name)
        if settings is not None and text is not None:
            loaded = replace(loaded, **{name: replace(settings, store=Secret(text))})
    config: Config = replace(loaded, environment=Environment(dict(os.environ)))
    return config


def with_shared_limits(config: Config) -> Config:
    """A configuration whose limits all workers of a machine keep together, where it names no store for them."""
    if config.limit_store is not None or not has_limits(config):
        return config
    from platformdirs import user_state_path

    limits_file = user_state_path("agouti", ensure_exists=True) / "cluster-limits.sqlite"
    return replace(config, limit_store=LimitStore(store=Secret(str(limits_file)), lost="fail"))


def has_limits(config: Config) -> bool:
    """Whether any entry has limits."""
    limited = [*[each.limits for each in config.providers.values()], *[each.limits for each in config.models.values()]]
    return any(each is not None for each in limited)


class ClusterRun:
    """A run on a cluster.

    Args:
        address: of the scheduler.
        concurrency: rows under way at a time; as many as the workers take, where not given.
        run_rows: what a worker does with rows.
        one_machine: there are limits, and no store in which several machines could keep them together.
        rows: of one piece of work at most; more than eight are one request.
    """

    def __init__(
        self,
        address: str,
        request: BatchRequest,
        work: Work,
        concurrency: int | None,
        *,
        run_rows: "Callable[[BatchRequest, list[Any]], list[Any]]",
        rows: int = _ROWS,
        one_machine: bool = False,
    ) -> None:
        self._address = address
        self._request = request
        self._work = work
        self._rows, self._most_pieces = pieces_of(concurrency, rows, is_one=rows > _ROWS)
        self._is_lost = False
        self._one_machine = one_machine
        self._run_rows = run_rows
        self._over = False

    def steps(self) -> Steps[None]:
        """Ask all that has no result yet.

        Raises:
            RequestError: there is no such cluster, it has no workers, or they cannot run this.
            AgoutiError: it was stopped; what came is kept.
        """
        undo = OnAbandon(self._stop)
        yield undo
        yield RunCallable(self._run, None)
        yield Settled(undo)
        if self._work.stop is not None:
            raise self._work.stop

    def _stop(self) -> None:
        self._over = True

    def _run(self) -> None:
        dask = self._connected()
        try:
            self._submit_all(dask)
        except OSError as error:  # what is said between the two breaks off
            self._lost(error)
        finally:
            with suppress(OSError):
                dask.close(timeout=_CONNECT)

    def _connected(self) -> Any:
        distributed: Any = import_module("distributed")
        try:
            dask: Any = distributed.Client(self._address, timeout=_CONNECT, set_as_default=False)
        except (OSError, TimeoutError, ValueError) as error:
            reason = " ".join(str(error).split())[:120] or type(error).__name__
            raise RequestError(
                f"no cluster answers at {self._address} ({reason})",
                hint="Start one with `dask scheduler` and `dask worker ADDRESS`, or leave --cluster out.",
            ) from None
        try:
            dask.wait_for_workers(1, timeout=_CONNECT)
        except TimeoutError:
            dask.close()
            raise RequestError(
                f"the cluster at {self._address} has no workers", hint=f"Start some: dask worker {self._address}"
            ) from None
        return dask

    def _submit_all(self, dask: Any) -> None:
        waiting: deque[tuple[float, list[Unit], int]] = deque()
        pending: dict[Any, tuple[list[Unit], int, float]] = {}
        groups = self._groups()
        completed: SimpleQueue[Any] = SimpleQueue()
        ended = False
        while not self._over and self._work.stop is None:
            if dask.status != "running":
                self._lost(None)
                break
            self._check_machines(dask)
            capacity = self._capacity(dask)
            while len(pending) < capacity:
                if waiting and waiting[0][0] <= time.monotonic():
                    _, units, tries = waiting.popleft()
                else:
                    units, tries = self._next(groups), 0
                if not units:
                    ended = True
                    break
                prompts = [unit.prompt for unit in units]
                self._work.begin(units)
                future = dask.submit(self._run_rows, self._request, prompts, pure=False)
                pending[future] = (units, tries, time.monotonic())
                future.add_done_callback(completed.put)
            if ended and not pending and not waiting:
                return
            for future in _finished(completed):
                units, tries, started_at = pending.pop(future)
                retried = self._on_result(future, units, started_at, tries)
                if retried:
                    wait = max(seconds for _, seconds in retried)
                    waiting.append((time.monotonic() + wait, [unit for unit, _ in retried], tries + 1))
        self._drain(completed, pending)

    def _check_machines(self, dask: Any) -> None:
        """See that what holds for all workers can be kept by all of them."""
        if not self._one_machine:
            return
        hosts = {str(address).rpartition(":")[0] for address in dask.nthreads()}
        if len(hosts) > 1:
            self._work.end(
                RequestError(
                    f"the workers are on {len(hosts)} machines, and each would keep the limits for itself",
                    hint="Name a Redis server that all of them reach: [limits] store = { env = ... }, or take the "
                    "workers of one machine.",
                )
            )

    def _drain(self, completed: "SimpleQueue[Any]", pending: dict[Any, tuple[list[Unit], int, float]]) -> None:
        """What is under way is paid for: it is kept, unless nobody wants it any more."""
        until = time.monotonic() + _DRAIN
        while pending and not self._over and not self._is_lost and time.monotonic() < until:
            for future in _finished(completed):
                units, tries, started_at = pending.pop(future)
                self._on_result(future, units, started_at, tries)
        for future in pending if not self._is_lost else ():
            future.cancel()

    def _lost(self, error: Exception | None) -> None:
        """Nobody gives out the work any more."""
        self._is_lost = True
        reason = f" ({' '.join(str(error).split())[:120]})" if error is not None else ""
        self._work.end(
            RequestError(
                f"the scheduler at {self._address} is gone{reason}",
                hint="What came is kept. Start it again, with its workers; the same command goes on.",
            )
        )

    def _next(self, groups: Iterator[list[Unit]]) -> list[Unit]:
        """The next rows; none where one of them ends the run."""
        try:
            return next(groups, [])
        except AgoutiError as error:
            self._work.end(error)
            return []

    def _groups(self) -> Iterator[list[Unit]]:
        units: list[Unit] = []
        for unit in self._work.units():
            units.append(unit)
            if len(units) >= self._rows:
                yield units
                units = []
        if units:
            yield units

    def _capacity(self, dask: Any) -> int:
        """Pieces that may be under way: as many as the workers there are now take."""
        if self._most_pieces is not None:
            return self._most_pieces
        threads: int = sum(dask.nthreads().values())
        return max(threads * _AHEAD, 1)

    def _on_result(self, future: Any, units: list[Unit], started_at: float, tries: int) -> list[tuple[Unit, float]]:
        """Keep what came of a piece of work; the rows that are to be asked again, and after how many seconds."""
        try:
            outcome = future.result()
        except Exception as error:
            if any(each.__name__ in _LOST for each in type(error).__mro__):
                self._lost(None)
                return []
            reason = f"{type(error).__name__}: {' '.join(str(error).split())[:200]}"
            self._work.end(
                RequestError(
                    f"the workers cannot do it ({reason})",
                    hint="They need Agouti in this version, and the modules of your own types and functions.",
                )
            )
            return []
        retried = []
        for unit, each in zip(units, outcome, strict=True):
            wait = self._work.on_result(unit, each, started_at, tries)
            if wait is not None:
                retried.append((unit, wait))
        return retried


def pieces_of(concurrency: int | None, rows: int, *, is_one: bool) -> tuple[int, int | None]:
    """How many rows a piece of work has, and how many pieces may be under way, so that never more are asked at once.

    Args:
        is_one: a piece is one request, whatever it has of rows.

    >>> [pieces_of(each, 8, is_one=False) for each in (None, 1, 5, 12, 64)], pieces_of(3, 128, is_one=True)
    ([(8, None), (1, 1), (5, 1), (6, 2), (8, 8)], (128, 3))
    """
    if concurrency is None or is_one:
        return rows, concurrency
    size = max(each for each in range(1, rows + 1) if concurrency % each == 0)
    return size, concurrency // size


def _finished(completed: "SimpleQueue[Any]") -> list[Any]:
    """What has come to its end, waited for a moment."""
    done = []
    with suppress(Empty):
        done.append(completed.get(timeout=_POLL_SECONDS))
        while True:
            done.append(completed.get_nowait())
    return done


def packed_form(kind: Any, form: Any) -> bytes:
    """A form for the workers.

    Raises:
        RequestError: its type cannot be sent.
    """
    try:
        data: bytes = import_module("cloudpickle").dumps(form)
    except Exception as error:
        raise RequestError(
            f"{getattr(kind, '__name__', 'the form')} cannot be sent to workers ({error})",
            hint="Put the type into a module of its own, or pass a JSON Schema.",
        ) from None
    return data


def check_installed() -> None:
    """See that Dask is there.

    Raises:
        ConfigError: it is not.
    """
    if find_spec("distributed") is None:
        raise ConfigError(
            "a cluster needs Dask distributed, which is not installed",
            hint="Install it: pip install 'agouti-client[dask]'.",
        )
