"""Values come back as they were written, whatever the type, the means and the dialect; what is broken never changes."""

import datetime
import itertools
import json
import re
import uuid
from dataclasses import dataclass, field, make_dataclass
from decimal import Decimal
from enum import Enum, IntEnum
from types import UnionType
from typing import Annotated, Any, Literal, NamedTuple, TypedDict, get_origin

import msgspec
import pydantic
import pytest
from hypothesis import HealthCheck, Phase, given
from hypothesis import strategies as st

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.dialects.registry import dialect
from agouti.forms.build import form_of
from agouti.forms.plain_values import plain_value
from agouti.testing import FakeTransport

from ..dialects.samples import SAMPLES
from ..examples import examples

# The board answers with what a job left, step by step: test_fill has it by its stand-in.
WAYS = [(name, means) for name in SAMPLES if name != "jobs" for means in dialect(name).abilities.means]


def answered(name: str, answer: str, call: str) -> bytes:
    """The reply of a dialect with an answer as its text, or as the arguments of its one call, by this name."""

    def is_call(value: Any) -> bool:
        return "days_to_frost" in json.dumps(value) and not any(
            is_call(each) for inner in _lists(value) for each in inner
        )

    def changed(value: Any) -> Any:
        if isinstance(value, dict):
            if value == {"place": "Marsh Lane"}:
                return json.loads(answer)
            return {key: changed(each) for key, each in value.items()}
        if isinstance(value, list):
            return [changed(each) for each in value if call or not is_call(each)]
        if isinstance(value, str) and value.startswith("Not yet"):
            return "" if call else answer
        if value == '{"place":"Marsh Lane"}':
            return answer
        return call if value == "days_to_frost" else value

    return json.dumps(changed(json.loads(SAMPLES[name].plain))).encode()


def _lists(value: Any) -> list[list[Any]]:
    if isinstance(value, list):
        return [value]
    return [found for each in value.values() for found in _lists(each)] if isinstance(value, dict) else []


def filled(name: str, means: str, kind: Any, answer: str) -> agouti.Filled[Any]:
    config = {"providers": {"p": {"address": "https://p.example/v1", "dialect": name}}}
    transport = FakeTransport(
        [HttpReply(200, {}, answered(name, answer, form_of(kind).name if means == "tool" else ""))]
    )
    with agouti.Client(config, transport=transport) as client:
        return client.fill("m@p", kind, "x", output_method=means, max_repairs=0)  # type: ignore[arg-type]


class Lot(IntEnum):
    FEW = 1
    MANY = 2


class Mark(Enum):
    GOOD = "good"
    BAD = "bad one"


WORDS = st.text(max_size=6) | st.sampled_from(
    ["<think>no</think>", "```json\n1\n```", "{", '"', "\u2028\n", "null", "NaN"]
)
SCALARS: list[tuple[Any, st.SearchStrategy[Any]]] = [
    (int, st.integers()),
    (bool, st.booleans()),
    (float, st.floats(allow_nan=False, allow_infinity=False)),
    (str, WORDS),
    (Decimal, st.decimals(allow_nan=False, allow_infinity=False, places=3)),
    (datetime.date, st.dates()),
    (datetime.time, st.times()),
    (uuid.UUID, st.uuids()),
    (Literal["pea", "bean", 3], st.sampled_from(["pea", "bean", 3])),
    (Lot, st.sampled_from(Lot)),
    (Mark, st.sampled_from(Mark)),
]
KEYS = st.sampled_from(
    [each for each in SCALARS if each[0] in (int, str, datetime.date, uuid.UUID, Lot, Mark, Decimal)]
)
NAMES = st.lists(
    st.sampled_from(["crop", "value", "items", "class_", "type_", "x1", "name"]), min_size=1, max_size=3, unique=True
)


NUMBERS = itertools.count()


@st.composite
def kinds(draw: st.DrawFn, family: str, depth: int = 0) -> tuple[Any, st.SearchStrategy[Any]]:
    """A type, and its values; structs and pydantic models take none of the other kind into them."""
    ways = ["scalar"] if depth > 2 else ["scalar", "list", "table", "optional", "dataclass", family, "tuple"]
    way = draw(st.sampled_from(ways))
    if way == "scalar":
        return draw(st.sampled_from(SCALARS))
    if way == "table":
        (key, keys), (kind, values) = draw(KEYS), draw(kinds(family, depth + 1))
        return dict[key, kind], st.dictionaries(keys, values, max_size=3)  # type: ignore[valid-type]
    if way in ("list", "optional"):
        kind, values = draw(kinds(family, depth + 1))
        return (list[kind], st.lists(values, max_size=3)) if way == "list" else (kind | None, st.none() | values)  # type: ignore[valid-type]
    names, called = draw(NAMES), f"Made{next(NUMBERS)}"  # two types of one name have no schema
    parts = [draw(kinds(family, depth + 1)) for _ in names]
    if way == "tuple":
        made: Any = NamedTuple(called, [(name, kind) for name, (kind, _) in zip(names, parts, strict=True)])  # type: ignore[misc]
    elif way == "dataclass":
        made = make_dataclass(called, [(name, kind) for name, (kind, _) in zip(names, parts, strict=True)])
    elif way == "struct":
        made = msgspec.defstruct(called, [(name, kind) for name, (kind, _) in zip(names, parts, strict=True)])
    else:
        fields: Any = {name: (kind, ...) for name, (kind, _) in zip(names, parts, strict=True)}
        made = pydantic.create_model(called, **fields)
    return made, st.builds(made, **{name: values for name, (_, values) in zip(names, parts, strict=True)})


