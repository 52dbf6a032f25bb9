"""The dialect marked by ``POST {base}/...{model}:predict``: instances in, predictions out. It has no streams.

What an instance looks like is a matter of the model. `Instance` says it, from the provider's entry.
"""

from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from ..core.canonical.chat import Choice, Citation, Completion, Json, Request, SafetyNote
from ..core.canonical.usage import Usage
from ..core.canonical.vectors import Vector, Vectors, VectorsRequest
from ..core.errors import ReplyUnreadable, RequestError
from ..core.http.address import Ending
from ..core.json.pointer import read, write
from ..core.messages.messages import message_json, system_and_rest, without_images
from ..core.messages.parts import ImagePart, parts_of
from ..core.settings.declarations import Instance
from .base import Abilities, Dialect, EntryOptions, Field, VectorAbility, Write, as_list, extra_table
from .contents.dialect import CODES
from .prompt.dialect import prompt_of
from .shared.error_mapping import classify
from .shared.stream_decoding import read_reply
from .wire import Fault, Outgoing

_PARAMETERS: dict[str, Write] = {
    "temperature": Field("parameters/temperature"),
    "top_p": Field("parameters/topP"),
    "max_tokens": Field("parameters/maxOutputTokens"),
    "stop": Field("parameters/stopSequences", as_list),
    "n": Field("parameters/candidateCount"),
    "top_k": Field("parameters/topK"),
    "seed": Field("parameters/seed"),
    "presence_penalty": Field("parameters/presencePenalty"),
    "frequency_penalty": Field("parameters/frequencyPenalty"),
}
# Where the text is in a prediction, unless the entry says it.
_TEXTS = (
    "/content",
    "/candidates/0/content",
    "/choices/0/message/content",
    "/text",
    "/generated_text",
    "/output",
    "/outputs/0",
)
_VECTORS = ("/embeddings/values", "/embedding/values", "/embedding", "/values", "")


class _Reply(Struct):
    predictions: list[Any] | dict[str, Any] | None = None

    @property
    def listed(self) -> list[Any]:
        """The predictions; some models give one instead of a list."""
        return [self.predictions] if isinstance(self.predictions, dict) else self.predictions or []

    metadata: Any = None
    model: str | None = None
    error: Any = None


