"""CPU of a streamed chunk: Agouti against the bare transport with a minimal splitter and typed decode.

5000 chunks, sent in large blocks and one per write.

python benchmarks/stream_decode.py [--rounds N] [--chunks N]
"""

import asyncio
import json
import sys
from collections.abc import Awaitable, Callable

import aiohttp
import canned
import measure
import msgspec
import urllib3

import agouti

HEADERS = {"content-type": "application/json", "accept": "text/event-stream"}


class Delta(msgspec.Struct):
    content: str | None = None


class Choice(msgspec.Struct):
    delta: Delta | None = None
    finish_reason: str | None = None


class Chunk(msgspec.Struct):
    choices: list[Choice] | None = None


DECODE = msgspec.json.Decoder(Chunk).decode


class Splitter:
    """The least that splits events of one data line each."""

    def __init__(self) -> None:
        self.buffer = b""

    def texts(self, data: bytes) -> list[str]:
        self.buffer += data
        *events, self.buffer = self.buffer.split(b"\n\n")
        found = []
        for event in events:
            payload = event[6:]
            if payload == b"[DONE]":
                continue
            for choice in DECODE(payload).choices or ():
                if choice.delta is not None and choice.delta.content:
                    found.append(choice.delta.content)
        return found


def main() -> int:
    options = measure.parser(__doc__)
    options.add_argument("--rounds", type=int, default=9)
    options.add_argument("--chunks", type=int, default=5000)
    given = options.parse_args()
    count = given.chunks
    body = json.dumps({"model": "m", "messages": [{"role": "user", "content": "Hi"}], "stream": True})
    bounds = measure.Bounds(judged=not given.smoke)
    loop = asyncio.new_event_loop()
    with canned.server() as base:
        origin = base.removesuffix("/v1")
        pool = urllib3.PoolManager().connection_from_url(origin)
        session = loop.run_until_complete(_session())
        for per in (500, 1):
            path = f"/stream/{count}/{per}"
            entry = {"providers": {"s": {"address": origin, "paths": {"chat": path}}}}
            client, others = agouti.Client(entry), agouti.AsyncClient(entry)
            whole = canned.CHUNK_TEXT * count

            def by_hand(_: int, path: str = path, whole: str = whole) -> None:
                reply = pool.urlopen("POST", path, body, HEADERS, preload_content=False)
                splitter, texts = Splitter(), []
                while data := reply.read1():
                    texts += splitter.texts(data)
                reply.release_conn()
                assert "".join(texts) == whole

            def with_client(_: int, client: agouti.Client = client, whole: str = whole) -> None:
                with client.stream("m@s", "Hi") as stream:
                    assert "".join(stream) == whole

            async def aio_by_hand(path: str = path, whole: str = whole) -> None:
                splitter, texts = Splitter(), []
                async with session.post(origin + path, data=body, headers=HEADERS) as reply:
                    async for data in reply.content.iter_any():
                        texts += splitter.texts(data)
                assert "".join(texts) == whole

            async def aio_with_client(others: agouti.AsyncClient = others, whole: str = whole) -> None:
                async with others.stream("m@s", "Hi") as stream:
                    assert "".join([text async for text in stream]) == whole

            results = measure.cpu(
                {
                    "urllib3, by hand": by_hand,
                    "Client.stream": with_client,
                    "aiohttp, by hand": awaited(loop, aio_by_hand),
                    "AsyncClient.stream": awaited(loop, aio_with_client),
                },
                rounds=given.rounds,
                count=1,
            )
            measure.table(
                f"CPU per chunk, {per} in one write",
                results,
                {"Client.stream": "urllib3, by hand", "AsyncClient.stream": "aiohttp, by hand"},
                per=count,
            )
            for mine, floor in (("Client.stream", "urllib3, by hand"), ("AsyncClient.stream", "aiohttp, by hand")):
                bounds.at_most(f"{mine}, {per} in one write", measure.ratio(results, mine, floor), 1.7)
            client.close()
            loop.run_until_complete(others.aclose())
        loop.run_until_complete(session.close())
    loop.close()
    return bounds.code()


def awaited(loop: asyncio.AbstractEventLoop, work: Callable[[], Awaitable[None]]) -> Callable[[int], None]:
    async def once() -> None:
        await work()

    return lambda _: loop.run_until_complete(once())


async def _session() -> aiohttp.ClientSession:
    return aiohttp.ClientSession()


if __name__ == "__main__":
    sys.exit(main())
