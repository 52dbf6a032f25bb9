"""Schemas fitted to providers, and values fitted back: on schemas of all shapes."""

import json
import random
from functools import cache
from typing import Any

import pytest
from jsonschema import Draft202012Validator

from agouti.core.schemas.fit import fitted, restored
from agouti.forms.build import form_of
from agouti.standins.forms import Form
from agouti.standins.schemas import strict_complaint

from ..kinds import KINDS, TEXT

OPEN = {"dict", "rich model", "tuple", "named tuple"}


def made(chance: random.Random, depth: int = 0) -> dict[str, Any]:
    """A random schema, every keyword that it uses in the right place."""
    kind = chance.choice(
        ["string", "integer", "number", "boolean", "enum", "const", "null or"] + ["object", "array"] * (depth < 3)
    )
    if kind == "string":
        return {
            "type": "string",
            **chance.choice(
                [{}, {"minLength": 3}, {"maxLength": 9}, {"format": "date"}, {"pattern": "^[A-C]{2}[0-9]$"}]
            ),
        }
    if kind == "integer":
        return {
            "type": "integer",
            **chance.choice([{}, {"minimum": 2, "maximum": 9}, {"multipleOf": 5}, {"exclusiveMinimum": 40}]),
        }
    if kind == "number":
        return {"type": "number", **chance.choice([{}, {"minimum": 0.5, "maximum": 0.75}, {"exclusiveMaximum": -2}])}
    if kind == "boolean":
        return {"type": "boolean", "description": "whether it is so"}
    if kind == "enum":
        return {"enum": chance.choice([["bean", "pea"], [1, 2, 3], ["kale", None]])}
    if kind == "const":
        return {"const": chance.choice(["x", 7, True])}
    if kind == "null or":
        return {chance.choice(["anyOf", "oneOf"]): [made(chance, depth + 1), {"type": "null"}]}
    if kind == "array":
        return {
            "type": "array",
            "items": made(chance, depth + 1),
            **chance.choice([{}, {"minItems": 1, "maxItems": 2}]),
        }
    names = chance.sample(["crop", "sown", "up", "when", "note", "kind"], chance.randint(1, 4))
    properties = {name: made(chance, depth + 1) for name in names}
    found: dict[str, Any] = {
        "type": "object",
        "properties": properties,
        "required": [n for n in names if chance.random() < 0.6],
    }
    if chance.random() < 0.3:
        found["additionalProperties"] = False
    if depth == 0 and chance.random() < 0.4:
        found["$defs"] = {"place": made(chance, 2)}
        found["properties"]["place"] = {"$ref": "#/$defs/place"}
    return found


@cache
def schemas() -> list[dict[str, Any]]:
    chance = random.Random(3)
    found = []
    while len(found) < 300:
        schema = made(chance)
        if schema.get("type") == "object":
            found.append(schema)
    return found


def an_object(required: list[str] | None = None, **properties: Any) -> dict[str, Any]:
    return {"type": "object", "properties": properties, "required": list(properties) if required is None else required}


NUMBER, WORD = {"type": "integer"}, {"type": "string"}
BEAN, KALE = an_object(kind={"const": "bean"}, canes=NUMBER, note=WORD), an_object(["kind"], kind={"const": "kale"}, canes=WORD)  # fmt: skip


@pytest.mark.parametrize(
    ("schema", "closed"),
    [
        # Parts that all hold are one object: what each requires is required, and only the rest may be null.
        ({"allOf": [an_object(["a"], a=NUMBER), an_object([], b=WORD)]}, {"a": NUMBER, "b": {"anyOf": [WORD, {"type": "null"}]}}),
        ({"allOf": [an_object(a=NUMBER)], "properties": {"b": WORD}, "required": ["b"]}, {"a": NUMBER, "b": WORD}),
        (an_object(a={"type": "array", "prefixItems": [NUMBER, WORD]}), None),  # a strict provider cannot take it
        (an_object(a={"type": "array"}), None),
        (an_object(a={}), None),
        ({"type": "object", "patternProperties": {"^a": NUMBER}}, None),
    ],
)  # fmt: skip
def test_what_closes_and_what_does_not(schema: dict[str, Any], closed: dict[str, Any] | None) -> None:
    found, whole = fitted(schema, "closed")
    assert whole is (closed is not None)
    assert closed is None or found["properties"] == closed
    assert closed is None or sorted(found["required"]) == sorted(closed)


@pytest.mark.parametrize(
    ("value", "kept"),
    [
        ({"kind": "kale", "canes": None}, {"kind": "kale"}),  # there it is optional
        ({"kind": "bean", "canes": None, "note": "x"}, {"kind": "bean", "canes": None, "note": "x"}),
    ],
)
def test_branches_are_told_by_their_constants(value: dict[str, Any], kept: dict[str, Any]) -> None:
    for union in ("anyOf", "oneOf"):
        for branches in ([BEAN, KALE], [KALE, BEAN]):
            assert restored(dict(value), {union: branches}) == kept


