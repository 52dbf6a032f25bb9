"""What a strange server, a strange form or a strange reader brings about: an end, and an error that says which."""

import dataclasses
import json
import logging
import threading
from dataclasses import dataclass
from typing import Annotated, Any

import msgspec
import pydantic
import pytest

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.forms.build import form_of
from agouti.forms.form import Misfit
from agouti.forms.patterns import may_run_away
from agouti.testing import FakeTransport

from ..hostile.kit import Connection, serving

DIALECTS = ("messages", "contents", "chat", "responses", "lines", "prompt")


def config(dialect: str = "chat", **entry: Any) -> dict[str, Any]:
    provider = {"address": "https://one.example/v1", "dialect": dialect, "key": "sk-one-account", "retries": {"max": 2, "base": 0.001}}  # fmt: skip
    return {"providers": {"p": provider}, "models": {"m": {"provider": "p", "name": "x", **entry}}}


def reply(status: int, body: Any) -> HttpReply:
    return HttpReply(status, {"content-type": "application/json"}, json.dumps(body).encode())


def said(text: str) -> HttpReply:
    return reply(200, {"choices": [{"message": {"content": text}, "finish_reason": "stop"}]})


def events(*payloads: Any) -> HttpReply:
    body = "".join(f"data: {each if isinstance(each, str) else json.dumps(each)}\n\n" for each in payloads)
    return HttpReply(200, {"content-type": "text/event-stream"}, body.encode())


def pieces(*texts: str) -> list[bytes]:
    chunks: list[Any] = [{"choices": [{"index": 0, "delta": {"content": text}}]} for text in texts]
    chunks += [{"choices": [{"index": 0, "delta": {}, "finish_reason": "stop"}]}]
    return [*[b"data: %s\n\n" % json.dumps(each).encode() for each in chunks], b"data: [DONE]\n\n"]


@pytest.mark.parametrize("dialect", DIALECTS)
def test_a_server_without_anything_is_asked_twice_at_most(dialect: str) -> None:
    nothing = {"type": "error", "error": {"type": "not_found_error", "message": "Not Found"}}
    fake = FakeTransport([reply(404, nothing)] * 9)
    with agouti.Client(config(dialect), transport=fake) as client:
        with pytest.raises((agouti.ModelUnknown, agouti.AddressWrong)) as wrong:
            client.ask("m", "x")
        assert len(fake.requests) <= 2
        assert "providers.p.address" in wrong.value.hint
        with pytest.raises(agouti.AgoutiError):
            client.models("p")
    assert len(fake.requests) <= 3


def test_caps_that_are_refused_for_each_other_end() -> None:
    def refusal(name: str, other: str) -> HttpReply:
        words = f"Unsupported parameter: '{name}' is not supported. Use '{other}' instead."
        return reply(400, {"error": {"message": words, "param": name, "code": "unsupported_parameter"}})

    caps = ("max_tokens", "max_completion_tokens")
    fake = FakeTransport([refusal(*caps), refusal(*caps[::-1]), said("capped"), said("uncapped")])
    with agouti.Client(config(), transport=fake) as client:
        with pytest.raises(agouti.RequestRefused):
            client.ask("m", "x", max_tokens=5)
        client.ask("m", "x", max_tokens=5)
    # The cap is not lost for the next call, which would cost what nobody wanted to spend.
    assert [name for request in fake.requests for name in caps if name in json.loads(request.body or b"{}")] == [
        "max_tokens",
        "max_completion_tokens",
        "max_tokens",
    ]


AT_FAULT = {
    "chat": {"error": {"type": "invalid_request_error", "message": "bad"}},
    "messages": {"type": "error", "error": {"type": "invalid_request_error", "message": "bad"}},
    "responses": {"status": "failed", "error": {"code": "invalid_prompt", "message": "bad"}, "output": []},
    "lines": {"error": "invalid options: x"},
}
IN_A_STREAM = {
    "chat": AT_FAULT["chat"],
    "messages": AT_FAULT["messages"],
    "responses": {"type": "response.failed", "response": AT_FAULT["responses"]},
}


