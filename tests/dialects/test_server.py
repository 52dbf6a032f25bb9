"""The server's side of the formats: requests come back as they were said, replies mean what they meant."""

import json
from contextlib import suppress
from typing import Any

import msgspec
import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import agouti
from agouti.core.canonical.chat import (
    Choice,
    Citation,
    Completion,
    Message,
    ProviderTurn,
    Request,
    ToolCall,
    ToolFunction,
)
from agouti.core.canonical.usage import Usage
from agouti.core.canonical.vectors import VectorsRequest
from agouti.core.messages.messages import reply_message
from agouti.dialects.prompt.server import NO_MARKERS
from agouti.dialects.registry import dialect, names
from agouti.dialects.server_base import ErrorTold, ReplyHead
from agouti.dialects.server_registry import server_formats
from agouti.dialects.shared.packed_turns import packed, unpacked
from agouti.dialects.shared.server_embeddings import decode_vectors_request, encode_models, encode_vectors
from agouti.dialects.wire import Fault, ListedModel
from agouti.engine.operations.chat import encoded
from agouti.engine.providers.provider import Targets
from agouti.engine.receiving.accumulate import ReplyAccumulator, as_events

from ..examples import examples
from .test_round_trip import ARGUMENTS, FILES, IMAGES, NAMES, TEXTS, WORDS

FORMS = server_formats()
HEAD = ReplyHead(1767225600, "quill-large", "reply-7", Request("almanac", (Message("user", "Peas?"),)))
SCHEMA = {"type": "object", "properties": {"crop": {"type": "string"}}}
TOOL = {"type": "function", "function": {"name": "frost_at", "description": "Days.", "parameters": SCHEMA}}
STRICT = {"type": "function", "function": {**TOOL["function"], "strict": True}}  # type: ignore[dict-item]
FORM = {"type": "json_schema", "json_schema": {"name": "answer", "schema": SCHEMA}}
CHOICE = {"type": "function", "function": {"name": "frost_at"}}
ONE_OF: dict[str, dict[str, list[Any]]] = {
    "chat": {
        "temperature": [0, 0.5],
        "max_tokens": [7],
        "stop": ["#", ["a", "b"]],
        "seed": [7],
        "n": [2],
        "reasoning_effort": ["high"],
        "tools": [[TOOL]],
        "tool_choice": ["required", CHOICE],
        "response_format": [FORM, {"type": "json_object"}],
        "stream_options": [{"include_usage": False}],
        "metadata": [{"bed": "3"}],
    },
    "prompt": {"temperature": [0.5], "max_tokens": [7], "stop": [["a"]], "top_logprobs": [2], "seed": [1], "n": [2]},
    "responses": {
        "temperature": [0.5],
        "max_tokens": [7],
        "reasoning_effort": ["low"],
        "verbosity": ["low"],
        "store": [True],
        "top_logprobs": [2],
        "tools": [[TOOL]],
        "tool_choice": ["auto", CHOICE],
        "response_format": [FORM, {"type": "json_object"}],
        "previous_response_id": ["reply-6"],
        "parallel_tool_calls": [False],
        "metadata": [{"bed": "3"}],
    },
    "messages": {
        "stop": [["a"]],
        "user": ["grower-7"],
        "service_tier": ["auto", "default"],
        "reasoning_effort": ["low", "medium", "high", "adaptive"],
        "reasoning_budget": [2000],
        "tools": [[TOOL], [STRICT], [{**TOOL, "cache_control": {"type": "ephemeral"}}]],
        "response_format": [FORM],
    },
}


def shortest(parts: list[dict[str, Any]]) -> Any:
    return parts[0]["text"] if len(parts) == 1 and parts[0].keys() == {"type", "text"} else parts


