"""A raw server: what it writes is said byte by byte, and when, and what it does with the connection."""

import json
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

import agouti

Behaviour = Callable[["Connection", int], None]


class Connection:
    """One connection of the server.

    Attributes:
        request: what has come last, head and body.
        number: of the connection, from 0.
    """

    def __init__(self, sock: socket.socket, number: int) -> None:
        self.sock = sock
        self.number = number
        self.request = b""
        self._rest = b""

    def read(self) -> bool:
        """Read the next request; whether there was one."""
        data = self._rest
        while b"\r\n\r\n" not in data:
            more = self.sock.recv(65536)
            if not more:
                return False
            data += more
        head, _, body = data.partition(b"\r\n\r\n")
        length = next(
            (int(line[15:]) for line in head.split(b"\r\n") if line.lower().startswith(b"content-length:")), 0
        )
        while len(body) < length:
            more = self.sock.recv(65536)
            if not more:
                return False
            body += more
        self.request, self._rest = head + b"\r\n\r\n" + body[:length], body[length:]
        return True

    @property
    def question(self) -> str:
        """The last words of the prompt."""
        text = self.request.partition(b"\r\n\r\n")[2]
        body = json.loads(text) if text[:1] == b"{" else {}
        return str(body["messages"][-1]["content"]) if "messages" in body else ""

    def write(self, data: bytes) -> None:
        """Send bytes as they are."""
        self.sock.sendall(data)

    def gone(self, seconds: float) -> bool:
        """Whether the other side has closed within that time."""
        self.sock.settimeout(seconds)
        try:
            return self.sock.recv(65536) == b""
        except TimeoutError:
            return False
        except OSError:
            return True
        finally:
            self.sock.settimeout(20)


class RawServer:
    """Answers each request by a behaviour; see `serving`.

    Attributes:
        address: its base address.
        questions: the last words of every prompt that has come, in order.
        gone: seconds from a request to the moment when the other side was seen to have left, where it did.
    """

    def __init__(self, behave: Behaviour) -> None:
        self._behave = behave
        self._listener = socket.create_server(("127.0.0.1", 0), backlog=64)
        self.address = f"http://127.0.0.1:{self._listener.getsockname()[1]}/v1"
        self.requests: list[bytes] = []
        self.questions: list[str] = []
        self.gone: list[float] = []
        self.connections: list[socket.socket] = []
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        with suppress(OSError):
            while True:
                sock, _ = self._listener.accept()
                sock.settimeout(20)
                sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                self.connections.append(sock)
                threading.Thread(target=self._serve, args=(sock, len(self.connections) - 1), daemon=True).start()

    def _serve(self, sock: socket.socket, number: int) -> None:
        connection = Connection(sock, number)
        with suppress(OSError, ValueError), sock:
            while connection.read():
                self.requests.append(connection.request)
                self.questions.append(connection.question)
                self._behave(connection, len(self.requests) - 1)

    def close(self) -> None:
        """Stop, and close what is open."""
        self._listener.close()
        for sock in self.connections:
            with suppress(OSError):
                sock.shutdown(socket.SHUT_RDWR)


@contextmanager
def serving(behave: Behaviour) -> Iterator[RawServer]:
    """A server that behaves so while the block runs."""
    server = RawServer(behave)
    try:
        yield server
    finally:
        server.close()


def config(server: RawServer, **entry: Any) -> agouti.Config:
    """One provider ``p`` with a model ``a``."""
    provider = {"address": server.address, "retries": {"base": 0.01}, **entry}
    model = {"provider": "p", "name": "m"}
    return agouti.load_config({"providers": {"p": provider}, "models": {"a": model}}, environment={"K": "sk-K"})


def answer(text: str, **more: Any) -> bytes:
    """A whole reply."""
    return reply(json.dumps({"choices": [{"message": {"content": text}, "finish_reason": "stop"}], **more}).encode())


def reply(body: bytes, status: str = "200 OK", *headers: str) -> bytes:
    """A reply with its head."""
    lines = [f"HTTP/1.1 {status}", "content-type: application/json", f"content-length: {len(body)}", *headers]
    return "\r\n".join(lines).encode() + b"\r\n\r\n" + body


STREAM = b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\ntransfer-encoding: chunked\r\n\r\n"


def piece(text: str, finish: str | None = None) -> bytes:
    """A chunk of a stream, in a chunk of the transfer coding."""
    event = (
        b"data: %s\n\n"
        % json.dumps({"choices": [{"index": 0, "delta": {"content": text}, "finish_reason": finish}]}).encode()
    )
    return chunked(event)


def chunked(data: bytes) -> bytes:
    """A chunk of the transfer coding."""
    return b"%x\r\n%s\r\n" % (len(data), data)


END = chunked(b"data: [DONE]\n\n") + b"0\r\n\r\n"


def watch(server: RawServer, connection: Connection, seconds: float = 60) -> None:
    """Write down when the other side leaves."""
    began = time.monotonic()
    if connection.gone(seconds):
        server.gone.append(time.monotonic() - began)
