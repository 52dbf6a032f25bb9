"""Stand-ins that speak the dialect ``contents``. Strict: unknown fields are refused, the model stands in the path."""

import asyncio
import base64
import json
from collections.abc import AsyncIterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from .asked import Asked
from .auth import Refusal
from .faults import Fault, in_dialect
from .images import packet
from .loose import events, is_loose, plain, with_points
from .model import Refused, Thought, guarded, image_bytes, prompt_tokens, think, tool_of
from .providers import StandIn
from .rules import Turn, is_signed, pairing_complaint, signature, under_way
from .settings import Settings
from .vectors import Made, embeddings
from .writer import Answer, tokens

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
        "responseModalities",
        "speechConfig",
    ]
)
_STATES = {
    400: "INVALID_ARGUMENT",
    401: "UNAUTHENTICATED",
    403: "PERMISSION_DENIED",
    404: "NOT_FOUND",
    429: "RESOURCE_EXHAUSTED",
}
_FINISH = {"stop": "STOP", "length": "MAX_TOKENS", "tool_calls": "STOP"}
_PARTS = frozenset(["text", "inlineData", "fileData", "functionCall", "functionResponse"])
_BESIDE = frozenset(["thought", "thoughtSignature"])


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""

    @guarded(provider, in_words)
    async def generate(request: Request) -> Response:
        return await _generate(request, provider, settings)

    @guarded(provider, in_words)
    async def models(request: Request) -> Response:
        # Two to a page: nobody may take a part for the whole.
        start = int(request.query_params.get("pageToken") or 0)
        listed = [{"name": f"models/{model.name}", "inputTokenLimit": model.context} for model in provider.models]
        more = {"nextPageToken": str(start + 2)} if start + 2 < len(listed) else {}
        return JSONResponse({"models": listed[start : start + 2], **more})

    prefix = f"/{provider.label}{provider.path}"
    return [
        Route(f"{prefix}/models/{{call}}", generate, methods=["POST"]),
        Route(f"{prefix}/models", models, methods=["GET"]),
    ]


def in_words(refused: Refused) -> Response:
    """A refusal as this dialect says it."""
    refusal = refused.refusal
    state = _STATES.get(refusal.status, "INTERNAL")
    error = {"code": refusal.status, "message": refusal.message, "status": state}
    return JSONResponse({"error": error}, refusal.status, headers=refusal.headers)


def _wrong(message: str) -> Refused:
    return Refused(Refusal(400, message))


def _checked(body: Any) -> Asked:
    """What a request asks, once it is as the format demands."""
    config = body.get("generationConfig") or {}
    for name in [name for name in body if name not in _KNOWN] + [name for name in config if name not in _CONFIG]:
        raise _wrong(f'Invalid JSON payload received. Unknown name "{name}": Cannot find field.')
    found: list[tuple[str, str]] = []
    parts: list[dict[str, Any]] = []
    if body.get("systemInstruction"):
        found.append(("system", " ".join(part["text"] for part in body["systemInstruction"]["parts"])))
    if not body.get("contents"):
        raise _wrong("contents are required: * GenerateContentRequest.contents: contents is not specified")
    thinks = bool((config.get("thinkingConfig") or {}).get("includeThoughts"))
    turns: list[Turn] = []
    asks = under_way(
        [
            content.get("role") == "user" and any("text" in part for part in content.get("parts") or ())
            for content in body["contents"]
        ]
    )
    for place, content in enumerate(body["contents"]):
        if content.get("role") not in ("user", "model"):
            raise _wrong("Please use a valid role: user, model.")
        if not content.get("parts"):
            raise _wrong("contents.parts must not be empty.")
        parts = content["parts"]
        for part in parts:
            _check_part(part, thinks=thinks and place > asks)
        asked = [(None, part["functionCall"]["name"]) for part in parts if "functionCall" in part]
        turns.append(
            Turn(asked, [(None, part["functionResponse"]["name"]) for part in parts if "functionResponse" in part])
        )
        found.append((content["role"], " ".join(_text(part) for part in parts)))
    if complaint := pairing_complaint(turns, by_name=True):
        raise _wrong(f"Please ensure that function call turns are followed by their responses: {complaint}.")
    if not found or found[-1][0] != "user":
        raise _wrong("The last content must be of the user.")
    schema = config.get("responseJsonSchema") or config.get("responseSchema")
    if schema is not None and config.get("responseMimeType") != "application/json":
        raise _wrong("A response schema needs responseMimeType application/json.")
    if config.get("responseSchema") and (unknown := _beyond_subset(config["responseSchema"])):
        raise _wrong(f'Invalid JSON payload received. Unknown name "{unknown}" at generation_config.response_schema.')
    calling = (body.get("toolConfig") or {}).get("functionCallingConfig") or {}
    mode = {"ANY": "required", "NONE": "none"}.get(calling.get("mode") or "AUTO", "auto")
    declared = [each for tool in body.get("tools") or () for each in tool["functionDeclarations"]]
    return Asked(
        found,
        cap=config.get("maxOutputTokens"),
        stop=tuple(config.get("stopSequences") or ()),
        seed=config.get("seed"),
        count=config.get("candidateCount") or 1,
        tools=[tool_of(each, "parametersJsonSchema") for each in declared],
        choice=(calling.get("allowedFunctionNames") or [mode])[0],
        schema=schema,
        as_json=config.get("responseMimeType") == "application/json",
        images=[
            image_bytes(part["inlineData"]["data"])
            for part in parts
            if part.get("inlineData", {}).get("mimeType", "").startswith("image/")
        ],
        results=[_result(part["functionResponse"]["response"]) for part in parts if "functionResponse" in part],
        thinks=thinks,
    )