@pytest.mark.parametrize(("name", "means"), WAYS)
@examples(25, phases=[Phase.generate], suppress_health_check=list(HealthCheck))
@given(st.data())
def test_random_values_of_random_types_come_back_equal(name: str, means: str, data: st.DataObject) -> None:
    kind, values = data.draw(kinds(data.draw(st.sampled_from(["struct", "model"]))))
    value = data.draw(values)
    plain = plain_value(value)
    # What is no object stands under ``value``; a table may have a key of that name itself.
    wrapped = not isinstance(plain, dict) or get_origin(kind) is UnionType
    if not wrapped and get_origin(kind) is not dict and "value" not in plain:
        wrapped = data.draw(st.booleans())
    answer = {"value": plain} if wrapped else plain
    assert filled(name, means, kind, json.dumps(answer, ensure_ascii=data.draw(st.booleans()))).value == value


@dataclass
class Sowing:
    crop: str
    note: str | None
    counts: list[int]
    share: Decimal
    good: bool


SOWINGS = st.builds(Sowing, WORDS, st.none() | WORDS, st.lists(st.integers(), max_size=3), st.decimals(allow_nan=False, allow_infinity=False, places=2), st.booleans())  # fmt: skip
STRUCTURE = re.compile(r'"(?:[^"\\]|\\.)*"|[\[\]{},:]')


def cut(text: str, place: int) -> str:
    """Without one of the marks that JSON is made of."""
    marks = [mark for match in STRUCTURE.finditer(text) for mark in {match.start(), match.end() - 1}]
    at = marks[place % len(marks)]
    return text[:at] + text[at + 1 :]


DEFECTS: dict[str, Any] = {
    "trailing commas": lambda text, _: re.sub(
        r'("(?:[^"\\]|\\.)*")|(?<=[^\[{ ])([\]}])', lambda m: m[1] or f",{m[2]}", text
    ),
    "literals of another language": lambda text, _: re.sub(
        r'("(?:[^"\\]|\\.)*")|true|false|null',
        lambda m: m[1] or {"true": "True", "false": "False"}.get(m[0], "None"),
        text,
    ),
    "raw line ends": lambda text, _: text.replace("\\n", "\n"),
    "comments": lambda text, _: text.replace('{"crop"', '{ // one\n /* two */ "crop"'),
    "keys without quotes": lambda text, _: re.sub(r'(?<=[{ ])"(crop|note|counts|share|good)":', r"\1:", text),
    "a text": lambda text, _: json.dumps(text),
    "a list of one": lambda text, _: f"[{text}]",
    "a wrapper": lambda text, _: f'{{"Sowing": {text}}}',
    "words around": lambda text, _: f"Here it is:\n\n```json\n{text}\n```\nAnything else?",
    "thoughts": lambda text, _: f"<think>maybe {{}}</think>{text}",
    "a lone end of thoughts": lambda text, _: f"so be it.</think>\n{text}",
    "cut off": lambda text, place: text[: place % len(text)],
    "a mark is missing": cut,
    "twice": lambda text, _: f"{text}\n{text}",
}
MUST_BE_READ = {"a text", "a list of one", "a wrapper", "words around", "twice", "trailing commas", "comments"}


@pytest.mark.parametrize("defect", DEFECTS)
@examples(80)
@given(SOWINGS, st.integers(0, 500))
def test_what_is_broken_is_mended_or_refused_and_never_altered(defect: str, sowing: Sowing, place: int) -> None:
    answer = DEFECTS[defect](json.dumps(plain_value(sowing)), place)
    try:
        assert filled("chat", "prompt", Sowing, answer).value == sowing
    except agouti.NotFilled:
        assert defect not in MUST_BE_READ


class Cat(pydantic.BaseModel):
    kind: Literal["cat"]
    name: str = "x"


