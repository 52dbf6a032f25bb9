"""The made-up models' words: an answer to a prompt, always the same for the same seed.

A model knows a few things that the growers of the Marsh Lane Seed Library ask about, and makes
sensible sentences about the rest. Tokens are words, parts of long words and marks; the counts are true.
"""

import hashlib
import json
import random
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

_FACTS: tuple[tuple[str, str], ...] = (
    ("broad bean", "Broad beans go in from late October to November, or again from February once the soil can be worked. "
     "Sow them 5 cm deep and 20 cm apart, in a double row, and keep the autumn row under fleece in hard frost."),
    ("tomato", "Tomatoes go out when the nights stay above 10 degrees, which here is after the last frost in mid May. "
     "Harden them off for ten days first, and plant them deep, up to the lowest leaves."),
    ("spring bed", "Start with peas and broad beans along the north side in March, so that they do not shade the rest. "
     "Put onions and carrots side by side in the middle in April, and leave the front for lettuce every two weeks. "
     "In late May the climbing beans follow where the first peas come out."),
    ("pea", "Peas go in from March to June, 4 cm deep, in a flat drill; mice take the early ones, so sow a few more."),
    ("garlic", "Garlic goes in between October and December: single cloves, 3 cm deep, 15 cm apart, the pointed end up."),
    ("frost", "The last frost at Marsh Lane usually comes in the second week of May; keep fleece at hand until then."),
    ("germinat", "Eighteen of twenty-four seeds is a germination rate of 75 percent, which is fair for seed of that age."),
    ("save", "Let the pods dry on the plant until they rattle, shell them, dry the seed for two weeks more and label it."),
    ("carrot", "Carrots go in from March to July, thinly and 1 cm deep; mix the seed with dry sand to spread it."),
    ("bean", "Beans like warm soil: sow them from mid May, 5 cm deep, four to a cane, and again in June."),
    ("lettuce", "Lettuce wants little and often: a short row every two weeks from March, in half shade in summer."),
)  # fmt: skip

_GENERAL = (
    "It depends on the soil more than on the calendar.",
    "Sow a little earlier than you dare and keep a second packet back.",
    "Note the date on the packet, so that next year's borrower knows.",
    "Water in the morning, and at the root rather than the leaf.",
    "At Marsh Lane we would try a short row first and bring the notes back to the shelf.",
    "Fresh seed makes the greatest difference of all.",
)

_TOKEN = re.compile(r"\s?[A-Za-z]{1,6}|\s?\d{1,3}|\s?[^\sA-Za-z\d]|\s")


def tokens(text: str) -> list[str]:
    """The tokens of a text; joined, they are the text again.

    >>> tokens("Sow beans, 5 cm deep.")
    ['Sow', ' beans', ',', ' 5', ' cm', ' deep', '.']
    """
    return _TOKEN.findall(text)


def answer(prompt: str, seed: int | str, variant: int = 0) -> str:
    """What a model says to a prompt."""
    folded = prompt.lower()
    known = [text for word, text in _FACTS if word in folded]
    chance = random.Random(hashlib.sha256(f"{seed}/{variant}/{prompt}".encode()).digest())
    general = chance.sample(_GENERAL, 2)
    if known:
        return f"{known[0]} {general[0]}" if variant or chance.random() < 0.5 else known[0]
    return " ".join(general)


@dataclass(frozen=True)
class Call:
    """A call that a model asks for; ``arguments`` is JSON text, not always good."""

    name: str
    arguments: str

    @property
    def given(self) -> Any:
        """The arguments as an object, for formats that have no text there; what is no JSON becomes a text."""
        try:
            return json.loads(self.arguments)
        except ValueError:
            return self.arguments


class Answer:
    """One answer, cut to the request's cap and stop strings.

    Attributes:
        pieces: the tokens that are sent.
        finish: ``stop``, ``length`` or ``tool_calls``.
        calls: the calls that it asks for.
        refusal: the words of a refusal.
        tokens: how many it took.
    """

    def __init__(
        self,
        text: str,
        *,
        cap: int | None = None,
        stop: tuple[str, ...] = (),
        calls: Sequence[Call] = (),
        refusal: str = "",
    ) -> None:
        ends = [place for place in (text.find(mark) for mark in stop if mark) if place >= 0]
        if ends:
            text = text[: min(ends)]
        pieces = tokens(text)
        self.finish = "tool_calls" if calls else "stop"
        if cap is not None and len(pieces) > cap:
            pieces, self.finish = pieces[:cap], "length"
        self.pieces = pieces
        self.text = "".join(pieces)
        self.calls = list(calls)
        self.refusal = refusal
        self.tokens = len(pieces) + len(tokens(refusal)) + sum(len(tokens(call.arguments)) + 1 for call in calls)
