"""What a model is told of a function: from its hints, and from its docstring in whichever style."""

import functools
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import msgspec
import pytest
from pydantic import BaseModel

from agouti.core.errors import RequestError
from agouti.forms.build import Misfit
from agouti.tools.tool import Tool, as_json, result_text, toolbox

from .kinds import Crop, Note, Row


def google(place: str, *, days: list[int] | None = None, deep: bool = False) -> None:
    """Look up the frost.

    More of it here.

    Args:
        place (str): name of the garden,
            as on the sign.
        days: which days: all of them.

    Returns:
        Nothing.
    """


def sphinx(place: str, days: int) -> None:
    """Look up the frost.

    :param place: name of the garden, as on the sign.
    :param int days: which days: all of them.
    :returns: nothing
    """


def numpy_style(place: str, days: int) -> None:
    """Look up the frost.

    Parameters
    ----------
    place : str
        name of the garden,
        as on the sign.
    days : int
        which days: all of them.

    Returns
    -------
    None
    """


@pytest.mark.parametrize("function", [google, sphinx, numpy_style])
def test_docstring_of_any_style_tells_what_the_arguments_are(function: Any) -> None:
    tool = Tool.of(function)
    assert tool.description.startswith("Look up the frost.")
    assert "garden" not in tool.description
    properties = tool.parameters["properties"]
    assert properties["place"] == {"type": "string", "description": "name of the garden, as on the sign."}
    assert properties["days"]["description"] == "which days: all of them."


def bare(anything, count: int = 3):  # type: ignore[no-untyped-def]
    return anything


def rich(
    note: Note,
    crop: Crop,
    unit: Literal["cm", "inch"],
    row: Row | None = None,
    level: Annotated[int, msgspec.Meta(ge=1, le=9)] = 1,
    names: dict[str, int] = {},  # noqa: B006
) -> None:
    """Many kinds."""


class Switch:
    """A thing that can be called."""

    def __call__(self, on: bool) -> str:
        return "on" if on else "off"

    def method(self, on: bool) -> str:
        """Switch it."""
        return self(on)


def test_hints_become_a_schema_and_what_has_none_takes_anything() -> None:
    assert Tool.of(bare).parameters == {
        "type": "object",
        "properties": {"anything": {}, "count": {"type": "integer", "default": 3}},
        "required": ["anything"],
    }
    parameters = Tool.of(rich).parameters
    assert parameters["required"] == ["note", "crop", "unit"]
    assert {"Crop", "Row"} <= parameters["$defs"].keys()
    assert parameters["properties"]["unit"] == {"enum": ["cm", "inch"]}
    assert parameters["properties"]["level"] == {"type": "integer", "minimum": 1, "maximum": 9, "default": 1}
    assert Tool.of(Switch()).name == "Switch"
    assert Tool.of(Switch().method).as_json["function"]["description"] == "Switch it."
    assert Tool.of(Switch().method).read({"on": True}) == {"on": True}


NOTE = {"crop": "pea", "sown": 4, "up": 3, "when": "2026-03-04"}


def test_arguments_come_as_the_function_wants_them() -> None:
    found = Tool.of(rich).read({"note": NOTE, "crop": "bean", "unit": "cm", "row": {"crop": "pea"}, "level": 2.0})
    assert isinstance(found["note"], Note)
    assert found["crop"] is Crop.BEAN
    assert isinstance(found["row"], Row)
    assert (found["level"], found["unit"]) == (2, "cm")
    assert Tool.of(rich).read({"note": NOTE, "crop": "bean", "unit": "cm", "level": None})  # null for what is left out


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        ({}, ["note: is missing", "crop: is missing", "unit: is missing"]),
        ({"note": {}, "crop": "oak", "unit": "m"}, ["note: ", "crop: ", "unit: "]),
        ({"note": NOTE, "crop": "bean", "unit": "cm", "level": 10}, ["level: "]),
        ({"note": NOTE, "crop": "bean", "unit": "cm", "names": {"a": "b"}}, ["names: "]),
        ({"note": NOTE, "crop": "bean", "unit": "cm", "x": 1}, ["x: there is no such argument"]),
        (None, ["no JSON object"]),
        ("text", ["no JSON object"]),
    ],
)
def test_what_does_not_fit_is_said_argument_by_argument(arguments: Any, words: list[str]) -> None:
    with pytest.raises(Misfit) as misfit:
        Tool.of(rich).read(arguments)
    assert len(misfit.value.errors) == len(words)
    assert all(any(word in error for error in misfit.value.errors) for word in words)


