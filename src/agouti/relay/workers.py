"""Several processes that serve one address: each takes connections from the same socket.

They share limits and budgets through the stores of the configuration; what a token may do in a minute is divided.
"""

import logging
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from .server import address_of

log = logging.getLogger("agouti.relay")
# A process that ends sooner than this is begun again after a wait.
_RESTART_SECONDS = 5.0


def end_with_parent() -> None:
    """Stop this process once the one that has begun it is gone."""
    parent = os.getppid()

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(1.0)
        os.kill(os.getpid(), signal.SIGTERM)

    threading.Thread(target=watch, name="agouti-parent", daemon=True).start()


def run_workers(sock: socket.socket, count: int, config: str | None, ready: Callable[[str], None]) -> None:
    """Run until told to stop; a process that ends by itself is begun again.

    Args:
        sock: bound; all of them listen at it.
        config: the configuration, as it was named to the command.
    """
    sock.listen(2048)
    sock.set_inheritable(True)
    config_arguments = ["--config", str(config)] if config else []
    command = [
        sys.executable,
        "-m",
        "agouti",
        *config_arguments,
        "relay",
        "--inherited",
        str(sock.fileno()),
        "--workers",
        str(count),
    ]
    stopping: list[int] = []
    asked_to_end: set[int] = set()
    started_at: dict[int, float] = {}
    workers: list[subprocess.Popen[bytes]] = []

    def start() -> subprocess.Popen[bytes]:
        # A session of its own: Ctrl-C in the terminal is passed on once, by us.
        worker = subprocess.Popen(command, pass_fds=[sock.fileno()], stdin=subprocess.DEVNULL, start_new_session=True)  # noqa: S603  # our own
        started_at[worker.pid] = time.monotonic()
        return worker

    def pass_on(number: int, _: Any) -> None:
        if number != getattr(signal, "SIGHUP", None):
            stopping.append(number)
            number = signal.SIGTERM
            asked_to_end.update(each.pid for each in workers)
        for each in workers:
            with suppress(OSError):
                each.send_signal(number)

    numbers = [each for name in ("SIGINT", "SIGTERM", "SIGHUP") if (each := getattr(signal, name, None)) is not None]
    before = {number: signal.signal(number, pass_on) for number in numbers}
    try:
        workers += [start() for _ in range(count)]
        ready(address_of(sock))
        while not stopping:
            time.sleep(0.2)
            for at, worker in enumerate(workers):
                if worker.poll() is None or stopping:
                    continue
                log.error("worker %d ended with %s; another one begins", worker.pid, worker.returncode)
                if time.monotonic() - started_at.pop(worker.pid, 0.0) < _RESTART_SECONDS:
                    time.sleep(1.0)
                if not stopping:
                    workers[at] = start()
        for each in workers:
            if each.pid not in asked_to_end:  # it was being started when the signal came
                each.terminate()
        for each in workers:
            each.wait()
    finally:
        for each in workers:
            if each.poll() is None:
                each.kill()
                each.wait()
        for number, handler in before.items():
            signal.signal(number, handler)
        sock.close()
