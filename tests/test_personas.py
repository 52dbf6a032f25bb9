"""Personas: entries that take everything of another one, with examples and blanks of their own."""

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import agouti
from agouti.core.messages.template import filled
from agouti.testing import FakeTransport

ENTRIES: dict[str, Any] = {
    "providers": {"shed": {"address": "http://localhost:8080/v1"}},
    "models": {
        "translator": {
            "provider": "shed",
            "name": "loam-2b",
            "system": 'Translate into {language}, {tone}. JSON like {"a": {x}} stays.',
            "variables": {"language": "English", "tone": ""},
            "examples": [["Guten Tag", "Good day in {language}"]],
            "parameters": {"temperature": 0.2},
        },
        "brief": {"extends": "translator", "system": "In {language}.", "variables": {"tone": "kindly"}},
        "plain": {"provider": "shed", "name": "loam-2b", "fallback": ["translator"]},
    },
}
GIVEN = {"language": "Italian", "tone": "drily"}


def sent(label: str, prompt: Any = "Moin", **options: Any) -> list[tuple[str, str]]:
    fake = FakeTransport([{"choices": [{"message": {"content": "ok"}}]}])
    with agouti.Client(ENTRIES, transport=fake) as client:
        client.ask(label, prompt, **options)
    body = json.loads(fake.requests[0].body or b"")
    return [(each["role"], each["content"]) for each in body["messages"]]


@pytest.mark.parametrize(
    ("label", "options", "wanted"),
    [
        (
            "translator",
            {"variables": GIVEN},
            [
                ("system", 'Translate into Italian, drily. JSON like {"a": {x}} stays.'),
                ("user", "Guten Tag"),
                ("assistant", "Good day in Italian"),
                ("user", "Moin"),
            ],
        ),
        (
            "brief",
            {},
            [("system", "In English."), ("user", "Guten Tag"), ("assistant", "Good day in English"), ("user", "Moin")],
        ),
        ("brief", {"examples": [], "system": "{tone}"}, [("system", "{tone}"), ("user", "Moin")]),
        ("translator", {"examples": [], "system": ""}, [("user", "Moin")]),
        (
            "brief",
            {"prompt": [{"role": "system", "content": "Own."}, {"role": "user", "content": "{language}"}]},
            [("system", "Own."), ("user", "Guten Tag"), ("assistant", "Good day in English"), ("user", "{language}")],
        ),
    ],
)
def test_what_a_persona_sends(label: str, options: dict[str, Any], wanted: list[tuple[str, str]]) -> None:
    assert sent(label, **options) == wanted


@pytest.mark.parametrize(
    ("label", "blanks", "what", "hint"),
    [
        ("translator", {}, "translator has a blank 'tone' that is not filled", 'variables={"tone"'),
        ("translator", {**GIVEN, "language": ""}, "blank 'language'", "--var language=VALUE"),
        ("translator", {**GIVEN, "lingo": "x"}, "translator has no blank 'lingo'", "language"),
        ("plain", {}, "translator has a blank 'tone'", "tone"),  # the model that would take over is looked at too
        ("translator", {"tone": 3}, "no table of texts", "variables="),
    ],
)
def test_blanks_that_are_missing_or_unknown(label: str, blanks: dict[str, Any], what: str, hint: str) -> None:
    with pytest.raises(agouti.RequestError) as caught:
        sent(label, variables=blanks)
    assert what in caught.value.message
    assert hint in caught.value.hint


@pytest.mark.parametrize(
    ("key", "value", "what"),
    [
        ("variables", {"a{b": "x"}, "variables: a name is empty or has braces"),
        ("variables", {"year": 2026}, "variables"),
        ("context", 0, "context = 0 is out of range"),
        ("examples", [["one"]], "examples"),
    ],
)
def test_entries_that_cannot_be_used(key: str, value: Any, what: str) -> None:
    models = {"a": {"provider": "shed", "name": "loam-2b", key: value}}
    with pytest.raises(agouti.ConfigError, match=what):
        agouti.load_config({"providers": ENTRIES["providers"], "models": models})


def test_what_a_blank_is_filled_with_is_not_looked_at_again() -> None:
    assert filled("{a} {b}", {"a": "{b}", "b": "{a}"}, "x") == "{b} {a}"


_TEXT = st.text(alphabet="ab{}\\1 ", max_size=20)


@given(_TEXT, _TEXT.filter(bool), _TEXT.filter(bool))
def test_a_filled_text_has_each_declared_blank_and_nothing_else_changed(text: str, one: str, two: str) -> None:
    parts = [part.split("{b}") for part in text.split("{ab}")]
    assert filled(text, {"b": one, "ab": two}, "x") == two.join([one.join(part) for part in parts])
