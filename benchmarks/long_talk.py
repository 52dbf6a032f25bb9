"""A conversation of many turns with a real server whose context window is small: how often it is found too long."""

import sys
import time

import measure

import agouti

CROPS = ("peas", "kale", "garlic", "broad beans", "leeks", "beetroot", "onions", "tomatoes", "carrots", "lettuce")


class Refusals(agouti.Hook):
    """Counts what the server refuses, and what it is sent."""

    def __init__(self) -> None:
        self.too_long = 0
        self.tokens: list[int] = []

    def after(self, result: agouti.AttemptResult) -> None:
        """Look at an attempt that has ended."""
        self.too_long += isinstance(result.error, agouti.ContextOverflow)
        if result.usage is not None and result.usage.input_tokens is not None:
            self.tokens.append(result.usage.input_tokens)


def main() -> int:
    """Talk, and print what came of it."""
    options = measure.parser(__doc__)
    options.add_argument("address")
    options.add_argument("model")
    options.add_argument("--key", metavar="VARIABLE", help="the environment variable that holds the key")
    options.add_argument("--turns", type=int, default=200)
    options.add_argument("--context", type=int, default=2000)
    options.add_argument("--cap", type=int, default=60, help="tokens of an answer")
    given = options.parse_args()
    provider = agouti.Provider("real", given.address, key=agouti.EnvKey(given.key) if given.key else None)
    model = agouti.Model("m", provider="real", name=given.model, context=given.context)
    seen = Refusals()
    began = time.perf_counter()
    with agouti.Client(agouti.Config.of([provider], [model]), hooks=[seen]) as client:
        talk = client.conversation("m", on_overflow="drop_oldest", max_tokens=given.cap, system="You advise growers.")
        for turn in range(given.turns):
            crop = CROPS[turn % len(CROPS)]
            talk.say(f"Turn {turn}: tell me something about {crop}, and how it gets on with what we spoke of before.")
    print(
        f"{given.turns} turns in {time.perf_counter() - began:.0f} s: {seen.too_long} refused as too long; "
        f"up to {max(seen.tokens)} of {given.context} tokens sent; "
        f"{len(talk.dropped)} of {len(talk.messages)} messages left out"
    )
    bounds = measure.Bounds(judged=not given.smoke)
    bounds.at_most("refused as too long", seen.too_long, 0)
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
