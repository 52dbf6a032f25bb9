"""What real servers send beside the letter of their formats: it must cost no call, no text and no count."""

import json
from typing import Any

import pytest

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.testing import FakeTransport

from .samples import SAMPLES, data, named


def client(dialect: str, *replies: Any) -> agouti.Client:
    config = {"providers": {"p": {"address": "https://p.example/v1", "dialect": dialect, "retries": {"max": 0}}}}
    return agouti.Client(config, transport=FakeTransport(list(replies)))


def streamed(dialect: str, body: bytes) -> agouti.Reply:
    """The reply that a stream amounts to, whole and byte by byte."""
    replies = []
    for size in (len(body), 1):
        pieces = [body[place : place + size] for place in range(0, len(body), size)]
        with client(dialect, pieces) as asked, asked.stream("m@p", "Q") as stream:
            assert list(stream.events())
            replies.append(stream.reply)
    assert [replies[0].text, called(replies[0])] == [replies[1].text, called(replies[1])]
    return replies[1]


def called(reply: agouti.Reply) -> list[tuple[str | None, str | None, Any]]:
    return [(call.id, call.name, call.arguments) for call in reply.calls]


def piece(*calls: dict[str, Any], finish: str | None = None) -> dict[str, Any]:
    return {"model": "m", "choices": [{"delta": {"tool_calls": list(calls)}, "finish_reason": finish}]}


def function(name: str | None, arguments: str, **more: Any) -> dict[str, Any]:
    return {**more, "function": {"arguments": arguments} if name is None else {"name": name, "arguments": arguments}}


def item(kind: str, **fields: Any) -> dict[str, Any]:
    return {"type": f"response.output_item.{kind}", "item": {"type": "function_call", **fields}}


END = {"model": "m", "choices": [{"delta": {}, "finish_reason": "tool_calls"}]}
DONE = {"type": "response.completed", "response": {"status": "completed", "model": "m"}}
STOP = ({"type": "message_delta", "delta": {"stop_reason": "tool_use"}}, {"type": "message_stop"})
F, G = ("a", "f", {"x": 1}), ("b", "g", {"y": 2})


def block(kind: str, **fields: Any) -> dict[str, Any]:
    return {"type": "content_block_start", "content_block": {"type": kind, **fields}}


def json_piece(text: str, **more: Any) -> dict[str, Any]:
    return {"type": "content_block_delta", **more, "delta": {"type": "input_json_delta", "partial_json": text}}


CALLS: list[tuple[str, bytes, list[Any]]] = [
    # One whole call to a chunk, all of the same index, or of none.
    ("chat", data(piece(function("f", '{"x":1}', index=0, id="a")), piece(function("g", '{"y":2}', index=0, id="b")), END), [F, G]),
    ("chat", data(piece(function("f", '{"x":1}', id="a")), piece(function("g", '{"y":2}', id="b")), END), [F, G]),
    ("chat", data(piece(function("f", '{"x":1}')), piece(function("g", '{"y":2}')), END), [("call_0", "f", {"x": 1}), ("call_1", "g", {"y": 2})]),
    ("chat", data(piece(function("f", '{"x"', id="a")), piece(function(None, ":1}")), piece(function("g", '{"y":2}', id="b")), END), [F, G]),
    ("chat", data(piece(function("f", '{"x"', id="a"), function("g", '{"y"', id="b")), piece(function(None, ":1}"), function(None, ":2}")), END), [F, G]),
    # The identifier in every piece; another one in every piece, but the name only in the first.
    ("chat", data(piece(function("f", '{"x"', index=0, id="a")), piece(function("f", ":1}", index=0, id="a")), END), [F]),
    ("chat", data(piece(function("f", '{"x"', index=0, id="a")), piece(function(None, ":1}", index=0, id="z")), END), [("z", "f", {"x": 1})]),
    # Items told apart by nothing but their identifier; identifiers that change; only the last event of each.
    ("responses", named(*[event for name, call, args in (("f", "a", '{"x":1}'), ("g", "b", '{"y":2}')) for event in (
        item("added", id=f"i{call}", call_id=call, name=name),
        {"type": "response.function_call_arguments.delta", "item_id": f"i{call}", "delta": args[:3]},
        {"type": "response.function_call_arguments.delta", "item_id": f"i{call}", "delta": args[3:]},
        item("done", id=f"i{call}", call_id=call, name=name, arguments=args))], DONE), [F, G]),
    ("responses", named(
        {**item("added", id="1", call_id="a", name="f"), "output_index": 3},
        {"type": "response.function_call_arguments.delta", "item_id": "2", "output_index": 3, "delta": '{"x":1}'},
        {**item("done", id="3", call_id="a", name="f", arguments='{"x":1}'), "output_index": 3}, DONE), [F]),
    ("responses", named(item("done", call_id="a", name="f", arguments='{"x":1}'), item("done", call_id="b", name="g", arguments='{"y":2}'), DONE), [F, G]),
    ("responses", named(item("added", id="i", call_id="a", name="f"), {"type": "response.function_call_arguments.done", "item_id": "i", "arguments": '{"x":1}'}, DONE), [F]),
    ("responses", named({"type": "response.completed", "response": {"status": "completed", "output": [{"type": "function_call", "call_id": "a", "name": "f", "arguments": '{"x":1}'}]}}), [F]),
    # Blocks without an index; a block of the provider's own tools; arguments whole with the beginning.
    ("messages", named(block("tool_use", id="a", name="f"), json_piece('{"x":'), json_piece("1}"), {"type": "content_block_stop"},
                       block("tool_use", id="b", name="g"), json_piece('{"y":2}'), {"type": "content_block_stop"}, *STOP), [F, G]),
    ("messages", named({**block("server_tool_use", id="s", name="search", input={}), "index": 0}, json_piece('{"query":"frost"}', index=0),
                       {**block("tool_use", id="a", name="f", input={}), "index": 1}, json_piece('{"x":1}', index=1), *STOP), [F]),
    ("messages", named({**block("tool_use", id="a", name="f", input={"x": 1}), "index": 0}, {"type": "content_block_stop", "index": 0},
                       {**block("tool_use", id="b", name="g", input={"y": 2}), "index": 1}, *STOP), [F, G]),
]  # fmt: skip


