"""A question as plain data: printed, compared, hashed, stored, counted and sent, on every dialect."""

import asyncio
import contextlib
import itertools
import json
from typing import Any

import msgspec
import pytest

import agouti
from agouti import Question
from agouti.standins import Served
from agouti.testing import AsyncFakeTransport, FakeTransport

from .conftest import Caller
from .dialects.test_contract import MODELS

TOOL = {"type": "function", "function": {"name": "lamp", "parameters": {"type": "object", "properties": {}}}}
GOOD = {"choices": [{"message": {"content": "In March."}, "finish_reason": "stop"}]}
IMAGE = agouti.Image(b"GIF89a......")
# Each option of a question with a value that asks for something, and what must be in the body then.
OPTIONS: dict[str, tuple[Any, str]] = {
    "system": ("Brief, please.", "Brief, please."),
    "examples": ([("Kale?", "In May.")], "In May."),
    "images": ([IMAGE], IMAGE.address),
    "tools": ([TOOL], "lamp"),
    "extra": ({"top_k": 41}, '"top_k":41'),
    "temperature": (0.25, '"temperature":0.25'),
    "max_tokens": (17, '"max_tokens":17'),
    "stop": (["#"], '"stop":["#"]'),
    "seed": (71, '"seed":71'),
    "tool_choice": ("none", '"tool_choice":"none"'),
    "deadline": (5, ""),
    "tags": ({"feature": "letter"}, ""),
}


@pytest.mark.parametrize("name", MODELS)
def test_question_is_sent_on_every_dialect(served: Served, caller: Caller, name: str) -> None:
    question = Question.of("When do peas go in?", system="Brief.", max_tokens=30)
    assert (
        caller.ask(served.config, MODELS[name], question).text
        == caller.ask(served.config, MODELS[name], "When do peas go in?", system="Brief.", max_tokens=30).text
    )
    events, reply = caller.stream(served.config, MODELS[name], question)
    assert events
    assert reply.text


def test_question_can_be_printed_compared_hashed_and_stored() -> None:
    question = Question.of([IMAGE, "What is it?"], temperature=0.2, tools=[TOOL], tags={"a": "b"})
    assert repr(question) == "Question('[image_url] What is it?', tools=['lamp'], temperature=0.2, tags={'a': 'b'})"
    assert repr(Question.of([{"role": "system", "content": "s"}, {"role": "user", "content": "u"}])) == "Question(['system: s', 'user: u'])"  # fmt: skip
    same = Question.of([IMAGE, "What is it?"], temperature=0.2, tools=[TOOL], tags={"a": "b"})
    assert (question == same, hash(question) == hash(same), {question: 1}[same]) == (True, True, 1)
    stored = msgspec.json.decode(msgspec.json.encode(question), type=Question)
    assert (stored, stored.key) == (question, question.key)
    assert msgspec.structs.replace(question, tags={}, stream=True).key == question.key
    keys = {
        Question.of("Q", **{name: value}).key
        for name, (value, _) in OPTIONS.items()
        if name not in ("deadline", "tags")
    }
    assert len(keys) == len(OPTIONS) - 2
    assert Question.of("Q").key not in keys


@pytest.mark.parametrize("pair", list(itertools.combinations(OPTIONS, 2)), ids="+".join)
def test_options_in_pairs_reach_the_body_of_every_call(pair: tuple[str, str]) -> None:
    options: Any = {name: OPTIONS[name][0] for name in pair}
    calls: list[Any] = [
        lambda client: client.ask("m", "Peas?", **options),
        lambda client: client.ask("m", "Peas?", run_tools=False, max_rounds=3, tool_errors="tell", **options),
        lambda client: client.ask(
            "m", Question.of("Peas?", **{pair[0]: options[pair[0]]}), **{pair[1]: options[pair[1]]}
        ),
        lambda client: "".join(client.stream("m", "Peas?", **options)),
        lambda client: client.conversation("m", **{pair[0]: options[pair[0]]}).say(
            "Peas?", **{pair[1]: options[pair[1]]}
        ),
        lambda client: client.conversation("m", run_tools=False, **options).say("Peas?"),
    ]
    if not {"tools", "tool_choice"} & set(pair):
        calls.append(lambda client: client.fill("m", str, "Peas?", output_method="prompt", max_repairs=0, **options))
    fake = FakeTransport([GOOD] * len(calls))
    with agouti.Client({"providers": {"p": {"address": "https://p.example/v1"}}, "models": {"m": {"provider": "p", "name": "q"}}}, transport=fake) as client:  # fmt: skip
        for call in calls:
            with contextlib.suppress(agouti.NotFilled):
                call(client)
    assert len(fake.requests) == len(calls)
    for request in fake.requests:
        body = (request.body or b"").decode()
        assert "Peas?" in body
        for name in pair:
            assert OPTIONS[name][1] in body, (name, body)


