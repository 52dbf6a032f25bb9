"""A thread of its own for a store: who waits for it stops nobody else, and waits no longer than he may."""

import sys
import threading
from collections.abc import Callable
from queue import SimpleQueue
from typing import Any

from .effects import Signal, Steps, WaitFor


class Job:
    """Something that is done in another thread.

    Attributes:
        signal: set once it is over.
        result, error: what it gave.
    """

    __slots__ = ("error", "function", "given_up", "result", "signal")

    def __init__(self, function: Callable[[], Any]) -> None:
        self.function = function
        self.signal = Signal()
        self.result: Any = None
        self.error: BaseException | None = None
        self.given_up = False

    def run(self) -> None:
        """Do it, unless nobody waits for it any more."""
        if not self.given_up:
            try:
                self.result = self.function()
            except BaseException as error:
                self.error = error
        self.signal.set()


class StoreThread:
    """The thread; started with the first job, and ended by `stop`."""

    def __init__(self, name: str) -> None:
        self._name = name
        self._lock = threading.Lock()
        self._jobs: SimpleQueue[Job | None] | None = None

    def submit(self, function: Callable[[], Any]) -> Job:
        """Do something after all that was asked for before."""
        job = Job(function)
        with self._lock:
            if self._jobs is None:
                self._jobs = self._started()
            if self._jobs is not None:
                self._jobs.put(job)
                return job
        job.run()  # without the lock: it may ask for more
        return job

    def _started(self) -> "SimpleQueue[Job | None] | None":
        """A thread that works; `None` where the program is at its end, and takes no new threads."""
        jobs: SimpleQueue[Job | None] = SimpleQueue()
        try:
            threading.Thread(target=_work, args=(jobs,), name=self._name, daemon=True).start()
        except RuntimeError:
            return None
        return jobs

    def stop(self) -> None:
        """End the thread once all before this is done."""
        with self._lock:
            jobs, self._jobs = self._jobs, None
        if jobs is not None:
            jobs.put(None)


def _work(jobs: "SimpleQueue[Job | None]") -> None:
    while (job := jobs.get()) is not None:
        job.run()


def wait_for_job(job: Job, seconds: float | None) -> Steps[Any]:
    """What a job gives.

    Raises:
        TimeoutError: it took longer than that; it may be done yet.
    """
    yield WaitFor(job.signal, seconds)
    if not job.signal.is_set:
        job.given_up = True
        raise TimeoutError("the store took too long")
    if job.error is not None:
        raise job.error
    return job.result


def in_a_task() -> bool:
    """Whether an event loop runs here; programs without one do not load it for that."""
    loops = sys.modules.get("asyncio")
    if loops is None:
        return False
    try:
        loops.get_running_loop()
    except RuntimeError:
        return False
    return True