@pytest.mark.parametrize("dialect", AT_FAULT)
def test_a_request_at_fault_is_sent_once_and_opens_no_circuit(dialect: str) -> None:
    fake = FakeTransport([reply(200, AT_FAULT[dialect])] * 12)
    with agouti.Client(config(dialect), transport=fake) as client:
        for _ in range(8):
            with pytest.raises(agouti.RequestRefused):
                client.ask("m", "x")
        assert len(fake.requests) == 8
    if dialect in IN_A_STREAM:
        fake = FakeTransport([events(IN_A_STREAM[dialect])] * 3)
        with agouti.Client(config(dialect), transport=fake) as client, pytest.raises(agouti.RequestRefused):
            list(client.stream("m", "x"))
        assert len(fake.requests) == 1


def test_one_reader_takes_a_stream_and_the_others_are_told() -> None:
    with agouti.Client(config(), transport=FakeTransport([pieces(*["a"] * 500)] * 2)) as client:
        stream = client.stream("m", "x")
        came: list[object] = []

        def read() -> None:
            try:
                came.append("".join(stream))
            except agouti.RequestError as error:
                came.append(error.message)

        first = iter(stream)
        next(first)
        threads = [threading.Thread(target=read) for _ in range(3)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert came == ["somebody reads this stream already"] * 3
        assert len("".join(first)) == 499
        assert stream.reply.finish_reason == "stop"
        assert list(stream) == []
        stream = client.stream("m", "x")
        for _ in stream:
            break
        with pytest.raises(agouti.RequestError, match="left before its end"):
            list(stream)
        assert stream.reply.text == "a"


def test_an_asynchronous_stream_says_how_it_is_read() -> None:
    client = agouti.AsyncClient(config(), transport=FakeTransport([]))
    with pytest.raises(agouti.RequestError, match="AsyncClient"):
        list(client.stream("m", "x"))  # type: ignore[call-overload]


def test_keep_takes_whole_rounds_and_no_turn_that_is_under_way() -> None:
    orders: list[str] = []

    def order() -> str:
        """Order seeds."""
        orders.append("x")
        return "ordered"

    call = {"index": 0, "delta": {"tool_calls": [{"index": 0, "id": "c1", "function": {"name": "order", "arguments": "{}"}}]}}  # fmt: skip
    calls = events(
        {"choices": [call]}, {"choices": [{"index": 0, "delta": {}, "finish_reason": "tool_calls"}]}, "[DONE]"
    )
    with agouti.Client(config(), transport=FakeTransport([calls, pieces("Your ", "order"), said("Once.")])) as client:
        talk = client.conversation("m", tools=[order])
        with talk.stream("Order!") as stream:
            reading = iter(stream)
            assert next(reading) == "Your "
            with pytest.raises(agouti.RequestError, match="in the middle of a turn"):
                talk.keep_partial()
        kept = talk.keep_partial()
        assert kept is not None
        assert kept.text.startswith("Your ")
        assert [message.role for message in talk.messages] == ["user", "assistant", "tool", "assistant"]
        assert len(talk.replies) == 2
        talk.say("How often?")
    assert orders == ["x"]


def test_a_turn_that_fails_after_a_round_can_be_kept() -> None:
    def order() -> str:
        """Order seeds."""
        return "ordered"

    calls = {"choices": [{"message": {"content": None, "tool_calls": [{"id": "c1", "type": "function", "function": {"name": "order", "arguments": "{}"}}]}, "finish_reason": "tool_calls"}]}  # fmt: skip
    with agouti.Client(config(), transport=FakeTransport([reply(200, calls), reply(401, {})])) as client:
        talk = client.conversation("m", tools=[order])
        with pytest.raises(agouti.CredentialRefused):
            talk.say("Order!")
        assert not talk.messages
        talk.keep_partial()
        assert [message.role for message in talk.messages] == ["user", "assistant", "tool"]
        assert (len(talk.replies), talk.keep_partial()) == (1, None)


ENDLESS = {"type": "object", "properties": {"a": {"type": "string", "pattern": "^(a|aa)+$"}}, "required": ["a"]}


def test_a_pattern_ends_in_time_and_stops_nobody() -> None:
    texts = [said(json.dumps({"a": "a" * 200 + "!"}))] * 2
    ticks: list[float] = []
    done = threading.Event()

    def tick() -> None:
        while not done.wait(0.01):
            ticks.append(1)

    ticking = threading.Thread(target=tick, daemon=True)
    ticking.start()
    with agouti.Client(config(), transport=FakeTransport(texts)) as client:
        with pytest.raises(agouti.NotFilled, match="takes too long"):
            client.fill("m", ENDLESS, "x", deadline=20)
    done.set()
    ticking.join()
    assert len(ticks) >= 10  # the interpreter was not held
    with agouti.Client(config(), transport=FakeTransport([said('{"a": "aaa"}')])) as client:
        assert client.fill("m", ENDLESS, "x").value == {"a": "aaa"}


def test_only_the_time_of_patterns_counts_and_only_texts_with_one_are_short() -> None:
    schema = {
        "type": "array",
        "items": {"type": "object", "properties": {"a": {"type": "string", "pattern": "^[a-z]+$"}}},
    }
    form = form_of(schema)  # looking through so many takes longer than all patterns may
    assert len(form.read({"value": [{"a": "peas"}] * 20_000})) == 20_000

    @dataclass
    class Note:
        code: Annotated[str, msgspec.Meta(pattern="^[A-Z]+$")]
        text: str
        more: dict[str, list[Annotated[str, msgspec.Meta(pattern="^[A-Z]+$")] | None]]

    good = {"code": "AB", "text": "x" * 20_000, "more": {"a": ["C", None]}}
    assert len(form_of(Note).read(good).text) == 20_000
    for wrong in ({**good, "code": "A" * 20_000}, {**good, "more": {"a": [None, "C" * 20_000]}}):
        with pytest.raises(Misfit, match="20,000 letters, too many for its pattern"):
            form_of(Note).read(wrong)


@pytest.mark.parametrize(
    ("pattern", "endless"),
    [
        ("^(a+)+$", True), ("^(a|aa)+$", True), (r"^(\w+\s?)*$", True), ("(?:x+x+)+y", True), (r"((a)*b?)*", True),
        (r"^[a-z]+(_[a-z]+)*$", False), (r"^\d+(\.\d+)*$", False), ("^(in|out)+$", False), (".*,.*,.*,.*", True), ("^(a|b)*$", False),
        (r"^([^,]+,)*[^,]+$", False), (r"(a*)*", True), (r"^(\w+-)*\w+$", False), (r"^(.+,)*x$", True), ("^(?:ab?)+$", False), (r"^\s+|\s+$", False),
        (r"^[\w.+-]+@[\w-]+\.[\w.-]+$", False), (r"^((a?)?b)*$", True), ("^(a|aa){20}$", True), ("^(((a?){8}){8}){8}$", True),
        (r"^\d{4}-\d\d-\d\d$", False), ("^[a-z]+(-[a-z])?$", False), ("^(in|out)$", False), ("a{1,3}b*", False),
    ],
)  # fmt: skip
def test_patterns_of_types_that_could_run_for_ever_are_refused(pattern: str, endless: bool) -> None:
    assert may_run_away(pattern) == endless
    kind = Annotated[str, msgspec.Meta(pattern=pattern)]
    fake = FakeTransport([said('{"value": "in"}')] * 2)
    with agouti.Client(config(), transport=fake) as client:
        if endless:
            with pytest.raises(agouti.RequestError, match="run for ever"):
                client.fill("m", kind, "x")
            assert not fake.requests
    schema = {"type": "object", "patternProperties": {pattern: {"type": "integer"}}}
    with agouti.Client(config(), transport=FakeTransport([said("{}")])) as client:
        if endless:
            with pytest.raises(agouti.RequestError, match="run for ever"):
                client.fill("m", schema, "x")
        else:
            assert client.fill("m", schema, "x").value == {}


@pytest.mark.parametrize(
    ("value", "factor", "fits"), [(0.3, 0.1, True), (19.99, 0.01, True), (19.995, 0.01, False), (7, 7, True), (1e308, 1, True), (0, 5, True)]
)  # fmt: skip
def test_multiples_are_reckoned_as_they_are_written(value: float, factor: float, fits: bool) -> None:
    form = {"type": "object", "properties": {"a": {"type": "number", "multipleOf": factor}}, "required": ["a"]}
    with agouti.Client(config(), transport=FakeTransport([said(json.dumps({"a": value}))] * 2)) as client:
        if fits:
            assert client.fill("m", form, "x").value == {"a": value}
        else:
            with pytest.raises(agouti.NotFilled):
                client.fill("m", form, "x")


@dataclasses.dataclass
class Nothing:
    pass


class Empty(pydantic.BaseModel):
    pass


@dataclasses.dataclass
class Bed:
    name: str
    area: int = dataclasses.field(init=False, default=7)


class Rows(pydantic.RootModel[list[int]]):
    pass


class Broken(pydantic.BaseModel):
    a: int

    @pydantic.field_validator("a")
    @classmethod
    def never(cls, value: int) -> int:
        raise KeyError("zz")


def test_forms_hold_what_the_guide_says_of_them() -> None:
    for kind in (Nothing, Empty, {"type": "object", "properties": {"a": {"$dynamicRef": "#nope"}}}):
        fake = FakeTransport([])
        with agouti.Client(config(), transport=fake) as client, pytest.raises(agouti.RequestError):
            client.fill("m", kind, "x")
    filled: list[tuple[Any, str, Any]] = [
        (Bed, '{"name": "x", "area": 99}', 7),
        (list[Bed], '{"value": [{"name": "x", "area": 99}]}', 7),
        ({"type": ["object", "null"], "properties": {"a": {"type": "integer"}}}, '{"value": null}', None),
    ]
    for kind, text, wanted in filled:
        fake = FakeTransport([said(text)])
        with agouti.Client(config(), transport=fake) as client:
            value = client.fill("m", kind, "x").value
        value = value[0] if isinstance(value, list) else value
        assert (value.area if isinstance(value, Bed) else value) == wanted
        if wanted is None:
            schema = json.loads(fake.requests[0].body or b"")["response_format"]["json_schema"]["schema"]
            assert {"type": "null"} in schema["properties"]["value"]["anyOf"]
    for listed in (Annotated[list[int], pydantic.Field(max_length=5)], Rows):
        with agouti.Client(config(), transport=FakeTransport([pieces('{"value": [1,', " 2, 3]}")])) as client:
            assert list(client.stream_fill("m", listed, "x").items()) == [1, 2, 3]


def test_several_calls_with_a_list_each_are_one_list() -> None:
    def call(number: int, arguments: str) -> dict[str, Any]:
        return {"id": f"c{number}", "type": "function", "function": {"name": "answer", "arguments": arguments}}

    message = {"content": None, "tool_calls": [call(1, '{"value": [1, 2]}'), call(2, '{"value": [3]}')]}
    answer = reply(200, {"choices": [{"message": message, "finish_reason": "tool_calls"}]})
    with agouti.Client(config(), transport=FakeTransport([answer])) as client:
        filled = client.fill("m", list[int], "x", output_method="tool")
    assert (filled.value, filled.repairs_applied) == ([1, 2, 3], ("several for a list",))


def test_a_validator_with_a_defect_costs_one_answer_and_is_shown() -> None:
    fake = FakeTransport([said('{"a": 1}')] * 2)
    with agouti.Client(config(), transport=fake) as client, pytest.raises(agouti.NotFilled) as failed:
        client.fill("m", Broken, "x")
    assert (len(fake.requests), failed.value.problem) == (1, "validator failed")
    assert isinstance(failed.value.__cause__, KeyError)
    assert failed.value.answers[0].reply.text == '{"a": 1}'


@pytest.mark.parametrize(
    "places",
    [
        [{"output_index": 0}, {"output_index": 0, "item_id": "d"}, {"output_index": 0, "item": "e"}],
        [{"output_index": 0, "item_id": "a"}, {"output_index": 0, "item_id": "b"}, {"output_index": 0, "item": "c"}],
        [{"item_id": "a"}, {"item_id": "a"}, {"item": "a"}],
        [{}, {"item_id": "a"}, {"item": "a"}],
        [{}, {}, {}],
    ],
)
def test_a_text_comes_once_whatever_its_item_is_called(places: list[dict[str, Any]]) -> None:
    delta, done, item = places
    message = {"type": "message", "content": [{"type": "output_text", "text": "hello"}]}
    whole = {**message, **({"id": item["item"]} if "item" in item else {})}
    index = {name: value for name, value in item.items() if name == "output_index"}
    stream = events(
        {"type": "response.output_text.delta", "delta": "hel", **delta},
        {"type": "response.output_text.delta", "delta": "lo", **delta},
        {"type": "response.output_text.done", "text": "hello", **done},
        {"type": "response.output_item.done", "item": whole, **index},
        {"type": "response.completed", "response": {"status": "completed", "output": [message]}},
    )
    with agouti.Client(config("responses"), transport=FakeTransport([stream])) as client:
        assert "".join(client.stream("m", "x")) == "hello"


@pytest.mark.parametrize("way", ["404", "500", "nothing", "cut"])
def test_a_job_whose_events_are_not_to_be_had_is_asked_for(way: str) -> None:
    urls = {"get": "https://one.example/v1/p/1", "stream": "https://one.example/v1/p/1/events", "cancel": "https://one.example/v1/p/1/cancel"}  # fmt: skip
    started = reply(201, {"id": "1", "status": "processing", "urls": urls})
    there = {"404": reply(404, {}), "500": reply(500, {}), "nothing": events(), "cut": HttpReply(200, {"content-type": "text/event-stream"}, b"event: out")}  # fmt: skip
    done = reply(200, {"id": "1", "status": "succeeded", "output": "In March.", "urls": urls})
    fake = FakeTransport([started, there[way], done])
    with agouti.Client(config("jobs"), transport=fake) as client:
        assert "".join(client.stream("m", "x")) == "In March."
    assert [request.method for request in fake.requests] == ["POST", "GET", "GET"]


def test_no_key_of_an_address_stands_in_a_foreign_log(caplog: pytest.LogCaptureFixture) -> None:
    body = json.dumps({"choices": [{"message": {"content": "Hi"}}]}).encode()
    odd = [b"an odd line\r\n", b""]
    caplog.set_level(logging.DEBUG)

    def behave(connection: Connection, _: int) -> None:
        connection.write(b"HTTP/1.1 200 OK\r\n%scontent-length: %d\r\n\r\n%s" % (odd.pop(0), len(body), body))

    with serving(behave) as server:
        provider = {"address": f"{server.address}?key=sk-PLANTED-0123456789", "plain_http": True}
        entry = {"providers": {"p": provider}, "models": {"m": {"provider": "p", "name": "x"}}}
        with agouti.Client(entry) as client:
            with pytest.raises(agouti.ReplyUnreadable, match="an odd line"):
                client.ask("m", "x")
            assert client.ask("m", "x").text == "Hi"
    assert "connectionpool" in caplog.text  # the foreign log has been at work
    assert "PLANTED" not in caplog.text
