"""The server's side of ``POST {base}/embeddings``, and the list of models at ``GET {base}/models``."""

from base64 import b64encode
from collections.abc import Iterable, Mapping
from datetime import UTC, datetime

from ...core.canonical.chat import Json
from ...core.canonical.usage import Usage
from ...core.canonical.vectors import Vector, VectorsRequest
from ...core.errors import RequestError
from ..server_base import field, model_of, rest_of
from ..wire import ListedModel

_KNOWN = frozenset({"model", "input", "dimensions", "encoding_format"})


def decode_vectors_request(body: Mapping[str, Json]) -> VectorsRequest:
    """A request for vectors.

    Raises:
        RequestError: the body is none; says why.

    >>> decode_vectors_request({"model": "finder", "input": "Peas"}).texts
    ['Peas']
    """
    model = model_of(body)
    texts = body.get("input")
    texts = [texts] if isinstance(texts, str) else texts
    if not isinstance(texts, list) or not texts or not all(isinstance(each, str) for each in texts):
        raise RequestError(
            "input takes a text, or a list of texts", hint="Send tokens as the text that they stand for."
        )
    encoding = field(body, "encoding_format", str, "float or base64")
    if encoding not in (None, "float", "base64"):
        raise RequestError(f"encoding_format takes float or base64, not {encoding!r}", hint="Leave it out for float.")
    dimensions = field(body, "dimensions", int, "a whole number from 1")
    if dimensions is not None and dimensions < 1:
        raise RequestError("dimensions takes a whole number from 1", hint="Leave it out for the model's own.")
    return VectorsRequest(model, texts, dimensions, encoding == "base64", rest_of(body, _KNOWN))


def encode_vectors(vectors: Iterable[Vector], model: str, usage: Usage | None) -> dict[str, Json]:
    """A reply with vectors, in the order of the texts: bytes as base64, numbers as they are."""
    data = [
        {
            "object": "embedding",
            "index": number,
            "embedding": b64encode(each).decode() if isinstance(each, bytes) else each,
        }
        for number, each in enumerate(vectors)
    ]
    count = (usage.input_tokens if usage is not None else None) or 0
    return {
        "object": "list",
        "data": data,
        "model": model,
        "usage": {"prompt_tokens": count, "total_tokens": count},
    }


def encode_model(model: ListedModel, created: int) -> dict[str, Json]:
    """One model of a list, with the fields that either kind of reader looks for."""
    reply: dict[str, Json] = {
        "id": model.name,
        "object": "model",
        "type": "model",
        "display_name": model.name,
        "created": created,
        "created_at": datetime.fromtimestamp(created, UTC).isoformat().replace("+00:00", "Z"),
        "owned_by": model.owner or "",
    }
    if model.context is not None:
        reply["context_length"] = model.context
    if model.input_price is not None and model.output_price is not None:
        reply["pricing"] = {"prompt": _per_token(model.input_price), "completion": _per_token(model.output_price)}
    if model.inputs is not None:
        reply["architecture"] = {
            "input_modalities": list(model.inputs),
            "output_modalities": list(model.outputs or ("text",)),
        }
    return reply


def encode_models(models: Iterable[ListedModel], created: int) -> dict[str, Json]:
    """A list of models."""
    data = [encode_model(each, created) for each in models]
    ends = {"first_id": data[0]["id"] if data else None, "last_id": data[-1]["id"] if data else None}
    return {"object": "list", "data": data, "has_more": False, **ends}


def _per_token(price: float) -> str:
    return f"{price / 1e6:.12f}".rstrip("0").rstrip(".") or "0"