@pytest.mark.parametrize("style", ["closed", "bare", "inlined", "open"])
def test_value_for_the_fitted_schema_is_one_for_the_real_one(style: Any) -> None:
    for number, schema in enumerate(schemas()):
        Draft202012Validator.check_schema(schema)
        changed, whole = fitted(schema, style)
        Draft202012Validator.check_schema(changed)
        assert whole
        if style == "closed":
            assert strict_complaint(changed) is None, (schema, changed)
        elif style == "inlined":
            assert "$ref" not in json.dumps(changed)
        value = Form(changed, TEXT, number).value
        assert Draft202012Validator(changed).is_valid(value), (changed, value)
        back = restored(value, schema)
        assert not list(Draft202012Validator(schema).iter_errors(back)), (schema, value, back)


@pytest.mark.parametrize("label", KINDS)
def test_schemas_of_types_are_closed_where_they_can_be(label: str) -> None:
    form = form_of(KINDS[label])
    assert form.schema.get("type") == "object" or "properties" in form.schema or "allOf" in form.schema
    changed, whole = fitted(form.schema, "closed")
    assert whole == (label not in OPEN)
    if whole:
        assert strict_complaint(changed) is None
    inlined, _ = fitted(form.schema, "inlined")
    assert ("$ref" in json.dumps(inlined)) == ("recursive" in label)
    assert form.read(Form(changed, TEXT).value) is not None or label == "optional"


def test_what_is_no_keyword_for_strict_providers_is_said_in_the_description() -> None:
    schema = {
        "type": "object",
        "title": "T",
        "$comment": "not for models",
        "properties": {
            "code": {"type": "string", "minLength": 2, "description": "as printed", "default": "x"},
            "tags": {"type": "array", "items": {"type": "string"}, "uniqueItems": True},
        },
        "required": ["code", "tags"],
    }
    properties = fitted(schema, "closed")[0]["properties"]
    assert properties["code"] == {"type": "string", "description": 'as printed. minLength: 2. default: "x"'}
    assert properties["tags"] == {"type": "array", "items": {"type": "string"}, "description": "uniqueItems: true"}
    assert "$comment" not in fitted(schema, "open")[0]
    assert schema["properties"]["code"]["default"] == "x"  # type: ignore[index]  # the caller's own is not touched


def test_bounds_are_words_where_a_format_has_none_and_unknown_formats_everywhere() -> None:
    rows = {"type": "integer", "minimum": 1, "maximum": 9, "description": "in all"}
    seeds = {"type": "array", "items": rows, "minItems": 2, "maxItems": 3}
    link = {"type": "string", "format": "uri"}
    schema = {"type": "object", "properties": {"seeds": seeds, "link": link}, "required": ["seeds", "link"]}
    bare = fitted(schema, "bare")[0]["properties"]
    assert bare["seeds"] == {
        "type": "array",
        "items": {"type": "integer", "description": "in all. minimum: 1. maximum: 9"},
        "description": "minItems: 2. maxItems: 3",
    }
    closed = fitted(schema, "closed")[0]["properties"]
    assert closed["seeds"] == seeds
    assert closed["link"] == bare["link"] == {"type": "string", "description": 'format: "uri"'}


@pytest.mark.parametrize(
    "schema",
    [
        {"type": "object"},
        {"type": "object", "additionalProperties": {"type": "integer"}},
        {"type": "object", "properties": {"a": {}}},
        {"type": "object", "properties": {"a": {"not": {"type": "string"}, "type": "string"}}},
        {"type": "object", "properties": {"a": {"type": "array", "prefixItems": [{"type": "string"}]}}},
        {"type": "object", "patternProperties": {"^a": {"type": "string"}}},
        {"type": "array", "items": {"type": "string"}},
    ],
)
def test_what_cannot_be_closed_stays_as_it_is(schema: dict[str, Any]) -> None:
    assert fitted(schema, "closed") == (schema, False)


@pytest.mark.parametrize(
    ("schema", "value", "back"),
    [
        ({"properties": {"a": {"type": "string"}}}, {"a": None}, {}),
        ({"properties": {"a": {"type": "string"}}, "required": ["a"]}, {"a": None}, {"a": None}),
        ({"properties": {"a": {"type": ["string", "null"]}}}, {"a": None}, {"a": None}),
        ({"properties": {"a": {"enum": ["x", None]}}}, {"a": None}, {"a": None}),
        ({"properties": {"a": {}}}, {"a": None}, {"a": None}),
        ({"properties": {"a": {"type": "string"}}}, {"b": None}, {"b": None}),
        ({"items": {"properties": {"a": {"type": "string"}}}}, [{"a": None}, {"a": "x"}], [{}, {"a": "x"}]),
        ({"prefixItems": [{"properties": {"a": {"type": "string"}}}]}, [{"a": None}], [{}]),
        ({"$ref": "#/$defs/b", "$defs": {"b": {"properties": {"a": {"type": "string"}}}}}, {"a": None}, {}),
        ({"allOf": [{"properties": {"a": {"type": "string"}}}, {"properties": {"b": {"type": "string"}}}]}, {"a": None, "b": None}, {}),
        ({"anyOf": [{"properties": {"a": {"type": "string"}}}, {"properties": {"b": {"type": "null"}}}]}, {"b": None}, {"b": None}),
        ("anything", {"a": None}, {"a": None}),
    ],
)  # fmt: skip
def test_nulls_that_only_closing_had_demanded_are_taken_out(schema: Any, value: Any, back: Any) -> None:
    assert restored(value, schema if isinstance(schema, dict) else {}) == back
