"""OpenAI-compatible JSON in and out, on every dialect."""

import asyncio
import json
from typing import Any

import pytest

import agouti
from agouti.dialects.registry import names
from agouti.standins import Served
from agouti.testing import FakeTransport

from .dialects.samples import ANSWER, SAMPLES
from .dialects.test_contract import MODELS


def body(model: str, **more: Any) -> dict[str, Any]:
    return {
        "model": model,
        "messages": [{"role": "user", "content": "When does garlic go in?"}],
        "temperature": 0.3,
        **more,
    }


@pytest.mark.parametrize("name", MODELS)
def test_request_reply_and_chunks_have_one_form_everywhere(served: Served, name: str) -> None:
    with agouti.Client(served.config) as client:
        reply = client.exchange(body(MODELS[name], max_completion_tokens=20, user=None))
        wanted = body(MODELS[name], max_completion_tokens=20, stream=True, stream_options={"include_usage": True})
        chunks = list(client.exchange_stream(wanted))
        without = list(client.exchange_stream(body(MODELS[name], max_completion_tokens=20)))

    async def awaited() -> tuple[dict[str, Any], list[dict[str, Any]]]:
        async with agouti.AsyncClient(served.config) as client:
            request = body(MODELS[name], max_completion_tokens=20)
            return await client.exchange(request), [chunk async for chunk in client.exchange_stream(request)]

    message = reply["choices"][0]["message"]
    assert reply["object"] == "chat.completion"
    assert message["role"] == "assistant"
    assert message["content"].startswith("Garlic")
    assert reply["choices"][0]["finish_reason"] == "length"
    assert reply["usage"]["completion_tokens"] == 20
    assert reply["model"] == MODELS[name].partition("@")[0]
    deltas = [chunk["choices"][0]["delta"] for chunk in chunks if chunk["choices"]]
    assert deltas[0]["role"] == "assistant"
    assert "".join(delta.get("content", "") for delta in deltas) == message["content"]
    assert [chunk["choices"][0]["finish_reason"] for chunk in chunks if chunk["choices"]][-1] == "length"
    assert [chunk["usage"]["completion_tokens"] for chunk in chunks if chunk.get("usage")] == [20]
    assert chunks[-1]["usage"]
    assert not chunks[-1]["choices"]
    assert all(chunk["choices"] and not chunk.get("usage") for chunk in without)
    again, chunks_again = asyncio.run(awaited())
    assert again["choices"] == reply["choices"]
    assert len(chunks_again) == len(without)


@pytest.mark.parametrize("name", sorted(set(names()) - {"prompt", "jobs", "predict"}))
def test_tool_calls_and_reasoning_come_through(name: str) -> None:
    sample = SAMPLES[name]
    entry = {"providers": {"p": {"address": "https://p.example/v1", "dialect": name}}}
    with agouti.Client(entry, transport=FakeTransport([sample.plain, [sample.stream]])) as client:
        message = client.exchange(body("m@p", temperature=None))["choices"][0]["message"]
        chunks = list(client.exchange_stream(body("m@p", temperature=None)))
    assert message["reasoning_content"] == ANSWER.reasoning
    assert message["tool_calls"][0]["function"] == {"name": "days_to_frost", "arguments": '{"place":"Marsh Lane"}'}
    pieces = [
        piece for chunk in chunks if chunk["choices"] for piece in chunk["choices"][0]["delta"].get("tool_calls", ())
    ]
    assert pieces[0]["id"] == "call_0"
    assert "".join(piece["function"]["arguments"] for piece in pieces) == '{"place":"Marsh Lane"}'


def test_unknown_fields_go_through_and_the_provider_s_own_come_back() -> None:
    raw = {"choices": [{"message": {"content": "x"}}], "citations": ["a"], "cost": 0.1}
    fake = FakeTransport([raw])
    with agouti.Client.at("https://p.example/v1", transport=fake) as client:
        assert client.exchange(body("m", top_k=3)) == raw
    assert b'"top_k":3' in (fake.requests[0].body or b"")
    chunks = [
        {"id": "1", "choices": [{"index": 0, "delta": {"content": "x", "mood": "wet"}}], "timings": {"a": 1}},
        {"id": "1", "choices": [{"index": 0, "delta": {}, "finish_reason": "stop"}], "cost": 0.1},
    ]
    stream = b"".join(b"data: %s\n\n" % json.dumps(chunk).encode() for chunk in chunks) + b"data: [DONE]\n\n"
    with agouti.Client.at("https://p.example/v1", transport=FakeTransport([[stream]])) as client:
        assert list(client.exchange_stream(body("m"))) == chunks


@pytest.mark.parametrize("wrong", [{}, {"model": "m"}, {"model": 3, "messages": []}, {"model": "m", "messages": []}])
def test_what_is_no_request_is_said(wrong: dict[str, Any]) -> None:
    with (
        agouti.Client.at("https://p.example/v1", transport=FakeTransport([])) as client,
        pytest.raises(agouti.RequestError),
    ):
        client.exchange(wrong)
