"""Two providers in one program, each for what it does well: one for advice, one for what stays in the house.

Run it against the simulated providers:   python examples/08_two_providers.py
"""

from dataclasses import dataclass
from typing import Literal

import agouti
import agouti.standins

LETTERS = [
    "The broad beans from your shelf came up well, 18 of 24. Thank you! - a grower at Fen End",
    "My kale has holes in it since last week. What do I do?",
]


@dataclass
class Letter:
    """What a letter is about."""

    about: Literal["thanks", "question", "complaint"]
    crop: str


with agouti.standins.serve() as served, agouti.Client(served.config) as client:
    for text in LETTERS:
        # People's letters stay in the house: the model in the shed sorts them.
        letter = client.fill("almanac-local", Letter, text).value
        print(f"{letter.about}: {letter.crop}")
        # Advice that names nobody may go to the hosted one, with the local one behind it.
        reply = client.ask("almanac", f"A grower asks about {letter.crop}. What is good to know?", max_tokens=60)
        print(f"  {reply.provider}, {reply.cost:.6f} USD: {reply.text[:60]}...")
