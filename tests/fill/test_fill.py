"""Values of the application's own types, on every dialect, by every means that it has."""

import asyncio
import json
from copy import deepcopy
from typing import Any, Literal

import pytest

import agouti
from agouti.dialects.registry import dialect
from agouti.forms.build import form_of
from agouti.standins import Served
from agouti.testing import AsyncFakeTransport, FakeTransport

from ..dialects.samples import data
from ..dialects.test_contract import MODELS
from ..kinds import KINDS, TEXT, Checked, Crop, Note, Row

MEANS = [(name, means) for name in MODELS if name != "board" for means in dialect(name).abilities.means] + [
    ("board", "prompt")
]


def fill(kind: str, config: Any, *arguments: Any, **options: Any) -> agouti.Filled[Any]:
    if kind == "sync":
        with agouti.Client(config) as client:
            return client.fill(*arguments, **options)

    async def go() -> agouti.Filled[Any]:
        async with agouti.AsyncClient(config) as client:
            return await client.fill(*arguments, **options)

    return asyncio.run(go())


@pytest.mark.parametrize(("name", "means"), MEANS)
def test_forty_kinds_by_every_means_of_every_dialect(served: Served, name: str, means: str) -> None:
    assert len(KINDS) >= 39
    with agouti.Client(served.config) as client:
        for label, kind in KINDS.items():
            if name == "messages" and means == "schema" and label in OPEN:
                continue
            filled = client.fill(MODELS[name], kind, TEXT, output_method=means)  # type: ignore[arg-type]
            assert filled.output_method == means, label
            assert len(filled.answers) == 1, label
            # The value is what the type itself makes of its own JSON, not only something that passed.
            again = json.loads(json.dumps(_plain(filled.value)))
            assert _plain(form_of(kind).check(again)) == _plain(filled.value), label


# Tables of any keys cannot be held to a closed schema, and this dialect has no other.
OPEN = {"dict", "rich model", "tuple", "named tuple", "schema of parts"}


def _plain(value: Any) -> Any:
    import msgspec
    from pydantic import BaseModel

    if isinstance(value, BaseModel):
        return value.model_dump(mode="json", by_alias=True)
    if isinstance(value, (list, set, tuple)):
        return (
            sorted((_plain(each) for each in value), key=str)
            if isinstance(value, set)
            else [_plain(each) for each in value]
        )
    return msgspec.to_builtins(value)


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_facts_come_from_the_text(served: Served, kind: str) -> None:
    filled = fill(kind, served.config, "almanac", Note, TEXT)
    note = filled.value
    assert isinstance(note, Note)
    assert (note.crop, note.sown, note.up, note.when.isoformat(), note.kind) == (
        "kale",
        24,
        18,
        "2026-03-04",
        Crop.BEAN,
    )
    assert filled.output_method == "schema"
    assert filled.usage.output_tokens == filled.reply.usage.output_tokens
    assert filled.cost == filled.reply.cost


@pytest.mark.parametrize("kind", ["sync", "async"])
@pytest.mark.parametrize(
    ("model", "means", "tries"),
    [
        ("quill-large+fenced@northbank", None, [("schema", "")]),
        ("quill-large+thinking@northbank", None, [("schema", "")]),
        ("quill-large+twice@northbank", None, [("schema", "")]),
        ("quill-large+invalid=1@northbank", None, [("schema", "invalid"), ("schema", "")]),
        ("quill-large+broken=1@northbank", None, [("schema", "broken json"), ("schema", "")]),
        ("quill-large+prose=1@northbank", "prompt", [("prompt", "no json"), ("prompt", "")]),
        ("quill-large+nothing=1@northbank", "json", [("json", "empty"), ("json", "")]),
        ("envelope-2+invalid=1@letterbox", "tool", [("tool", "invalid"), ("tool", "")]),
        ("quill-large+broken=1@northbank", "tool", [("tool", "broken json"), ("tool", "")]),
        ("valley-4+unknown-tool=1@echo", "tool", [("tool", "no call"), ("tool", "")]),
        ("hull.deck-2:0+invalid=1@quay", None, [("tool", "invalid"), ("tool", "")]),
        ("narrow-3+invalid=1@canal", "tool", [("tool", "invalid"), ("tool", "")]),
        ("quill-large+invalid=2@northbank", None, [("schema", "invalid"), ("schema", "invalid")]),
        ("quill-large+truncated@northbank", None, [("schema", "truncated")]),
        ("quill-large+refusal@northbank", None, [("schema", "refusal")]),
        ("envelope-2+refusal@letterbox", None, [("schema", "refusal")]),
        ("narrow-3+refusal@canal", None, [("schema", "refusal")]),
        ("loam-2b:latest+prose@barn", None, [("schema", "no json"), ("schema", "no json")]),
    ],
)
def test_what_does_not_fit_goes_back_once_and_is_told_apart(
    served: Served, kind: str, model: str, means: Any, tries: list[tuple[str, str]]
) -> None:
    options = {"output_method": means} if means else {}
    if tries[-1][1]:
        with pytest.raises(agouti.NotFilled) as failed:
            fill(kind, served.config, model, Note, TEXT, **options)
        found = failed.value.answers
        assert failed.value.problem == tries[-1][1]
        assert failed.value.problem in failed.value.message
        assert failed.value.hint
        assert failed.value.partial is found[-1].reply
    else:
        found = fill(kind, served.config, model, Note, TEXT, **options).answers
    assert [(each.output_method, each.problem) for each in found] == tries
    assert all(bool(each.errors) == bool(each.problem) for each in found)


