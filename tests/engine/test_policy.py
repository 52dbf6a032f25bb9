"""Retry, fallback, deadline, circuit, negotiation: decisions, each seen through a call with a fake transport."""

import asyncio
import time
from typing import Any

import pytest

import agouti
from agouti.calls.calls import calls_of
from agouti.core.errors import AgoutiWarning
from agouti.core.http.exchange import HttpReply
from agouti.core.http.headers import Headers
from agouti.core.http.retry_after import asked_wait
from agouti.engine.call import Clocks
from agouti.engine.providers.circuit_breaker import REST_SECONDS, THRESHOLD
from agouti.testing import AsyncFakeTransport, FakeTransport
from agouti.transport.base import TransportFailure

GOOD = {"choices": [{"message": {"content": "In March."}, "finish_reason": "stop"}], "usage": None}


def reply(status: int, body: bytes = b"", **headers: str) -> HttpReply:
    return HttpReply(status, {name.replace("_", "-"): value for name, value in headers.items()}, body)


def config(**entry: Any) -> agouti.Config:
    provider = {"address": "https://north.example/v1", "retries": {"base": 0.001}, **entry}
    other = {"address": "https://south.example/v1", "retries": {"max": 0}}
    models = {
        "almanac": {"provider": "north", "name": "quill", "fallback": ["second", "third"], "parameters": {"seed": 1}},
        "plain": {"provider": "north", "name": "quill", "parameters": {"seed": 1, "top_p": 0.5}},
        "second": {"provider": "south", "name": "loam", "system": "Brief.", "parameters": {"top_p": 0.5}},
        "third": {"provider": "south", "name": "petal"},
    }
    return agouti.load_config({"providers": {"north": provider, "south": other}, "models": models}, environment={})


def ask(answers: list[Any], label: str = "plain", **options: Any) -> tuple[agouti.Reply, FakeTransport]:
    fake = FakeTransport(answers)
    with agouti.Client(config(**options.pop("entry", {})), transport=fake) as client:
        return client.ask(label, "Peas?", **options), fake


LOST = TransportFailure("lost", "gone")


@pytest.mark.parametrize(
    ("failure", "repeated"),
    [
        (TransportFailure("refused", "no"), True),
        (TransportFailure("timeout", "late", "connect"), True),
        (TransportFailure("timeout", "late", "first byte"), False),
        (TransportFailure("lost", "gone"), True),
        (TransportFailure("lost", "gone", began=True), False),
        (TransportFailure("tls", "no"), False),
        (TransportFailure("dns", "no"), False),
        (TransportFailure("proxy", "no"), False),
        *[(reply(status), True) for status in (408, 409, 429, 500, 502, 503, 504, 529)],
        *[(reply(status), False) for status in (400, 401, 402, 403, 404, 413, 422)],
        (reply(500, b'{"error": {"message": "Invalid value: temperature must be a number"}}'), False),
        (reply(429, b'{"error": {"message": "insufficient_quota"}}'), False),
        (reply(429, retry_after="40"), False),
        (reply(503, retry_after_ms="1"), True),
    ],
)
def test_what_is_repeated(failure: Any, repeated: bool) -> None:
    if repeated:
        answered, fake = ask([failure, failure, GOOD])
        assert answered.text == "In March."
        assert [attempt.outcome for attempt in answered.attempts][-1] == "answered"
        assert len(fake.requests) == 3
        with pytest.raises(agouti.AgoutiError) as raised:
            ask([failure] * 3)
        assert len(raised.value.attempts) == 3
    else:
        with pytest.raises(agouti.AgoutiError) as raised:
            ask([failure, GOOD])
        assert len(raised.value.attempts) == 1


def test_kept_connection_that_broke_is_repeated_at_once() -> None:
    fake = FakeTransport([GOOD, LOST, GOOD])
    with agouti.Client(config(retries={"max": 1}), transport=fake) as client:
        client.ask("plain", "Peas?")
        again = client.ask("plain", "Peas?")
    assert [(attempt.outcome, round(attempt.waited, 2)) for attempt in again.attempts] == [
        ("ConnectionLost", 0.0),
        ("answered", 0.0),
    ]


@pytest.mark.parametrize(
    ("first", "falls"),
    [
        (TransportFailure("refused", "no"), True),
        (TransportFailure("dns", "no"), True),
        (reply(401), True),
        (reply(402), True),
        (reply(403), True),
        (reply(404, b'{"error": {"code": "model_not_found"}}'), True),
        (reply(503), True),
        (reply(200, b"<html>"), True),
        (reply(400), False),
        (reply(413), False),
        (reply(400, b'{"error": {"message": "blocked by the content policy"}}'), False),
    ],
)
def test_who_takes_over_and_who_does_not(first: Any, falls: bool) -> None:
    answers = [first, reply(503), GOOD]
    if not falls:
        with pytest.raises(agouti.RequestRefused):
            ask(answers, "almanac", entry={"retries": {"max": 0}})
        return
    answered, fake = ask(answers, "almanac", entry={"retries": {"max": 0}})
    assert (answered.label, answered.provider) == ("almanac", "south")
    assert [attempt.model for attempt in answered.attempts] == ["quill", "loam", "petal"]
    assert all(attempt.why for attempt in answered.attempts[:-1])
    bodies = [request.body or b"" for request in fake.requests]
    # Each model gets its own name, system text and defaults.
    assert b'"seed":1' in bodies[0]
    assert b"Brief." in bodies[1]
    assert b"seed" not in bodies[1]
    assert b"Brief." not in bodies[2]


