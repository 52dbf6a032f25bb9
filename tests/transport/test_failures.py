"""Both transports say the same of the same failure, and of the same reply."""

import asyncio
import gzip
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pytest

from agouti.core.http.exchange import HttpRequest, Timeouts
from agouti.transport.aiohttp_transport import AiohttpTransport
from agouti.transport.base import TransportFailure
from agouti.transport.urllib3_transport import Urllib3Transport

LIMITS = Timeouts(connect=2, first_byte=0.5, between_chunks=0.3)
HEAD = b"HTTP/1.1 200 OK\r\ncontent-type: text/plain\r\nX-Odd: One\r\n"


@contextmanager
def server(answer: bytes, *, hold: bool = False) -> Iterator[str]:
    """Says one thing to whoever asks, then closes the connection, or holds it."""
    with socket.create_server(("127.0.0.1", 0)) as listening:
        over = threading.Event()

        def run() -> None:
            try:
                connection, _ = listening.accept()
            except OSError:
                return
            with connection:
                asked = b""
                while b"the end" not in asked:
                    asked += connection.recv(4096)
                connection.sendall(answer)
                if hold:
                    over.wait(5)

        thread = threading.Thread(target=run)
        thread.start()
        try:
            yield f"http://127.0.0.1:{listening.getsockname()[1]}/v1/chat"
        finally:
            over.set()
            thread.join(6)


def outcome(kind: str, url: str) -> Any:
    """What a request ends with: status and body, or why it failed."""
    request = HttpRequest("POST", url, {"accept": "*/*"}, b"the end")

    def sync() -> Any:
        transport = Urllib3Transport()
        try:
            reply = transport.open(request, LIMITS)
            assert reply.headers.get("x-odd") == reply.headers.get("X-ODD")
            pieces = []
            while piece := reply.receive():
                pieces.append(piece)
            reply.finish()
            return reply.status, b"".join(pieces)
        finally:
            transport.close()

    async def awaited() -> Any:
        transport = AiohttpTransport()
        try:
            reply = await transport.open(request, LIMITS)
            assert reply.headers.get("x-odd") == reply.headers.get("X-ODD")
            pieces = []
            while piece := await reply.receive():
                pieces.append(piece)
            await reply.finish()
            return reply.status, b"".join(pieces)
        finally:
            await transport.close()

    try:
        return sync() if kind == "sync" else asyncio.run(awaited())
    except TransportFailure as failure:
        # Frames of HTTP libraries hold the bytes of the request.
        assert failure.__cause__ is None  # noqa: PT017
        return failure.reason, failure.phase, failure.began


CASES = [
    (HEAD + b"content-length: 5\r\n\r\nhello", False, (200, b"hello")),
    (HEAD + b"\r\nuntil the close", False, (200, b"until the close")),
    (HEAD + b"transfer-encoding: chunked\r\n\r\n3\r\nabc\r\n2\r\nde\r\n0\r\n\r\n", False, (200, b"abcde")),
    (HEAD + b"content-encoding: gzip\r\n\r\n" + gzip.compress(b"packed"), False, (200, b"packed")),
    (HEAD + b"content-length: 0\r\n\r\n", False, (200, b"")),
    (b"HTTP/1.1 100 Continue\r\n\r\n" + HEAD + b"content-length: 2\r\n\r\nok", False, (200, b"ok")),
    (b"", False, ("lost", None, False)),
    (b"-ERR this is no HTTP\r\n", False, ("not http", None, False)),
    (b"", True, ("timeout", "first byte", False)),
    (HEAD + b"content-length: 50\r\n\r\nhello", False, ("lost", None, True)),
    (HEAD + b"transfer-encoding: chunked\r\n\r\n3\r\nabc\r\n", False, ("lost", None, True)),
    (HEAD + b"content-encoding: gzip\r\ncontent-length: 6\r\n\r\nnogzip", False, ("garbled", None, True)),
    (HEAD + b"content-length: 50\r\n\r\nhello", True, ("timeout", "between chunks", True)),
]


@pytest.mark.parametrize("kind", ["sync", "async"])
@pytest.mark.parametrize(("answer", "hold", "expected"), CASES, ids=range(len(CASES)))
def test_same_words_for_the_same_thing(kind: str, answer: bytes, hold: bool, expected: Any) -> None:
    with server(answer, hold=hold) as url:
        assert outcome(kind, url) == expected


@pytest.mark.parametrize("kind", ["sync", "async"])
@pytest.mark.parametrize(
    ("url", "reason"),
    [("http://127.0.0.1:9/v1", "refused"), ("http://nowhere.invalid/v1", "dns"), ("https://nowhere.invalid/v1", "dns")],
)
def test_no_connection_at_all(kind: str, url: str, reason: str) -> None:
    assert outcome(kind, url)[0] == reason


@pytest.mark.parametrize(
    ("variables", "url", "proxied"),
    [
        ({"https_proxy": "http://127.0.0.1:9"}, "https://nowhere.invalid/v1", True),
        ({"https_proxy": "http://127.0.0.1:9", "no_proxy": "nowhere.invalid"}, "https://nowhere.invalid/v1", False),
        ({"http_proxy": "127.0.0.1:9"}, "http://nowhere.invalid/v1", True),
        ({"https_proxy": "http://127.0.0.1:9"}, "http://nowhere.invalid/v1", False),
    ],
)
@pytest.mark.parametrize("kind", ["sync", "async"])
def test_proxies_of_the_environment(
    kind: str, variables: dict[str, str], url: str, proxied: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name, value in variables.items():
        monkeypatch.setenv(name, value)
    assert (outcome(kind, url)[0] == "dns") is not proxied
