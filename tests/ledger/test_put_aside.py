"""What budgets put aside is what the request that goes out can cost, by the rules of a server that charges all of it."""

import asyncio
import json
import os
from collections.abc import Iterator
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import agouti
from agouti.config.budgets import Budget
from agouti.core.http.exchange import HttpReply, TransportFailure
from agouti.testing import FakeTransport

from ..examples import examples

# 1 USD a million tokens in, 10 out: amounts are read off as tokens.
PRICE = {"input": 1.0, "output": 10.0, "currency": "USD"}
MILLION = Decimal(10) ** 6
DIALECTS = ("chat", "responses", "prompt", "messages", "contents", "lines", "predict", "jobs", "converse")


class Strict(FakeTransport):
    """A server that refuses every request, and writes down what was put aside for it."""

    def __init__(self, answers: int = 50) -> None:
        super().__init__([HttpReply(400, {}, b"{}")] * answers)
        self.budget: Any = None
        self.seen: list[tuple[dict[str, Any], Decimal]] = []

    def open(self, request: Any, timeouts: Any) -> Any:
        self.seen.append((json.loads(request.body), self.budget.allowance.reserved * MILLION))
        return super().open(request, timeouts)


def put_aside(entry: dict[str, Any], model: dict[str, Any], *arguments: Any, **options: Any) -> tuple[Any, Decimal]:
    """The body of a call, and what was put aside for it, in millionths."""
    made = {
        "providers": {"p": {"address": "https://p.example/v1", "retries": {"max": 0}, "unsupported": "warn", **entry}},
        "models": {"a": {"provider": "p", "name": "m", "price": PRICE, **model}},
    }
    strict = Strict()
    with agouti.Client(made, transport=strict) as client, client.budget(10**9) as strict.budget:
        with pytest.raises(agouti.AgoutiError) as refused:
            client.ask("a", *arguments, **options)
        assert strict.budget.left == 10**9  # it has cost nothing: the provider has refused it
    assert strict.seen, refused.value
    return strict.seen[-1]


