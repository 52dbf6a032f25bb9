"""CPU of one request: Agouti against its transport used by hand with json, over keep-alive connections.

python benchmarks/request_overhead.py [--rounds N] [--count N]
"""

import asyncio
import json
import sys

import aiohttp
import canned
import measure
import urllib3

import agouti

QUESTION = "When do broad beans go in?"
BODY = {"model": "quill-large", "messages": [{"role": "user", "content": QUESTION}], "temperature": 0.2}
HEADERS = {"content-type": "application/json", "authorization": "Bearer k"}


def main() -> int:
    options = measure.parser(__doc__)
    options.add_argument("--rounds", type=int, default=15)
    options.add_argument("--count", type=int, default=400)
    given = options.parse_args()
    loop = asyncio.new_event_loop()
    with canned.server() as base, agouti.Client.at(base, key="k") as client:
        url = urllib3.util.parse_url(base)
        pool = urllib3.HTTPConnectionPool(url.host or "", url.port)
        session = loop.run_until_complete(_session())
        others = agouti.AsyncClient.at(base, key="k")

        def by_hand(count: int) -> None:
            for _ in range(count):
                reply = pool.urlopen("POST", "/v1/chat/completions", json.dumps(BODY).encode(), HEADERS)
                text = json.loads(reply.data)["choices"][0]["message"]["content"]
                assert text == canned.TEXT

        def with_client(count: int) -> None:
            for _ in range(count):
                assert client.ask("quill-large", QUESTION, temperature=0.2).text == canned.TEXT

        async def aio_by_hand(count: int) -> None:
            for _ in range(count):
                async with session.post(base + "/chat/completions", data=json.dumps(BODY), headers=HEADERS) as reply:
                    text = json.loads(await reply.read())["choices"][0]["message"]["content"]
                assert text == canned.TEXT

        async def aio_with_client(count: int) -> None:
            for _ in range(count):
                assert (await others.ask("quill-large", QUESTION, temperature=0.2)).text == canned.TEXT

        results = measure.cpu(
            {
                "urllib3 + json": by_hand,
                "Client.ask": with_client,
                "aiohttp + json": lambda count: loop.run_until_complete(aio_by_hand(count)),
                "AsyncClient.ask": lambda count: loop.run_until_complete(aio_with_client(count)),
            },
            rounds=given.rounds,
            count=given.count,
        )
        measure.table("CPU per request", results, {"Client.ask": "urllib3 + json", "AsyncClient.ask": "aiohttp + json"})
        bounds = measure.Bounds(judged=not given.smoke)
        bounds.at_most("threads", measure.ratio(results, "Client.ask", "urllib3 + json"), 1.6)
        bounds.at_most("tasks", measure.ratio(results, "AsyncClient.ask", "aiohttp + json"), 1.5)
        pool.close()
        loop.run_until_complete(session.close())
        loop.run_until_complete(others.aclose())
    loop.close()
    return bounds.code()


async def _session() -> aiohttp.ClientSession:
    return aiohttp.ClientSession()


if __name__ == "__main__":
    sys.exit(main())