@st.composite
def requests(draw: st.DrawFn, form: str) -> Request:
    options = ONE_OF[form]
    chosen = draw(st.lists(st.sampled_from(sorted(options)), unique=True, max_size=4))
    parameters = {name: draw(st.sampled_from(options[name])) for name in chosen}
    if "top_logprobs" in parameters and form != "chat":
        parameters["logprobs"] = True  # one cannot be said without the other
    streams = draw(st.booleans())
    extra = draw(st.dictionaries(st.sampled_from(["weather", "x_club"]), st.integers() | WORDS, max_size=2))
    if form == "prompt":
        return Request("almanac", (Message("user", draw(WORDS)),), parameters, extra, streams, NO_MARKERS)
    if form == "messages":
        parameters["max_tokens"] = 40_000
        if "reasoning_budget" in parameters:
            parameters.pop("reasoning_effort", None)
    if form == "chat" and not streams:
        parameters.pop("stream_options", None)  # goes with streams alone
    plain = st.builds(lambda text: {"type": "text", "text": text}, WORDS)
    texts = plain if form == "responses" else TEXTS
    messages = [Message("system", draw(WORDS))] if draw(st.booleans()) else []
    number = 0
    for _ in range(draw(st.integers(1, 2))):
        parts = [*draw(st.lists(IMAGES | FILES, max_size=2)), *draw(st.lists(texts, min_size=1, max_size=2))]
        messages.append(Message("user", shortest(parts)))
        calls = []
        for _ in range(draw(st.integers(0, 2)) if "tools" in parameters else 0):
            number += 1
            arguments = msgspec.json.encode(draw(ARGUMENTS)).decode()
            calls.append(ToolCall(ToolFunction(draw(NAMES), arguments), f"id-{number}"))
        content = draw(WORDS) if not calls or draw(st.booleans()) else None
        messages.append(Message("assistant", content, tool_calls=tuple(calls)))
        messages += [Message("tool", draw(WORDS), tool_call_id=call.id) for call in calls]
    messages.append(Message("user", draw(WORDS)))
    return Request("almanac", tuple(messages), parameters, extra, streams)