@pytest.mark.parametrize(("dialect", "body", "calls"), CALLS)
def test_each_call_of_a_stream_stays_itself(dialect: str, body: bytes, calls: list[Any]) -> None:
    assert called(streamed(dialect, body)) == calls


def test_text_that_comes_only_at_the_end_is_kept() -> None:
    message = {"type": "message", "content": [{"type": "output_text", "text": "In May."}]}
    thought = {"type": "reasoning", "content": [{"type": "reasoning_text", "text": "hm"}]}
    whole = {"status": "completed", "model": "m", "output": [thought, message]}
    last = {"type": "response.completed", "response": whole}
    delta = {"type": "response.output_text.delta", "delta": "In May."}
    done = {"type": "response.output_text.done", "text": "In May."}
    for events in ((last,), (delta, last), (done, last), (delta, done, last)):
        reply = streamed("responses", named(*events))
        assert (reply.text, reply.reasoning) == ("In May.", "hm")
    refusal = {"type": "message", "content": [{"type": "refusal", "refusal": "No."}]}
    refused = streamed("responses", named({**last, "response": {**whole, "output": [refusal]}}))
    assert (refused.finish_reason, refused.completion.choices[0].refusal) == ("refusal", "No.")
    with client("responses", whole) as plain:
        assert plain.ask("m@p", "Q").reasoning == "hm"


@pytest.mark.parametrize("name", ["chat", "messages", "responses", "contents", "lines", "prompt"])
def test_last_event_counts_without_its_line_end(name: str) -> None:
    stream = SAMPLES[name].stream.removesuffix(b"data: [DONE]\n\n")
    with client(name, [stream]) as asked, client(name, [stream.rstrip(b"\n")]) as bare:
        whole, cut = asked.stream("m@p", "Q"), bare.stream("m@p", "Q")
        assert list(whole.events()) == list(cut.events())
        assert whole.reply.finish_reason == cut.reply.finish_reason
    if name in ("chat", "prompt"):
        return  # the reason for the end has come before
    # What is cut in the middle of an event is a cut, whatever its half can be read as.
    with client(name, [stream.rstrip(b"\n")[:-3]]) as asked, pytest.raises(agouti.StreamCut):
        "".join(asked.stream("m@p", "Q"))


def test_error_in_a_last_event_without_line_end_is_reported() -> None:
    body = data({"model": "m", "choices": [{"delta": {"content": "In"}}]}, {"error": {"message": "out of memory"}})
    with client("chat", [body.rstrip(b"\n")]) as asked, pytest.raises(agouti.ProviderFault, match="out of memory"):
        "".join(asked.stream("m@p", "Q"))