def test_schema_of_a_tool_without_function_is_held_to_as_well() -> None:
    lamp = Tool(
        name="lamp", parameters={"type": "object", "properties": {"level": {"type": "integer"}}, "required": ["level"]}
    )
    assert lamp.read({"level": 3}) == {"level": 3}
    with pytest.raises(Misfit, match="level"):
        lamp.read({})


def test_tools_in_the_canonical_form_pass_as_they_are() -> None:
    given = {"type": "function", "function": {"name": "f", "strict": True, "parameters": {}}}
    other = {"type": "web_search", "depth": 3}
    assert as_json([given, other]) == [given, other]
    assert list(toolbox([given, google])) == ["f", "google"]


class Answer(BaseModel):
    days: int


@pytest.mark.parametrize(
    ("value", "text"),
    [
        ("soon", "soon"),
        (17, "17"),
        (None, "done"),
        ([1, "a"], '[1,"a"]'),
        (Answer(days=3), '{"days":3}'),
        (Row(Crop.PEA), '{"crop":"pea","beside":null}'),
        ({1, 2} - {2}, "[1]"),
        (object, "<class 'object'>"),
    ],
)
def test_result_is_text_that_a_model_reads(value: Any, text: str) -> None:
    assert result_text(value) == text


@dataclass
class Sowing:
    """A sowing.

    Attributes:
        crop: what is sown.
    """

    crop: Crop
    depth: int = 2

    def again(self, depth: int) -> int:
        return self.depth + depth


class Order(BaseModel):
    packets: int


def delivered(session: str, crop: str, depth: float = 1.0) -> tuple[str, str, float]:
    """Deliver.

    Args:
        crop: which one.
    """
    return session, crop, depth


@pytest.mark.parametrize(
    ("tool", "name", "wanted", "arguments", "result"),
    [
        (functools.partial(delivered, "s", depth=2.0), "delivered", ["crop"], {"crop": "pea"}, ("s", "pea", 2.0)),
        (
            functools.partial(delivered, crop="kale"),
            "delivered",
            ["session", "depth"],
            {"session": "s"},
            ("s", "kale", 1.0),
        ),
        (
            Tool.of(delivered, hidden={"session": "s"}),
            "delivered",
            ["crop", "depth"],
            {"crop": "pea"},
            ("s", "pea", 1.0),
        ),
        (Sowing, "Sowing", ["crop", "depth"], {"crop": "bean"}, Sowing(Crop.BEAN)),
        (Sowing(Crop.PEA).again, "again", ["depth"], {"depth": 3}, 5),
        (Order, "Order", ["packets"], {"packets": 3}, Order(packets=3)),
    ],
)
def test_whatever_can_be_called_is_a_tool(tool: Any, name: str, wanted: list[str], arguments: Any, result: Any) -> None:
    made = tool if isinstance(tool, Tool) else Tool.of(tool)
    assert made.name == name
    assert list(made.parameters["properties"]) == wanted
    assert made.function is not None
    assert made.function(**made.read(arguments)) == result


def test_words_of_the_docstring_stand_at_enums_too() -> None:
    assert Tool.of(Sowing).parameters["properties"]["crop"]["description"] == "what is sown."


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: Tool.of(Sowing.again), "wants an object"),
        (lambda: Tool.of(delivered, hidden={"sesion": "s"}), "no argument 'sesion' to be hidden"),
        (lambda: Tool.of(Sowing, hidden={"depth": 3}), "can be hidden"),
        (lambda: Tool(name="x", parameters={"type": "objekt"}), "of type 'objekt'"),
        (lambda: Tool.of(max), "max"),
    ],
)
def test_what_cannot_be_a_tool_is_said(make: Any, words: str) -> None:
    with pytest.raises(RequestError, match=words) as wrong:
        make()
    assert wrong.value.hint
