"""JSON found in what models write."""

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from agouti.core.json.extract import json_in, without_thoughts

VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=12),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=6), inner, max_size=3),
    max_leaves=8,
)
CONTAINERS = st.dictionaries(st.text(max_size=6), VALUES, min_size=1, max_size=3) | st.lists(
    VALUES, min_size=1, max_size=3
)
PROSE = st.text(alphabet="abc .,:\n{}[]#`~'", max_size=40)


@pytest.mark.parametrize(
    ("text", "values", "problem"),
    [
        ('{"a": 1}', [{"a": 1}], ""),
        ('  [1, 2]\n', [[1, 2]], ""),
        ("7", [7], ""),
        ('"pea"', ["pea"], ""),
        ("null", [None], ""),
        ('```json\n{"a": 1}\n```', [{"a": 1}], ""),
        ('Here:\n~~~\n{"a": 1}\n~~~\nThat is {all}.', [{"a": 1}], ""),
        ('```\n{"a": 1}', [{"a": 1}], ""),
        ('The set {bean, pea} gives {"a": 1}, I think.', [{"a": 1}], ""),
        ('{"a": 1}{"a": 1}', [{"a": 1}], ""),
        ('{"a": 1} and {"a": 2}', [{"a": 1}, {"a": 2}], "several"),
        ('<think>{"a": 9}</think>{"a": 1}', [{"a": 1}], ""),
        ('<think>{"a": 9} and never an end', [], "empty"),
        ('{"a": {"b": 1}', [], "broken json"),
        ('{"a": [1, 2', [], "broken json"),
        ('[{"a": 1}, {"a": 2}', [], "broken json"),
        ('Sure: {"a": "x', [], "broken json"),
        ("It depends on the soil.", [], "no json"),
        ("Use {braces} and [brackets].", [], "no json"),
        ("", [], "empty"),
        (" \n\t", [], "empty"),
        ("{" * 5000, [], "no json"),
        ("[" * 100_000, [], "broken json"),
    ],
)  # fmt: skip
def test_what_is_there_and_why_there_is_not_one(text: str, values: list[Any], problem: str) -> None:
    found = json_in(text)
    assert (list(found.values), found.problem) == (values, problem)


@given(CONTAINERS, st.booleans())
def test_value_is_found_whole_in_a_fence_and_among_words(value: Any, indented: bool) -> None:
    text = json.dumps(value, indent=2 if indented else None, ensure_ascii=False)
    assert json_in(text).values == (value,)
    assert json_in(f"Here it is:\n\n```json\n{text}\n```\n").values == (value,)
    assert json_in(f"The answer is {text} as you wished.").values == (value,)


@given(PROSE, st.booleans())
def test_any_text_gives_an_answer_and_never_an_exception(text: str, fenced: bool) -> None:
    found = json_in(f"```\n{text}\n```" if fenced else text)
    assert bool(found.values) == (found.problem in ("", "several"))


def test_thoughts_are_left_out_and_nothing_else() -> None:
    assert without_thoughts("a <think>b</think> c <b>d</b>") == "a  c <b>d</b>"
    assert without_thoughts("<thinking>x\ny</thinking>z") == "z"
    assert without_thoughts("1 < 2") == "1 < 2"
