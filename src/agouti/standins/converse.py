"""Stand-ins that speak the dialect ``converse``. Strict: signed or with a key, roles alternate, blocks have no types."""

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from ..core.framing.binary import frame
from .asked import Asked
from .auth import Refusal
from .faults import Fault, in_dialect
from .loose import is_loose, odd, plain, with_points
from .model import Refused, Thought, call_id, guarded, image_bytes, think, tool_of
from .providers import StandIn
from .rules import ALLOWED_ID, Turn, blank, is_signed, pairing_complaint, signature, under_way
from .settings import Settings
from .vectors import embeddings
from .writer import Answer, tokens

_KNOWN = frozenset(
    [
        "messages",
        "system",
        "inferenceConfig",
        "toolConfig",
        "additionalModelRequestFields",
        "requestMetadata",
        "serviceTier",
    ]
)
_CONFIG = frozenset(["maxTokens", "temperature", "topP", "stopSequences"])
_BLOCKS = frozenset(["text", "image", "document", "toolUse", "toolResult", "reasoningContent", "cachePoint"])
_DOCUMENTS = frozenset(["pdf", "txt", "md", "html", "csv", "doc", "docx", "xls", "xlsx"])
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
    found = [("system", " ".join(block["text"] for block in body.get("system") or () if "text" in block))]
    before, blocks = "assistant", []
    thinks = "thinking" in (body.get("additionalModelRequestFields") or {})
    turns: list[Turn] = []
    if not body.get("messages"):
        raise _wrong("A conversation must have at least one message.")
    asks = under_way(
        [
            message["role"] == "user" and any("toolResult" not in block for block in message["content"])
            for message in body["messages"]
        ]
    )
    for place, message in enumerate(body["messages"]):
        role, blocks = message["role"], message["content"]
        if role not in ("user", "assistant") or role == before:
            raise _wrong("A conversation must alternate between user and assistant roles.")
        before = role
        if not blocks:
            raise _wrong("The content of a message must not be empty.")
        for block in blocks:
            _check_block(block)
        asked = [block["toolUse"] for block in blocks if "toolUse" in block]
        answers = [block["toolResult"] for block in blocks if "toolResult" in block]
        if asked and thinks and place > asks and "reasoningContent" not in blocks[0]:
            raise _wrong("Expected `thinking` or `redacted_thinking`, but found `tool_use`.")
        turns.append(
            Turn([(each["toolUseId"], each["name"]) for each in asked], [(each["toolUseId"], None) for each in answers])
        )
        found.append((role, " ".join(_text(block) for block in blocks)))
    if before != "user":
        raise _wrong("A conversation must end with a user message.")
    if complaint := pairing_complaint(turns):
        raise _wrong(f"The model returned the following errors: {complaint}")
    tools = body.get("toolConfig") or {}
    if any(turn.calls for turn in turns) and not tools:
        raise _wrong("The toolConfig field must be defined when using toolUse and toolResult content blocks.")
    choice = tools.get("toolChoice") or {"auto": {}}
    results = [block["toolResult"] for block in blocks if "toolResult" in block]
    for result in results:
        if not result["content"] or any(blank(each.get("text", "x")) for each in result["content"]):
            raise _wrong("The text field in the ContentBlock object of a toolResult is blank.")
    return Asked(
        found,
        region,
        config.get("maxTokens"),
        tuple(config.get("stopSequences") or ()),
        tools=[
            tool_of({**tool["toolSpec"], "parameters": tool["toolSpec"]["inputSchema"]["json"]})
            for tool in tools.get("tools") or ()
            if "toolSpec" in tool
        ],
        choice=choice["tool"]["name"] if "tool" in choice else "required" if "any" in choice else "auto",
        images=[image_bytes(block["image"]["source"]["bytes"]) for block in blocks if "image" in block],
        results=[
            each.get("text") or json.dumps(each.get("json"))
            for result in results
            for each in result["content"]
            if "image" not in each
        ],
        thinks=thinks,
    )


