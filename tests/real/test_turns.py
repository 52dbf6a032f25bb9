"""Turns with tools against a real model server, in every format that it has: shapes, pairs and round trips, never words."""

import json
from concurrent.futures import ThreadPoolExecutor
from typing import Any, Literal

import pytest

import agouti

from .test_chat import ADDRESS, KEY, MODEL

pytestmark = pytest.mark.skipif(not ADDRESS, reason="AGOUTI_REAL_SERVER is not set")
DIALECTS = ["chat", "messages", "responses"]
BRIEF: dict[str, Any] = {"max_tokens": 32, "temperature": 0}


def lamp(place: Literal["shed", "shelf"]) -> str:
    """Switch the lamp on."""
    return "on"


def pump(state: Literal["on", "off"]) -> str:
    """Switch the pump."""
    return "done"


TOOLS = [agouti.Tool.of(lamp).as_json, agouti.Tool.of(pump).as_json]


def client_of(dialect: str) -> agouti.Client:
    key = agouti.GivenKey(agouti.Secret(KEY)) if KEY else None
    return agouti.Client(agouti.Config.of([agouti.Provider("real", f"{ADDRESS}/v1", dialect, key)]))


def called(reply: agouti.Reply) -> None:
    """What every forced call is like."""
    assert reply.calls
    assert len({call.id for call in reply.calls}) == len(reply.calls)
    for number, call in enumerate(reply.calls, 1):
        assert call.id
        # So small a model calls until its cap cuts the last call (and one format here does not say so).
        if (reply.usage.output_tokens or 0) < BRIEF["max_tokens"] or number < len(reply.calls):
            assert call.name in ("lamp", "pump")
            assert isinstance(call.arguments, dict)
            assert not call.problem
    assert reply.finish_reason in ("tool_calls", "stop", "length")


@pytest.mark.parametrize("streams", [False, True])
@pytest.mark.parametrize("dialect", DIALECTS)
def test_forced_call_and_the_turn_after_it(dialect: str, streams: bool) -> None:
    with client_of(dialect) as client:
        talk = client.conversation(MODEL, tools=TOOLS, **BRIEF)
        if streams:
            with talk.stream("Light, please.", tool_choice="required") as stream:
                list(stream.events())
            reply = stream.reply
        else:
            reply = talk.say("Light, please.", tool_choice="required")
        called(reply)
        # Results that say what was wrong, one for each call; then the model goes on.
        results = [agouti.Message("tool", "Error: no such place.", tool_call_id=call.id) for call in reply.calls]
        answer = talk.say([*results, agouti.Message("user", "Thanks.")], tool_choice="none")
        assert answer.finish_reason in ("stop", "length", "tool_calls")
        assert (answer.usage.input_tokens or 0) > (reply.usage.input_tokens or 0)


@pytest.mark.parametrize("dialect", DIALECTS)
def test_functions_are_run_and_answered(dialect: str) -> None:
    with client_of(dialect) as client:
        reply = client.ask(
            MODEL, "Light!", tools=[lamp, pump], tool_choice="required", run_tools=True, max_rounds=3, **BRIEF
        )
        assert reply.finish_reason in ("stop", "length")
        named = client.ask(MODEL, "Light!", tools=[lamp, pump], tool_choice="lamp", **BRIEF)
    # Not every server holds the model to one function by its name; where it calls, it calls with what was asked for.
    assert {call.name for call in named.calls} <= {"lamp", "pump"}


PAIR = [
    {"role": "user", "content": "Both, please."},
    {
        "role": "assistant",
        "content": None,
        "tool_calls": [
            {
                "id": "functions.lamp:0",
                "type": "function",
                "function": {"name": "lamp", "arguments": '{"place":"shed"}'},
            },
            {"id": "functions.pump:1", "type": "function", "function": {"name": "pump", "arguments": '{"state":"on"}'}},
        ],
    },
    {"role": "tool", "tool_call_id": "functions.lamp:0", "content": "on"},
    {"role": "tool", "tool_call_id": "functions.pump:1", "content": ""},
]


@pytest.mark.parametrize("streams", [False, True])
@pytest.mark.parametrize("dialect", [*DIALECTS, "prompt"])
def test_parallel_calls_of_another_provider_are_taken(dialect: str, streams: bool) -> None:
    given: dict[str, Any] = {} if dialect == "prompt" else {"tools": TOOLS}
    with client_of(dialect) as client:
        if streams:
            with client.stream(MODEL, PAIR, max_tokens=8, **given) as stream:
                list(stream)
            reply = stream.reply
        else:
            reply = client.ask(MODEL, PAIR, max_tokens=8, **given)
    assert (reply.usage.output_tokens or 0) > 0


@pytest.mark.parametrize("streams", [False, True])
@pytest.mark.parametrize("dialect", DIALECTS)
def test_exchange_loop_of_a_program_in_another_language(dialect: str, streams: bool) -> None:
    body: dict[str, Any] = {"model": MODEL, "tools": TOOLS, "max_tokens": 60, "temperature": 0}
    body["parallel_tool_calls"] = False
    messages: list[dict[str, Any]] = [{"role": "user", "content": "Light, please."}]
    with client_of(dialect) as client:
        message = exchanged(client, {**body, "messages": messages, "tool_choice": "required"}, streams)
        assert message["tool_calls"]
        if not is_json(message["tool_calls"][-1]):
            message["tool_calls"].pop()  # cut by the cap: so small a model calls until then
        messages.append(message)
        if not message["tool_calls"]:
            return
        for call in message["tool_calls"]:
            assert call["type"] == "function"
            assert isinstance(json.loads(call["function"]["arguments"]), dict)
            messages.append({"role": "tool", "tool_call_id": call["id"], "content": "on"})
        answer = exchanged(client, {**body, "messages": messages}, streams)
        assert answer["role"] == "assistant"


