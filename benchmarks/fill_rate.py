"""How many forms of many shapes a real OpenAI-compatible server fills, by the means that hold it to them."""

import os
import random
import sys
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from dataclasses import make_dataclass
from enum import Enum
from time import perf_counter
from typing import Any, Literal

import measure

import agouti

PARTS = (int, float, bool, str, list[int], list[str], dict[str, int], int | None, Literal["wet", "dry"])
WORDS = ("crop", "bed", "rows", "depth", "days", "sown", "good", "note", "place", "name")
NOTE = "Bo has one bed with two rows of pea, sown 4 March at 3 cm."


def form(chance: random.Random, number: int) -> Any:
    """A form: a part, a choice, a record of parts, or a list of records."""
    kinds = [chance.choice(PARTS) for _ in range(chance.randint(1, 4))]
    fields = list(zip(chance.sample(WORDS, len(kinds)), kinds, strict=True))
    record = make_dataclass(f"Form{number}", fields)
    choice = Enum(f"Choice{number}", {word.upper(): word for word in chance.sample(WORDS, 3)})  # type: ignore[misc]
    inner = make_dataclass(f"Outer{number}", [("inner", record), ("choice", choice)])
    return chance.choice((kinds[0], choice, record, list[record], inner))  # type: ignore[valid-type]


def main() -> int:
    """Ask, and print a line for each means."""
    options = measure.parser(__doc__)
    options.add_argument("address")
    options.add_argument("model")
    options.add_argument("--key", metavar="VARIABLE", help="the environment variable that holds the key")
    options.add_argument("--count", type=int, default=200)
    options.add_argument("--concurrency", type=int, default=2)
    options.add_argument("--output-method", nargs="*", default=["schema", "tool", "json", "prompt"])
    given = options.parse_args()
    chance = random.Random(7)
    forms = [form(chance, number) for number in range(given.count)]
    client = agouti.Client.at(given.address, key=os.environ[given.key] if given.key else None)

    for means in given.output_method:

        def fill(kind: Any, means: Any = means) -> str:
            try:
                filled = client.fill(
                    given.model, kind, NOTE, output_method=means, max_repairs=1, max_tokens=120, temperature=0
                )
            except agouti.NotFilled as error:
                return error.problem
            except agouti.AgoutiError as error:  # of the server: a row of its own, not the end of the run
                return type(error).__name__
            return (
                "filled, mended"
                if filled.repairs_applied
                else "filled"
                if len(filled.answers) == 1
                else "filled, repaired"
            )

        began = perf_counter()
        with ThreadPoolExecutor(given.concurrency) as pool:
            found = Counter(pool.map(fill, forms))
        rate = sum(count for name, count in found.items() if name.startswith("filled")) / len(forms)
        told = ", ".join(f"{name} {count}" for name, count in found.most_common())
        print(f"{means:<7} {rate:6.1%} of {len(forms)} filled ({told}) in {perf_counter() - began:.0f} s", flush=True)
    client.close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
