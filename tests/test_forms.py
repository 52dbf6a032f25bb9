"""Forms of the application's own types: names, guidance, what fits and what is said of what does not."""

import subprocess
import sys
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

import pytest
from hypothesis import given
from hypothesis import strategies as st
from jsonschema import Draft202012Validator
from pydantic import BaseModel, Field

from agouti.core.errors import RequestError
from agouti.forms.build import Misfit, form_of
from agouti.standins.forms import Form

from .kinds import KINDS, TEXT, Aliased, Checked, Crop, Grower, Note, Row, Tree


@pytest.mark.parametrize("label", KINDS)
def test_stand_in_fills_any_schema_and_the_type_takes_it(label: str) -> None:
    form = form_of(KINDS[label])
    for seed in range(5):
        value = Form(form.schema, TEXT, seed).value
        assert not list(Draft202012Validator(form.schema).iter_errors(value)), (label, value)
        form.read(value)


@pytest.mark.parametrize(
    ("kind", "name", "wrapped", "description"),
    [
        (Note, "Note", False, "A germination note."),
        (Grower, "Grower", False, "Who borrows seed."),
        (list[Note], "answer", True, ""),
        (Crop, "Crop", True, ""),
        (int, "int", True, ""),
        ({"type": "object", "title": "My form!"}, "My_form_", False, ""),
        ({"type": "object", "description": "Words."}, "answer", False, "Words."),
        ({"type": "string"}, "answer", True, ""),
    ],
)
def test_form_has_a_name_that_providers_take_and_an_object_at_its_root(
    kind: Any, name: str, wrapped: bool, description: str
) -> None:
    form = form_of(kind)
    assert (form.name, form.wrapped, form.description) == (name, wrapped, description)
    assert form.schema["type"] == "object"


@dataclass
class Guided:
    """The guide."""

    depth: Annotated[int, "not for the schema"] = 5
    tags: list[str] = field(default_factory=list)


class Told(BaseModel):
    depth: int = Field(description="in centimetres", ge=1)


def test_descriptions_are_a_part_of_what_the_model_reads() -> None:
    assert form_of(Guided).schema["description"] == "The guide."
    assert form_of(Told).schema["properties"]["depth"]["description"] == "in centimetres"
    assert form_of(Told).schema["properties"]["depth"]["minimum"] == 1


@pytest.mark.parametrize(
    ("kind", "value", "words"),
    [
        (Note, {"crop": "x"}, "sown"),
        (Note, {"crop": 3, "sown": 1, "up": 1, "when": "2026-03-04"}, "crop: Expected str, got int"),
        (Note, {"crop": "x", "sown": 1, "up": 1, "when": "soon"}, "when: "),
        (Note, {"crop": "x", "sown": 1, "up": 1, "when": "2026-03-04", "kind": "oak"}, "kind: "),
        (Row, {"crop": "bean", "beside": {"crop": "oak"}}, "beside.crop: "),
        (list[Note], {"value": [{"crop": 1}]}, "[0].crop"),
        (Checked, {"sown": 1, "up": -2}, "fewer than none"),
        (Aliased, {"seed_count": 0}, "greater than 0"),
        (Aliased, {}, "seedCount: Field required"),
        (Tree, {"name": "a", "parts": [{"parts": []}]}, "parts.0.name: Field required"),
        (Literal["a", "b"], {"value": "c"}, "Invalid enum value"),
        (int, {"value": 3.5}, "Expected int, got float"),
        (int, "3", "Expected int, got str"),
        ({"type": "object", "properties": {"a": {"minimum": 3}}}, {"a": 1}, "a: 1 is less than the minimum of 3"),
        ({"type": "array", "minItems": 2}, {"value": [1]}, "too short"),
    ],
)
def test_what_does_not_fit_is_said_with_its_place(kind: Any, value: Any, words: str) -> None:
    with pytest.raises(Misfit) as misfit:
        form_of(kind).read(value)
    assert any(words in error for error in misfit.value.errors), misfit.value.errors
    assert all("\n" not in error and "`" not in error for error in misfit.value.errors)


@pytest.mark.parametrize(
    ("kind", "value", "read"),
    [
        (int, {"value": 3.0}, 3),
        (int, 3, 3),
        (list[int], [1, 2.0], [1, 2]),
        (Crop, "bean", Crop.BEAN),
        (Row, {"crop": "bean", "beside": None}, Row(Crop.BEAN)),
        (Aliased, {"seedCount": 4}, Aliased(seedCount=4)),
        (set[str], {"value": ["a", "a"]}, {"a"}),
        (float, {"value": 3}, 3.0),
    ],
)
def test_what_means_the_same_is_taken(kind: Any, value: Any, read: Any) -> None:
    found = form_of(kind).read(value)
    assert found == read
    assert type(found) is type(read)


@given(st.recursive(st.none() | st.booleans() | st.floats(allow_nan=False) | st.text(max_size=5), lambda i: st.lists(i, max_size=3) | st.dictionaries(st.sampled_from(["crop", "sown", "up", "when", "value", "x"]), i), max_leaves=8))  # fmt: skip
def test_no_value_raises_anything_but_a_misfit(value: Any) -> None:
    for kind in (Note, Checked, list[Row], Crop, {"type": "object", "properties": {"crop": {"type": "string"}}}):
        with suppress(Misfit):
            form_of(kind).read(value)


@pytest.mark.parametrize(
    "kind", [lambda: 1, "Note", 3, object(), type("Odd", (), {"__annotations__": {"a": "Nowhere"}}), {"type": 3}, {}]
)
def test_what_is_no_type_of_a_value_is_refused_with_a_hint(kind: Any) -> None:
    with pytest.raises(RequestError) as refused:
        form_of(kind)
    assert refused.value.hint


def test_forms_are_made_once() -> None:
    assert form_of(Note) is form_of(Note)
    assert form_of(form_of(Note)) is form_of(Note)


BLOCKED = """
import sys
for name in ("pydantic", "jsonschema", "docstring_parser", "numpy", "pyarrow", "click", "rich"):
    sys.modules[name] = None
import agouti
from agouti import *
from dataclasses import dataclass
from agouti.core.errors import ConfigError, RequestError
from agouti.forms.build import form_of
from agouti.tools.tool import Tool
@dataclass
class Note:
    crop: str
print(form_of(list[Note]).read({"value": [{"crop": "pea"}]}))
def frost(place: str) -> int:
    '''Days to frost.'''
print(Tool.of(frost).as_json["function"]["description"])
for kind in ({"type": "string"},):
    try:
        form_of(kind)
    except ConfigError as error:
        print(error.hint)
try:
    Client.at("https://p.example/v1").embed("m", "x")
except ConfigError as error:
    print(error.hint)
"""


def test_plain_types_need_nothing_that_is_not_installed() -> None:
    done = subprocess.run([sys.executable, "-c", BLOCKED], capture_output=True, text=True, check=True)
    lines = done.stdout.splitlines()
    assert lines[0] == "[Note(crop='pea')]"
    assert lines[1] == "Days to frost."
    assert "agouti-client[forms]" in lines[2]
    assert "agouti-client[arrays]" in lines[3]