class Dog(pydantic.BaseModel):
    kind: Literal["dog"]
    name: str | None


class Pets(pydantic.BaseModel):
    pets: list[Annotated[Cat | Dog, pydantic.Field(discriminator="kind")]]


class Share(pydantic.BaseModel):
    share: Decimal


class Why(TypedDict):
    reasoning: str
    answer: str


@dataclass
class Bed:
    """A bed.

    Attributes:
        length: in metres.
    """

    length: int
    crop: Annotated[str, "what grows there"]
    rows: int = field(default=3, metadata={"description": "how many rows"})
    number: int = field(init=False, default=9)


CROPS = {"type": "array", "items": {"$ref": "#/definitions/Crop"}, "definitions": {"Crop": {"type": "object", "properties": {"n": {"type": "string"}}}}}  # fmt: skip


@pytest.mark.parametrize(
    ("kind", "answer", "value", "mended"),
    [
        (Pets, '{"pets": [{"kind": "dog", "name": null}]}', Pets(pets=[Dog(kind="dog", name=None)]), ()),  # F4
        (Share, '{"share": 12345678901234567.89}', Share(share=Decimal("12345678901234567.89")), ()),  # F5
        (Share, '{"share": 0.1}', Share(share=Decimal("0.1")), ()),
        (int, '{"value": 123456789012345678901}', 123456789012345678901, ()),
        (dict[float, int], '{"1.5": 2}', {1.5: 2}, ()),  # F7
        (dict[bool, int], '{"true": 2}', {True: 2}, ()),
        (CROPS, '[{"n": "pea"}]', [{"n": "pea"}], ()),  # F10
        (Lot, '{"value": "MANY"}', Lot.MANY, ("the name of a choice",)),
        (Literal["bean", "kale"], '"Kale".', "kale", None),
        (datetime.time, "10:30", datetime.time(10, 30), None),
        (Share, "{'share': 1,}", Share(share=Decimal(1)), ("single quotes", "trailing comma")),
        (list[Share], '{"share": 1}\n{"share": 2}', [Share(share=Decimal(1)), Share(share=Decimal(2))], None),
        (str, '{"value": "a <think>b</think> c"}', "a <think>b</think> c", ()),  # F3
    ],
)
def test_value_is_what_was_written(kind: Any, answer: str, value: Any, mended: Any) -> None:
    found = filled("chat", "prompt", kind, answer)
    assert found.value == value
    assert type(found.value) is type(value)
    if mended is not None:
        assert found.repairs_applied == mended
    else:
        assert found.repairs_applied


@pytest.mark.parametrize(
    ("kind", "answer", "words"),
    [
        (float, '{"value": NaN}', "NaN is no number"),
        (float, '{"value": 1e999}', "larger than any number"),
        (str, '{"value": "\\ud83d"}', "half of a letter"),  # F6
        (Bed, '{"length": "long", "crop": 3, "rows": "x"}', "length: .*; crop: .*; rows: "),  # F14
        (list[int], "[[[[" * 5000, "nested too deeply"),
    ],
)
def test_answer_that_cannot_be_is_told_with_all_that_is_wrong(kind: Any, answer: str, words: str) -> None:
    with pytest.raises(agouti.NotFilled, match=words) as wrong:
        filled("chat", "prompt", kind, answer)
    assert wrong.value.partial.text == answer


def test_forms_say_all_that_the_type_says() -> None:
    schema = form_of(Bed).schema
    assert list(schema["properties"]) == ["length", "crop", "rows"]  # F17: what init does not take is not asked for
    assert [each["description"] for each in schema["properties"].values()] == [
        "in metres.", "what grows there", "how many rows"]  # fmt: skip
    assert list(form_of(Why).schema["properties"]) == ["reasoning", "answer"]  # F8
    assert form_of(Literal["low", "medium", "high"]).schema["properties"]["value"]["enum"] == ["low", "medium", "high"]
    assert form_of(list[Any]).schema["properties"]["value"].get("items", {}) == {}  # F9
    with pytest.raises(agouti.RequestError, match="not fetched"):  # F11
        form_of({"type": "object", "properties": {"a": {"$ref": "http://127.0.0.1:1/a.json"}}})


def test_first_answer_survives_the_failure_of_its_repair() -> None:
    wrong, refused = answered("chat", '{"share": "x"}', ""), HttpReply(401, {}, b"{}")
    with agouti.Client.at(
        "https://p.example/v1", transport=FakeTransport([HttpReply(200, {}, wrong), refused])
    ) as client:
        with pytest.raises(agouti.CredentialRefused) as failed:
            client.fill("m", Share, "x", output_method="prompt")
    assert [each.problem for each in failed.value.answers] == ["invalid"]
    assert failed.value.partial.text == '{"share": "x"}'
