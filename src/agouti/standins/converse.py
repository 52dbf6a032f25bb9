"""Stand-ins that speak the dialect ``converse``. Strict: signed or with a key, roles alternate, blocks have no types."""

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from ..core.framing_binary import frame
from .auth import Refusal
from .faults import Fault, in_dialect
from .model import Asked, Refused, Thought, call_id, guarded, image_bytes, think, tool_of
from .providers import StandIn
from .settings import Settings
from .vectors import embeddings
from .writer import Answer, tokens

_KNOWN = frozenset(["messages", "system", "inferenceConfig", "toolConfig", "additionalModelRequestFields"])
_CONFIG = frozenset(["maxTokens", "temperature", "topP", "stopSequences"])
_BLOCKS = frozenset(["text", "image", "toolUse", "toolResult", "reasoningContent"])
_FORMATS = frozenset(["png", "jpeg", "gif", "webp"])
_KINDS = {
    "model_not_found": "ResourceNotFoundException",
    "model_access_denied": "AccessDeniedException",
    "permission_error": "AccessDeniedException",
    "missing_api_key": "MissingAuthenticationTokenException",
    "invalid_api_key": "UnrecognizedClientException",
    "missing_signature": "MissingAuthenticationTokenException",
}
_FINISH = {"stop": "end_turn", "length": "max_tokens", "tool_calls": "tool_use"}


def _in_words(refused: Refused) -> Response:
    refusal = refused.refusal
    kind = _KINDS.get(refusal.code or "", "ValidationException")
    headers = {**refusal.headers, "x-amzn-errortype": kind}
    return JSONResponse({"message": refusal.message}, refusal.status, headers=headers)


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""

    @guarded(provider, _in_words)
    async def converse(request: Request) -> Response:
        return await _converse(request, provider, settings)

    prefix = f"/{provider.label}{provider.path}"
    return [
        Route(f"{prefix}/model/{{model:path}}/{{operation}}", converse, methods=["POST"]),
    ]


def _wrong(message: str) -> Refused:
    return Refused(Refusal(400, message))


def _checked(body: Any, region: str | None) -> Asked:
    """What a request asks, once it is as the format demands."""
    config = body.get("inferenceConfig") or {}
    unknown = [each for each in body if each not in _KNOWN] + [each for each in config if each not in _CONFIG]
    if unknown:
        raise _wrong(f"The model returned the following errors: extraneous key [{unknown[0]}] is not permitted")
    found = [("system", " ".join(block["text"] for block in body.get("system") or ()))]
    before, blocks = "assistant", []
    called: set[str] = set()
    for message in body["messages"]:
        role, blocks = message["role"], message["content"]
        if role not in ("user", "assistant") or role == before:
            raise _wrong("A conversation must alternate between user and assistant roles.")
        before = role
        if not blocks or any(len(block) != 1 or not block.keys() <= _BLOCKS for block in blocks):
            raise _wrong("A content block must have exactly one of its fields.")
        if any(block["image"]["format"] not in _FORMATS for block in blocks if "image" in block):
            raise _wrong("The image format must be one of png, jpeg, gif, webp.")
        called |= {block["toolUse"]["toolUseId"] for block in blocks if "toolUse" in block}
        if any(block["toolResult"]["toolUseId"] not in called for block in blocks if "toolResult" in block):
            raise _wrong("A toolResult answers no toolUse of the conversation.")
        found.append((role, " ".join(block.get("text", "") for block in blocks)))
    if before != "user":
        raise _wrong("A conversation must end with a user message.")
    tools = body.get("toolConfig") or {}
    if called and not tools:
        raise _wrong("The toolConfig field must be defined when using toolUse and toolResult content blocks.")
    choice = tools.get("toolChoice") or {"auto": {}}
    results = [block["toolResult"] for block in blocks if "toolResult" in block]
    return Asked(
        found,
        region,
        config.get("maxTokens"),
        tuple(config.get("stopSequences") or ()),
        tools=[
            tool_of({**tool["toolSpec"], "parameters": tool["toolSpec"]["inputSchema"]["json"]})
            for tool in tools.get("tools") or ()
        ],
        choice=choice["tool"]["name"] if "tool" in choice else "required" if "any" in choice else "auto",
        images=[image_bytes(block["image"]["source"]["bytes"]) for block in blocks if "image" in block],
        results=[each.get("text") or json.dumps(each.get("json")) for result in results for each in result["content"]],
    )


async def _converse(request: Request, provider: StandIn, settings: Settings) -> Response:
    name, fault = in_dialect(request.headers, request.path_params["model"])
    operation = request.path_params["operation"]
    try:
        body = await request.json()
        if operation == "invoke":
            made = embeddings(provider, name, [body["inputText"]], body.get("dimensions"), most=1)
            return JSONResponse({"embedding": made.vectors[0].numbers, "inputTextTokenCount": made.tokens})
        asked = _checked(body, request.path_params.get("region"))
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise _wrong(f"The request cannot be read: {wrong!r}") from None
    thought = think(provider, settings, name, asked, fault)
    if operation == "converse-stream":
        frames = _frames(thought, settings, fault)
        return StreamingResponse(frames, media_type="application/vnd.amazon.eventstream")
    if operation != "converse":
        raise Refused(Refusal(404, f"There is no operation {operation}.", "model_not_found"))
    await asyncio.sleep(settings.pace)
    reply = thought.answers[0]
    content: list[dict[str, Any]] = [{"text": reply.text}] if reply.text else []
    content += [
        {"toolUse": {"toolUseId": call_id(call, place), "name": call.name, "input": call.given}}
        for place, call in enumerate(reply.calls)
    ]
    output = {"message": {"role": "assistant", "content": content}}
    return JSONResponse({"output": output, "stopReason": _reason(reply), **_end(thought)})


def _reason(reply: Answer) -> str:
    return "content_filtered" if reply.refusal else _FINISH[reply.finish]


def _end(thought: Thought) -> dict[str, Any]:
    counts = {"inputTokens": thought.prompt_tokens, "outputTokens": thought.output_tokens}
    return {"usage": {**counts, "totalTokens": sum(counts.values())}, "metrics": {"latencyMs": 100}}


async def _frames(thought: Thought, settings: Settings, fault: Fault | None) -> AsyncIterator[bytes]:
    def event(kind: str, value: Any) -> bytes:
        headers = {":event-type": kind, ":content-type": "application/json", ":message-type": "event"}
        return frame(headers, json.dumps(value).encode())

    reply = thought.answers[0]
    yield event("messageStart", {"role": "assistant"})
    for place, piece in enumerate(reply.pieces):
        if fault is not None and fault.name == "error" and place == fault.number:
            headers = {":exception-type": "serviceUnavailableException", ":message-type": "exception"}
            yield frame(headers, b'{"message": "The service is overloaded."}')
            return
        await asyncio.sleep(settings.pace)
        yield event("contentBlockDelta", {"contentBlockIndex": 0, "delta": {"text": piece}})
    yield event("contentBlockStop", {"contentBlockIndex": 0})
    for place, call in enumerate(reply.calls, 1):
        start = {"toolUse": {"toolUseId": call_id(call, place - 1), "name": call.name}}
        yield event("contentBlockStart", {"contentBlockIndex": place, "start": start})
        for piece in tokens(call.arguments):
            delta = {"toolUse": {"input": piece}}
            yield event("contentBlockDelta", {"contentBlockIndex": place, "delta": delta})
        yield event("contentBlockStop", {"contentBlockIndex": place})
    yield event("messageStop", {"stopReason": _reason(reply)})
    yield event("metadata", _end(thought))