def texts_in(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for name, each in value.items():
            yield name
            yield from texts_in(each)
    elif isinstance(value, list):
        for each in value:
            yield from texts_in(each)


def caps_in(value: Any) -> Iterator[int]:
    """Every number that some server takes for a cap."""
    if isinstance(value, dict):
        for name, each in value.items():
            if isinstance(each, int) and name.replace("_", "").lower() in ("maxtokens", "maxcompletiontokens", "maxoutputtokens", "numpredict", "maxnewtokens"):  # fmt: skip
                yield each
            yield from caps_in(each)


def answers_in(body: dict[str, Any]) -> int:
    tables = [body, body.get("generationConfig", {}), body.get("parameters", {})]
    return max([1, *[table[name] for table in tables for name in ("n", "candidateCount", "best_of") if name in table]])


def charged(body: dict[str, Any]) -> Decimal:
    """What a server asks that counts a token for each byte of text, and answers to the last token that it may."""
    into = sum(len(text.encode()) for text in texts_in(body))
    return Decimal(into) + 10 * max(caps_in(body), default=0) * answers_in(body)


TEXTS = st.text(st.characters(codec="utf-8", exclude_categories=["C", "Z"]), min_size=1, max_size=200)


@pytest.mark.filterwarnings("ignore::agouti.AgoutiWarning")
@pytest.mark.parametrize("dialect", DIALECTS)
@given(data=st.data())
@examples(60)
def test_no_server_charges_more_than_was_put_aside(dialect: str, data: st.DataObject) -> None:
    messages = [{"role": "user", "content": data.draw(TEXTS)}]
    if data.draw(st.booleans()):
        messages = [*messages, {"role": "assistant", "content": data.draw(TEXTS)}, *messages]
    options: dict[str, Any] = data.draw(st.fixed_dictionaries({}, optional={
        "max_tokens": st.integers(1, 9000), "n": st.integers(1, 5), "system": TEXTS, "seed": st.integers(0, 9),
        "reasoning_effort": st.sampled_from(["low", "high"]), "stop": TEXTS, "temperature": st.just(0.5),
    }))  # fmt: skip
    entry: dict[str, Any] = {"dialect": dialect}
    if "max_tokens" not in options and data.draw(st.booleans()) and dialect == "chat":
        entry["add"] = {"max_tokens": data.draw(st.integers(1, 90_000))}
    extra = data.draw(
        st.dictionaries(st.sampled_from(["note", "club", "shelf"]), st.recursive(TEXTS, st.lists, max_leaves=3))
    )
    body, reserved = put_aside(entry, {}, messages, extra=extra, **options)
    assert charged(body) <= reserved


@pytest.mark.parametrize(
    ("entry", "model", "options", "output"),
    [
        ({}, {}, {"max_tokens": 100}, 100),
        ({}, {}, {"max_tokens": 100, "n": 5}, 500),
        ({}, {}, {}, 1024),  # without a cap, and nothing known of the window
        ({}, {"context": 100_000}, {}, 4096),
        ({}, {"parameters": {"max_tokens": 70}}, {}, 70),
        ({"add": {"max_tokens": 50_000}}, {}, {}, 50_000),
        ({"rename": {"max_tokens": "cap_on_answer"}}, {}, {"max_tokens": 3000}, 3000),
        ({}, {}, {"extra": {"max_tokens": 50_000}}, 50_000),
        ({}, {}, {"extra": {"max_output_tokens": 50_000}}, 50_000),
        ({}, {}, {"max_tokens": 100, "extra": {"n": 50}}, 5000),
        ({}, {}, {"max_tokens": 100, "extra": {"best_of": 9}}, 900),
        ({"dialect": "messages"}, {}, {}, 4096),  # the format wants a cap, and the library writes one
        ({"dialect": "messages"}, {}, {"reasoning_effort": "high"}, 20_480),
        ({"dialect": "responses"}, {}, {"max_tokens": 300}, 300),
        ({"dialect": "contents"}, {}, {"max_tokens": 300, "n": 2}, 600),
        ({"dialect": "contents"}, {}, {"extra": {"generation_config": {"maxOutputTokens": 700}}}, 700),
        ({}, {}, {"extra": {"options": {"num_predict": 7000}}}, 7000),
        ({}, {}, {"extra": {"parameters": {"MaxNewTokens": 7000}, "max_tokens": True}}, 7000),
        ({}, {}, {"extra": {"max_new_tokens": 7000.0}}, 7000),  # as lenient servers read it
        ({}, {}, {"extra": {"max_new_tokens": "7000"}}, 7000),
        ({}, {}, {"max_tokens": 100, "extra": {"n": 50.0}}, 5000),
        ({}, {}, {"extra": {"max_new_tokens": -1}}, 1024),  # as many as it likes: nobody knows
        ({"dialect": "lines"}, {}, {"max_tokens": 300}, 300),
        ({"dialect": "converse"}, {}, {"max_tokens": 300}, 300),
        ({"dialect": "jobs"}, {}, {"max_tokens": 300}, 300),
        ({"dialect": "predict"}, {}, {"max_tokens": 300, "n": 2}, 600),
    ],
    ids=str,
)
def test_the_answer_is_reckoned_by_the_caps_that_go_out(
    entry: dict[str, Any], model: dict[str, Any], options: dict[str, Any], output: int
) -> None:
    body, reserved = put_aside(entry, model, "Peas?", **options)
    into = len(json.dumps(body, ensure_ascii=False, separators=(",", ":")).encode())
    assert reserved == into + 10 * output


PICTURE = agouti.Image(b"\x89PNG\r\n\x1a\n" + bytes(3000))


@pytest.mark.parametrize(
    ("model", "prompt", "tokens"),
    [
        ({}, ["What is on it?", PICTURE], (4000, 4400)),  # by its bytes in base64
        ({"media_tokens": {"image": 1600}}, ["What is on it?", PICTURE], (1600, 2000)),
        ({"media_tokens": {"image": 1600}}, ["Which?", PICTURE, PICTURE], (3200, 3700)),
        (
            {},
            ["What is on it?", agouti.Image("https://shelf.example/a.png")],
            (20_000, 20_400),
        ),  # nobody knows its size
        ({"media_tokens": {"file": 50}}, ["What is on it?", PICTURE], (4000, 4400)),
        ({"price": {**PRICE, "image": 0.25}}, ["What is on it?", PICTURE], (250_000, 250_400)),  # paid by the piece
        # A text that looks like a picture is a text.
        ({"price": {**PRICE, "image": 0.25}}, "data:image/png " + "word " * 4000, (20_000, 20_400)),
        ({"media_tokens": {"image": 100, "file": 50}}, "data:image/png;base64," + "word " * 4000, (20_000, 20_400)),
        ({"media_tokens": {"image": 100}}, "data:image/png;base64," + "word" * 5000, (20_000, 20_400)),
        (
            {"media_tokens": {"image": 100}},
            [
                {
                    "role": "user",
                    "content": [
                        {
                            "type": "image_url",
                            "image_url": {"url": "data:image/png;base64,AAAA"},
                            "text": "word " * 4000,
                        }
                    ],
                }
            ],
            (20_000, 20_600),
        ),
        (
            {"price": {**PRICE, "cache_write": 4.0}},
            "word " * 100,
            (2000, 2500),
        ),  # all of it may be written into the cache
    ],
    ids=str,
)
def test_the_prompt_is_reckoned_by_what_it_can_cost(
    model: dict[str, Any], prompt: Any, tokens: tuple[int, int]
) -> None:
    _, reserved = put_aside({}, model, prompt, max_tokens=1)
    assert tokens[0] <= reserved - 10 <= tokens[1]


def test_what_the_provider_keeps_is_as_large_as_the_window() -> None:
    for context, least in ((32_000, 32_000), (None, 1)):
        options = {"previous_response_id": "r7", "max_tokens": 1}
        _, reserved = put_aside({"dialect": "responses"}, {"context": context} if context else {}, "And?", **options)
        assert least <= reserved - 10 <= least + 1000


def test_thinking_is_reckoned_at_its_own_price() -> None:
    for reasoning, out in ((50.0, 50), (2.0, 10)):
        body, reserved = put_aside({}, {"price": {**PRICE, "reasoning": reasoning}}, "Peas?", max_tokens=100)
        assert reserved == len(json.dumps(body, separators=(",", ":"))) + 100 * out


@pytest.mark.parametrize(
    ("entry", "options", "words"),
    [
        ({}, {"max_tokens": 5, "extra": {"max_tokens": 50_000}}, "extra sets max_tokens"),
        ({}, {"max_tokens": 5, "extra": {"max_completion_tokens": 50_000}}, "two caps that differ"),
        ({}, {"max_tokens": 5, "extra": {"max_output_tokens": 50_000}}, "two caps that differ"),
        ({"add": {"max_completion_tokens": 9}}, {"max_tokens": 5}, "two caps that differ"),
        ({}, {"extra": {"model": "dearer"}}, "extra sets model"),
        ({}, {"extra": {"messages": []}}, "extra sets messages"),
        ({"add": {"tier": "slow"}}, {"extra": {"tier": "fast"}}, "which the entry of p sets itself"),
        ({"dialect": "messages"}, {"extra": {"max_tokens": 9}}, "extra sets max_tokens"),
        ({"dialect": "messages"}, {"system": "Brief.", "extra": {"system": "Long."}}, "extra sets system"),
        ({"dialect": "contents"}, {"max_tokens": 5, "extra": {"generationConfig": {"maxOutputTokens": 9}}}, "extra sets generationConfig.maxOutputTokens"),
        ({"dialect": "jobs", "address": "https://p.example/v1/predictions"}, {"extra": {"version": "club/dear"}}, ""),
        ({"override": ["max_tokens"]}, {"max_tokens": 5, "extra": {"max_tokens": 7}}, ""),
        ({"add": {"tier": "slow"}, "override": ["tier"]}, {"extra": {"tier": "fast"}}, ""),
        ({"add": {"tier": "slow"}}, {"extra": {"tier": "slow"}}, ""),
    ],
    ids=str,
)  # fmt: skip
def test_what_is_written_is_not_overridden_unless_the_entry_allows_it(
    entry: dict[str, Any], options: dict[str, Any], words: str
) -> None:
    strict = Strict()
    made = {
        "providers": {"p": {"address": "https://p.example/v1", "retries": {"max": 0}, **entry}},
        "models": {"a": {"provider": "p", "name": "m", "price": PRICE}},
    }
    with agouti.Client(made, transport=strict) as client, client.budget(1) as strict.budget:
        with pytest.raises(agouti.AgoutiError) as wrong:
            client.ask("a", "Peas?", **options)
    if words:
        assert words in wrong.value.message
        assert wrong.value.hint
        assert not strict.seen
    else:
        [(body, _), *_] = strict.seen
        assert all(body.get(name) == value for name, value in options["extra"].items())


GOOD = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 10, "completion_tokens": 100}}  # fmt: skip
PIECE = b'data: {"choices":[{"index":0,"delta":{"content":"%s"}}]}\n\n'


