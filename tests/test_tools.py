"""Functions that a model calls, and conversations with them."""

import asyncio
import contextvars
import json
import threading
import time
from typing import Any, Literal

import pytest
from pydantic import BaseModel

import agouti
from agouti.dialects.registry import dialect
from agouti.standins import Served
from agouti.testing import AsyncFakeTransport, FakeTransport

from .dialects.samples import data
from .dialects.test_contract import MODELS

WITH_TOOLS = [
    name
    for name in MODELS
    if name != "board" and ((takes := dialect(name).abilities.takes) is None or "tools" in takes)
]
QUESTION = "How many days until the last frost at Marsh Lane?"


class Place(BaseModel):
    """A garden."""

    name: str


def days_to_frost(place: str, *, unit: Literal["days", "weeks"] = "days") -> int:
    """Days until the last frost of the year.

    Args:
        place: name of the garden.
        unit: what to count in.
    """
    return 17 if unit == "days" else 2


async def frost_risk(garden: Place, nights: list[int] | None = None) -> dict[str, Any]:
    """The risk of frost in the coming nights."""
    await asyncio.sleep(0)
    return {"garden": garden.name, "risk": 0.25}


def turn(
    kind: str, config: Any, model: str, question: str, **options: Any
) -> tuple[agouti.Reply, list[agouti.Message]]:
    if kind == "sync":
        with agouti.Client(config) as client:
            talk = client.conversation(model, **options)
            return talk.say(question), talk.messages

    async def go() -> tuple[agouti.Reply, list[agouti.Message]]:
        async with agouti.AsyncClient(config) as client:
            talk = client.conversation(model, **options)
            return await talk.say(question), talk.messages

    return asyncio.run(go())


@pytest.mark.parametrize("kind", ["sync", "async"])
@pytest.mark.parametrize("name", WITH_TOOLS)
def test_functions_are_run_and_the_answer_uses_them_on_every_dialect(served: Served, kind: str, name: str) -> None:
    reply, messages = turn(kind, served.config, MODELS[name], QUESTION, tools=[days_to_frost, frost_risk])
    assert "17" in reply.text or "2" in reply.text
    assert "risk 0.25" in reply.text
    assert [message.role for message in messages] == ["user", "assistant", "tool", "tool", "assistant"]
    calls = messages[1].tool_calls or []
    assert [call.function.name for call in calls] == ["days_to_frost", "frost_risk"]
    assert [message.tool_call_id for message in messages[2:4]] == [call.id for call in calls]


@pytest.mark.parametrize("name", WITH_TOOLS)
def test_calls_are_parsed_forced_and_forbidden(served: Served, name: str) -> None:
    lamp = agouti.Tool(name="lamp", description="Switch on.", parameters={"type": "object", "properties": {"level": {"type": "integer"}}, "required": ["level"]})  # fmt: skip
    takes = dialect(name).abilities.takes
    with agouti.Client(served.config) as client:
        reply = client.ask(MODELS[name], QUESTION, tools=[days_to_frost, lamp])
        assert [(call.name, call.arguments["unit"] in ("days", "weeks")) for call in reply.calls] == [
            ("days_to_frost", True)
        ]
        assert reply.finish_reason == "tool_calls"
        assert json.loads(reply.calls[0].arguments_text) == reply.calls[0].arguments
        with client.stream(MODELS[name], QUESTION, tools=[days_to_frost]) as stream:
            pieces = [event for event in stream.events() if isinstance(event, agouti.events.ToolCallPiece)]
        assert stream.reply.calls[0].name == "days_to_frost"
        assert "".join(piece.arguments for piece in pieces) == stream.reply.calls[0].arguments_text
        assert name in ("contents", "lines") or len(pieces) > 3
        if takes is None or "tool_choice" in takes:
            forced = client.ask(MODELS[name], "Peas?", tools=[days_to_frost, lamp], tool_choice="lamp")
            assert [call.name for call in forced.calls] == ["lamp"]
            assert client.ask(MODELS[name], "Peas?", tools=[lamp], tool_choice="required").calls
            assert not client.ask(MODELS[name], QUESTION, tools=[days_to_frost], tool_choice="none").calls
            # A forced call is forced once, or there would never be an answer.
            done = client.ask(MODELS[name], "Peas?", tools=[days_to_frost], tool_choice="required", run_tools=True)
            assert done.text


