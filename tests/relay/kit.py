"""A relay that runs in a thread of the test, and plain HTTP to it."""

import json
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Any

import urllib3

from agouti.relay import Relay
from agouti.relay.server import address_of, bound, bound_socket

POOL = urllib3.PoolManager(retries=False, timeout=60, maxsize=64)


class Running:
    """A running relay.

    Attributes:
        relay: the application.
        address: of it, without a path.
    """

    def __init__(self, relay: Relay, address: str) -> None:
        self.relay = relay
        self.address = address

    def call(
        self,
        path: str,
        body: Any = None,
        *,
        method: str = "",
        token: str = "",
        headers: Mapping[str, str] | None = None,
    ) -> tuple[int, Any, Mapping[str, str]]:
        """Status, body (decoded where it is JSON) and headers."""
        data = body if isinstance(body, bytes | None) else json.dumps(body).encode()
        sent = {"content-type": "application/json", **({"authorization": f"Bearer {token}"} if token else {})}
        reply = POOL.request(
            method or ("GET" if body is None else "POST"),
            self.address + path,
            body=data,
            headers={**sent, **(headers or {})},
        )
        kind = reply.headers.get("content-type", "")
        return reply.status, json.loads(reply.data) if kind == "application/json" else reply.data, reply.headers

    def ask(
        self, label: str, text: str = "When do peas go in?", *, token: str = "", **more: Any
    ) -> tuple[int, Any, Any]:
        body = {"model": label, "messages": [{"role": "user", "content": text}], **more}
        return self.call("/v1/chat/completions", body, token=token)


@contextmanager
def relaying(config: Any, **options: Any) -> Iterator[Running]:
    """A relay of a configuration while the block runs."""
    relay = Relay(config, **options)
    with running(relay) as address:
        yield Running(relay, address)


@contextmanager
def running(application: Any) -> Iterator[str]:
    """An ASGI application while the block runs; its address."""
    sock = bound("127.0.0.1", 0)
    listens = threading.Event()
    server = bound_socket(application, listens.set)
    thread = threading.Thread(target=server.run, kwargs={"sockets": [sock]}, daemon=True)
    thread.start()
    assert listens.wait(60)
    try:
        yield address_of(sock)
    finally:
        server.should_exit = True
        thread.join(30)
        sock.close()
        assert not thread.is_alive()


def until(condition: Any, seconds: float = 30.0) -> bool:
    """Whether it comes true in time."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if condition():
            return True
        time.sleep(0.01)
    return bool(condition())