def spent(answers: list[Any], **entry: Any) -> tuple[float, float, Any]:
    """What a budget has spent on a call that streams, and is left after its first event; what was put aside; the row."""
    made: dict[str, Any] = {
        "providers": {"p": {"address": "https://p.example/v1", "retries": {"max": 0}, **entry}},
        "models": {"a": {"provider": "p", "name": "m", "price": PRICE}},
    }
    results: list[agouti.AttemptResult] = []

    class Noting(agouti.Hook):
        def after(self, result: agouti.AttemptResult) -> None:
            results.append(result)

    with agouti.Client(made, transport=FakeTransport(answers), hooks=[Noting()]) as client, client.budget(1) as budget:
        try:
            with client.stream(
                "a", "Peas?", max_tokens=2000, **({"n": 2} if entry.get("dialect") is None else {})
            ) as stream:
                aside = float(budget.allowance.reserved)
                for _ in stream.events():
                    pass
        except agouti.AgoutiError:
            aside = 0.0
        assert budget.left == pytest.approx(1 - budget.spent)
    return budget.spent, aside, results[-1]


WORDS = ("Peas go in from March. " * 40).encode()
BEGIN = b'event: message_start\ndata: {"type": "message_start", "message": {"usage": {"input_tokens": 25, "output_tokens": 1}}}\n\n'
DELTA = b'event: content_block_delta\ndata: {"type": "content_block_delta", "index": 0, "delta": %s}\n\n'