def said(content: str) -> dict[str, Any]:
    return {"choices": [{"message": {"content": content}, "finish_reason": "stop"}]}


def called(*calls: tuple[str, str]) -> dict[str, Any]:
    made = [
        {"id": f"c{i}", "type": "function", "function": {"name": n, "arguments": a}} for i, (n, a) in enumerate(calls)
    ]
    return {"choices": [{"message": {"content": None, "tool_calls": made}, "finish_reason": "tool_calls"}]}


def asked(answers: list[Any], tools: list[Any], **options: Any) -> tuple[Any, list[str]]:
    """The reply or the error, and what the model was told of its calls."""
    fake = FakeTransport(answers)
    with agouti.Client.at("https://p.example/v1", transport=fake) as client:
        try:
            found: Any = client.ask("m", "Frost?", tools=tools, run_tools=True, **options)
        except Exception as error:
            found = error
    last = json.loads(fake.requests[-1].body or b"")["messages"]
    return found, [message["content"] for message in last if message["role"] == "tool"]


@pytest.mark.parametrize(
    ("call", "told"),
    [
        (("days_to_frost", '{"place": "x", "unit": "weeks"}'), "2"),
        (("days_to_frost", '{"place": "x", "unit": null}'), "17"),
        (("days_to_frost", "{}"), "place: is missing"),
        (("days_to_frost", '{"place": 3}'), "place: "),
        (("days_to_frost", '{"place": "x", "unit": "hours"}'), "unit: "),
        (("days_to_frost", '{"place": "x", "year": 3}'), "no such argument"),
        (("days_to_frost", '{"place": '), "no JSON"),
        (("days_to_frost", "[1]"), "no JSON object"),
        (("frost", "{}"), "no function 'frost'; there are days_to_frost"),
        (("", ""), "no function ''"),
    ],
)
def test_what_does_not_fit_goes_back_once_for_correction(call: tuple[str, str], told: str) -> None:
    reply, results = asked([called(call), said("Done.")], [days_to_frost])
    assert isinstance(reply, agouti.Reply)
    assert reply.text == "Done."
    assert told in results[0]
    if "days_to_frost" not in told and not told.isdecimal():
        assert isinstance(asked([called(call), called(call)], [days_to_frost])[0], agouti.ToolCallInvalid)
    # Sent again, arguments have to be an object, or providers refuse the whole conversation.


def test_rounds_end_and_say_so() -> None:
    call = called(("days_to_frost", '{"place": "x"}'))
    error, results = asked([call] * 4, [days_to_frost], max_rounds=3)
    assert isinstance(error, agouti.TooManyRounds)
    assert error.partial is not None
    assert error.partial.calls
    assert results == ["17"] * 3
    assert asked([call] * 3 + [said("x")], [days_to_frost], max_rounds=3)[0].text == "x"
    error, results = asked([call] * 20, [days_to_frost])  # eight, where nothing is said
    assert (type(error), len(results)) == (agouti.TooManyRounds, 8)


def test_a_result_that_is_cut_says_so() -> None:
    def register(place: str) -> str:
        """The whole register."""
        return "x" * 300_000

    _, [result] = asked([called(("register", '{"place": "x"}')), said("Done.")], [register])
    assert len(result) < 200_000
    assert result.endswith("(cut here: 300000 characters in all)")


def failing(place: str) -> int:
    """It fails."""
    raise LookupError(f"no garden {place}")


def test_exception_of_a_function_goes_to_the_model_or_up_by_choice() -> None:
    answers = [called(("failing", '{"place": "moon"}')), said("I could not look it up.")]
    reply, results = asked(answers, [failing])
    assert reply.text == "I could not look it up."
    assert results == ["Error: LookupError: no garden moon"]
    error, _ = asked(answers, [failing], tool_errors="raise")
    assert isinstance(error, LookupError)
    assert "failing" in error.__notes__[0]