def test_more_repairs_where_they_are_wished(served: Served) -> None:
    with agouti.Client(served.config) as client:
        assert len(client.fill("quill-large+invalid=3@northbank", Note, TEXT, max_repairs=3).answers) == 4
        with pytest.raises(agouti.NotFilled):
            client.fill("quill-large+invalid=1@northbank", Note, TEXT, max_repairs=0)


def chat(content: str, **more: Any) -> dict[str, Any]:
    return {"choices": [{"message": {"content": content}, "finish_reason": "stop", **more}]}


def test_errors_of_the_type_itself_go_back_in_words() -> None:
    fake = FakeTransport([chat('{"sown": 4, "up": -1}'), chat('{"sown": 4, "up": 3}')])
    with agouti.Client.at("https://p.example/v1", transport=fake) as client:
        filled = client.fill("m", Checked, "Four sown.")
    assert filled.value == Checked(sown=4, up=3)
    sent = json.loads(fake.requests[1].body or b"")["messages"]
    assert [message["role"] for message in sent] == ["user", "assistant", "user"]
    assert "up: Value error, fewer than none came up" in sent[2]["content"]


def test_refused_means_are_stepped_down_and_remembered() -> None:
    def refused(what: str) -> Any:
        from agouti.core.http.exchange import HttpReply

        return HttpReply(400, {}, json.dumps({"error": {"message": what}}).encode())

    answer = chat("4")
    answers = [
        refused("Invalid parameter: 'response_format' of type 'json_schema' is not supported with this model."),
        refused("tools are not supported by this model"),
        answer,
        answer,
    ]
    fake = FakeTransport(answers)
    with agouti.Client.at("https://p.example/v1", transport=fake) as client:
        assert [client.fill("m", int, "How many?").output_method for _ in range(2)] == ["json", "json"]
    bodies = [json.loads(request.body or b"") for request in fake.requests]
    assert [sorted(body.keys() - {"model", "messages"}) for body in bodies] == [
        ["response_format"], ["tool_choice", "tools"], ["response_format"], ["response_format"],
    ]  # fmt: skip
    assert "JSON Schema" in bodies[2]["messages"][0]["content"]
    given = FakeTransport(answers[:1])
    with agouti.Client.at("https://p.example/v1", transport=given) as client, pytest.raises(agouti.RequestRefused):
        client.fill("m", int, "How many?", output_method="schema")
    other = FakeTransport([refused("the prompt must be polite")])
    with agouti.Client.at("https://p.example/v1", transport=other) as client, pytest.raises(agouti.RequestRefused):
        client.fill("m", int, "How many?")


def test_means_that_one_form_is_refused_for_are_there_for_the_next() -> None:
    from agouti.core.http.exchange import HttpReply

    refusal = HttpReply(
        400, {}, b'{"error": {"message": "Invalid schema for response_format: pattern is not supported"}}'
    )
    fake = FakeTransport([refusal, chat('{"value": "wet"}'), chat('{"value": 4}'), chat('{"value": "dry"}')])
    with agouti.Client.at("https://p.example/v1", transport=fake) as client:
        kinds = [Literal["wet", "dry"], int, Literal["wet", "dry"]]
        assert [client.fill("m", kind, "How is it?").output_method for kind in kinds] == ["tool", "schema", "tool"]