@pytest.mark.parametrize("form", FORMS)
@examples(150, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_a_request_comes_back_as_it_was_said(form: str, data: st.DataObject) -> None:
    request = data.draw(requests(form))
    if request.stream and form in ("chat", "prompt"):  # whoever asks for a stream there is asked for counts
        counts = {**(request.parameters.get("stream_options") or {}), "include_usage": True}
        request = msgspec.structs.replace(request, parameters={**request.parameters, "stream_options": counts})
    body = dialect(form).encode_chat(request).body
    assert FORMS[form].decode_request(json.loads(json.dumps(body))) == request


def test_one_call_at_a_time_where_messages_say_so() -> None:
    for value, told in ((True, False), (False, None)):
        body = {
            "model": "m", "max_tokens": 9, "messages": [{"role": "user", "content": "Q"}],
            "tools": [{"name": "f", "input_schema": SCHEMA}],
            "tool_choice": {"type": "auto", "disable_parallel_tool_use": value},
        }  # fmt: skip
        assert FORMS["messages"].decode_request(body).parameters.get("parallel_tool_calls") is told


TURNS = st.none() | st.builds(lambda word: ProviderTurn("lines", [{"thinking": word, "signature": "s=="}]), WORDS)


@st.composite
def completions(draw: st.DrawFn) -> Completion:
    calls = tuple(
        ToolCall(ToolFunction(draw(NAMES), msgspec.json.encode(draw(ARGUMENTS)).decode()), f"call-{number}")
        for number in range(draw(st.integers(0, 2)))
    )
    text = draw(WORDS) if not calls else draw(st.just("") | WORDS)
    reason = "tool_calls" if calls else draw(st.sampled_from(["stop", "length"]))
    choice = Choice(text, reason, reasoning=draw(st.none() | WORDS), tool_calls=calls, provider_turn=draw(TURNS))
    return Completion((choice,), "quill-large", "reply-1", Usage(25, 17, 42, 5, 3 if choice.reasoning else None))


def told(form: str, completion: Completion, *, thinking: bool = True) -> tuple[Any, ...]:
    """What of a reply every format that has tools can say."""
    choice, usage = completion.choices[0], completion.usage
    assert usage is not None
    calls = [(call.id, call.function.name, json.loads(call.function.arguments or "{}")) for call in choice.tool_calls]
    if form == "prompt":
        calls, thinking = [], False
    reason = "stop" if form == "prompt" and choice.finish_reason == "tool_calls" else choice.finish_reason
    thought = choice.reasoning if thinking else None
    counts = (usage.input_tokens, usage.output_tokens, usage.cached_tokens)
    return (choice.text, reason, thought, calls, completion.model, completion.id, counts)


def streamed(form: str, completion: Completion, cut: int) -> Completion:
    """The same reply as a stream, decoded again by the format's own dialect from pieces of bytes."""
    encoder = FORMS[form].stream_encoder(
        ReplyHead(
            1767225600,
            "quill-large",
            "reply-7",
            Request("almanac", (), {"stream_options": {"include_usage": True}}, stream=True),
        )
    )
    data = b"".join([encoder.of([event]) for event in as_events(completion)]) + encoder.last()
    decoder = dialect(form).stream_decoder()
    assert decoder is not None
    so_far = ReplyAccumulator()
    for at in range(0, len(data), cut):
        so_far.add(decoder.feed(data[at : at + cut]), lambda: 0.0)
    assert decoder.failure is None
    assert decoder.done
    return so_far.completion()


@pytest.mark.parametrize("form", FORMS)
@examples(100, suppress_health_check=list(HealthCheck))
@given(completion=completions(), cut=st.integers(1, 300))
def test_a_reply_means_what_it_meant_whole_and_streamed(form: str, completion: Completion, cut: int) -> None:
    whole = dialect(form).decode_chat(msgspec.json.encode(FORMS[form].encode_reply(completion, HEAD)))
    assert isinstance(whole, Completion)
    assert told(form, whole) == told(form, completion)
    assert told(form, streamed(form, completion, cut)) == told(form, completion)


@pytest.mark.parametrize("form", ["chat", "responses", "messages"])
@examples(60, suppress_health_check=list(HealthCheck))
@given(completion=completions(), stream=st.booleans())
def test_thinking_of_another_provider_comes_back_with_the_turn(form: str, completion: Completion, stream: bool) -> None:
    if stream:
        answer = streamed(form, completion, 1000)
    else:
        answer = dialect(form).decode_chat(msgspec.json.encode(FORMS[form].encode_reply(completion, HEAD)))  # type: ignore[assignment]
    # What the caller's own library keeps of it: here that of the same format, blocks and all.
    if form == "chat":
        raw = FORMS[form].encode_reply(completion, HEAD)["choices"][0]["message"]
        body: Any = {"model": "almanac", "messages": [raw, {"role": "user", "content": "And?"}]}
    else:
        turn = (Message("user", "Peas?"), reply_message(answer.choices[0]), Message("user", "And?"))
        body = dialect(form).encode_chat(Request("almanac", turn)).body
    back = next(m for m in FORMS[form].decode_request(body).messages if m.role == "assistant")
    assert back.provider_turn == completion.choices[0].provider_turn
    names = [call.function.name for call in completion.choices[0].tool_calls]
    assert [call.function.name for call in back.tool_calls] == names
    if back.provider_turn is not None and form != "chat":
        # A provider of the caller's own format does not get what is packed: it would not know the signature.
        own = FORMS[form].own_fields(body, FORMS[form].decode_request(body))[FORMS[form].conversation]
        assert "agouti." not in json.dumps(own)
        assert json.dumps(own[-1]) == json.dumps(body[FORMS[form].conversation][-1])


BLOCKS = [
    {"type": "thinking", "thinking": "Frost.", "signature": "c2ln"},
    {"type": "redacted_thinking", "data": "eHg="},
    {"type": "server_tool_use", "id": "srv-1", "name": "search", "input": {"q": "frost"}},
    {"type": "text", "text": "Wait.", "citations": [{"type": "x", "url": "https://a.example", "cited_text": "q"}]},
    {"type": "tool_use", "id": "functions.frost:0", "name": "frost_at", "input": {"place": "fen"}},
]


def test_blocks_of_a_turn_come_back_word_for_word() -> None:
    body = {
        "model": "almanac",
        "max_tokens": 9,
        "messages": [
            {"role": "user", "content": "Peas?"},
            {"role": "assistant", "content": BLOCKS},
            {"role": "user", "content": [{"type": "tool_result", "tool_use_id": "functions.frost:0", "content": "9"}]},
        ],
    }
    request = FORMS["messages"].decode_request(body)
    sent = dialect("messages").encode_chat(request).body
    assert sent is not None
    assert sent["messages"][1]["content"] == BLOCKS
    items = [
        {"type": "reasoning", "id": "r-1", "summary": [], "encrypted_content": "eHg="},
        {"type": "web_search_call", "id": "w-1", "status": "completed"},
        {"type": "message", "role": "assistant", "content": [{"type": "output_text", "text": "Wait."}]},
        {"type": "function_call", "call_id": "c-1", "name": "frost_at", "arguments": "{}"},
    ]
    asked = {"model": "m", "input": [*items, {"type": "function_call_output", "call_id": "c-1", "output": "9"}]}
    again = dialect("responses").encode_chat(FORMS["responses"].decode_request(asked)).body
    assert again is not None
    assert again["input"][:4] == items


@pytest.mark.parametrize(
    ("form", "body", "words"),
    [
        ("chat", {}, "model"),
        ("chat", {"model": 7, "messages": []}, "model"),
        ("chat", {"model": "m"}, "messages"),
        ("chat", {"model": "m", "messages": {}}, "messages"),
        ("chat", {"model": "m", "messages": ["x"]}, "messages.0"),
        ("chat", {"model": "m", "messages": [{"role": "pirate"}]}, "pirate"),
        ("chat", {"model": "m", "messages": [{"role": "user", "content": 7}]}, "content"),
        ("chat", {"model": "m", "messages": [], "stream": "yes"}, "stream"),
        ("chat", {"model": "m", "messages": [], "temperature": "hot"}, "temperature"),
        ("chat", {"model": "m", "messages": [], "max_tokens": True}, "max_tokens"),
        ("chat", {"model": "m", "messages": [], "stream_options": []}, "stream_options"),
        ("chat", {"model": "m", "messages": [], "tools": [None]}, "tools.0"),
        ("prompt", {"model": "m", "prompt": ["a", "b"]}, "prompt"),
        ("prompt", {"model": "m", "prompt": [1, 2]}, "prompt"),
        ("prompt", {"model": "m", "prompt": "x", "logprobs": "many"}, "logprobs"),
        ("responses", {"model": "m"}, "input"),
        ("responses", {"model": "m", "input": [{"role": "pirate"}]}, "input.0.role"),
        ("responses", {"model": "m", "input": [{"role": "user", "content": [7]}]}, "input.0.content.0"),
        ("responses", {"model": "m", "input": "x", "reasoning": "deep"}, "reasoning"),
        ("responses", {"model": "m", "input": "x", "tools": [7]}, "tools.0"),
        ("messages", {"model": "m", "messages": [{"role": "pirate", "content": ""}]}, "messages.0.role"),
        ("messages", {"model": "m", "messages": [{"role": "user"}]}, "messages.0.content"),
        ("messages", {"model": "m", "messages": [{"role": "user", "content": [{"type": "image"}]}]}, "source"),
        ("messages", {"model": "m", "messages": [], "system": 7}, "system"),
        ("messages", {"model": "m", "messages": [], "thinking": {"type": "enabled", "budget_tokens": "x"}}, "budget"),
        ("messages", {"model": "m", "messages": [], "tools": [{"name": 7}]}, "tools.0.name"),
        ("messages", {"model": "m", "messages": [], "temperature": 9}, "temperature"),
    ],
)
def test_a_wrong_request_says_where(form: str, body: dict[str, Any], words: str) -> None:
    with pytest.raises(agouti.RequestError) as raised:
        FORMS[form].decode_request(body)
    assert words in raised.value.message
    assert raised.value.hint


TARGETS = [
    Targets(agouti.Config.of([agouti.Provider("north", "http://north.example", name)])).of("m@north")
    for name in names()
]
JUNK = st.recursive(
    st.none() | st.booleans() | st.integers(-3, 3) | st.text(max_size=3),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3),
    max_leaves=8,
)
KEYS = st.sampled_from(
    [
        "type",
        "role",
        "content",
        "text",
        "input",
        "source",
        "tool_calls",
        "function",
        "name",
        "arguments",
        "id",
        "tools",
        "tool_choice",
        "thinking",
        "system",
        "summary",
        "encrypted_content",
        "signature",
        "data",
        "media_type",
        "image_url",
        "file",
        "output",
        "call_id",
        "format",
        "reasoning",
        "stop",
    ]
)
ODD = st.recursive(
    JUNK
    | st.sampled_from(
        ["user", "assistant", "tool", "text", "image", "tool_use", "tool_result", "thinking", "message", "reasoning"]
    ),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(KEYS, inner, max_size=4),
    max_leaves=12,
)


