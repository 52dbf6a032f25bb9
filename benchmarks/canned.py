"""A server that answers every request with the same bytes, in a process of its own: the floor to measure against."""

import asyncio
import contextlib
import json
import multiprocessing
import socket
from collections.abc import Iterator
from multiprocessing.connection import Connection

TEXT = "Broad beans go in from late October to November, or again from February."
REPLY = json.dumps(
    {
        "id": "chat-000001",
        "object": "chat.completion",
        "created": 1767225600,
        "model": "quill-large",
        "choices": [{"index": 0, "message": {"role": "assistant", "content": TEXT}, "finish_reason": "stop"}],
        "usage": {"prompt_tokens": 25, "completion_tokens": 17, "total_tokens": 42},
    }
).encode()


def _plain(body: bytes, kind: str = "application/json") -> bytes:
    return b"HTTP/1.1 200 OK\r\ncontent-type: %s\r\ncontent-length: %d\r\n\r\n%s" % (kind.encode(), len(body), body)


CHUNK_TEXT = "Sow beans "
_CHUNK = (
    b'data: {"id":"chat-000001","object":"chat.completion.chunk","created":1767225600,"model":"quill-large",'
    b'"choices":[{"index":0,"delta":{"content":"Sow beans "},"logprobs":null,"finish_reason":null}],"usage":null}\n\n'
)
_LAST = b'data: {"choices":[{"index":0,"delta":{},"finish_reason":"stop"}]}\n\ndata: [DONE]\n\n'
_STREAM_HEAD = b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\ntransfer-encoding: chunked\r\n\r\n"


def _framed(data: bytes) -> bytes:
    return b"%x\r\n%s\r\n" % (len(data), data)


class _Protocol(asyncio.Protocol):
    """Enough of HTTP/1.1 for requests with a content-length.

    A path that ends in ``/stream/COUNT/PER`` is answered with a stream of COUNT chunks, PER of them in one write.
    """

    def __init__(self, delay: float) -> None:
        self._delay = delay
        self._buffer = b""

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport: asyncio.WriteTransport = transport  # type: ignore[assignment]

    def data_received(self, data: bytes) -> None:
        self._buffer += data
        while (end := self._buffer.find(b"\r\n\r\n")) >= 0:
            head = self._buffer[:end].lower()
            place = head.find(b"content-length:")
            path = self._buffer[: self._buffer.find(b" HTTP/")].partition(b" ")[2]
            length = int(head[place + 15 :].split(b"\r\n", 1)[0]) if place >= 0 else 0
            if len(self._buffer) < end + 4 + length:
                return
            self._buffer = self._buffer[end + 4 + length :]
            if b"/stream/" in path:
                count, per = (int(part) for part in path.partition(b"/stream/")[2].split(b"/")[:2])
                asyncio.get_running_loop().create_task(self._stream(count, per))
            elif self._delay:
                asyncio.get_running_loop().call_later(self._delay, self._transport.write, _plain(REPLY))
            else:
                self._transport.write(_plain(REPLY))

    async def _stream(self, count: int, per: int) -> None:
        self._transport.write(_STREAM_HEAD)
        block = _framed(_CHUNK * per)
        for place in range(count // per):
            self._transport.write(block)
            if place % 20 == 19 or per > 100:
                # Give the reader a chance, and do not pile up the whole stream in memory.
                while self._transport.get_write_buffer_size() > 1_000_000:
                    await asyncio.sleep(0.001)
                await asyncio.sleep(0)
        self._transport.write(_framed(_LAST) + b"0\r\n\r\n")


def _run(ready: Connection, delay: float) -> None:
    async def main() -> None:
        sock = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
        sock.bind(("127.0.0.1", 0))
        server = await asyncio.get_running_loop().create_server(lambda: _Protocol(delay), sock=sock, backlog=1024)
        ready.send(sock.getsockname()[1])
        await server.serve_forever()

    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(main())


@contextlib.contextmanager
def server(delay: float = 0.0) -> Iterator[str]:
    """Run it; gives its base address.

    Args:
        delay: seconds before each answer.
    """
    mine, theirs = multiprocessing.Pipe()
    process = multiprocessing.get_context("spawn").Process(target=_run, args=(theirs, delay), daemon=True)
    process.start()
    try:
        yield f"http://127.0.0.1:{mine.recv()}/v1"
    finally:
        process.terminate()
        process.join(5)
