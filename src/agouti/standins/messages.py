"""Stand-ins that speak the dialect ``messages``. Strict: a cap is demanded, roles alternate, unknown fields are refused."""

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from .auth import Refusal
from .faults import Fault, in_dialect
from .model import Asked, Refused, Thought, call_id, guarded, image_bytes, prompt_tokens, think, tool_of
from .providers import StandIn
from .schemas import strict_complaint
from .settings import Settings
from .writer import Answer, tokens

_KNOWN = frozenset(
    [
        "model",
        "messages",
        "max_tokens",
        "system",
        "temperature",
        "top_p",
        "top_k",
        "stop_sequences",
        "stream",
        "metadata",
        "thinking",
        "tools",
        "tool_choice",
        "output_config",
    ]
)
# Only what the prompt is made of is counted; what governs the answer has no place here.
_COUNTED = frozenset(["model", "messages", "system", "thinking", "tools", "tool_choice", "output_config"])
_KINDS = {400: "invalid_request_error", 401: "authentication_error", 403: "permission_error", 404: "not_found_error"}
_FINISH = {"stop": "end_turn", "length": "max_tokens", "tool_calls": "tool_use"}
_BLOCKS = frozenset(["text", "image", "tool_use", "tool_result", "thinking", "redacted_thinking"])


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""

    @guarded(provider, _in_words)
    async def messages(request: Request) -> Response:
        return await _messages(request, provider, settings)

    @guarded(provider, _in_words)
    async def count(request: Request) -> Response:
        name, asked, _, _ = await _read(request, _COUNTED)
        return JSONResponse({"input_tokens": prompt_tokens(provider, name, asked)})

    @guarded(provider, _in_words)
    async def models(request: Request) -> Response:
        return JSONResponse({"data": [{"type": "model", "id": model.name} for model in provider.models]})

    prefix = f"/{provider.label}{provider.path}"
    return [
        Route(f"{prefix}/messages", messages, methods=["POST"]),
        Route(f"{prefix}/messages/count_tokens", count, methods=["POST"]),
        Route(f"{prefix}/models", models, methods=["GET"]),
    ]


def _in_words(refused: Refused) -> Response:
    refusal = refused.refusal
    kind = _KINDS.get(refusal.status, "api_error")
    body = {"type": "error", "error": {"type": kind, "message": refusal.message}, "request_id": "req-0001"}
    return JSONResponse(body, refusal.status, headers=refusal.headers)


def _wrong(message: str) -> Refused:
    return Refused(Refusal(400, message))


async def _read(request: Request, known: frozenset[str]) -> tuple[str, Asked, Fault | None, bool]:
    """The model, what it is asked, how the answer is to go wrong, and whether it is to be streamed."""
    try:
        body = await request.json()
        asked = _checked(body, known)
        name, fault = in_dialect(request.headers, body["model"])
        return name, asked, fault, bool(body.get("stream"))
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise _wrong(f"The request cannot be read: {wrong!r}") from None


