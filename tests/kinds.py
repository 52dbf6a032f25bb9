"""Forty kinds of values, of all shapes, with a text that each can be filled from."""

import datetime
import decimal
import enum
import uuid
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal, NamedTuple, NotRequired, Optional, TypedDict

import msgspec
from pydantic import AnyUrl, BaseModel, ConfigDict, Field, field_validator


class Crop(enum.Enum):
    BEAN = "bean"
    PEA = "pea"
    KALE = "kale"


class Depth(enum.IntEnum):
    SHALLOW = 1
    DEEP = 5


@dataclass
class Note:
    """A germination note."""

    crop: str
    sown: int
    up: int
    when: datetime.date
    remarks: list[str] = field(default_factory=list)
    kind: Crop | None = None


@dataclass
class Row:
    """A row that may have another one beside it."""

    crop: Crop
    beside: Optional["Row"] = None


class Packet(TypedDict):
    crop: str
    seeds: int
    year: NotRequired[int]


class Pair(NamedTuple):
    low: int
    high: int


class Struct(msgspec.Struct):
    crop: str
    depth: Annotated[int, msgspec.Meta(ge=1, le=10, description="centimetres")]


class Address(BaseModel):
    street: str
    number: int | None = None


class Grower(BaseModel):
    """Who borrows seed."""

    name: str = Field(min_length=2, max_length=40, description="as on the card")
    address: Address
    crops: list[Crop] = Field(min_length=1)


class Aliased(BaseModel):
    model_config = ConfigDict(populate_by_name=True)
    seed_count: int = Field(alias="seedCount", gt=0)


class Checked(BaseModel):
    sown: int
    up: int

    @field_validator("up")
    @classmethod
    def not_negative(cls, value: int) -> int:
        if value < 0:
            raise ValueError("fewer than none came up")
        return value


class Bean(BaseModel):
    kind: Literal["bean"]
    canes: int


class Kale(BaseModel):
    kind: Literal["kale"]
    frost: bool


class Bed(BaseModel):
    plants: list[Annotated[Bean | Kale, Field(discriminator="kind")]]


class Tree(BaseModel):
    name: str
    parts: list["Tree"] = []


class Bounded(BaseModel):
    share: float = Field(ge=0, le=1)
    dozen: int = Field(multiple_of=12, gt=0, lt=100)
    code: str = Field(pattern=r"^[A-C]{2}-\d{3}$")


class Rich(BaseModel):
    when: datetime.datetime
    day: datetime.date
    price: decimal.Decimal
    id: uuid.UUID
    page: AnyUrl
    tags: set[str]
    pair: tuple[int, str]
    raw: dict[str, int]


KINDS: dict[str, Any] = {
    "str": str,
    "int": int,
    "float": float,
    "bool": bool,
    "literal": Literal["sown", "up", "eaten"],
    "literal of one": Literal["sown"],
    "literal of numbers": Literal[1, 2, 3],
    "enum": Crop,
    "enum of numbers": Depth,
    "optional": int | None,
    "union": int | str,
    "list of int": list[int],
    "list of str": list[str],
    "list of lists": list[list[int]],
    "set": set[str],
    "tuple": tuple[int, str],
    "dict": dict[str, int],
    "date": datetime.date,
    "annotated": Annotated[int, msgspec.Meta(ge=1, le=9)],
    "annotated by pydantic": Annotated[str, Field(max_length=12)],
    "dataclass": Note,
    "list of dataclass": list[Note],
    "recursive dataclass": Row,
    "typed dict": Packet,
    "named tuple": Pair,
    "msgspec": Struct,
    "nested model": Grower,
    "aliased model": Aliased,
    "checked model": Checked,
    "discriminated union": Bed,
    "union of models": Bean | Kale,
    "recursive model": Tree,
    "bounded model": Bounded,
    "rich model": Rich,
    "list of models": list[Address],
    "schema": {
        "type": "object",
        "properties": {"crop": {"type": "string"}, "seeds": {"type": "integer", "minimum": 1}},
        "required": ["crop"],
    },
    "schema with references": {
        "title": "A shelf!",
        "type": "object",
        "properties": {"top": {"$ref": "#/definitions/place"}, "below": {"type": "array", "items": {"$ref": "#/definitions/place"}}},
        "required": ["top", "below"],
        "additionalProperties": False,
        "definitions": {"place": {"type": "object", "properties": {"packets": {"type": "integer"}}, "required": ["packets"]}},
    },
    "schema of a list": {"type": "array", "items": {"enum": ["bean", "pea"]}, "minItems": 2, "uniqueItems": True},
    "schema of parts": {
        "allOf": [
            {"type": "object", "properties": {"a": {"const": 1}}, "required": ["a"]},
            {"type": "object", "properties": {"b": {"oneOf": [{"type": "string", "maxLength": 9}, {"type": "null"}]}}, "required": ["b"]},
        ]
    },
}  # fmt: skip
TEXT = "Sown 4 March: 24 seeds of kale, bean and pea, 18 of 24 up by 15 March."