@pytest.mark.parametrize(
    ("entry", "pieces", "tokens"),
    [
        ({}, [PIECE % WORDS], 230),
        ({"dialect": "messages"}, [BEGIN, DELTA % (b'{"type": "text_delta", "text": "%s"}' % WORDS)], 230),
        ({"dialect": "messages"}, [BEGIN, DELTA % (b'{"type": "thinking_delta", "thinking": "%s"}' % WORDS)], 230),
        ({}, [b'data: {"choices":[{"index":0,"delta":{"reasoning_content":"%s"}}]}\n\n' % WORDS], 230),
        ({}, [b'data: {"choices":[{"index":0,"delta":{"tool_calls":[{"index":0,"id":"c","function":{"name":"f","arguments":"%s"}}]}}]}\n\n' % WORDS], 230),
        ({}, [b'data: {"choices":[{"index":%d,"delta":{"content":"%s"}}]}\n\n' % (at, WORDS) for at in (0, 1)], 460),
        ({}, [PIECE % WORDS, b'data: {"choices":[{"index":0,"delta":{}}],"usage":{"prompt_tokens":9,"completion_tokens":1}}\n\n'], 230),
        ({}, [b'data: {"choices":[{"index":0,"delta":{"refusal":"%s"}}]}\n\n' % WORDS], 230),
    ],
)  # fmt: skip
def test_a_stream_that_is_cut_has_cost_what_had_come(entry: dict[str, Any], pieces: list[bytes], tokens: int) -> None:
    cost, _, result = spent([[*pieces]], **entry)
    assert isinstance(result.error, agouti.StreamCut)
    assert result.estimated
    assert result.usage is not None
    assert tokens * 0.8 < (result.usage.output_tokens or 0) < tokens * 1.5
    assert cost == pytest.approx(float(result.exact_cost or 0))
    assert cost > tokens * 0.8 * 10 / 1e6