class PredictDialect(Dialect):
    """See the module."""

    name = "predict"
    abilities = Abilities(
        inputs=("text", "image"),
        parameters=_PARAMETERS,
        image_addresses=False,
        vectors=VectorAbility(max_texts=100),
        endings=(Ending("/(?P<model>[^/:]+):predict"),),
    )

    def __init__(self, instance: Instance = Instance()) -> None:  # noqa: B008  (frozen)
        self._instance = instance

    def configured(self, options: EntryOptions) -> "PredictDialect":
        return self if options.instance is None else PredictDialect(options.instance)

    def adopted(self, body: dict[str, Any]) -> dict[str, Json]:
        """Where the question stands in a pasted instance, where that is not the usual place."""
        instance = read(body, "/instances/0")
        if not isinstance(instance, dict) or "prompt" in instance:
            return {}
        if isinstance(instance.get("messages"), list):
            return {"instance": {"messages": "/messages"}}
        texts = [name for name, value in instance.items() if isinstance(value, str)]
        return {"instance": {"prompt": f"/{texts[0]}"}} if texts else {}

    def encode_chat(self, request: Request) -> Outgoing:
        extra = dict(request.extra)
        instance = {**self._as_instance(request), **extra_table(extra, "instance")}
        body: dict[str, Any] = {"instances": [instance]}
        self.abilities.write(body, request.parameters)
        if "parameters" in extra:
            body["parameters"] = {**body.get("parameters", {}), **extra_table(extra, "parameters")}
        return Outgoing("chat", "/{model}:predict", {**body, **extra})

    def _as_instance(self, request: Request) -> dict[str, Any]:
        shape = self._instance
        instance: dict[str, Any] = {}
        if shape.messages:
            write(instance, shape.messages, [message_json(message) for message in request.messages])
            return instance
        messages = list(request.messages)
        if shape.system:
            system, messages = system_and_rest(messages)
            if system:
                write(instance, shape.system, system)
        images = [part for message in messages for part in parts_of(message) if isinstance(part, ImagePart)]
        if images:
            if not shape.image or len(images) > 1 or not images[0].data:
                raise RequestError(
                    "this provider of dialect predict takes " + ("one image, as data" if shape.image else "no images"),
                    hint='Say where an image goes: instance = { image = "/image/bytesBase64Encoded" } in its entry.',
                )
            write(instance, shape.image, images[0].data)
            messages = without_images(messages, "predict")
        write(instance, shape.prompt, prompt_of(messages, request.markers))
        return instance

    def decode_chat(self, body: bytes) -> Completion | Fault:
        reply = read_reply(body, _Reply, "the reply")
        if reply.predictions is None:
            if reply.error:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but has no `predictions`")
        choices = [self._choice(each) for prediction in reply.listed for each in _answers(prediction)]
        return Completion(tuple(choices), reply.model, None, _usage(reply.metadata))

    def _choice(self, prediction: Json) -> Choice:
        safety = _safety(_first(read(prediction, "/safetyAttributes")))
        blocked = any(note.blocked for note in safety)
        return Choice(
            self._text(prediction),
            "content_filter" if blocked else None,
            citations=_citations(read(_first(read(prediction, "/citationMetadata")), "/citations")),
            safety=safety,
        )

    def _text(self, prediction: Json) -> str:
        if isinstance(prediction, str):
            return prediction
        for pointer in (self._instance.text,) if self._instance.text else _TEXTS:
            text = read(prediction, pointer)
            if isinstance(text, str):
                return text
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

    def encode_vectors(self, request: VectorsRequest) -> Outgoing:
        instances = []
        for text in request.texts:
            instance: dict[str, Any] = {}
            write(instance, self._instance.input, text)
            instances.append(instance)
        body: dict[str, Any] = {"instances": instances}
        if request.dimensions is not None:
            body["parameters"] = {"outputDimensionality": request.dimensions}
        return Outgoing("embeddings", "/{model}:predict", {**body, **request.extra})

    def decode_vectors(self, body: bytes) -> Vectors | Fault:
        reply = read_reply(body, _Reply, "the reply")
        if reply.predictions is None:
            return self.classify(200, {}, body)
        return Vectors([self._vector(prediction) for prediction in reply.listed], reply.model)

    def _vector(self, prediction: Json) -> Vector:
        for pointer in (self._instance.vector,) if self._instance.vector else _VECTORS:
            vector = read(prediction, pointer)
            if isinstance(vector, list):
                return vector
        raise ReplyUnreadable(
            "no vector in the prediction",
            hint='Say where it is: instance = { vector = "/path/to/numbers" } in the provider\'s entry.',
        )


_PER_ANSWER = ("candidates", "safetyAttributes", "citationMetadata")


def _answers(prediction: Json) -> list[Json]:
    """The answers of a prediction, each as a prediction of one, where more than one was asked for (``n``)."""
    candidates = prediction.get("candidates") if isinstance(prediction, dict) else None
    if not isinstance(candidates, list) or len(candidates) < 2:
        return [prediction]
    answers = []
    for number in range(len(candidates)):
        lists = {name: prediction[name] for name in _PER_ANSWER if isinstance(prediction.get(name), list)}
        own_lists = {name: each[number : number + 1] for name, each in lists.items()}
        answers.append({**prediction, **own_lists})
    return answers


def _first(value: Json) -> Json:
    """The first of a list; the value itself where it is none."""
    return (value[0] if value else None) if isinstance(value, list) else value


def _usage(metadata: Json) -> Usage | None:
    inputs = read(metadata, "/tokenMetadata/inputTokenCount/totalTokens")
    outputs = read(metadata, "/tokenMetadata/outputTokenCount/totalTokens")
    if not isinstance(inputs, int) or not isinstance(outputs, int):
        return None
    return Usage(inputs, outputs, inputs + outputs)


def _safety(notes: Json) -> tuple[SafetyNote, ...]:
    if not isinstance(notes, dict):
        return ()
    categories, scores = notes.get("categories"), notes.get("scores")
    categories = categories if isinstance(categories, list) else []
    scores = scores if isinstance(scores, list) else []
    blocked = notes.get("blocked") is True
    safety = [
        SafetyNote(str(category), str(scores[number]) if number < len(scores) else "", blocked)
        for number, category in enumerate(categories)
    ]
    return tuple(safety) if safety or not blocked else (SafetyNote("blocked", "", True),)


def _citations(sources: Json) -> tuple[Citation, ...]:
    return tuple(
        [
            Citation(str(each.get("url") or each.get("uri") or ""), str(each.get("title") or ""))
            for each in (sources if isinstance(sources, list) else ())
            if isinstance(each, dict)
        ]
    )
