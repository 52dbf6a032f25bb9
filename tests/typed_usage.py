"""How a type checker sees the public surface. Checked, never run."""

from dataclasses import dataclass

import agouti


def plain() -> str:
    with agouti.Client("agouti.toml") as client:
        reply: agouti.Reply = client.ask("almanac", "Hi", temperature=0.2, max_tokens=5, stop=["\n"], system="Brief.")
        cost: float | None = reply.cost
        with client.stream("almanac", [agouti.Message("user", "Hi")]) as stream:
            for text in stream:
                print(text.upper(), cost)
            for event in stream.events():
                if isinstance(event, agouti.events.Text):
                    print(event.text)
        return stream.reply.text


async def awaited() -> int | None:
    async with agouti.AsyncClient(agouti.Config.of([agouti.Provider("shed", "localhost:8080/v1")])) as client:
        try:
            reply = await client.ask("loam-2b@shed", "Hi")
        except agouti.RateLimited as error:
            print(error.wait, error.hint, error.attempts)
            raise
        async with client.stream("loam-2b@shed", "Hi") as stream:
            async for text in stream:
                print(text)
        return reply.usage.total_tokens


@dataclass
class Note:
    crop: str


def frost(place: str) -> int:
    """Days to the last frost."""
    return len(place)


def data(client: agouti.Client) -> list[str]:
    filled: agouti.Filled[Note] = client.fill(
        "almanac", Note, "Peas.", max_repairs=2, output_method="tool", temperature=0
    )
    several: list[int] = client.fill("almanac", list[int], ["18 of 24", agouti.Image("a.png")]).value
    schema = client.fill("almanac", {"type": "string"}, "x").value
    with client.stream_fill("almanac", Note, "Peas.", images=["a.png"], fetch_images=True) as growing:
        for value in growing:
            print(value, schema, several)
    talk = client.conversation("almanac", tools=[frost, agouti.Tool(name="lamp")], system="Brief.", max_rounds=3)
    reply = talk.say("Frost?", temperature=0.2, images=[b"GIF89a"])
    print(client.ask("almanac", "Frost?", tools=[frost], run_tools=True, tool_errors="raise").calls, reply.citations)
    found = client.embed("finder", ["a", "b"], dimensions=8, concurrency=2, deadline=3.0)
    nearest: list[agouti.Near] = found.near(client.embed("finder", "c"), 3)
    return [filled.value.crop, *(near.text for near in nearest), *(block.suffix for block in reply.code_blocks)]


async def data_awaited(client: agouti.AsyncClient) -> Note:
    async with client.stream_fill("almanac", Note, "Peas.") as growing:
        async for value in growing:
            print(value)
    talk = client.conversation("almanac", tools=[frost])
    async with talk.stream("Frost?") as stream:
        print([text async for text in stream], (await talk.say("And then?")).text, talk.messages[0].role)
    print((await client.embed("finder", "x")).vectors.shape)
    return (await client.fill("almanac", Note, "Peas.")).value


def wrong(client: agouti.Client) -> None:
    client.ask("almanac", "Hi", temprature=0.2)  # type: ignore[call-arg]
    client.ask("almanac", 5)  # type: ignore[arg-type]
    client.fill("almanac", Note, "x", repair=1)  # type: ignore[call-overload]
    client.fill("almanac", Note, "x", output_method="magic")  # type: ignore[call-overload]
    client.ask("almanac", "Hi", tool_errors="hide")  # type: ignore[arg-type]
