"""A turn that a provider has sealed goes back to that provider and account, and to nobody else."""

import json
from typing import Any

import pytest

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.testing import FakeTransport

CALL = {"id": "c1", "type": "function", "function": {"name": "frost", "arguments": "{}"}}
# What a provider gives, by dialect, and what of it nobody else may get.
SEALED: dict[str, tuple[dict[str, Any], str]] = {
    "chat": ({"choices": [{"message": {"content": None, "tool_calls": [CALL], "reasoning_content": "Hm", "reasoning_details": [{"type": "text", "text": "Hm", "signature": "SEALED"}]}, "finish_reason": "tool_calls"}]}, "reasoning_details"),
    "messages": ({"content": [{"type": "thinking", "thinking": "Hm", "signature": "SEALED"}, {"type": "tool_use", "id": "c1", "name": "frost", "input": {}}], "stop_reason": "tool_use"}, "SEALED"),
    "responses": ({"status": "completed", "output": [{"type": "reasoning", "id": "rs_SEALED", "summary": [], "encrypted_content": "SEALED"}, {"type": "function_call", "id": "f", "call_id": "c1", "name": "frost", "arguments": "{}"}]}, "SEALED"),
    "contents": ({"candidates": [{"content": {"parts": [{"functionCall": {"name": "frost", "args": {}}, "thoughtSignature": "SEALED"}]}, "finishReason": "STOP"}]}, "SEALED"),
}  # fmt: skip
SAID: dict[str, dict[str, Any]] = {
    "chat": {"choices": [{"message": {"content": "No."}, "finish_reason": "stop"}]},
    "messages": {"content": [{"type": "text", "text": "No."}], "stop_reason": "end_turn"},
    "responses": {"status": "completed", "output": [{"type": "message", "role": "assistant", "content": [{"type": "output_text", "text": "No."}]}]},
    "contents": {"candidates": [{"content": {"parts": [{"text": "No."}]}, "finishReason": "STOP"}]},
}  # fmt: skip


def frost() -> str:
    """Whether it freezes."""
    return "no"


def entries(dialect: str, **other: Any) -> dict[str, Any]:
    one = {"address": "https://one.example/v1", "dialect": dialect, "key": "sk-one-account", "retries": {"max": 0}}
    return {
        "providers": {"one": one, "other": {**one, "address": "https://other.example/v1", **other}},
        "models": {
            "m": {"provider": "one", "name": "x", "fallback": ["n"]},
            "n": {"provider": "other", "name": "x"},
            "sister": {"provider": "one", "name": "y"},
        },
    }


@pytest.mark.parametrize("dialect", SEALED)
@pytest.mark.parametrize("way", ["tool loop", "fallback", "moved", "account", "same"])
def test_a_sealed_turn_stays_with_its_provider_and_account(dialect: str, way: str) -> None:
    given, mark = SEALED[dialect]
    down = HttpReply(503, {}, b"{}")
    answers: list[Any] = [given, down, SAID[dialect]] if way == "tool loop" else [given, SAID[dialect]]
    if way == "fallback":
        answers += [down, SAID[dialect]]
    answers += [SAID[dialect]] * 2
    other = {"address": "https://one.example/v1", "key": "sk-other-account"} if way == "account" else {}
    fake = FakeTransport(answers)
    with agouti.Client(entries(dialect, **other), transport=fake) as client:
        talk = client.conversation("m", tools=[frost])
        talk.say("Frost?")
        if way == "fallback":
            talk.say("Sure?")
        elif way in ("moved", "account"):
            stored = list(talk.messages)
            client.conversation("n", tools=[frost], messages=stored).say("Sure?")
        elif way == "same":
            talk.say("Sure?")
    last = fake.requests[-1]
    body = (last.body or b"").decode()
    assert "frost" in body  # the call itself goes along
    assert (mark in body) == (way == "same")
    if way != "same":
        assert '"Hm"' not in body
    # Its own provider got it with the result.
    assert mark in (fake.requests[1].body or b"").decode()


def test_thoughts_that_are_no_turn_of_ours_are_as_they_were_said() -> None:
    """The application's own fields go where it sends them: only turns that a provider has sealed are held back."""
    fake = FakeTransport([SAID["chat"]])
    with agouti.Client(entries("chat"), transport=fake) as client:
        client.ask("n", [{"role": "user", "content": "Q"}, {"role": "assistant", "content": "A", "reasoning_content": "own"}, {"role": "user", "content": "R"}])  # fmt: skip
    assert json.loads(fake.requests[0].body or b"")["messages"][1]["reasoning_content"] == "own"