def _check_block(block: dict[str, Any]) -> None:
    """One block has one of the fields, and what it holds can be used."""
    if len(block) != 1 or not block.keys() <= _BLOCKS:
        raise _wrong("A content block must have exactly one of its fields.")
    if "image" in block and block["image"]["format"] not in _FORMATS:
        raise _wrong("The image format must be one of png, jpeg, gif, webp.")
    if "document" in block and (block["document"]["format"] not in _DOCUMENTS or blank(block["document"].get("name"))):
        raise _wrong("A document must have a name, and one of the formats of documents.")
    if "text" in block and blank(block["text"]):
        raise _wrong("The text field in the ContentBlock object is blank. Add text to the text field.")
    for kind in ("toolUse", "toolResult"):
        if kind in block and not ALLOWED_ID.fullmatch(block[kind]["toolUseId"]):
            raise _wrong("toolUseId failed to satisfy constraint: Member must satisfy [a-zA-Z0-9_-]+")
    if "reasoningContent" in block:
        told = block["reasoningContent"].get("reasoningText") or {}
        if not is_signed(told.get("text"), told.get("signature")):
            raise _wrong("Invalid signature in thinking block.")


def _text(block: dict[str, Any]) -> str:
    document = block.get("document") or {}
    if document.get("format") in ("txt", "md", "csv", "html"):
        return image_bytes(document["source"]["bytes"]).decode("utf-8", "replace")
    return str(block.get("text", ""))


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
        frames = _frames(thought, settings, fault, loose=is_loose(fault))
        return StreamingResponse(frames, media_type="application/vnd.amazon.eventstream")
    if operation != "converse":
        raise Refused(Refusal(404, f"There is no operation {operation}.", "model_not_found"))
    await asyncio.sleep(settings.pace)
    reply = thought.answers[0]
    content: list[dict[str, Any]] = []
    if thought.thinking:
        told = {"text": thought.thinking, "signature": signature(thought.thinking)}
        content.append({"reasoningContent": {"reasoningText": told}})
    content += [{"text": reply.text}] if reply.text else []
    content += [
        {"toolUse": {"toolUseId": call_id(call, place), "name": call.name, "input": call.given}}
        for place, call in enumerate(reply.calls)
    ]
    output = {"message": {"role": "assistant", "content": content}}
    whole = {"output": output, "stopReason": _reason(reply), **_end(thought)}
    return plain(whole, lambda value: with_points(value["usage"])) if is_loose(fault) else JSONResponse(whole)


def _reason(reply: Answer) -> str:
    return "content_filtered" if reply.refusal else _FINISH[reply.finish]


def _end(thought: Thought) -> dict[str, Any]:
    counts = {"inputTokens": thought.prompt_tokens, "outputTokens": thought.output_tokens}
    return {"usage": {**counts, "totalTokens": sum(counts.values())}, "metrics": {"latencyMs": 100}}


async def _frames(thought: Thought, settings: Settings, fault: Fault | None, *, loose: bool) -> AsyncIterator[bytes]:
    def event(kind: str, value: Any) -> bytes:
        headers = {":event-type": kind, ":content-type": "application/json", ":message-type": "event"}
        if loose:
            value.pop("contentBlockIndex", None)
            odd(value)
        return frame(headers, json.dumps(value).encode())

    def delta(index: int, value: Any) -> bytes:
        return event("contentBlockDelta", {"contentBlockIndex": index, "delta": value})

    reply, index = thought.answers[0], 0
    yield event("messageStart", {"role": "assistant"})
    if thought.thinking:
        for piece in tokens(thought.thinking):
            yield delta(0, {"reasoningContent": {"text": piece}})
        yield delta(0, {"reasoningContent": {"signature": signature(thought.thinking)}})
        yield event("contentBlockStop", {"contentBlockIndex": 0})
        index = 1
    for place, piece in enumerate(reply.pieces):
        if fault is not None and fault.name == "error" and place == fault.number:
            headers = {":exception-type": "serviceUnavailableException", ":message-type": "exception"}
            yield frame(headers, b'{"message": "The service is overloaded."}')
            return
        await asyncio.sleep(settings.pace)
        yield delta(index, {"text": piece})
    yield event("contentBlockStop", {"contentBlockIndex": index})
    for place, call in enumerate(reply.calls):
        start = {"toolUse": {"toolUseId": call_id(call, place), "name": call.name}}
        yield event("contentBlockStart", {"contentBlockIndex": index + 1 + place, "start": start})
        for piece in tokens(call.arguments):
            yield delta(index + 1 + place, {"toolUse": {"input": piece}})
        yield event("contentBlockStop", {"contentBlockIndex": index + 1 + place})
    yield event("messageStop", {"stopReason": _reason(reply)})
    yield event("metadata", _end(thought))
