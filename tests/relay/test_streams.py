"""Streams of the relay, byte by byte: odd events of providers, empty answers, and turns with calls."""

import json
from collections.abc import Iterator
from typing import Any

import pytest

import agouti
from agouti.core.canonical.chat import Choice, Completion, ProviderTurn, ToolCall, ToolFunction
from agouti.core.canonical.events import ToolCallPiece
from agouti.relay.turn_memory import TurnMemory, UniqueCalls

from ..hostile.kit import Connection, RawServer, serving
from .kit import Running, relaying

TWO_LINES = b'data: {"choices":[{"index":0,\ndata: "delta":{"content":"In March."},"finish_reason":"stop"}]}\n\ndata: [DONE]\n\n'
EMPTY = b'data: {"choices":[{"index":0,"delta":{},"finish_reason":"stop"}]}\n\ndata: [DONE]\n\n'
CALL = b'data: {"choices":[{"index":0,"delta":{"reasoning_content":"SECRET %s","tool_calls":[{"index":0,"id":"call_0","type":"function","function":{"name":"today","arguments":"{}"}}]},"finish_reason":"tool_calls"}]}\n\ndata: [DONE]\n\n'


def behave(connection: Connection, _: int) -> None:
    question = connection.question
    body = {"two": TWO_LINES, "empty": EMPTY}.get(question, CALL.replace(b"%s", question[:1].encode()))
    head = b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\ncontent-length: %d\r\n\r\n" % len(body)
    connection.write(head + body)


@pytest.fixture(scope="module")
def server() -> Iterator[RawServer]:
    with serving(behave) as running:
        yield running


@pytest.fixture(scope="module")
def relay(server: RawServer) -> Iterator[Running]:
    entries = {"providers": {"p": {"address": server.address}}, "models": {"m": {"provider": "p", "name": "m"}}}
    with relaying(agouti.load_config(entries)) as running:
        yield running


@pytest.mark.parametrize("dialect", ["chat", "messages", "responses"])
def test_an_event_of_several_lines_is_one(relay: Running, dialect: str) -> None:
    provider = {"address": relay.address + "/v1", "dialect": dialect}
    with agouti.Client({"providers": {"r": provider}}) as client:
        assert "".join(client.stream("m@r", "two", max_tokens=9)).strip() == "In March."


def test_an_empty_stream_of_messages_has_a_block(relay: Running) -> None:
    body = {"model": "m", "max_tokens": 9, "stream": True, "messages": [{"role": "user", "content": "empty"}]}
    status, data, _ = relay.call("/v1/messages", body)
    events = [json.loads(line[6:]) for line in data.split(b"\n") if line.startswith(b"data: ")]
    assert status == 200
    assert [each["type"] for each in events] == [
        "message_start", "content_block_start", "content_block_stop", "message_delta", "message_stop"
    ]  # fmt: skip


def test_calls_that_are_handed_out_have_identifiers_of_their_own(relay: Running, server: RawServer) -> None:
    """Two conversations whose provider numbers its calls alike: neither gets the thoughts of the other."""
    calls = {}
    for name in "AB":
        body = {"model": "m", "max_tokens": 9, "messages": [{"role": "user", "content": name}], "stream": True}
        _, data, _ = relay.call("/v1/messages", body)
        events = [json.loads(line[6:]) for line in data.split(b"\n") if line.startswith(b"data: ")]
        [calls[name]] = [
            each["content_block"]
            for each in events
            if each["type"] == "content_block_start" and each["content_block"]["type"] == "tool_use"
        ]
    assert calls["A"]["id"] != calls["B"]["id"]
    for name in "AB":
        relay.call("/v1/messages", back(name, {**calls[name], "input": {}}))
        sent = server.requests[-1]
        assert f"SECRET {name}".encode() in sent
        assert f"SECRET {'BA'['AB'.index(name)]}".encode() not in sent
    # Whoever sends what a provider would have called it gets nobody's thoughts.
    relay.call("/v1/messages", back("A", {"type": "tool_use", "id": "call_0", "name": "today", "input": {}}))
    assert b"SECRET" not in server.requests[-1]


def back(name: str, call: Any) -> Any:
    result = {"type": "tool_result", "tool_use_id": call["id"], "content": "12 May"}
    said = [
        {"role": "user", "content": name},
        {"role": "assistant", "content": [call]},
        {"role": "user", "content": [result]},
    ]
    return {"model": "m", "max_tokens": 9, "stream": True, "messages": said}


@pytest.mark.parametrize(("hours", "there"), [(0.2, True), (5.9, True), (6.1, False)])
def test_turns_are_remembered_for_six_hours(hours: float, there: bool) -> None:
    now = [0.0]
    memory = TurnMemory(lambda: now[0])
    call = ToolCall(ToolFunction("today", "{}"), "call_0123456789abcdef")
    said = Completion((Choice("", "tool_calls", tool_calls=(call,), provider_turn=ProviderTurn("lines", ["x"])),))
    memory.keep("club", said)
    now[0] = hours * 3600
    other = ToolCall(ToolFunction("today", "{}"), "call_fedcba9876543210")
    memory.keep("club", Completion((Choice("", "tool_calls", tool_calls=(other,), provider_turn=ProviderTurn("lines", [])),)))  # fmt: skip
    asked = agouti.Message("assistant", tool_calls=(call,))
    [found] = memory.with_turns("club", [asked])
    assert (found.provider_turn is not None) == there


def test_an_identifier_that_is_unique_stays() -> None:
    call = ToolCall(ToolFunction("today", "{}"), "call_0123456789abcdef")
    said = Completion((Choice("", "tool_calls", tool_calls=(call,)),))
    assert UniqueCalls().of(said).choices[0].tool_calls == (call,)


def test_pieces_of_a_call_that_repeat_its_identifier_are_of_one_call() -> None:
    pieces = [
        ToolCallPiece(0, "call_0", "frost"),
        ToolCallPiece(0, "call_0", None, "{}"),
        ToolCallPiece(0, None, None, " "),
    ]
    unique = UniqueCalls()
    first, second, third = unique.in_events(pieces, None)
    assert first.id == second.id != "call_0"  # type: ignore[union-attr]
    assert third.id is None  # type: ignore[union-attr]
    alone = unique.in_events([ToolCallPiece(0, "call_0", None, "{}")], None)
    assert alone[0].id == first.id  # type: ignore[union-attr]


def test_a_turn_with_a_number_for_an_identifier_is_no_conversations_own() -> None:
    memory = TurnMemory()
    unique = ToolCall(ToolFunction("frost", "{}"), "call_0123456789abcdef")
    for calls, there in (((unique,), True), ((unique, ToolCall(ToolFunction("today", "{}"), "call_0")), False)):
        choice = Choice("", "tool_calls", tool_calls=calls, provider_turn=ProviderTurn("lines", ["x"]))
        memory.keep("club", Completion((choice,)))
        [found] = memory.with_turns("club", [agouti.Message("assistant", tool_calls=calls)])
        assert (found.provider_turn is not None) == there
        own = agouti.Message("assistant", tool_calls=calls, extra={"reasoning_content": "mine"})
        assert memory.with_turns("club", [own]) == (own,)  # who sends the thinking back has it as it is
