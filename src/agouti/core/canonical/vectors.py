"""Texts to be turned into vectors, and what comes back, before any array is made of it."""

from typing import TypeAlias

from msgspec import Struct

from .chat import Json
from .usage import Usage

Vector: TypeAlias = list[float] | bytes
"""Numbers, or the bytes of little-endian 32-bit floats, which cost a fraction of them."""


class VectorsRequest(Struct, frozen=True, gc=False):
    """A request for vectors.

    Attributes:
        dimensions: how long they are to be; the model's own length where not given.
        base64: ask for them as base64, where the format can.
        extra: goes into the body untouched.
    """

    model: str
    texts: list[str]
    dimensions: int | None = None
    base64: bool = False
    extra: dict[str, Json] = {}


class Vectors(Struct, frozen=True):
    """Vectors as they came, in the order of the texts."""

    vectors: list[Vector]
    model: str | None = None
    usage: Usage | None = None