@pytest.mark.parametrize(("bad", "text"), [
    ('"In May.", "logprobs": {"a": [NaN, -Infinity]}', "In May."),
    ('"In\\ud83d May."', "In\ufffd May."),
    ('"In\nMay."', "In\nMay."),
])  # fmt: skip
def test_json_with_a_flaw_costs_a_character_at_most(bad: str, text: str) -> None:
    plain = f'{{"model": "m", "choices": [{{"message": {{"content": {bad}}}, "finish_reason": "stop"}}]}}'.encode()
    with client("chat", plain, plain + b"<!-- served -->", plain) as asked:
        assert asked.ask("m@p", "Q").text == text
        assert isinstance(asked.ask("m@p", "Q").raw, dict)
        exchanged = asked.exchange({"model": "m@p", "messages": [{"role": "user", "content": "Q"}]})
        assert exchanged["choices"][0]["message"]["content"] == text
    chunk = plain.replace(b'"message"', b'"delta"')
    if "\n" not in bad:
        with client("chat", [b"data: " + chunk + b"\n\n"]) as asked:
            assert "".join(asked.stream("m@p", "Q")) == text
    line = f'{{"model": "m", "message": {{"content": {bad}}}, "done": true}}'.encode()
    with client("lines", line) as asked:
        assert asked.ask("m@p", "Q").text == text


@pytest.mark.parametrize("name", SAMPLES)
def test_value_without_bottom_is_an_error_of_ours(name: str) -> None:
    deep = b'{"a":' + b"[" * 200_000
    for body in (deep, b"data: " + deep + b"\n\n", deep + b"\n"):
        for answer in (body, [body]):
            with client(name, answer, answer) as asked:
                with pytest.raises(agouti.AgoutiError):
                    asked.ask("m@p", "Q")
                with pytest.raises(agouti.AgoutiError):
                    "".join(asked.stream("m@p", "Q"))
    with client(name, deep) as asked, pytest.raises(agouti.AgoutiError):
        asked.models("p")


@pytest.mark.parametrize("words", [
    "Budget 0 is invalid. This model only works in thinking mode.",
    "`max_tokens` must be greater than `thinking.budget_tokens`",
    "thinking.enabled.budget_tokens: Input should be greater than or equal to 1024",
])  # fmt: skip
def test_budget_of_thoughts_is_no_matter_of_credit(words: str) -> None:
    refused = HttpReply(400, {}, json.dumps({"error": {"message": words}}).encode())
    with client("chat", refused) as asked, pytest.raises(agouti.RequestRefused):
        asked.ask("m@p", "Q")
    spent = HttpReply(400, {}, b'{"error": {"message": "You have exceeded your monthly budget."}}')
    with client("chat", spent) as asked, pytest.raises(agouti.OutOfCredit):
        asked.ask("m@p", "Q")


NEUTRAL: dict[str, Any] = {
    "n": 1, "presence_penalty": 0, "frequency_penalty": 0.0, "logprobs": False, "logit_bias": {}, "top_logprobs": 0,
    "parallel_tool_calls": True, "tool_choice": "auto", "response_format": {"type": "text"}, "stop": [],
}  # fmt: skip


@pytest.mark.parametrize(
    "name", ["messages", "responses", "prompt", "contents", "lines", "predict", "jobs", "converse"]
)
def test_values_that_ask_for_nothing_are_no_reason_to_refuse(name: str) -> None:
    entry: dict[str, Any] = {"address": "https://p.example/v1", "dialect": name}
    sent = []
    for options in (NEUTRAL, {}):
        fake = FakeTransport([SAMPLES[name].plain, SAMPLES[name].plain])
        with agouti.Client({"providers": {"p": entry}}, transport=fake) as asked:
            asked.ask("m@p", "Q", **options)
            asked.exchange({"model": "m@p", "messages": [{"role": "user", "content": "Q"}], **options})
        sent.append([json.loads(request.body or b"") for request in fake.requests])
    assert sent[0] == sent[1]
    for parameter, value in {"n": 2, "presence_penalty": 0.5, "logit_bias": {"7": 1}}.items():
        if name in ("converse", "messages"):
            fake = FakeTransport([SAMPLES[name].plain])
            with (
                agouti.Client({"providers": {"p": entry}}, transport=fake) as asked,
                pytest.raises(agouti.ParameterUnsupported, match=parameter),
            ):
                asked.ask("m@p", "Q", **{parameter: value})


