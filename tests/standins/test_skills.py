"""What the made-up models can do: patterns, vectors, facts out of texts. Other tests rely on it."""

import math
import random
import re
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from agouti.standins.forms import Form
from agouti.standins.patterns import matching
from agouti.standins.vectors import vector

NOTE = "Broad beans, sown 4 March under fleece at Marsh Lane: 18 of 24 up by the 15th.\nDepth: 5 cm\nHardy: yes"


@pytest.mark.parametrize(
    "pattern",
    [
        r"^[A-C]{2}-\d{3}$",
        r"^(bean|pea)s?$",
        r"^\w+@\w+\.example$",
        r"^[^0-9]{4}$",
        r"^\+?\d{1,3}(?:-\d{3}){2}$",
        r"x*y+?z{2,}",
        r"^.{3}\s$",
        r"^(?P<year>\d{4})-(?P<rest>0[1-9])$",
        r"[\w.]+",
        "",
    ],
)
def test_made_text_matches_its_pattern(pattern: str) -> None:
    for seed in range(20):
        assert re.search(pattern, matching(pattern, random.Random(seed)))


@given(st.text(max_size=40), st.integers(1, 64))
def test_vectors_are_of_length_one_and_always_the_same(text: str, dimensions: int) -> None:
    found = vector(text, dimensions).numbers
    assert len(found) == dimensions
    length = math.sqrt(sum(each * each for each in found))
    assert length == pytest.approx(1.0) or length == 0.0
    assert vector(text, dimensions).numbers == found


@pytest.mark.parametrize(
    ("text", "nearer", "farther"),
    [
        ("broad beans in the cold", "A bean for cold soil", "Tomatoes want warmth"),
        ("sowing carrots", "When to plant a carrot", "The frost of May"),
        ("greenhouse", "green houses", "brown bags"),
    ],
)
def test_texts_that_share_words_or_their_parts_are_near(text: str, nearer: str, farther: str) -> None:
    def score(other: str) -> float:
        return sum(a * b for a, b in zip(vector(text, 256).numbers, vector(other, 256).numbers, strict=True))

    assert score(nearer) > score(farther)


@pytest.mark.parametrize(
    ("name", "schema", "value"),
    [
        ("crop", {"type": "string"}, "broad bean"),
        ("place", {"type": "string"}, "Marsh Lane"),
        ("sown", {"type": "integer"}, 24),
        ("germinated", {"type": "integer"}, 18),
        ("date", {"type": "string", "format": "date"}, "2026-03-04"),
        ("depth", {"type": "integer"}, 5),
        ("depth", {"type": "string"}, "5 cm"),
        ("hardy", {"type": "boolean"}, True),
        ("where", {"enum": ["under glass", "under fleece"]}, "under fleece"),
        ("up", {"type": "integer", "minimum": 20}, 20),
        ("up", {"type": "integer", "maximum": 10}, 10),
        ("up", {"type": "number", "multipleOf": 4}, 20),
        ("kind", {"const": "note"}, "note"),
        ("crop", {"type": "string", "maxLength": 5}, "broad"),
    ],
)
def test_facts_are_taken_from_the_text(name: str, schema: Any, value: Any) -> None:
    form = {"type": "object", "properties": {name: schema}, "required": [name]}
    assert Form(form, NOTE).value == {name: value}


def test_lists_follow_the_lines_and_recursion_comes_to_an_end() -> None:
    rows = {"type": "array", "items": {"type": "object", "properties": {"up": {"type": "integer"}}, "required": ["up"]}}
    assert Form(rows, "18 of 24 up\n3 of 5 up").value == [{"up": 18}, {"up": 3}]
    tree = {"$ref": "#/$defs/t", "$defs": {"t": {"type": "object", "properties": {"name": {"type": "string"}, "parts": {"type": "array", "items": {"$ref": "#/$defs/t"}}}, "required": ["name"]}}}  # fmt: skip
    assert Form(tree, "A garden.").value["name"]
