"""What lists of models and replies with vectors are made of; loaded with the first of them."""

import math
from typing import Any

import msgspec
from msgspec import Struct

from ...core.json.lenient import UNDECODABLE
from ..wire import ListedModel
from .stream_decoding import read_reply
from .usage_fields import UsageFields


class _Pricing(Struct, gc=False):
    prompt: str | float | None = None
    completion: str | float | None = None


class _Architecture(Struct):
    input_modalities: list[str] | None = None
    output_modalities: list[str] | None = None


class ModelFields(Struct):
    """One model of a list."""

    id: str | None = None
    owned_by: str | None = None
    context_length: int | None = None
    context_window: int | None = None
    max_model_len: int | None = None
    pricing: _Pricing | None = None
    architecture: _Architecture | None = None

    def listed(self, name: str) -> ListedModel:
        """The facts in the library's own words."""
        pricing = self.pricing or _Pricing()
        inputs, outputs = (None, None) if self.architecture is None else msgspec.structs.astuple(self.architecture)
        return ListedModel(
            name=name,
            context=self.context_length or self.context_window or self.max_model_len,
            input_price=_per_million(pricing.prompt),
            output_price=_per_million(pricing.completion),
            inputs=None if inputs is None else tuple(inputs),
            outputs=None if outputs is None else tuple(outputs),
            owner=self.owned_by,
        )


class ModelListFields(Struct):
    """A list of models, or a page of it; each row is read by itself."""

    data: list[Any]
    has_more: bool | None = None
    last_id: str | None = None


def _per_million(per_token: str | float | None) -> float | None:
    try:
        price = math.nan if per_token is None else round(float(per_token) * 1e6, 6)
    except ValueError:
        return None
    # Where the price depends on something, providers name a negative one.
    return price if math.isfinite(price) and price >= 0 else None


class VectorFields(Struct, gc=False):
    """One vector: numbers, or base64 of them."""

    index: int | None = None
    embedding: list[float] | bytes | None = None


class VectorsFields(Struct):
    """A reply with vectors."""

    data: list[VectorFields] | None = None
    model: str | None = None
    usage: UsageFields | None = None
    error: Any = None


_decode_vectors = msgspec.json.Decoder(VectorsFields).decode


def read_vectors(body: bytes) -> VectorsFields:
    """A reply with vectors, mended where its fields have odd types.

    Raises:
        ReplyUnreadable: it is none.
    """
    try:
        return _decode_vectors(body)
    except UNDECODABLE:
        return read_reply(body, VectorsFields, "the reply")