@pytest.mark.parametrize(
    ("answer", "free"),
    [
        (HttpReply(400, {}, b'{"error": {"message": "no"}}'), True),
        (HttpReply(429, {}, b"{}"), True),
        (HttpReply(500, {}, b"{}"), True),
        (HttpReply(503, {}, b"{}"), True),
        (HttpReply(504, {}, b"<html>"), False),  # a server before it has given up waiting
        (b"<html><p>hello</p>", True),
        (b'{"choices": 7', False),  # something was answered
        ([], False),  # the stream ends before it has begun
    ],
)
def test_failed_is_free_only_where_the_provider_has_said_so(answer: Any, free: bool) -> None:
    made: dict[str, Any] = {
        "providers": {"p": {"address": "https://p.example/v1", "retries": {"max": 0}}},
        "models": {"a": {"provider": "p", "name": "m", "price": PRICE}},
    }
    results: list[agouti.AttemptResult] = []

    class Noting(agouti.Hook):
        def after(self, result: agouti.AttemptResult) -> None:
            results.append(result)

    with agouti.Client(made, transport=FakeTransport([answer]), hooks=[Noting()]) as client, client.budget(1) as budget:
        with pytest.raises(agouti.AgoutiError):
            if isinstance(answer, list):
                list(client.stream("a", "Peas?", max_tokens=100))
            else:
                client.ask("a", "Peas?", max_tokens=100)
    assert (budget.spent == 0) is free
    assert results[-1].cost == (0 if free else None)


def test_a_call_that_is_cancelled_gives_back_what_it_has_not_spent() -> None:
    """Before anything is sent all of it, also in the first of two purses where the second has too little."""
    made: dict[str, Any] = {
        "providers": {"p": {"address": "https://p.example/v1", "limits": {"concurrency": 1, "wait": 60}}},
        "models": {"a": {"provider": "p", "name": "m", "price": PRICE}},
        "budgets": {"small": {"amount": 0.0005, "currency": "USD", "per": "run", "warn": 1}},
    }

    async def go() -> None:
        from agouti.testing import AsyncFakeTransport

        stream = [PIECE % b"x"] * 2
        async with agouti.AsyncClient(made, transport=AsyncFakeTransport([stream, GOOD])) as client:
            with client.budget(1) as block:
                async with client.stream("a", "Peas?", max_tokens=20) as held:
                    pieces = aiter(held)
                    await anext(pieces)
                    before = block.left
                    waiting = asyncio.create_task(client.ask("a", "Peas?", max_tokens=2))
                    await asyncio.sleep(0.05)
                    assert block.left < before  # it waits for its turn, and has its amount put aside
                    waiting.cancel()
                    await asyncio.gather(waiting, return_exceptions=True)
                    assert block.left == before
                    with pytest.raises(agouti.BudgetExceeded, match="small"):
                        await client.ask("a", "Peas?", max_tokens=2000)
                    assert block.left == before

    asyncio.run(go())