@pytest.mark.parametrize("method", ["ask", "stream", "fill", "conversation", "count", "embed"])
@pytest.mark.parametrize(
    ("options", "words"),
    [
        ({"temprature": 1}, "did you mean temperature"),
        ({"deadlin": 1}, "did you mean deadline"),
        ({"tag": {}}, "did you mean tags"),
        ({"deadline": "5"}, "deadline = '5' is out of range"),
        ({"deadline": float("nan")}, "deadline = nan"),
        ({"extra": [1]}, "extra cannot be a list"),
        ({"tags": {"a": 1}}, "tags are no table of texts"),
    ],
)
def test_what_is_wrong_with_an_option_is_said_before_anything_runs(method: str, options: Any, words: str) -> None:
    if method == "embed" and "temprature" in options:
        words = "embed has no option 'temprature'"
    for kind, fake in ((agouti.Client, FakeTransport([])), (agouti.AsyncClient, AsyncFakeTransport([]))):
        client: Any = kind.at("https://p.example/v1", transport=fake)
        arguments = {"fill": ("m", str, "Q"), "conversation": ("m",)}.get(method, ("m", "Q"))
        with pytest.raises(agouti.RequestError) as wrong:
            made = getattr(client, method)(*arguments, **options)
            if hasattr(made, "send"):
                made.send(None)
        assert words.lower() in str(wrong.value).lower()
        assert wrong.value.attempts == ()
        assert fake.requests == []


def test_cap_goes_under_the_name_that_is_given_and_is_one_cap() -> None:
    fake = FakeTransport([GOOD] * 5)
    config = {
        "providers": {"p": {"address": "https://p.example/v1"}},
        "models": {"m": {"provider": "p", "name": "q", "parameters": {"max_tokens": 400, "seed": 1}}},
    }
    with agouti.Client(config, transport=fake) as client:
        client.ask("m", "Q", max_completion_tokens=5)
        client.exchange({"model": "m", "messages": [{"role": "user", "content": "Q"}], "max_completion_tokens": 5})
        client.ask("m", "Q")
        client.ask("m", "Q", max_tokens=None, seed=None)
        client.ask("m", "Q", max_tokens=-1)
        with pytest.raises(agouti.RequestError, match="one cap"):
            client.ask("m", "Q", max_tokens=1, max_completion_tokens=2)
    caps = [{k: v for k, v in json.loads(r.body or b"").items() if "max" in k or k == "seed"} for r in fake.requests]
    assert caps == [{"max_completion_tokens": 5, "seed": 1}] * 2 + [{"max_tokens": 400, "seed": 1}, {}, {"seed": 1}]


def test_deadline_of_nothing_is_over_at_once(caller: Caller) -> None:
    config = {"providers": {"p": {"address": "http://127.0.0.1:9/v1"}}}
    for deadline in (0, 0.0, -1):
        with pytest.raises(agouti.DeadlineExceeded) as late:
            caller.ask(config, "q@p", "Peas?", deadline=deadline)
        assert late.value.attempts == ()


COUNTS = {"messages": {"input_tokens": 19}, "contents": {"totalTokens": 19}}


@pytest.mark.parametrize("name", MODELS)
def test_tokens_are_counted_by_the_provider_where_its_format_counts(served: Served, name: str) -> None:
    with agouti.Client(served.config) as client:
        label, provider = MODELS[name].rsplit("@", 1)
        entry = client.config.provider(provider)
    fake = FakeTransport([COUNTS.get(name, {}), COUNTS.get(name, {})])
    config = agouti.Config.of([msgspec.structs.replace(entry, key=None)], environment={})
    config = msgspec.structs.replace(config, dialects=agouti.load_config(served.config).dialects)
    options: Any = {"system": "Brief."} if name != "board" else {}
    with agouti.Client(config, transport=fake) as client:
        count = client.count(f"{label}@{provider}", "When do broad beans go in?", **options)
        assert count.exact is (name in COUNTS)
        assert len(fake.requests) == (1 if count.exact else 0)
        assert 10 <= int(count) <= 25
        if count.exact:
            assert count.tokens == 19
            assert b"broad beans" in (fake.requests[0].body or b"")
            assert b"Brief." in (fake.requests[0].body or b"")
            assert "max" not in (fake.requests[0].body or b"").decode()


@pytest.mark.parametrize("label", ["envelope-2@letterbox", "narrow-3@canal"])
def test_stand_ins_count_what_their_answers_say_that_they_counted(served: Served, label: str) -> None:
    question = Question.of("When do broad beans go in?", system="Brief.", tools=[TOOL], temperature=0, max_tokens=30)

    async def count() -> agouti.TokenCount:
        async with agouti.AsyncClient(served.config) as client:
            return await client.count(label, question)

    with agouti.Client(served.config) as client:
        counted = client.count(label, question)
        assert counted.exact
        assert counted.tokens == client.ask(label, question).usage.input_tokens
        assert counted == asyncio.run(count())
        with pytest.raises(agouti.ModelUnknown):
            client.count(label.replace("-", "-no-such-"), question)