@pytest.mark.parametrize("form", FORMS)
@examples(300, suppress_health_check=list(HealthCheck))
@given(
    body=st.dictionaries(KEYS | st.sampled_from(["messages", "input", "prompt"]), ODD, max_size=5),
    turns=st.lists(ODD, max_size=3),
)
def test_odd_requests_are_refused_or_understood(form: str, body: dict[str, Any], turns: list[Any]) -> None:
    asked = {"model": "m", FORMS[form].conversation: turns, **body}
    try:
        request = FORMS[form].decode_request(asked)
        FORMS[form].own_fields(asked, request)
    except agouti.RequestError:
        return
    for target in TARGETS:
        with suppress(agouti.RequestError):  # what it does not have, and what nobody could mean
            msgspec.json.encode(encoded(request, target, target.provider.dialect.encode_chat).body)


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("status", [400, 401, 402, 404, 429, 500, 503, 504])
def test_errors_are_known_again(form: str, status: int) -> None:
    error = ErrorTold(status, "no more peas", identifier="abc")
    body = msgspec.json.encode(FORMS[form].encode_error(error))
    fault = dialect(form).classify(status, {}, body)
    assert fault.message == "no more peas"
    expected = {
        400: agouti.RequestRefused,
        401: agouti.CredentialRefused,
        402: agouti.OutOfCredit,
        404: agouti.ModelUnknown,
        429: agouti.RateLimited,
        503: agouti.Overloaded,
    }
    if status in expected and not (status == 404 and form != "messages"):
        assert fault.kind is expected[status]
    # In the middle of a stream it is known as an error too.
    encoder = FORMS[form].stream_encoder(HEAD)
    data = encoder.of(as_events(Completion((Choice("Peas"),), "m", "i"))) + encoder.failed(error)
    decoder = dialect(form).stream_decoder()
    assert decoder is not None
    events = decoder.feed(data)
    assert any(getattr(event, "text", "") == "Peas" for event in events)
    assert isinstance(decoder.failure, Fault)
    assert decoder.failure.message == "no more peas"