USAGE: list[tuple[str, dict[str, Any], tuple[Any, ...]]] = [
    ("chat", {"usage": {"prompt_tokens": 32, "completion_tokens": 9, "total_tokens": 136, "completion_tokens_details": {"reasoning_tokens": 95}}}, (32, 104, 136, None, 95)),
    ("chat", {"usage": {"prompt_tokens": 32, "completion_tokens": 99, "total_tokens": 131, "completion_tokens_details": {"reasoning_tokens": 95}}}, (32, 99, 131, None, 95)),
    ("chat", {"usage": {"input_tokens": 3, "output_tokens": 4, "prompt_cache_hit_tokens": 2}}, (3, 4, 7, 2, None)),
    ("chat", {"usage": {"prompt_tokens": 3, "completion_tokens": 4, "cached_tokens": 1}}, (3, 4, 7, 1, None)),
    ("converse", {"usage": {"inputTokens": 5, "outputTokens": 7, "totalTokens": 162, "cacheReadInputTokens": 100, "cacheWriteInputTokens": 50}}, (155, 7, 162, 100, None)),
    ("contents", {"usageMetadata": {"promptTokenCount": 3, "toolUsePromptTokenCount": 50, "candidatesTokenCount": 5, "totalTokenCount": 58}}, (53, 5, 58, None, None)),
]  # fmt: skip


@pytest.mark.parametrize(("name", "usage", "counts"), USAGE)
def test_counts_of_any_bookkeeping_add_up(name: str, usage: dict[str, Any], counts: tuple[Any, ...]) -> None:
    with client(name, {**json.loads(SAMPLES[name].plain), **usage}) as asked:
        found = asked.ask("m@p", "Q").usage
    assert (found.input_tokens, found.output_tokens, found.total_tokens) == counts[:3]
    assert (found.cached_tokens, found.reasoning_tokens) == counts[3:]


@pytest.mark.parametrize(("code", "kind"), [
    (401, agouti.CredentialRefused), (402, agouti.OutOfCredit), ("429", agouti.RateLimited), (503, agouti.Overloaded), (7, agouti.ProviderFault),
])  # fmt: skip
def test_status_may_stand_inside_a_good_reply(code: Any, kind: type[agouti.AgoutiError]) -> None:
    error = {"error": {"message": "No.", "code": code}}
    with client("chat", error) as asked, pytest.raises(kind):
        asked.ask("m@p", "Q")
    with client("chat", [data(error)]) as asked, pytest.raises(kind):
        "".join(asked.stream("m@p", "Q"))


@pytest.mark.parametrize("name", ["chat", "messages", "responses", "contents", "lines", "converse"])
def test_picture_in_a_tool_result_is_sent(name: str) -> None:
    picture = agouti.Image(b"GIF89a......")
    call = {"id": "c1", "type": "function", "function": {"name": "look", "arguments": "{}"}}
    history = [
        {"role": "user", "content": "Q"},
        {"role": "assistant", "tool_calls": [call]},
        {"role": "tool", "tool_call_id": "c1", "content": [{"type": "text", "text": "see"}, picture.part]},
    ]
    fake = FakeTransport([SAMPLES[name].plain])
    config = {"providers": {"p": {"address": "https://p.example/v1", "dialect": name}}}
    with agouti.Client(config, transport=fake) as asked:
        asked.ask("m@p", history)
    sent = (fake.requests[0].body or b"").decode()
    assert picture.address.partition(",")[2] in sent
    assert sent.count('"see"') == 1


@pytest.mark.parametrize(("name", "theirs"), [
    ("messages", {"type": "search_1", "name": "search", "max_uses": 3}),
    ("responses", {"type": "search"}),
    ("contents", {"serverSearch": {}}),
    ("converse", {"systemTool": {"name": "search"}}),
])  # fmt: skip
def test_tools_of_the_provider_are_sent_as_they_are(name: str, theirs: dict[str, Any]) -> None:
    config = {"providers": {"p": {"address": "https://p.example/v1", "dialect": name}}}
    lamp = {"type": "function", "function": {"name": "lamp", "parameters": {"type": "object"}}}
    for tools in ([theirs], [lamp, theirs]):
        fake = FakeTransport([SAMPLES[name].plain])
        with agouti.Client(config, transport=fake) as asked:
            asked.ask("m@p", "Q", tools=tools)
        body = json.loads(fake.requests[0].body or b"")
        sent = body["toolConfig"]["tools"] if name == "converse" else body["tools"]
        assert theirs in sent
        assert len(sent) == len(tools)
        assert ("lamp" in json.dumps(sent)) is (lamp in tools)