def is_json(call: dict[str, Any]) -> bool:
    try:
        json.loads(call["function"]["arguments"])
    except ValueError:
        return False
    return True


def exchanged(client: agouti.Client, body: dict[str, Any], streams: bool) -> dict[str, Any]:
    """The assistant's message, as such a program puts it together."""
    if not streams:
        reply = json.loads(json.dumps(client.exchange(body)))
        assert reply["object"] == "chat.completion"
        assert reply["choices"][0]["finish_reason"] in ("stop", "length", "tool_calls", "content_filter")
        message: dict[str, Any] = reply["choices"][0]["message"]
        return message
    message, calls, ends = {"role": "assistant", "content": ""}, {}, []
    for chunk in client.exchange_stream({**body, "stream": True}):
        choice = json.loads(json.dumps(chunk))["choices"][0]
        ends += [choice["finish_reason"]] if choice["finish_reason"] else []
        message["content"] += choice["delta"].get("content") or ""
        for piece in choice["delta"].get("tool_calls") or ():
            call = calls.setdefault(piece["index"], {"type": "function", "function": {"name": "", "arguments": ""}})
            call["id"] = piece.get("id") or call.get("id")
            for name in ("name", "arguments"):
                call["function"][name] += piece["function"].get(name) or ""
    assert len(ends) == 1
    return {**message, "tool_calls": list(calls.values())} if calls else message


def test_conversation_goes_from_format_to_format() -> None:
    messages: list[agouti.Message] = []
    for dialect in (*DIALECTS, "prompt", "chat"):
        with client_of(dialect) as client:
            given: dict[str, Any] = {} if dialect == "prompt" else {"tools": TOOLS}
            talk = client.conversation(MODEL, messages=messages, max_tokens=16, temperature=0, **given)
            reply = talk.say("Light, please.", **({} if dialect == "prompt" else {"tool_choice": "required"}))
            messages = list(talk.messages)
            messages += [agouti.Message("tool", "on", tool_call_id=call.id) for call in messages[-1].tool_calls]
            assert reply.usage.output_tokens


@pytest.mark.parametrize("output_method", ["schema", "tool", "json", "prompt"])
@pytest.mark.parametrize("dialect", DIALECTS)
def test_forms_are_filled_by_each_means_or_it_is_said_why(dialect: str, output_method: Any) -> None:
    with client_of(dialect) as client:
        if output_method == "json" and dialect == "messages":
            with pytest.raises(agouti.ParameterUnsupported):
                client.fill(MODEL, Literal["wet", "dry"], "It rains.", output_method=output_method)
            return
        try:
            filled = client.fill(
                MODEL, Literal["wet", "dry"], "It rains.", output_method=output_method, max_repairs=1, **BRIEF
            )
        except agouti.NotFilled as error:
            said = (error.problem, len(error.answers))
        else:
            said = (filled.value, len(filled.answers))
            assert filled.output_method == output_method
    assert said[0]
    assert 1 <= said[1] <= 2


@pytest.mark.parametrize("dialect", [*DIALECTS, "prompt"])
def test_stream_that_is_left_early_leaves_the_server_free(dialect: str) -> None:
    with client_of(dialect) as client:
        for _ in range(3):
            with client.stream(MODEL, "Count to a hundred.", max_tokens=200) as stream:
                next(iter(stream), "")  # a small model may have nothing to say
        assert client.ask(MODEL, "Peas are", max_tokens=4).usage.output_tokens


def test_tokens_are_counted_by_the_server_and_the_count_is_right() -> None:
    with client_of("messages") as client:
        counted = client.count(MODEL, "When do broad beans go in?", system="Brief.")
        reply = client.ask(MODEL, "When do broad beans go in?", system="Brief.", max_tokens=4)
    assert counted.exact
    assert abs(counted.tokens - (reply.usage.input_tokens or 0)) <= 2


@pytest.mark.parametrize("dialect", ["chat", "messages"])
def test_twenty_at_once_get_their_own_answers(dialect: str) -> None:
    def ask(number: int) -> tuple[int, int | None]:
        words = "bean " * (number + 1)
        reply = client.ask(MODEL, words, max_tokens=2)
        return number, reply.usage.input_tokens

    with client_of(dialect) as client, ThreadPoolExecutor(20) as pool:
        counts = dict(pool.map(ask, range(20)))
    # The longer the prompt, the more tokens: nobody has got somebody else's answer.
    assert all(counts[number] is not None for number in counts)
    assert [counts[number] for number in sorted(counts)] == sorted(counts.values(), key=lambda count: count or 0)
    assert len(set(counts.values())) == 20


def test_log_probabilities_come_from_a_real_server() -> None:
    with client_of("chat") as client:
        reply = client.ask(MODEL, "Peas are", max_tokens=3, logprobs=True, top_logprobs=2, temperature=0)
        with client.stream(MODEL, "Peas are", max_tokens=3, logprobs=True, top_logprobs=2, temperature=0) as stream:
            list(stream)
    assert len(reply.logprobs) == len(stream.reply.logprobs) == 3
    assert all(each.logprob is not None and each.logprob <= 0 and len(each.top) == 2 for each in reply.logprobs)