def _checked(body: Any, known: frozenset[str]) -> Asked:
    """What a request asks, once it is as the format demands."""
    if not isinstance(body, dict):
        raise _wrong("The body must be an object.")
    unknown = next((name for name in body if name not in known), None)
    if unknown:
        raise _wrong(f"{unknown}: Extra inputs are not permitted")
    if "max_tokens" in known and (not isinstance(body.get("max_tokens"), int) or body["max_tokens"] < 1):
        raise _wrong("max_tokens: Field required")
    if not 0 <= body.get("temperature", 0) <= 1:
        raise _wrong("temperature: must be from 0 to 1")
    found: list[tuple[str, str]] = []
    images: list[bytes] = []
    results: list[str] = []
    called: set[str] = set()
    system = body.get("system")
    if system:
        found.append(("system", system if isinstance(system, str) else " ".join(each["text"] for each in system)))
    before = "assistant"
    for place, message in enumerate(body.get("messages") or ()):
        role = message.get("role")
        if role not in ("user", "assistant"):
            raise _wrong(f"messages.{place}.role: must be user or assistant")
        if role == before:
            raise _wrong("messages: roles must alternate between user and assistant")
        before = role
        content = message.get("content")
        blocks: list[Any] = [{"type": "text", "text": content}] if isinstance(content, str) else content
        if not blocks:
            raise _wrong(f"messages.{place}.content: must not be empty")
        if any(block["type"] not in _BLOCKS for block in blocks):
            raise _wrong(f"messages.{place}.content: unknown type of block")
        found.append((role, " ".join(block["text"] for block in blocks if block["type"] == "text")))
        answers = [block for block in blocks if block["type"] == "tool_result"]
        if any(block["tool_use_id"] not in called for block in answers):
            raise _wrong(f"messages.{place}: unexpected tool_use_id found in tool_result blocks")
        called |= {block["id"] for block in blocks if block["type"] == "tool_use"}
        # What stands in the last turn is what is asked about.
        results = [_words(block["content"]) for block in answers]
        images = [image_bytes(block["source"]["data"]) for block in blocks if block["type"] == "image"]
    if before != "user":
        raise _wrong("messages: the last one must be of the user")
    form = (body.get("output_config") or {}).get("format")
    complaint = strict_complaint(form["schema"]) if form else None
    if complaint:
        raise _wrong(f"output_config.format.schema: {complaint}")
    choice = body.get("tool_choice") or {"type": "auto"}
    return Asked(
        found,
        cap=body.get("max_tokens"),
        stop=tuple(body.get("stop_sequences") or ()),
        tools=[tool_of(tool, "input_schema") for tool in body.get("tools") or ()],
        choice=choice["name"] if choice["type"] == "tool" else {"any": "required"}.get(choice["type"], choice["type"]),
        schema=form["schema"] if form else None,
        images=images,
        results=results,
    )


def _words(content: Any) -> str:
    return content if isinstance(content, str) else " ".join(block["text"] for block in content)


def _content(reply: Answer) -> list[dict[str, Any]]:
    text = [{"type": "text", "text": reply.text}] if reply.text else []
    return text + [
        {"type": "tool_use", "id": call_id(call, place), "name": call.name, "input": call.given}
        for place, call in enumerate(reply.calls)
    ]


def _reason(reply: Answer) -> str:
    return "refusal" if reply.refusal else _FINISH[reply.finish]


async def _messages(request: Request, provider: StandIn, settings: Settings) -> Response:
    name, asked, fault, streamed = await _read(request, _KNOWN)
    thought = think(provider, settings, name, asked, fault)
    head = {"id": settings.next_id("msg"), "type": "message", "role": "assistant", "model": name}
    if streamed:
        return StreamingResponse(_events(thought, head, settings, fault), media_type="text/event-stream")
    await asyncio.sleep(settings.pace)
    reply = thought.answers[0]
    usage = {"input_tokens": thought.prompt_tokens, "output_tokens": thought.output_tokens}
    ended = {"stop_reason": _reason(reply), "stop_sequence": None, "usage": usage}
    return JSONResponse({**head, "content": _content(reply), **ended})


async def _events(
    thought: Thought, head: dict[str, Any], settings: Settings, fault: Fault | None
) -> AsyncIterator[str]:
    def event(kind: str, **more: Any) -> str:
        return f"event: {kind}\ndata: {json.dumps({'type': kind, **more})}\n\n"

    reply = thought.answers[0]
    usage = {"input_tokens": thought.prompt_tokens, "output_tokens": 1}
    yield event("message_start", message={**head, "content": [], "stop_reason": None, "usage": usage})
    yield event("content_block_start", index=0, content_block={"type": "text", "text": ""})
    yield event("ping")
    for place, piece in enumerate(reply.pieces):
        if fault is not None and fault.name == "error" and place == fault.number:
            yield event("error", error={"type": "overloaded_error", "message": "Overloaded"})
            return
        await asyncio.sleep(settings.pace)
        yield event("content_block_delta", index=0, delta={"type": "text_delta", "text": piece})
    yield event("content_block_stop", index=0)
    for place, call in enumerate(reply.calls, 1):
        block = {"type": "tool_use", "id": call_id(call, place - 1), "name": call.name, "input": {}}
        yield event("content_block_start", index=place, content_block=block)
        for piece in tokens(call.arguments):
            yield event("content_block_delta", index=place, delta={"type": "input_json_delta", "partial_json": piece})
        yield event("content_block_stop", index=place)
    delta = {"stop_reason": _reason(reply), "stop_sequence": None}
    yield event("message_delta", delta=delta, usage={"output_tokens": thought.output_tokens})
    yield event("message_stop")
