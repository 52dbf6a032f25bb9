"""The partial reader: a value at every prefix, growing only, whole at the end, at linear cost."""

import json
import random
import time
from typing import Any

import pytest

from agouti.core.json.partial import PartialReader

ALPHABET = ["a", "é", "\u2028", "😀", '"', "\\", "\n", "{", "]", ",", " ", "\x07"]


def made(chance: random.Random, depth: int = 0) -> Any:
    kind = chance.randrange(8 if depth < 4 else 6)
    if kind == 0:
        return chance.choice([None, True, False])
    if kind == 1:
        return chance.choice([0, -1, 7, 10**20, -0.5, 1e-7, 12.25])
    if kind < 6:
        return "".join(chance.choices(ALPHABET, k=chance.randrange(7)))
    if kind == 6:
        return [made(chance, depth + 1) for _ in range(chance.randrange(4))]
    return {made_key(chance): made(chance, depth + 1) for _ in range(chance.randrange(4))}


def made_key(chance: random.Random) -> str:
    return "".join(chance.choices(ALPHABET, k=chance.randrange(4)))


def grown(before: Any, after: Any) -> bool:
    """Whether a value is the same or more of the same."""
    if isinstance(before, str) and isinstance(after, str):
        return after.startswith(before)
    if isinstance(before, list) and isinstance(after, list):
        return len(after) >= len(before) and all(map(grown, before, after))
    if isinstance(before, dict) and isinstance(after, dict):
        return all(key in after and grown(value, after[key]) for key, value in before.items())
    return type(before) is type(after) and bool(before == after)


def test_every_prefix_of_a_thousand_documents_gives_a_value_that_only_grows() -> None:
    chance = random.Random(5)
    for number in range(1000):
        value = {"v": made(chance)} if number % 2 else [made(chance)]
        text = json.dumps(value, ensure_ascii=chance.random() < 0.5, indent=chance.choice([None, 1]))
        reader = PartialReader()
        before: Any = None
        for place, mark in enumerate(text):
            found = reader.feed(mark)
            assert not reader.broken, (text, place, reader.broken)
            assert before is None or grown(before, found), (text, place, before, found)
            before = json.loads(json.dumps(found))
            assert reader.complete == (place == len(text) - 1)
        assert found == value, text
        assert PartialReader().feed(text) == value


@pytest.mark.parametrize(
    ("text", "value"), [("12", 12), (" true", True), ('"pe', "pe"), ("-1.5e3", -1500.0), ("", None), ("nul", None)]
)
def test_scalar_at_the_root_is_whole_at_the_end(text: str, value: Any) -> None:
    reader = PartialReader()
    reader.feed(text)
    assert reader.end() == value


@pytest.mark.parametrize(
    "text", ["{a: 1}", "[1 2]", '{"a" 1}', '{"a": 01}', "[tru]", '["\\x"]', '["\\uzzzz"]', "]", '{"a": 1,]', "[1.]"]
)
def test_what_is_no_json_is_said_and_costs_nothing_that_came(text: str) -> None:
    reader = PartialReader()
    for mark in text:
        reader.feed(mark)
    assert reader.broken
    assert not reader.complete


def test_halves_of_pairs_and_what_follows_the_document() -> None:
    assert PartialReader().feed('["\\ud83d\\ude00\\ud83d x\\ude00"] and more') == ["😀\ufffd x\ufffd"]


def test_cost_grows_with_the_length_alone() -> None:
    def seconds(items: int) -> float:
        text = json.dumps(
            [{"note": "sown in March " * 4, "seeds": number} for number in range(items)] + ["x" * items * 40]
        )
        started = time.process_time()
        reader = PartialReader()
        for place in range(0, len(text), 10):
            reader.feed(text[place : place + 10])
        assert reader.complete
        return time.process_time() - started

    small = min(seconds(250) for _ in range(3))
    # Eight times the text: eight times the time if linear, sixty-four if quadratic.
    assert seconds(2000) / small < 24