def test_model_that_only_writes_blanks_is_told_the_form_in_words() -> None:
    blanks = chat("{" + " \n\t" * 90, finish_reason="length")
    fake = FakeTransport([blanks, chat('{"value": 4}')])
    with agouti.Client.at("https://p.example/v1", transport=fake) as client:
        filled = client.fill("m", int, "How many?", max_tokens=90)
    assert [each.problem for each in filled.answers] == ["blanks", ""]
    sent = json.loads(fake.requests[1].body or b"")
    assert [message["role"] for message in sent["messages"]] == ["user"]
    assert "JSON Schema" in sent["messages"][0]["content"]
    assert sent["response_format"]["type"] == "json_schema"


def test_parameter_that_an_entry_does_without_is_no_means() -> None:
    from agouti.core.http.exchange import HttpReply

    refused = HttpReply(400, {}, b'{"error": {"message": "unknown", "param": "response_format"}}')
    fake = FakeTransport([refused, chat("It depends."), chat(None, finish_reason="stop"), chat("4")])  # type: ignore[arg-type]
    entry = {"providers": {"p": {"address": "https://p.example/v1", "unsupported": "warn"}}}
    with agouti.Client(entry, transport=fake) as client, pytest.warns(agouti.AgoutiWarning):
        filled = client.fill("m@p", int, "How many?", max_repairs=2)
    assert filled.value == 4
    sent = [sorted(json.loads(request.body or b"").keys() - {"model", "messages"}) for request in fake.requests]
    assert sent == [["response_format"], [], ["tool_choice", "tools"], ["tool_choice", "tools"]]


def test_entry_says_which_means_a_model_has() -> None:
    config = {"providers": {"p": {"address": "https://p.example/v1"}}, "models": {"x": {"provider": "p", "name": "m", "output_methods": ["prompt"]}}}  # fmt: skip
    with agouti.Client(config, transport=FakeTransport([chat("```json\n[1, 2]\n```")])) as client:
        filled = client.fill("x", list[int], "Which?")
    assert (filled.value, filled.output_method) == ([1, 2], "prompt")


def test_several_fitting_values_are_no_answer() -> None:
    two = chat('{"sown": 4, "up": 3} or {"sown": 5, "up": 3}')
    fake = FakeTransport([two, two])
    with agouti.Client.at("https://p.example/v1", transport=fake) as client, pytest.raises(agouti.NotFilled) as several:
        client.fill("m", Checked, "How many?")
    assert several.value.problem == "several"
    assert "list" in several.value.hint
    one = chat('An example is {"rain": 3}. The note: {"sown": 4, "up": 3}')
    with agouti.Client.at("https://p.example/v1", transport=FakeTransport([one])) as client:
        assert client.fill("m", Checked, "How many?").value.sown == 4


@pytest.mark.parametrize(
    ("kind", "options", "words"),
    [
        (lambda x: x, {}, "cannot be made into a form"),
        ({}, {}, "empty"),
        ({"type": "quantity"}, {}, "wrong at type"),
        (int, {"output_method": "magic"}, "output_method = .magic. is unknown"),
        (int, {"max_repairs": -1}, "max_repairs = -1"),
        (int, {"max_repairs": "2"}, "max_repairs = '2'"),
        (int, {"tools": [{"type": "function", "function": {"name": "f"}}]}, "tools"),
        (int, {"response_format": {"type": "text"}}, "response_format"),
    ],
)
def test_what_cannot_be_filled_is_said_before_anything_is_sent(kind: Any, options: Any, words: str) -> None:
    with (
        agouti.Client.at("https://p.example/v1", transport=FakeTransport([])) as client,
        pytest.raises(agouti.RequestError, match=words) as wrong,
    ):
        client.fill("m", kind, "How many?", **options)
    assert wrong.value.hint