def test_stream_falls_back_only_before_its_first_piece() -> None:
    good = [b'data: {"choices":[{"delta":{"content":"In March."},"finish_reason":"stop"}]}\n\ndata: [DONE]\n\n']
    begun = [b'data: {"choices":[{"delta":{"content":"In"}}]}\n\ndata: {"error": "overloaded"}\n\n']
    for first, text in (([b'data: {"error": "overloaded"}\n\n'], "In March."), (begun, None)):
        fake = FakeTransport([first, good])
        with agouti.Client(config(retries={"max": 0}), transport=fake) as client:
            stream = client.stream("almanac", "Peas?")
            if text is None:
                with pytest.raises(agouti.AgoutiError) as broken:
                    list(stream)
                assert broken.value.partial is not None
                assert broken.value.partial.text == stream.reply.text == "In"
            else:
                assert "".join(stream) == text
                assert stream.reply.provider == "south"


def test_unsupported_parameter_is_dropped_remembered_and_said_once() -> None:
    refusal = reply(400, b'{"error": {"message": "Unsupported parameter: \'top_p\'", "param": "top_p"}}')
    with pytest.raises(agouti.RequestRefused) as refused:
        ask([refusal])
    assert refused.value.parameter == "top_p"
    assert 'unsupported = "warn"' in refused.value.hint
    fake = FakeTransport([refusal, GOOD, GOOD])
    with (
        agouti.Client(config(unsupported="warn"), transport=fake) as client,
        pytest.warns(AgoutiWarning, match=r"plain \(north\) does not take top_p") as said,
    ):
        client.ask("plain", "Peas?")
        client.ask("plain", "Peas?")
    assert len(said) == 1
    assert [b"top_p" in (request.body or b"") for request in fake.requests] == [True, False, False]


def test_renamed_dropped_and_added_fields() -> None:
    entry = {"rename": {"max_tokens": "max_completion_tokens"}, "drop": ["seed"], "add": {"safe": True}}
    _, fake = ask([GOOD], max_tokens=5, entry=entry)
    body = fake.requests[0].body or b""
    assert b'"max_completion_tokens":5' in body
    assert b'"safe":true' in body
    assert b"seed" not in body
    for none in (None, -1):
        _, fake = ask([GOOD], max_tokens=none)
        assert b"max_tokens" not in (fake.requests[0].body or b"")


def test_circuit_opens_and_closes_again() -> None:
    now = [1000.0]
    fake = FakeTransport([reply(503)] * THRESHOLD + [GOOD, GOOD])
    with agouti.Client(config(retries={"max": 0}), transport=fake) as client:
        calls_of(client).clocks = Clocks(clock=lambda: now[0])
        for _ in range(THRESHOLD):
            with pytest.raises(agouti.Overloaded):
                client.ask("plain", "Peas?")
        with pytest.raises(agouti.CircuitOpen, match="20 s more"):
            client.ask("plain", "Peas?")
        assert len(fake.requests) == THRESHOLD
        now[0] += REST_SECONDS + 1
        for _ in range(2):
            assert client.ask("plain", "Peas?").text


def test_deadline_caps_retries_and_waits() -> None:
    started = time.perf_counter()
    with pytest.raises(agouti.RateLimited):
        ask([reply(429, retry_after="5"), GOOD], deadline=0.2)
    assert time.perf_counter() - started < 4


def test_async_client_decides_the_same() -> None:
    async def go() -> agouti.Reply:
        fake = AsyncFakeTransport([reply(503), LOST, GOOD])
        async with agouti.AsyncClient(config(), transport=fake) as client:
            return await client.ask("plain", "Peas?")

    assert [attempt.outcome for attempt in asyncio.run(go()).attempts] == ["Overloaded", "ConnectionLost", "answered"]


@pytest.mark.parametrize(
    ("headers", "body", "wait"),
    [
        ({"Retry-After": "7"}, b"", 7.0),
        ({"Retry-After": "Mon, 23 Nov 2026 10:00:09 GMT", "Date": "Mon, 23 Nov 2026 10:00:00 GMT"}, b"", 9.0),
        ({"Retry-After": "soon", "Retry-After-Ms": "250"}, b"", 0.25),
        ({"X-RateLimit-Remaining-Tokens": "0", "X-RateLimit-Reset-Tokens": "1m2s"}, b"", 62.0),
        ({"X-RateLimit-Remaining-Tokens": "3", "X-RateLimit-Reset-Tokens": "1m2s"}, b"", None),
        ({"X-RateLimit-Remaining-Requests": "0", "X-RateLimit-Reset-Requests": "1795420922"}, b"", None),
        ({}, b'{"error": {"details": [{"retryDelay": "34s"}]}}', 34.0),
        ({"Retry-After": "-1"}, b"", None),
    ],
)
def test_waits_in_every_form(headers: dict[str, str], body: bytes, wait: float | None) -> None:
    assert asked_wait(Headers(headers.items()), body) == wait