@pytest.mark.parametrize("per", ["day", "week", "month"])
def test_a_kept_budget_keeps_what_nobody_knows_the_cost_of(store: str, per: str) -> None:
    """Of every program: what was put aside for a request that was lost counts to the end of the period."""
    made = {
        "providers": {"p": {"address": "https://p.example/v1", "retries": {"max": 0}}},
        "models": {"a": {"provider": "p", "name": "m", "price": PRICE}},
        "ledger": {"store": store},
        "budgets": {"purse": {"amount": 0.0025, "currency": "USD", "per": per, "warn": 1}},
    }
    lost = TransportFailure("lost", "gone", sent=True)
    for refused in (HttpReply(400, {}, b"{}"), lost, lost, lost):
        with (
            agouti.Client(made, transport=FakeTransport([refused])) as client,
            pytest.raises(agouti.AgoutiError) as told,
        ):
            client.ask("a", "Peas?", max_tokens=100)  # 0.0011 at most
    assert isinstance(told.value, agouti.BudgetExceeded)
    with agouti.Client(made) as client:
        total = client.usage().total
    assert (total.calls, total.unpriced, total.cost.get("USD", 0)) == (3, 2, 0)


@pytest.mark.parametrize(
    ("per", "at", "end"),
    [
        ("day", "2026-12-31T23:59:59", "2027-01-01"),
        ("week", "2026-12-01T00:00:00", "2026-12-07"),
        ("month", "2026-12-01T00:00:00", "2027-01-01"),
        ("month", "2028-02-29T12:00:00", "2028-03-01"),
    ],
)
def test_periods_end_where_the_next_begins(per: Any, at: str, end: str) -> None:
    now, over = (datetime.fromisoformat(each).replace(tzinfo=UTC).timestamp() for each in (at, end))
    budget = Budget("b", 1, "USD", per)
    assert budget.ends(now) == over
    assert budget.begins(over) == end
    assert budget.begins(over - 1) == budget.begins(now)


def test_a_currency_has_one_spelling() -> None:
    answered = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 9, "completion_tokens": 9}}  # fmt: skip
    for ours, theirs in (("usd", "USD"), ("USD", " Usd ")):
        made = {
            "providers": {"p": {"address": "https://p.example/v1"}},
            "models": {"a": {"provider": "p", "name": "m", "price": {**PRICE, "currency": theirs}}},
        }
        with agouti.Client(made, transport=FakeTransport([answered])) as client, client.budget(1, ours) as budget:
            client.ask("a", "Peas?", max_tokens=9)
            assert budget.spent > 0


@pytest.mark.parametrize("kind", ["answer", "list", "count"])
def test_what_is_told_of_an_attempt_that_tells_no_tokens(kind: str) -> None:
    """An answer without counts is estimated; lists of models and counts of tokens cost nothing, fees or not."""
    results: list[agouti.AttemptResult] = []

    class Noting(agouti.Hook):
        def after(self, result: agouti.AttemptResult) -> None:
            results.append(result)

    price = {**PRICE, "request": 0.5}
    made = {
        "providers": {"p": {"address": "https://p.example/v1", "dialect": "messages"}},
        "models": {"a": {"provider": "p", "name": "m", "price": price}},
    }
    answers: dict[str, Any] = {
        "answer": {"content": [{"type": "text", "text": "word " * 40}], "stop_reason": "end_turn"},
        "list": {"data": [{"id": "m"}]},
        "count": {"input_tokens": 9},
    }
    with agouti.Client(made, transport=FakeTransport([answers[kind]]), hooks=[Noting()]) as client, client.budget(10) as budget:  # fmt: skip
        if kind == "answer":
            client.ask("a", "Peas?", max_tokens=100)
        elif kind == "list":
            client.models("p")
        else:
            client.count("a", "Peas?")
        [result] = results
        if kind == "answer":
            assert result.estimated
            assert result.usage is not None
            assert 30 < (result.usage.output_tokens or 0) < 90
            assert budget.spent == result.cost == pytest.approx(0.5, abs=0.01)
        else:
            assert (result.cost, budget.spent, budget.left) == (0, 0, 10)


