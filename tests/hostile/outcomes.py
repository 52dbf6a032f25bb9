"""What calls end with, in the words of the table."""

import asyncio
from typing import Any

import agouti

from .behaviours import TEXT, Do
from .kit import Connection, RawServer, config, serving

FORM = {"type": "object", "properties": {"month": {"type": "string"}}, "required": ["month"]}
LIMITS = {"connect": 2, "first_byte": 2.0, "between_chunks": 1.2}
KINDS = ("ask", "exchange", "fill", "stream")
DRIVERS = ("sync", "async")
BODY = {"model": "a", "messages": [{"role": "user", "content": "x"}]}


def outcome(do: Do, kind: str, driver: str, total: float = 6.0) -> str:
    """What a call of a kind ends with, when the server does this to every request."""

    def behave(connection: Connection, _: int) -> None:
        do(connection)

    with serving(behave) as server:
        made = config(server, timeouts={**LIMITS, "total": total}, retries={"base": 0.01, "max_wait": 1})
        try:
            text = asyncio.run(_awaited(made, kind)) if driver == "async" else _called(made, kind)
        except agouti.AgoutiError as error:
            return f"`{type(error).__name__}`{_tries(server)}{', with what came' if error.partial is not None else ''}"
        good = "answers" if text in (TEXT, {"month": "March"}) else f"answers {str(text)[:40]!r}"
        return f"{good}{_tries(server)}"


def _tries(server: RawServer) -> str:
    return f" after {len(server.requests)} tries" if len(server.requests) > 1 else ""


def _called(made: agouti.Config, kind: str) -> Any:
    with agouti.Client(made) as client:
        if kind == "ask":
            return client.ask("a", "x").text
        if kind == "exchange":
            return client.exchange(BODY)["choices"][0]["message"]["content"]
        if kind == "fill":
            return client.fill("a", FORM, "x", max_repairs=0).value
        with client.stream("a", "x") as stream:
            return "".join(stream)


async def _awaited(made: agouti.Config, kind: str) -> Any:
    async with agouti.AsyncClient(made) as client:
        if kind == "ask":
            return (await client.ask("a", "x")).text
        if kind == "exchange":
            return (await client.exchange(BODY))["choices"][0]["message"]["content"]
        if kind == "fill":
            return (await client.fill("a", FORM, "x", max_repairs=0)).value
        async with client.stream("a", "x") as stream:
            return "".join([text async for text in stream])
