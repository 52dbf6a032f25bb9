"""Stand-ins that speak the dialect ``predict``. Strict: an instance has the fields of its model and no others."""

import asyncio
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from .asked import Asked
from .auth import Refusal
from .contents import in_words
from .faults import in_dialect
from .model import Refused, guarded, image_bytes, think
from .providers import StandIn
from .settings import Settings
from .vectors import embeddings

_INSTANCE = frozenset(["prompt", "context", "image"])
_PARAMETERS = frozenset(
    [
        "temperature",
        "topP",
        "topK",
        "maxOutputTokens",
        "stopSequences",
        "candidateCount",
        "seed",
        "presencePenalty",
        "frequencyPenalty",
        "outputDimensionality",
    ]
)


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""

    @guarded(provider, in_words)
    async def predict(request: Request) -> Response:
        return await _predict(request, provider, settings)

    return [Route(f"/{provider.label}{provider.path}/{{model}}:predict", predict, methods=["POST"])]


def _wrong(message: str) -> Refused:
    return Refused(Refusal(400, message))


async def _predict(request: Request, provider: StandIn, settings: Settings) -> Response:
    name, fault = in_dialect(request.headers, request.path_params["model"])
    region = request.path_params.get("region")
    model = provider.model(name)
    try:
        body = await request.json()
        instances, parameters = body["instances"], body.get("parameters") or {}
        unknown = [each for each in body if each not in ("instances", "parameters")]
        unknown += [each for each in parameters if each not in _PARAMETERS]
        if unknown or not instances:
            raise _wrong(f'Invalid JSON payload received. Unknown name "{(unknown or ["nothing"])[0]}".')
        if model is not None and model.vectors:
            texts = [instance["content"] for instance in instances]
            made = embeddings(provider, name, texts, parameters.get("outputDimensionality"), most=100)
            return JSONResponse({"predictions": [{"embeddings": {"values": each.numbers}} for each in made.vectors]})
        asked = [_asked(instance, parameters, region) for instance in instances]
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise _wrong(f"The request cannot be read: {wrong!r}") from None
    thoughts = [think(provider, settings, name, each, fault) for each in asked]
    await asyncio.sleep(settings.pace)
    safety = {"categories": ["Weather"], "scores": [0.1], "blocked": False}
    predictions = [
        {"content": answer.text or answer.refusal, "safetyAttributes": safety, "citationMetadata": {"citations": []}}
        for thought in thoughts
        for answer in thought.answers
    ]
    counts = {
        "inputTokenCount": {"totalTokens": sum(thought.prompt_tokens for thought in thoughts)},
        "outputTokenCount": {"totalTokens": sum(thought.output_tokens for thought in thoughts)},
    }
    metadata = {"tokenMetadata": counts}
    return JSONResponse({"predictions": predictions, "deployedModelId": "1", "model": name, "metadata": metadata})


def _asked(instance: dict[str, Any], parameters: dict[str, Any], region: str | None) -> Asked:
    for field in instance:
        if field not in _INSTANCE:
            raise _wrong(f"The instance has a field {field!r} that this model does not take.")
    prompt = instance["prompt"]
    # A model of this kind goes on from the last lines of a text.
    question = prompt.strip().rpartition("\nUser: ")[2]
    return Asked(
        [("system", instance.get("context") or prompt), ("user", question)],
        region,
        parameters.get("maxOutputTokens"),
        tuple(parameters.get("stopSequences") or ()),
        parameters.get("seed"),
        parameters.get("candidateCount") or 1,
        images=[image_bytes(instance["image"]["bytesBase64Encoded"])] if "image" in instance else (),
    )