def test_functions_of_one_round_run_side_by_side_in_the_callers_context() -> None:
    both = threading.Barrier(2, timeout=60)
    who: contextvars.ContextVar[str] = contextvars.ContextVar("who", default="nobody")
    who.set("grower")

    def first() -> str:
        both.wait()
        return who.get()

    async def second() -> str:
        await asyncio.to_thread(both.wait)
        return who.get()

    answers = [called(("first", ""), ("second", "{}")), said("x")]
    assert asked(answers, [first, second])[1] == ["grower", "grower"]

    async def go() -> None:
        async with agouti.AsyncClient.at("https://p.example/v1", transport=AsyncFakeTransport(answers)) as client:
            reply = await client.ask("m", "x", tools=[first, second], run_tools=True)
            assert reply.text == "x"

    from agouti.testing import AsyncFakeTransport

    asyncio.run(go())


def test_call_of_a_tool_without_function_comes_back() -> None:
    lamp = agouti.Tool(name="lamp", parameters={"type": "object", "properties": {"on": {"type": "boolean"}}})
    reply, _ = asked([called(("lamp", '{"on": true}'))], [days_to_frost, lamp])
    assert [(call.id, call.name, call.arguments) for call in reply.calls] == [("c0", "lamp", {"on": True})]


@pytest.mark.parametrize(
    ("tools", "words"),
    [
        ([days_to_frost, days_to_frost], "two tools"),
        ([lambda *args: 1], "takes"),
        ([lambda: 1], "is no name"),
        ([print], "cannot be told|cannot be read|no signature|takes"),
        (["frost"], "cannot be a str"),
    ],
)
def test_what_is_no_tool_is_said(tools: list[Any], words: str) -> None:
    with (
        agouti.Client.at("https://p.example/v1", transport=FakeTransport([])) as client,
        pytest.raises(agouti.RequestError, match=words) as error,
    ):
        client.ask("m", "x", tools=tools)
    assert error.value.hint


@pytest.mark.parametrize(
    ("options", "words"),
    [
        ({"tools": days_to_frost}, "tools cannot be a function"),
        ({"tools": "frost"}, "tools cannot be a str"),
        ({"tools": {"type": "function"}}, "tools cannot be a dict"),
        ({"run_tools": True, "max_rounds": 0}, "max_rounds = 0"),
        ({"run_tools": True, "max_rounds": True}, "max_rounds = True"),
        ({"run_tools": True, "tool_errors": "hide"}, "tool_errors = 'hide'"),
        ({"images": 3}, "an image cannot be a int"),
        ({"images": ["a.png"]}, "a.png cannot be read"),
        ({"images": "a.png"}, "a.png cannot be read"),
        ({"fetch_images": "yes"}, "fetch_images = 'yes'"),
    ],
)
def test_option_of_another_kind_is_named_before_anything_is_sent(options: Any, words: str) -> None:
    with (
        agouti.Client.at("https://p.example/v1", transport=FakeTransport([])) as client,
        pytest.raises(agouti.RequestError, match=words) as wrong,
    ):
        client.ask("m", "Frost?", **options)
    assert wrong.value.hint


def test_none_is_no_tools_and_no_images() -> None:
    fake = FakeTransport([said("x")] * 3)
    with agouti.Client.at("https://p.example/v1", transport=fake) as client:
        client.ask("m", "x", tools=None, images=None)  # type: ignore[arg-type]
        client.ask("m", "x", tools=None, run_tools=True)  # type: ignore[arg-type]
        client.conversation("m", tools=[]).say("x", images=None)  # type: ignore[arg-type]
    assert all(json.loads(request.body or b"").keys() == {"model", "messages"} for request in fake.requests)


def test_failed_turn_leaves_the_conversation_as_it_was_and_can_be_said_again(served: Served) -> None:
    with agouti.Client(served.config) as client:
        talk = client.conversation("loam-7b@shed", system="Brief.")
        talk.say("When do peas go in?")
        before = list(talk.messages)
        with pytest.raises(agouti.StreamCut):
            "".join(client.conversation("loam-7b+cut=4@shed", messages=before).stream("And garlic?"))
        with pytest.raises(agouti.RequestError):
            talk.say("")
        assert talk.messages == before
        with talk.stream("And garlic?") as stream:
            text = "".join(stream)
        assert text.startswith("Garlic")
        assert stream.reply.text == text
        assert [message.role for message in talk.messages] == ["user", "assistant", "user", "assistant"]
        assert (talk.usage.output_tokens or 0) > (talk.replies[-1].usage.output_tokens or 0)
        resumed = client.conversation("almanac", messages=json.loads(agouti_json(talk.messages)))
        assert resumed.say("And beans?").text
        assert resumed.cost is not None


