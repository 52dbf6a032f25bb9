"""Operations that several formats share: the list of models at ``/models``, embeddings at ``/embeddings``."""

from typing import TYPE_CHECKING, Any
from urllib.parse import urlencode

from ...core.errors import ReplyUnreadable
from ..base import Dialect
from ..wire import Fault, ListedModel, Outgoing
from .stream_decoding import read_reply, rows_of

if TYPE_CHECKING:
    from ...core.canonical.vectors import Vectors, VectorsRequest
    from .listing_fields import ModelListFields


class ModelListing(Dialect):
    """The list of models at ``GET {base}/models``.

    Attributes:
        cursor: the parameter by which a further page begins behind the last model of the one before.
    """

    cursor = "after"

    def encode_models(self) -> Outgoing:
        return Outgoing("models", "/models", method="GET")

    def decode_models(self, body: bytes) -> tuple[ListedModel, ...]:
        from .listing_fields import ModelFields

        models = rows_of(_page(body).data, ModelFields)
        return tuple([model.listed(model.id) for model in models if model.id])

    def encode_more_models(self, body: bytes) -> Outgoing | None:
        page = _page(body)
        last = page.last_id or next((each.get("id") for each in reversed(page.data) if isinstance(each, dict)), None)
        if not page.has_more or not isinstance(last, str):
            return None
        return Outgoing("models", "/models", method="GET", query=urlencode({self.cursor: last}))


def _page(body: bytes) -> "ModelListFields":
    from .listing_fields import ModelListFields

    if body.lstrip()[:1] == b"[":
        body = b'{"data": %s}' % body  # some servers leave the object around it out
    return read_reply(body, ModelListFields, "the list of models")


class ChatVectors(Dialect):
    """Embeddings at ``POST {base}/embeddings``."""

    def encode_vectors(self, request: "VectorsRequest") -> Outgoing:
        body: dict[str, Any] = {"model": request.model, "input": request.texts}
        if request.dimensions is not None:
            body["dimensions"] = request.dimensions
        if request.base64:
            body["encoding_format"] = "base64"
        body.update(request.extra)
        return Outgoing("embeddings", "/embeddings", body)

    def decode_vectors(self, body: bytes) -> "Vectors | Fault":
        from ...core.canonical.vectors import Vectors
        from .listing_fields import read_vectors
        from .usage_fields import usage_of

        reply = read_vectors(body)
        if reply.data is None:
            if reply.error is not None:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but not one with vectors: it has no `data`")
        if any(each.embedding is None for each in reply.data):
            raise ReplyUnreadable("a vector is missing in the reply")
        data = reply.data
        if all(each.index is not None for each in data):
            data = sorted(data, key=lambda each: each.index or 0)
        usage = usage_of(reply.usage) if reply.usage is not None else None
        return Vectors([each.embedding for each in data if each.embedding is not None], reply.model, usage)