@pytest.mark.skipif(not hasattr(os, "fork"), reason="there are no forks")
@pytest.mark.filterwarnings("ignore:.*fork.*:DeprecationWarning")
def test_a_fork_has_put_nothing_aside() -> None:
    """A child that is born while a call is under way has spent what its parent had, and waits for nothing."""
    found: list[int] = []

    class Forking(FakeTransport):
        def open(self, request: Any, timeouts: Any) -> Any:
            assert budget.allowance.reserved > 0
            child = os.fork()
            if child == 0:
                (kept,) = client.budgets()
                purses = ((budget.allowance.reserved, budget.allowance.spent), (kept.reserved, kept.spent))
                os._exit(0 if all(reserved == 0 and spent > 0 for reserved, spent in purses) else 1)
            found.append(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]))
            return super().open(request, timeouts)

    answered = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 9, "completion_tokens": 9}}  # fmt: skip
    made = {
        "providers": {"p": {"address": "https://p.example/v1"}},
        "models": {"a": {"provider": "p", "name": "m", "price": PRICE}},
        "budgets": {"all": {"amount": 5, "currency": PRICE["currency"], "per": "run"}},
    }
    quiet, forking = FakeTransport([answered]), Forking([answered])
    with agouti.Client(made, transport=quiet) as client, client.budget(1) as budget:
        client.ask("a", "Peas?", max_tokens=5)
        client._transport = forking
        client.ask("a", "Peas?", max_tokens=5)
    assert found == [0]


@pytest.mark.parametrize(
    ("budget", "counting", "free"),
    [
        ({"models": ["a"]}, {"label": "a"}, {"label": "b"}),
        ({"tags": {"team": "shop"}}, {"tags": {"team": "shop", "x": "y"}}, {"tags": {"team": "beds"}}),
        ({"tags": {"team": "shop"}}, {"tags": {"team": "shop"}}, {}),
        ({"models": ["a"], "tags": {"team": "shop"}}, {"tags": {"team": "shop"}}, {"label": "b", "tags": {"team": "shop"}}),
    ],
)  # fmt: skip
@pytest.mark.parametrize("per", ["day", "week", "month"])
def test_a_kept_budget_counts_its_own_models_and_tags_alone(
    tmp_path: Path, per: str, budget: dict[str, Any], counting: dict[str, Any], free: dict[str, Any]
) -> None:
    """Also what other programs have spent: it is in the ledger, and no part of what this one remembers."""
    answered = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 100, "completion_tokens": 100}}  # fmt: skip
    made = {
        "providers": {"p": {"address": "https://p.example/v1"}},
        "models": {name: {"provider": "p", "name": name, "price": PRICE} for name in "ab"},
        "ledger": {"store": str(tmp_path / "u.sqlite")},
        "budgets": {"purse": {"amount": 0.004, "currency": "USD", "per": per, "warn": 1, **budget}},
    }
    for number in range(4):
        with agouti.Client(made, transport=FakeTransport([answered] * 9)) as client:
            for _ in range(3):  # 0.0011 each
                client.ask(free.get("label", "a"), "Peas?", max_tokens=100, tags=free.get("tags", {}))
            if number < 3:
                client.ask("a", "Peas?", max_tokens=100, tags=counting.get("tags", {}))
                continue
            with pytest.raises(agouti.BudgetExceeded, match="purse"):
                client.ask("a", "Peas?", max_tokens=100, tags=counting.get("tags", {}))
