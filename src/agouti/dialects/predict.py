"""The dialect marked by ``POST {base}/...{model}:predict``: instances in, predictions out. It has no streams.

What an instance looks like is a matter of the model. `Instance` says it, from the provider's entry.
"""

from collections.abc import Mapping
from typing import Any, ClassVar

import msgspec
from msgspec import Struct

from ..core.chat import Choice, Citation, Completion, Json, Request, SafetyNote, Usage
from ..core.errors import ReplyUnreadable, RequestError
from ..core.parameters import renamed
from ..core.parts import ImagePart, messages_of, parts_of, text_of
from ..core.pointer import MISSING, read, write
from ..core.shapes import Instance
from ..core.vectors import Vector, Vectors, VectorsWanted
from .base import Fault, Outgoing, WithoutList
from .contents import CODES
from .faults import classify
from .prompt import prompt_of
from .streams import read_reply

_PARAMETERS = {
    "temperature": "temperature",
    "top_p": "topP",
    "max_tokens": "maxOutputTokens",
    "stop": "stopSequences",
    "n": "candidateCount",
    "seed": "seed",
    "presence_penalty": "presencePenalty",
    "frequency_penalty": "frequencyPenalty",
}
# Where the text is in a prediction, unless the entry says it.
_TEXTS = ("/content", "/candidates/0/content", "/text", "/generated_text", "/output", "/outputs/0")
_VECTORS = ("/embeddings/values", "/embedding/values", "/embedding", "/values", "")


class _Reply(Struct):
    predictions: list[Any] | None = None
    metadata: Any = None
    model: str | None = None
    error: Any = None


class PredictDialect(WithoutList):
    """See the module."""

    name: ClassVar[str] = "predict"
    takes: ClassVar[frozenset[str] | None] = frozenset(_PARAMETERS)
    takes_addresses: ClassVar[bool] = False
    most_texts: ClassVar[int] = 100
    base64: ClassVar[bool] = False

    def __init__(self, instance: Instance = Instance()) -> None:  # noqa: B008  (frozen)
        self._instance = instance

    def encode_chat(self, request: Request) -> Outgoing:
        given = request.parameters
        extra = dict(request.extra)
        instance = extra.pop("instance", {})
        parameters = renamed(given, _PARAMETERS)
        parameters |= extra.pop("parameters", {})
        body: dict[str, Any] = {"instances": [{**self._as_instance(request), **instance}]}
        if parameters:
            body["parameters"] = parameters
        return Outgoing("chat", "/{model}:predict", {**body, **extra})

    def _as_instance(self, request: Request) -> dict[str, Any]:
        shape = self._instance
        messages = messages_of(request.messages)
        found: dict[str, Any] = {}
        if shape.messages:
            write(found, shape.messages, [msgspec.to_builtins(message) for message in messages])
            return found
        if shape.system:
            system = [text_of(message) for message in messages if message.role in ("system", "developer")]
            messages = [message for message in messages if message.role not in ("system", "developer")]
            if system:
                write(found, shape.system, "\n\n".join(system))
        pictures = [part for message in messages for part in parts_of(message) if isinstance(part, ImagePart)]
        if pictures:
            if not shape.image or len(pictures) > 1 or not pictures[0].data:
                raise RequestError(
                    "this provider of dialect predict takes "
                    + ("one picture, as data" if shape.image else "no pictures"),
                    hint='Say where a picture goes: instance = { image = "/image/bytesBase64Encoded" } in its entry.',
                )
            write(found, shape.image, pictures[0].data)
        write(found, shape.prompt, prompt_of(messages, request.markers))
        return found

    def decode_chat(self, body: bytes) -> Completion | Fault:
        reply = read_reply(body, _Reply, "the reply")
        if reply.predictions is None:
            if reply.error is not None:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but has no `predictions`")
        choices = tuple([self._choice(prediction) for prediction in reply.predictions])
        return Completion(choices, reply.model, None, _usage(reply.metadata))

    def _choice(self, prediction: Json) -> Choice:
        notes = read(prediction, "/safetyAttributes")
        cited = read(prediction, "/citationMetadata/citations")
        safety = _safety(notes if notes is not MISSING else read(prediction, "/safetyAttributes/0"))
        blocked = any(note.blocked for note in safety)
        return Choice(
            self._text(prediction),
            "content_filter" if blocked else None,
            citations=_citations(cited),
            safety=safety,
        )

    def _text(self, prediction: Json) -> str:
        if isinstance(prediction, str):
            return prediction
        for pointer in (self._instance.text,) if self._instance.text else _TEXTS:
            found = read(prediction, pointer)
            if isinstance(found, str):
                return found
        if prediction is None or read(prediction, "/safetyAttributes/blocked") is True:
            return ""
        raise ReplyUnreadable(
            f"no text in the prediction at {self._instance.text or ', '.join(_TEXTS)}",
            hint='Say where it is: instance = { text = "/path/to/text" } in the provider\'s entry.',
        )

    def stream_decoder(self) -> None:
        return None

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        return classify(status, headers, body, CODES)

    def encode_vectors(self, wanted: VectorsWanted) -> Outgoing:
        instances = []
        for text in wanted.texts:
            instance: dict[str, Any] = {}
            write(instance, self._instance.input, text)
            instances.append(instance)
        body: dict[str, Any] = {"instances": instances}
        if wanted.dimensions is not None:
            body["parameters"] = {"outputDimensionality": wanted.dimensions}
        return Outgoing("embeddings", "/{model}:predict", {**body, **wanted.extra})

    def decode_vectors(self, body: bytes) -> Vectors | Fault:
        reply = read_reply(body, _Reply, "the reply")
        if reply.predictions is None:
            return self.classify(200, {}, body)
        return Vectors([self._vector(prediction) for prediction in reply.predictions], reply.model)

    def _vector(self, prediction: Json) -> Vector:
        for pointer in (self._instance.vector,) if self._instance.vector else _VECTORS:
            found = read(prediction, pointer)
            if isinstance(found, list):
                return found
        raise ReplyUnreadable(
            "no vector in the prediction",
            hint='Say where it is: instance = { vector = "/path/to/numbers" } in the provider\'s entry.',
        )


def _usage(metadata: Json) -> Usage | None:
    inputs = read(metadata, "/tokenMetadata/inputTokenCount/totalTokens")
    outputs = read(metadata, "/tokenMetadata/outputTokenCount/totalTokens")
    if not isinstance(inputs, int) or not isinstance(outputs, int):
        return None
    return Usage(inputs, outputs, inputs + outputs)


def _safety(notes: Json) -> tuple[SafetyNote, ...]:
    if isinstance(notes, list):
        notes = notes[0] if notes else None
    if not isinstance(notes, dict):
        return ()
    categories, scores = notes.get("categories"), notes.get("scores")
    categories = categories if isinstance(categories, list) else []
    scores = scores if isinstance(scores, list) else []
    blocked = notes.get("blocked") is True
    found = [
        SafetyNote(str(category), str(scores[place]) if place < len(scores) else "", blocked)
        for place, category in enumerate(categories)
    ]
    return tuple(found) if found or not blocked else (SafetyNote("blocked", "", True),)


def _citations(cited: Json) -> tuple[Citation, ...]:
    return tuple(
        [
            Citation(str(each.get("url") or each.get("uri") or ""), str(each.get("title") or ""))
            for each in (cited if isinstance(cited, list) else ())
            if isinstance(each, dict)
        ]
    )