def test_empty_finish_reason_is_none() -> None:
    chunk = {"model": "m", "choices": [{"delta": {"content": "In M"}, "finish_reason": ""}]}
    cut = HttpReply(200, {"content-type": "text/event-stream"}, data(chunk, chunk))
    with client("chat", cut) as asked, pytest.raises(agouti.StreamCut) as error:
        "".join(asked.stream("m@p", "Q"))
    assert error.value.partial is not None
    assert error.value.partial.text == "In MIn M"


PAGES: dict[str, tuple[list[dict[str, Any]], str]] = {
    "messages": ([
        {"data": [{"id": "a"}, {"id": "b&c"}], "has_more": True, "first_id": "a", "last_id": "b&c"},
        {"data": [{"id": "d"}], "has_more": False, "last_id": "d"},
    ], "after_id=b%26c"),
    "contents": ([
        {"models": [{"name": "models/a"}, {"name": "models/b&c"}], "nextPageToken": "t/="},
        {"models": [{"name": "models/d"}]},
    ], "pageToken=t%2F%3D"),
}  # fmt: skip


@pytest.mark.parametrize("dialect", PAGES)
def test_list_of_models_goes_on_to_its_last_page(dialect: str) -> None:
    pages, query = PAGES[dialect]
    fake = FakeTransport(pages)
    config = {"providers": {"p": {"address": "https://p.example/v1?v=1", "dialect": dialect}}}
    with agouti.Client(config, transport=fake) as asked:
        assert [model.name for model in asked.models("p")] == ["a", "b&c", "d"]
    assert query in fake.requests[1].url
    assert "v=1" in fake.requests[1].url
    # A server that names the same page for ever is asked for it once.
    fake = FakeTransport([pages[0]] * 3)
    with agouti.Client(config, transport=fake) as asked:
        assert len(asked.models("p")) == 2
    assert len(fake.requests) == 2


def test_chunks_with_odd_fields_are_passed_on() -> None:
    usage = {"prompt_tokens": 3.0, "completion_tokens": 1.5}
    chunks: list[dict[str, Any]] = [
        {"model": "m", "choices": [{"index": 0, "delta": {"content": "a"}}]},
        {"model": "m", "choices": [{"index": "0", "delta": {"content": "b"}}], "x": [1]},
        {"model": "m", "choices": [{"index": 0, "delta": {"content": "c"}, "finish_reason": "stop"}], "usage": usage},
    ]
    with client("chat", [data(*chunks, end="data: [DONE]\n\n")]) as asked:
        question = {"model": "m@p", "messages": [{"role": "user", "content": "Q"}], "stream": True}
        assert list(asked.exchange_stream(question)) == chunks


def test_calls_of_every_round_are_answered_by_their_own_results() -> None:
    def round_of(name: str, said: str) -> list[dict[str, Any]]:
        call = {"id": "call_0", "type": "function", "function": {"name": name, "arguments": "{}"}}
        return [
            {"role": "assistant", "tool_calls": [call]},
            {"role": "tool", "tool_call_id": "call_0", "content": said},
        ]

    history = [{"role": "user", "content": "Q"}, *round_of("f", "1"), *round_of("g", "2")]
    sent: dict[str, Any] = {}
    for dialect in ("chat", "messages", "contents", "lines"):
        fake = FakeTransport([{}])
        config = {"providers": {"p": {"address": "https://p.example/v1", "dialect": dialect}}}
        with agouti.Client(config, transport=fake) as asked, pytest.raises(agouti.AgoutiError):
            asked.ask("m@p", history)
        sent[dialect] = json.loads(fake.requests[0].body or b"")
    tools = [message for message in sent["lines"]["messages"] if message["role"] == "tool"]
    assert [message["tool_name"] for message in tools] == ["f", "g"]
    results = [
        part["functionResponse"]
        for turn in sent["contents"]["contents"]
        for part in turn["parts"]
        if "functionResponse" in part
    ]
    assert results == [{"name": "f", "response": {"result": "1"}}, {"name": "g", "response": {"result": "2"}}]
    blocks = [block for turn in sent["messages"]["messages"][1:] for block in turn["content"]]
    pairs = [(block.get("id") or block["tool_use_id"]) for block in blocks]
    assert pairs == ["call_0", "call_0", "call_0_2", "call_0_2"]
    ids = [(message.get("tool_call_id") or message["tool_calls"][0]["id"]) for message in sent["chat"]["messages"][1:]]
    assert ids == pairs
