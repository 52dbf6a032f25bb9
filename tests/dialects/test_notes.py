"""Sources and safety notes, thoughts and refusals: the same for whole replies, streams and JSON, on every dialect."""

from typing import Any

import pytest

import agouti
from agouti.core.canonical.events import Cited, SafetyTold
from agouti.testing import FakeTransport

from .samples import ANSWER, CITED, SAMPLES

CITING = ["chat", "messages", "responses", "contents", "converse"]


def client(name: str, *answers: Any) -> agouti.Client:
    entry = {"providers": {"p": {"address": "https://p.example/v1", "dialect": name}}}
    return agouti.Client(entry, transport=FakeTransport(answers))


@pytest.mark.parametrize("name", CITING)
def test_sources_come_with_the_reply_and_in_the_stream(name: str) -> None:
    sample = SAMPLES[name]
    with client(name, sample.plain, [sample.stream]) as asking:
        reply = asking.ask("m@p", "Peas?")
        with asking.stream("m@p", "Peas?") as stream:
            events = list(stream.events())
    assert reply.citations == stream.reply.citations == (CITED,)
    assert [event.citation for event in events if isinstance(event, Cited)] == [CITED]
    assert list(reply.as_dict()["citations"]) == [
        {"address": CITED.address, "title": CITED.title, "quote": "", "start": None, "end": None}
    ]
    assert reply.reasoning == stream.reply.reasoning == ANSWER.reasoning
    assert reply.calls == stream.reply.calls
    assert reply.calls[0].arguments == {"place": "Marsh Lane"}


def test_safety_notes_come_where_the_format_has_them() -> None:
    sample = SAMPLES["contents"]
    with client("contents", sample.plain, [sample.stream]) as asking:
        reply = asking.ask("m@p", "Peas?")
        with asking.stream("m@p", "Peas?") as stream:
            events = list(stream.events())
    assert reply.safety == stream.reply.safety
    assert [note.category for note in reply.safety] == ["WEATHER"]
    assert sum(isinstance(event, SafetyTold) for event in events) == 1
    filtered = {
        "choices": [
            {
                "message": {"content": ""},
                "finish_reason": "content_filter",
                "content_filter_results": {"storm": {"filtered": True, "severity": "high"}, "odd": 3},
            }
        ]
    }
    with client("chat", filtered) as asking:
        noted = asking.ask("m@p", "Peas?")
    assert [(note.category, note.level, note.blocked) for note in noted.safety] == [("storm", "high", True)]
    assert noted.finish_reason == "content_filter"


def test_plain_list_of_sources_beside_the_answer_is_read_too() -> None:
    raw = {"choices": [{"message": {"content": "x"}}], "citations": [CITED.address, "https://other.example"]}
    with client("chat", raw) as asking:
        assert [each.address for each in asking.ask("m@p", "x").citations] == [CITED.address, "https://other.example"]


@pytest.mark.parametrize(
    ("name", "reply", "reason", "refusal"),
    [
        ("chat", {"choices": [{"message": {"content": None, "refusal": "No."}, "finish_reason": "stop"}]}, "refusal", "No."),
        ("messages", {"content": [], "stop_reason": "refusal"}, "refusal", None),
        ("responses", {"status": "completed", "output": [{"type": "message", "content": [{"type": "refusal", "refusal": "No."}]}]}, "refusal", "No."),
        ("contents", {"candidates": [{"finishReason": "SAFETY"}]}, "content_filter", None),
        ("converse", {"output": {"message": {"content": []}}, "stopReason": "guardrail_intervened"}, "content_filter", None),
        ("predict", {"predictions": [{"safetyAttributes": {"blocked": True}}]}, "content_filter", None),
    ],
)  # fmt: skip
def test_refusals_are_told_by_the_reason_for_the_end(name: str, reply: Any, reason: str, refusal: str | None) -> None:
    with client(name, reply) as asking:
        found = asking.ask("m@p", "x")
    assert (found.text, found.finish_reason, found.refusal) == ("", reason, refusal)
