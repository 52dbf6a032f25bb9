"""Values and calls from a real model server: shapes only, never words."""

from dataclasses import dataclass
from enum import Enum
from typing import Any, Literal

import pytest
from pydantic import BaseModel, Field

import agouti

from .test_chat import ADDRESS, KEY, MODEL, config

pytestmark = pytest.mark.skipif(not ADDRESS, reason="AGOUTI_REAL_SERVER is not set")


class Crop(Enum):
    BEAN = "bean"
    PEA = "pea"


class Bed(BaseModel):
    """One bed of a garden."""

    crop: Crop
    rows: int = Field(ge=1, le=9)


class Plot(BaseModel):
    """A plot with beds."""

    owner: Literal["Ann", "Bo"]
    beds: list[Bed] = Field(min_length=1, max_length=2)


@dataclass
class Sown:
    crop: Crop
    deep: bool


NOTE = "Bo has one bed with two rows of pea."
CAPPED: dict[str, Any] = {"max_tokens": 80, "temperature": 0, "max_repairs": 2}


PROBLEMS = {"truncated", "blanks", "invalid", "no json", "broken json", "several", "empty", "no call", "refusal"}


def filled_or_why(client: agouti.Client, kind: Any, **options: Any) -> Any:
    """The value, or what was wrong with the last answer."""
    try:
        return client.fill(MODEL, kind, NOTE, **options).value
    except agouti.NotFilled as error:
        return error.problem


@pytest.mark.parametrize("kind", [Crop, Sown, Bed, Plot, list[Crop], Literal["wet", "dry"]])
def test_schema_holds_the_model_to_the_form(kind: Any) -> None:
    with agouti.Client(config()) as client:
        found = filled_or_why(client, kind, output_method="schema", **CAPPED)
    # The server holds it to the form, but not to an end, and so small a model may not find one.
    assert not isinstance(found, str) or found in ("truncated", "blanks", "wet", "dry")


# An example shows it that there need not be blanks between the parts.
SHOWN: dict[str, Any] = {
    **CAPPED,
    "examples": [("Ann has one bed with three rows of bean.", '{"crop":"bean","rows":3}')],
}


def test_value_grows_on_the_way() -> None:
    with (
        agouti.Client(config()) as client,
        client.stream_fill(MODEL, Bed, NOTE, output_method="schema", **SHOWN) as growing,
    ):
        seen = [dict(value) for value in growing]
        filled = growing.filled
    assert isinstance(filled.value, Bed)
    assert len(seen) > 2
    assert seen[-1] == {"crop": filled.value.crop.value, "rows": filled.value.rows}


def days_to_frost(place: Literal["Marsh Lane", "Fen End"]) -> int:
    """Days until the last frost at a place."""
    return 17


def test_function_is_called_when_it_has_to_be() -> None:
    with agouti.Client(config()) as client:
        reply = client.ask(
            MODEL,
            "How many days to the last frost at Marsh Lane?",
            tools=[days_to_frost],
            tool_choice="required",
            max_tokens=80,
            temperature=0,
        )
    assert {call.name for call in reply.calls} == {"days_to_frost"}
    assert reply.calls[0].arguments["place"] in ("Marsh Lane", "Fen End")
    assert reply.finish_reason in ("tool_calls", "length")


@pytest.mark.parametrize("dialect", ["responses", "messages"])
def test_other_dialects_fill_by_what_the_server_has(dialect: str) -> None:
    key = agouti.GivenKey(agouti.Secret(KEY)) if KEY else None
    other = agouti.Config.of([agouti.Provider("real", f"{ADDRESS}/v1", dialect, key)])
    with agouti.Client(other) as client:
        found = filled_or_why(client, Bed, max_tokens=80, temperature=0, max_repairs=2)
    # What the server does not hold to the form, so small a model need not get right: but it is told apart.
    assert isinstance(found, Bed) or found in PROBLEMS
