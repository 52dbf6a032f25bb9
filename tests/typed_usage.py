"""How a type checker sees the public surface. Checked, never run."""

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


def wrong(client: agouti.Client) -> None:
    client.ask("almanac", "Hi", temprature=0.2)  # type: ignore[call-arg]
    client.ask("almanac", 5)  # type: ignore[arg-type]