@pytest.mark.parametrize("kind", ["sync", "async"])
@pytest.mark.parametrize(
    "model",
    [
        *MODELS.values(),
        "quill-large+thinking@northbank",
        "quill-large+fenced@northbank",
        "quill-large+invalid=1@northbank",
    ],
)
def test_value_grows_until_it_is_whole(served: Served, kind: str, model: str) -> None:
    # The containers are the same objects all the time: what was seen has to be copied.
    seen: list[Any] = []

    async def go() -> agouti.Filled[Any]:
        async with agouti.AsyncClient(served.config) as client, client.stream_fill(model, list[Note], TEXT) as growing:
            seen.extend([deepcopy(value) async for value in growing])
            return growing.filled

    if kind == "sync":
        with agouti.Client(served.config) as client, client.stream_fill(model, list[Note], TEXT) as growing:
            seen.extend(deepcopy(value) for value in growing)
            filled = growing.filled
    else:
        filled = asyncio.run(go())
    assert filled.value[0].sown == 24
    assert filled.reply.text or filled.reply.completion.choices[0].tool_calls
    sizes = [len(json.dumps(value)) for value in seen]
    if "invalid" not in model:
        assert seen[-1][0]["sown"] == 24
        assert len(seen) > (0 if "mill" in model or kind == "async" else 5)
        assert sizes == sorted(sizes)


CHOSEN = {
    "type": "object",
    "properties": {
        "note": {"type": "string"},
        "format": {"type": "string"},
        "when": {"anyOf": [{"enum": ["early", "late"]}, {"type": "null"}]},
        "on": {"$ref": "#/$defs/Day"},
        "free": {"anyOf": [{"enum": ["flat"]}, {"type": "string"}]},
        "depths": {"type": "array", "items": {"const": "deep"}},
        "beds": {"type": "object", "additionalProperties": {"type": "string", "format": "uuid"}},
    },
    "$defs": {"Day": {"type": "string", "format": "date"}},
}


@pytest.mark.parametrize(
    ("value", "half"),
    [
        ({"note": "dry"}, {"note": "dr"}), ({"when": "early"}, {}), ({"on": "2026-03-01"}, {}), ({"free": "flat"}, {"free": "fla"}),
        ({"format": "wide"}, {"format": "wid"}), ({"depths": ["deep"]}, {"depths": []}), ({"beds": {"one": "11111111-2222-3333-4444-555555555555"}}, {"beds": {}}),
    ],
)  # fmt: skip
def test_choices_and_dates_appear_once_they_are_whole(value: Any, half: Any) -> None:
    pieces = [data({"choices": [{"index": 0, "delta": {"content": letter}}]}) for letter in json.dumps(value)]
    pieces.append(data({"choices": [{"index": 0, "delta": {}, "finish_reason": "stop"}]}, end="data: [DONE]\n\n"))
    with agouti.Client.at("https://p.example/v1", transport=FakeTransport([pieces])) as client:
        seen = [deepcopy(each) for each in client.stream_fill("m", CHOSEN, "x", output_method="prompt")]
    assert half in seen
    assert seen[-1] == value
    if half in ({}, {"depths": []}, {"beds": {}}):
        assert {json.dumps(each) for each in seen} <= {"{}", json.dumps(half), json.dumps(value)}


@pytest.mark.parametrize("kind", ["sync", "async"])
@pytest.mark.parametrize("place", ["Bed one", "Bed [1]"])
def test_items_of_a_list_come_one_by_one_of_its_own_type(kind: str, place: str) -> None:
    text = f"{place}: {json.dumps([{'crop': 'pea', 'beside': None}] * 3)} That is all."
    pieces = [data({"choices": [{"index": 0, "delta": {"content": letter}}]}) for letter in text]
    pieces.append(data({"choices": [{"index": 0, "delta": {}, "finish_reason": "stop"}]}, end="data: [DONE]\n\n"))
    options: Any = {"output_method": "prompt", "max_repairs": 0}
    seen: list[tuple[Any, int]] = []

    async def go() -> list[Row]:
        fake = AsyncFakeTransport([pieces])
        async with agouti.AsyncClient.at("https://p.example/v1", transport=fake) as client:
            growing = client.stream_fill("m", list[Row], "x", **options)
            seen.extend([(item, len(growing.reply.text)) async for item in growing.items()])
            return growing.filled.value

    if kind == "async":
        value = asyncio.run(go())
    else:
        with agouti.Client.at("https://p.example/v1", transport=FakeTransport([pieces])) as client:
            growing = client.stream_fill("m", list[Row], "x", **options)
            seen.extend((item, len(growing.reply.text)) for item in growing.items())
            value = growing.filled.value
    assert [item for item, _ in seen] == value == [Row(Crop.PEA)] * 3
    lengths = [length for _, length in seen]
    if "[" not in place:  # what might have been the list is known for another at the end only
        assert lengths[0] < lengths[1] < lengths[2] < len(text)