def _check_part(part: dict[str, Any], *, thinks: bool) -> None:
    """One part has one of the data fields, and thinking is as it was given."""
    if len(part.keys() & _PARTS) != 1 or part.keys() - _PARTS - _BESIDE:
        raise _wrong("contents.parts: a part must have one of its data fields, and no others.")
    if "text" in part and not part["text"] and "thoughtSignature" not in part:
        raise _wrong("contents.parts: a text must not be empty.")
    for kind in ("functionCall", "functionResponse"):
        if "id" in part.get(kind, {}):
            raise _wrong(f'Invalid JSON payload received. Unknown name "id" at {kind}: Cannot find field.')
    if "functionCall" in part and thinks:
        call = part["functionCall"]
        if not is_signed(call["name"], part.get("thoughtSignature")):
            raise _wrong(f"Function call is missing a thought_signature in functionCall parts: {call['name']}.")


def _text(part: dict[str, Any]) -> str:
    data = part.get("inlineData", {})
    if data.get("mimeType", "").startswith("text/"):
        return image_bytes(data["data"]).decode("utf-8", "replace")
    return "" if part.get("thought") else str(part.get("text", ""))


def _result(response: dict[str, Any]) -> str:
    return str(response.get("result", response.get("error")))


def _beyond_subset(schema: Any) -> str | None:
    """A keyword that this provider's own form of schema does not have."""
    if isinstance(schema, list):
        return next((found for each in schema if (found := _beyond_subset(each))), None)
    if not isinstance(schema, dict):
        return None
    if beyond := schema.keys() & {"$ref", "$defs", "additionalProperties", "const", "oneOf", "allOf"}:
        return str(min(beyond))
    inner = [*schema.get("properties", {}).values(), *schema.get("anyOf", ()), schema.get("items")]
    return _beyond_subset(inner)


async def _generate(request: Request, provider: StandIn, settings: Settings) -> Response:
    called, _, operation = request.path_params["call"].rpartition(":")
    if operation in ("embedContent", "batchEmbedContents"):
        return _embed(await request.json(), provider, called, operation)
    if operation == "countTokens":
        return await _count(request, provider, called)
    if operation not in ("generateContent", "streamGenerateContent"):
        raise Refused(Refusal(404, f"There is no operation {operation}."))
    name, fault = in_dialect(request.headers, called)
    try:
        asked = _checked(await request.json())
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise _wrong(f"The request cannot be read: {wrong!r}") from None
    thought = think(provider, settings, name, asked, fault)
    if operation == "streamGenerateContent":
        parts = _parts(thought, name, settings, fault)
        if is_loose(fault):
            loosened = events(_as_events(parts), _loose_part)
            return StreamingResponse(loosened, media_type="text/event-stream")
        if request.query_params.get("alt") != "sse":
            return StreamingResponse(_as_array(parts), media_type="application/json")
        return StreamingResponse(_as_events(parts), media_type="text/event-stream")
    await asyncio.sleep(settings.pace)
    candidates = [
        {**_said(reply.text, reply, thought.thinking), "finishReason": _reason(reply), "index": index}
        for index, reply in enumerate(thought.answers)
    ]
    if "IMAGE" in (((await request.json()).get("generationConfig") or {}).get("responseModalities") or ()):
        drawn = {"mimeType": "image/png", "data": base64.b64encode(packet("kale").read_bytes()).decode()}
        candidates[0]["content"]["parts"].append({"inlineData": drawn})
    whole = {"candidates": candidates, **_end(thought, name)}
    return plain(whole, _loose_part) if is_loose(fault) else JSONResponse(whole)