def agouti_json(messages: list[agouti.Message]) -> bytes:
    import msgspec

    return msgspec.json.encode(messages)


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_streamed_turn_runs_functions_too(served: Served, kind: str) -> None:
    async def go() -> tuple[str, Any]:
        async with agouti.AsyncClient(served.config) as client:
            talk = client.conversation("almanac", tools=[days_to_frost])
            async with talk.stream(QUESTION) as stream:
                return "".join([text async for text in stream]), talk

    if kind == "sync":
        with agouti.Client(served.config) as client:
            talk: Any = client.conversation("almanac", tools=[days_to_frost])
            with talk.stream(QUESTION) as stream:
                text = "".join(stream)
    else:
        text, talk = asyncio.run(go())
    assert text.startswith("The answer is")
    assert len(talk.messages) == 4
    assert len(talk.replies) == 2


async def _sleeps() -> None:
    await asyncio.sleep(5)


@pytest.mark.parametrize("kind", ["sync", "async"])
@pytest.mark.parametrize("function", [_sleeps, lambda: time.sleep(1.2)])
def test_function_that_takes_too_long_ends_with_the_deadline(kind: str, function: Any) -> None:
    tool = agouti.Tool(name="slow", function=function)
    options: Any = {"tools": [tool], "run_tools": True, "deadline": 0.4}
    ended: list[float] = []
    began = time.monotonic()

    async def go() -> None:
        fake = AsyncFakeTransport([called(("slow", "{}")), said("done")])
        async with agouti.AsyncClient.at("https://p.example/v1", transport=fake) as client:
            try:
                await client.ask("m", "x", **options)
            finally:
                ended.append(time.monotonic())  # asyncio waits for its threads at its own end

    with pytest.raises(agouti.DeadlineExceeded):
        if kind == "async":
            asyncio.run(go())
        else:
            with agouti.Client.at("https://p.example/v1", transport=FakeTransport([called(("slow", "{}"))])) as client:
                client.ask("m", "x", **options)
    assert (ended[0] if ended else time.monotonic()) - began < 2


def test_usage_is_that_of_all_replies_also_where_it_fails() -> None:
    ping = agouti.Tool(name="ping", function=lambda: "pong")
    usage = {"usage": {"prompt_tokens": 10, "completion_tokens": 5, "total_tokens": 15}}
    rounds = [{**called(("ping", "{}")), **usage} for _ in range(2)]
    with agouti.Client.at("https://p.example/v1", transport=FakeTransport([*rounds, {**said("x"), **usage}])) as client:
        assert client.ask("m", "x", tools=[ping], run_tools=True).usage.total_tokens == 45
    with agouti.Client.at("https://p.example/v1", transport=FakeTransport(rounds)) as client:
        talk = client.conversation("m", tools=[ping])
        with pytest.raises(agouti.TooManyRounds) as many:
            talk.say("x", max_rounds=1)
        assert many.value.partial.usage.total_tokens == 30
        assert talk.messages == []


def test_one_turn_at_a_time_and_what_was_stopped_can_be_kept() -> None:
    pieces = data(*[{"choices": [{"index": 0, "delta": {"content": word}}]} for word in ("Sow ", "in ", "March")])
    fake = FakeTransport([[pieces[:60], pieces[60:]], said("Soon.")])
    with agouti.Client.at("https://p.example/v1", transport=fake) as client:
        talk = client.conversation("m")
        stream = talk.stream("When?")
        words = iter(stream)
        first = next(words)
        with pytest.raises(agouti.RequestError, match="in the middle of a turn"):
            talk.say("And where?")
        stream.close()
        kept = talk.keep_partial()
        assert kept is not None
        assert kept.text.startswith(first)
        assert [message.role for message in talk.messages] == ["user", "assistant"]
        assert talk.keep_partial() is None
        assert talk.say("And then?").text == "Soon."
        sent = json.loads(fake.requests[-1].body or b"")["messages"]
        assert [message["content"] for message in sent] == ["When?", kept.text, "And then?"]


def test_deadline_holds_for_all_rounds_together() -> None:
    def slow() -> None:
        time.sleep(0.3)

    error, _ = asked([called(("slow", "{}"))] * 9, [slow], deadline=0.5)
    assert isinstance(error, agouti.DeadlineExceeded)
