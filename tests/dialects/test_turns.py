"""Turns with tools and thinking: they go back as they came, stay behind where another dialect takes over, and go on."""

import asyncio
import json
from collections.abc import Iterator
from typing import Any

import pytest

import agouti
from agouti.core.canonical.chat import Message
from agouti.standins import Served

from .test_contract import MODELS

THINKS: dict[str, dict[str, Any]] = {
    "converse": {"extra": {"additionalModelRequestFields": {"thinking": {"type": "enabled", "budget_tokens": 2048}}}}
}
WITH_TOOLS = ("chat", "responses", "messages", "contents", "lines", "converse")
NINE = [name for name in MODELS if name != "board"]
QUESTION = "How many days until the last frost at Marsh Lane?"


def days_to_frost(place: str) -> int:
    """Days until the last frost."""
    return 17


def options(name: str) -> dict[str, Any]:
    return dict(THINKS.get(name, {"reasoning_effort": "low"}))


@pytest.fixture(scope="module")
def client(served: Served) -> Iterator[agouti.Client]:
    with agouti.Client(served.config) as client:
        yield client


@pytest.mark.parametrize("fault", ["", "+loose"])
@pytest.mark.parametrize("name", WITH_TOOLS)
def test_conversation_thinks_calls_and_goes_on(client: agouti.Client, name: str, fault: str) -> None:
    model = loosened(MODELS[name], fault)
    talk = client.conversation(model, tools=[days_to_frost], **options(name))
    assert talk.say(QUESTION).text == "The answer is 17."
    with talk.stream(QUESTION) as stream:
        assert "".join(stream) == "The answer is 17."
    assert [message.role for message in talk.messages] == ["user", "assistant", "tool", "assistant"] * 2
    assert all(reply.reasoning and reply.reasoning.startswith("They ask: How many") for reply in talk.replies)
    # It lasts as JSON, too.
    stored = [json.loads(json.dumps(as_json(message))) for message in talk.messages]
    again = client.conversation(model, tools=[days_to_frost], messages=stored, **options(name))
    assert again.say("And beans?").text


def as_json(message: Message) -> dict[str, Any]:
    from agouti.core.messages.messages import message_json, turn_json

    body = message_json(message)
    return body if message.provider_turn is None else {**body, "provider_turn": turn_json(message.provider_turn)}


def loosened(model: str, fault: str) -> str:
    name, at, provider = model.partition("@")
    return f"{name}{fault}{at}{provider}"


TOOLS = [agouti.Tool.of(days_to_frost).as_json]


@pytest.mark.parametrize("fault", ["", "+loose"])
@pytest.mark.parametrize("streams", [False, True])
@pytest.mark.parametrize("name", WITH_TOOLS)
def test_exchange_loop_as_any_client_of_that_interface_does_it(
    client: agouti.Client, name: str, streams: bool, fault: str
) -> None:
    given = options(name)
    body: dict[str, Any] = {"model": loosened(MODELS[name], fault), "tools": TOOLS, **given.pop("extra", {}), **given}
    messages: list[dict[str, Any]] = []
    for question in (QUESTION, f"{QUESTION} Again, please."):
        messages.append({"role": "user", "content": question})
        message = asked(client, {**body, "messages": messages}, streams)
        messages.append(message)
        assert message["reasoning_content"].startswith("They ask")
        (call,) = message["tool_calls"]
        assert json.loads(call["function"]["arguments"]) == {"place": "Marsh Lane"}
        # As clients do: no name, the identifier that came.
        messages.append({"role": "tool", "tool_call_id": call["id"], "content": "17"})
        answer = asked(client, {**body, "messages": messages}, streams)
        assert answer["content"] == "The answer is 17."
        messages.append(answer)


def asked(client: agouti.Client, body: dict[str, Any], streams: bool) -> dict[str, Any]:
    """The assistant's message, put together as clients do: texts joined, calls by index, other fields kept."""
    if not streams:
        message: dict[str, Any] = client.exchange(body)["choices"][0]["message"]
        return message
    whole: dict[str, Any] = {}
    calls: dict[int, dict[str, Any]] = {}
    for chunk in client.exchange_stream(body):
        delta = chunk["choices"][0]["delta"]
        for number, piece in enumerate(delta.pop("tool_calls", ())):
            call = calls.setdefault(piece.get("index", number), {"function": {"name": "", "arguments": ""}})
            call |= {field: value for field, value in piece.items() if field not in ("function", "index")}
            for field, value in piece["function"].items():
                call["function"][field] += value
        for field, value in delta.items():
            whole[field] = (
                whole[field] + value if field in ("content", "reasoning_content") and field in whole else value
            )
    whole.setdefault("content", None)
    return {**whole, "tool_calls": list(calls.values())} if calls else whole


@pytest.mark.parametrize("second", NINE)
@pytest.mark.parametrize("first", NINE)
def test_conversation_changes_its_dialect_in_the_middle(client: agouti.Client, first: str, second: str) -> None:
    able = first in WITH_TOOLS
    more: dict[str, Any] = {"tools": [days_to_frost], **options(first)} if able else {}
    before = client.conversation(MODELS[first], **more)
    assert before.say(QUESTION).text
    assert (before.messages[1].provider_turn is not None) == able
    after = client.conversation(MODELS[second], messages=before.messages)
    assert after.say("When does garlic go in?").text.startswith("Garlic")
    if second in WITH_TOOLS:
        there = client.conversation(MODELS[second], messages=after.messages, tools=[days_to_frost])
        assert there.say(QUESTION).text == "The answer is 17."
        # And back, with what the first one had thought.
        back = client.conversation(MODELS[first], messages=there.messages, **more)
        assert back.say(QUESTION).text


@pytest.mark.parametrize("name", MODELS)
def test_answers_of_a_sloppy_server_are_the_same(client: agouti.Client, served: Served, name: str) -> None:
    if name == "board":
        return
    prompt, cap = "When does garlic go in?", {"max_tokens": 9}
    clean = client.ask(MODELS[name], prompt, **cap)
    model = loosened(MODELS[name], "+loose")
    loose = client.ask(model, prompt, **cap)
    with client.stream(model, prompt, **cap) as stream:
        assert "".join(stream) == loose.text == clean.text
    assert stream.reply.finish_reason == loose.finish_reason == clean.finish_reason
    assert stream.reply.usage.output_tokens == loose.usage.output_tokens == clean.usage.output_tokens == 9
    assert client.fill(model, list[int], "18 up\n24 sown").value == [18, 24]

    async def awaited() -> str:
        async with agouti.AsyncClient(served.config) as waiting:
            return (await waiting.ask(model, prompt, **cap)).text

    assert asyncio.run(awaited()) == clean.text