def _loose_part(part: dict[str, Any]) -> None:
    with_points(part["usageMetadata"])
    for candidate in part["candidates"]:
        if not candidate["index"]:
            del candidate["index"]
        candidate.setdefault("finishReason", "")


async def _count(request: Request, provider: StandIn, name: str) -> Response:
    try:
        body = await request.json()
        unknown = body.keys() - {"contents", "generateContentRequest"}
        if unknown:
            raise _wrong(f'Invalid JSON payload received. Unknown name "{min(unknown)}": Cannot find field.')
        if len(body) != 1:
            raise _wrong("Exactly one of contents and generateContentRequest must be set.")
        whole = dict(body.get("generateContentRequest") or body)
        if "contents" not in body and whole.pop("model", None) != f"models/{name}":
            raise _wrong("The model in the request must match the one in the path.")
        asked = _checked(whole)
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise _wrong(f"The request cannot be read: {wrong!r}") from None
    return JSONResponse({"totalTokens": prompt_tokens(provider, name, asked)})


def _embed(body: Any, provider: StandIn, name: str, operation: str) -> Response:
    try:
        requests = body["requests"] if operation == "batchEmbedContents" else [body]
        texts = [" ".join(part["text"] for part in each["content"]["parts"]) for each in requests]
        if any(each.get("model", f"models/{name}") != f"models/{name}" for each in requests):
            raise _wrong("The model in the request must match the one in the path.")
        size = requests[0].get("outputDimensionality")
    except (KeyError, TypeError, IndexError, AttributeError) as wrong:
        raise _wrong(f"The request cannot be read: {wrong!r}") from None
    made: Made = embeddings(provider, name, texts, size, most=100)
    values = [{"values": vector.numbers} for vector in made.vectors]
    return JSONResponse({"embeddings": values} if operation == "batchEmbedContents" else {"embedding": values[0]})


def _said(text: str, ending: Answer | None = None, thinking: str = "") -> dict[str, Any]:
    calls = ending.calls if ending is not None else ()
    parts: list[dict[str, Any]] = [{"text": thinking, "thought": True}] if thinking else []
    parts += [{"text": text}] if text or not calls else []
    for call in calls:
        signed = {"thoughtSignature": signature(call.name)}
        parts.append({"functionCall": {"name": call.name, "args": call.given}, **signed})
    return {"content": {"role": "model", "parts": parts}}


def _reason(reply: Answer) -> str:
    return "SAFETY" if reply.refusal else _FINISH[reply.finish]


def _end(thought: Thought, name: str) -> dict[str, Any]:
    said = thought.output_tokens - thought.thinking_tokens
    counts = {"promptTokenCount": thought.prompt_tokens, "candidatesTokenCount": said}
    if thought.thinking:
        counts["thoughtsTokenCount"] = thought.thinking_tokens
    return {"usageMetadata": {**counts, "totalTokenCount": sum(counts.values())}, "modelVersion": name}


async def _as_events(parts: AsyncIterator[dict[str, Any]]) -> AsyncIterator[str]:
    async for part in parts:
        yield f"data: {json.dumps(part)}\n\n"


async def _as_array(parts: AsyncIterator[dict[str, Any]]) -> AsyncIterator[str]:
    mark = "["
    async for part in parts:
        yield f"{mark}{json.dumps(part, indent=1)}"
        mark = ",\r\n"
    yield "]"


async def _parts(thought: Thought, name: str, settings: Settings, fault: Fault | None) -> AsyncIterator[dict[str, Any]]:
    for index, reply in enumerate(thought.answers):
        for piece in tokens(thought.thinking):
            yield {"candidates": [{**_said("", None, piece), "index": index}], **_end(thought, name)}
        for place, piece in enumerate(reply.pieces):
            if fault is not None and fault.name == "error" and place == fault.number:
                yield {"error": {"code": 503, "message": "The model is overloaded.", "status": "UNAVAILABLE"}}
                return
            await asyncio.sleep(settings.pace)
            yield {"candidates": [{**_said(piece), "index": index}], **_end(thought, name)}
        last = {**_said("", reply), "index": index, "finishReason": _reason(reply)}
        yield {"candidates": [last], **_end(thought, name)}
