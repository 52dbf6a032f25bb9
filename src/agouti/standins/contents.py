"""Stand-ins that speak the dialect ``contents``. Strict: unknown fields are refused, the model stands in the path."""

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from .doors import Refusal
from .faults import Fault, in_dialect
from .providers import StandIn
from .settings import Settings
from .thought import Refused, Thought, pass_doors, think

_KNOWN = frozenset(["contents", "systemInstruction", "generationConfig", "safetySettings", "tools", "toolConfig"])
_CONFIG = frozenset(
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
        "responseMimeType",
        "responseSchema",
        "responseJsonSchema",
        "responseLogprobs",
        "logprobs",
        "thinkingConfig",
    ]
)
_STATES = {
    400: "INVALID_ARGUMENT",
    401: "UNAUTHENTICATED",
    403: "PERMISSION_DENIED",
    404: "NOT_FOUND",
    429: "RESOURCE_EXHAUSTED",
}
_FINISH = {"stop": "STOP", "length": "MAX_TOKENS"}


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""

    async def generate(request: Request) -> Response:
        try:
            await pass_doors(request, provider)
            return await _generate(request, provider, settings)
        except Refused as refused:
            return JSONResponse(_error(refused.refusal), refused.refusal.status, headers=refused.refusal.headers)

    async def models(request: Request) -> Response:
        try:
            await pass_doors(request, provider)
        except Refused as refused:
            return JSONResponse(_error(refused.refusal), refused.refusal.status)
        listed = [{"name": f"models/{model.name}", "inputTokenLimit": model.context} for model in provider.models]
        return JSONResponse({"models": listed})

    prefix = f"/{provider.label}{provider.path}"
    return [
        Route(f"{prefix}/models/{{call}}", generate, methods=["POST"]),
        Route(f"{prefix}/models", models, methods=["GET"]),
    ]


def _error(refusal: Refusal) -> dict[str, Any]:
    return {
        "error": {
            "code": refusal.status,
            "message": refusal.message,
            "status": _STATES.get(refusal.status, "INTERNAL"),
        }
    }


def _wrong(message: str) -> Refused:
    return Refused(Refusal(400, message))


def _checked(body: Any) -> tuple[list[tuple[str, str]], dict[str, Any]]:
    """Role and text of the contents, and the settings, of a request that is as the format demands."""
    config = body.get("generationConfig") or {}
    for name in [name for name in body if name not in _KNOWN] + [name for name in config if name not in _CONFIG]:
        raise _wrong(f'Invalid JSON payload received. Unknown name "{name}": Cannot find field.')
    found: list[tuple[str, str]] = []
    if body.get("systemInstruction"):
        found.append(("system", " ".join(part["text"] for part in body["systemInstruction"]["parts"])))
    for content in body.get("contents") or ():
        if content.get("role") not in ("user", "model"):
            raise _wrong("Please use a valid role: user, model.")
        if not content.get("parts"):
            raise _wrong("contents.parts must not be empty.")
        found.append((content["role"], " ".join(part.get("text", "") for part in content["parts"])))
    if not found or found[-1][0] != "user":
        raise _wrong("The last content must be of the user.")
    return found, config


async def _generate(request: Request, provider: StandIn, settings: Settings) -> Response:
    called, _, operation = request.path_params["call"].rpartition(":")
    if operation not in ("generateContent", "streamGenerateContent"):
        raise Refused(Refusal(404, f"There is no operation {operation}."))
    name, fault = in_dialect(request.headers, called)
    try:
        messages, config = _checked(await request.json())
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise _wrong(f"The request cannot be read: {wrong!r}") from None
    thought = think(
        provider,
        settings,
        name,
        messages,
        cap=config.get("maxOutputTokens"),
        stop=tuple(config.get("stopSequences") or ()),
        seed=config.get("seed"),
        count=config.get("candidateCount") or 1,
    )
    if operation == "streamGenerateContent":
        if request.query_params.get("alt") != "sse":
            raise _wrong("This server streams with alt=sse only.")
        return StreamingResponse(_parts(thought, name, settings, fault), media_type="text/event-stream")
    await asyncio.sleep(settings.pace)
    candidates = [
        {**_said(reply.text), "finishReason": _FINISH[reply.finish], "index": index}
        for index, reply in enumerate(thought.answers)
    ]
    return JSONResponse({"candidates": candidates, **_end(thought, name)})


def _said(text: str) -> dict[str, Any]:
    return {"content": {"role": "model", "parts": [{"text": text}]}}


def _end(thought: Thought, name: str) -> dict[str, Any]:
    counts = {"promptTokenCount": thought.prompt_tokens, "candidatesTokenCount": thought.output_tokens}
    return {"usageMetadata": {**counts, "totalTokenCount": sum(counts.values())}, "modelVersion": name}


async def _parts(thought: Thought, name: str, settings: Settings, fault: Fault | None) -> AsyncIterator[str]:
    for index, reply in enumerate(thought.answers):
        for place, piece in enumerate(reply.pieces):
            if fault is not None and fault.name == "error" and place == fault.number:
                error = {"error": {"code": 503, "message": "The model is overloaded.", "status": "UNAVAILABLE"}}
                yield f"data: {json.dumps(error)}\n\n"
                return
            await asyncio.sleep(settings.pace)
            candidate: dict[str, Any] = {**_said(piece), "index": index}
            if place == len(reply.pieces) - 1:
                candidate["finishReason"] = _FINISH[reply.finish]
            yield f"data: {json.dumps({'candidates': [candidate], **_end(thought, name)})}\n\n"