def test_vectors_go_both_ways() -> None:
    request = VectorsRequest("finder", ["peas", "kale"], 3, True, {"weather": "wet"})
    body = dialect("chat").encode_vectors(request).body
    assert body is not None
    assert decode_vectors_request(body) == request
    for vectors in ([[0.5, -1.0], [2.0, 0.0]], [b"\0\0\0?", b"\0\0\x80?"]):
        made = dialect("chat").decode_vectors(msgspec.json.encode(encode_vectors(vectors, "petal", Usage(3))))
        assert not isinstance(made, Fault)
        assert made.vectors == vectors
    for wrong in ({"input": 7}, {"input": []}, {"input": [[1, 2]]}, {"input": "x", "encoding_format": "hex"},
                  {"input": "x", "dimensions": 0}):  # fmt: skip
        with pytest.raises(agouti.RequestError):
            decode_vectors_request({"model": "finder", **wrong})


def test_lists_of_models_go_both_ways() -> None:
    whole = ListedModel(
        name="almanac", context=32_000, input_price=0.27, output_price=0.81, inputs=("text", "image"), outputs=("text",),
        owner="northbank",
    )  # fmt: skip
    bare = ListedModel(name="shed/loam:2b", owner="shed")
    body = msgspec.json.encode(encode_models([whole, bare], 1767225600))
    assert dialect("chat").decode_models(body) == (whole, bare)
    assert dialect("messages").decode_models(body) == (whole, bare)
    assert dialect("messages").encode_more_models(body) is None
    assert encode_models([], 0)["first_id"] is None


def test_packed_turns_survive_damage() -> None:
    assert unpacked(packed(None)) is None
    whole = packed(ProviderTurn("lines", [{"a": "日"}]))
    for damaged in (whole[:-5], "agouti.", "agouti.!!!", whole + "x", "agouti.W10", "agouti.e30"):
        turn = unpacked(damaged)
        assert turn is None or turn.blocks


def test_sources_and_refusals_are_told() -> None:
    choice = Choice("Peas.", "stop", citations=(Citation("https://a.example", "Almanac", "quoted", 0, 4),))
    refused = Choice("", "refusal", refusal="I will not.")
    for form in ("chat", "responses", "messages"):
        for made in (choice, refused):
            completion = Completion((made,), "m", "i", Usage(1, 1, 2))
            whole = dialect(form).decode_chat(msgspec.json.encode(FORMS[form].encode_reply(completion, HEAD)))
            assert isinstance(whole, Completion)
            for again in (whole.choices[0], streamed(form, completion, 50).choices[0]):
                assert [each.address for each in again.citations] == [each.address for each in made.citations]
                assert again.finish_reason == made.finish_reason
                assert (again.refusal or again.text) == (made.refusal or made.text)
