"""Stand-ins that speak the dialect ``responses``. Strict: unknown fields are refused, items must have their form."""

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from .auth import Refusal
from .chat import embedded, in_words, listed
from .faults import Fault, in_dialect
from .model import Asked, Refused, Thought, call_id, guarded, image_bytes, think, tool_of
from .providers import StandIn
from .schemas import strict_complaint
from .settings import Settings
from .writer import Call, tokens

_KNOWN = frozenset(
    [
        "model",
        "input",
        "instructions",
        "max_output_tokens",
        "temperature",
        "top_p",
        "stream",
        "store",
        "previous_response_id",
        "reasoning",
        "text",
        "tools",
        "tool_choice",
        "parallel_tool_calls",
        "user",
        "top_logprobs",
    ]
)
_TEXTS = {"user": "input_text", "assistant": "output_text"}


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""

    @guarded(provider, in_words)
    async def responses(request: Request) -> Response:
        return await _respond(request, provider, settings)

    prefix = f"/{provider.label}{provider.path}"
    return [
        Route(f"{prefix}/responses", responses, methods=["POST"]),
        Route(f"{prefix}/models", listed(provider), methods=["GET"]),
        Route(f"{prefix}/embeddings", embedded(provider), methods=["POST"]),
    ]


def _wrong(message: str) -> Refused:
    return Refused(Refusal(400, message))


def _checked(body: Any) -> Asked:
    """What a request asks, once it is as the format demands."""
    for name in body:
        if name not in _KNOWN:
            raise _wrong(f"Unknown parameter: '{name}'.")
    found: list[tuple[str, str]] = []
    if body.get("instructions"):
        found.append(("system", body["instructions"]))
    items = body["input"]
    images: list[bytes] = []
    results: list[str] = []
    called: set[str] = set()
    for item in [{"role": "user", "content": items}] if isinstance(items, str) else items:
        if item.get("type") == "function_call":
            called.add(item["call_id"])
            found.append(("assistant", ""))
        if item.get("type") == "function_call_output":
            if item["call_id"] not in called:
                raise _wrong(f"No tool call found for function call output with call_id {item['call_id']}.")
            results.append(item["output"])
        if "role" not in item:
            continue
        content = item["content"]
        if item["role"] == "user":
            images, results = [], []
        if isinstance(content, list):
            wanted = _TEXTS.get(item["role"], "input_text")
            if any(part["type"] not in (wanted, "input_image") for part in content):
                raise _wrong(f"Invalid type of a part; {item['role']} takes {wanted}.")
            images += [image_bytes(part["image_url"]) for part in content if part["type"] == "input_image"]
            content = " ".join(part.get("text", "") for part in content)
        found.append((item["role"], content))
    form = (body.get("text") or {}).get("format") or {"type": "text"}
    if form["type"] == "json_schema" and form.get("strict") and (complaint := strict_complaint(form["schema"])):
        raise _wrong(f"Invalid schema for text.format: {complaint}")
    choice = body.get("tool_choice") or "auto"
    return Asked(
        found,
        cap=body.get("max_output_tokens"),
        tools=[tool_of(tool) for tool in body.get("tools") or ()],
        choice=choice["name"] if isinstance(choice, dict) else choice,
        schema=form.get("schema"),
        as_json=form["type"] != "text",
        images=images,
        results=results,
    )


async def _respond(request: Request, provider: StandIn, settings: Settings) -> Response:
    try:
        body = await request.json()
        asked = _checked(body)
        name, fault = in_dialect(request.headers, body["model"])
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise _wrong(f"The request cannot be read: {wrong!r}") from None
    thought = think(provider, settings, name, asked, fault)
    head = {"id": settings.next_id("resp"), "object": "response", "model": name}
    if body.get("stream"):
        return StreamingResponse(_events(thought, head, settings, fault), media_type="text/event-stream")
    await asyncio.sleep(settings.pace)
    return JSONResponse(_whole(thought, head))


def _whole(thought: Thought, head: dict[str, Any]) -> dict[str, Any]:
    reply = thought.answers[0]
    short = reply.finish == "length"
    said = {"type": "output_text", "text": reply.text, "annotations": []}
    content = [{"type": "refusal", "refusal": reply.refusal} if reply.refusal else said]
    output: list[dict[str, Any]] = [_call(call, place) for place, call in enumerate(reply.calls)]
    if not output:
        output = [{"type": "message", "id": "item-1", "role": "assistant", "content": content}]
    counts = {"input_tokens": thought.prompt_tokens, "output_tokens": thought.output_tokens}
    return {
        **head,
        "status": "incomplete" if short else "completed",
        "incomplete_details": {"reason": "max_output_tokens"} if short else None,
        "error": None,
        "output": output,
        "usage": {**counts, "total_tokens": sum(counts.values())},
    }


def _call(call: Call, place: int) -> dict[str, Any]:
    return {"type": "function_call", "call_id": call_id(call, place), "name": call.name, "arguments": call.arguments}


async def _events(
    thought: Thought, head: dict[str, Any], settings: Settings, fault: Fault | None
) -> AsyncIterator[str]:
    def event(kind: str, **more: Any) -> str:
        return f"event: {kind}\ndata: {json.dumps({'type': kind, **more})}\n\n"

    under_way = {**head, "status": "in_progress", "output": []}
    yield event("response.created", response=under_way)
    yield event("response.in_progress", response=under_way)
    item = {"type": "message", "id": "item-1", "role": "assistant", "content": []}
    yield event("response.output_item.added", output_index=0, item=item)
    for place, piece in enumerate(thought.answers[0].pieces):
        if fault is not None and fault.name == "error" and place == fault.number:
            yield event("error", code="server_overloaded", message="The server is overloaded.")
            return
        await asyncio.sleep(settings.pace)
        yield event("response.output_text.delta", output_index=0, content_index=0, delta=piece)
    yield event("response.output_text.done", output_index=0, text=thought.answers[0].text)
    if thought.answers[0].refusal:
        yield event("response.refusal.delta", output_index=0, delta=thought.answers[0].refusal)
    for place, call in enumerate(thought.answers[0].calls, 1):
        whole_call = _call(call, place - 1)
        yield event("response.output_item.added", output_index=place, item={**whole_call, "arguments": ""})
        for piece in tokens(call.arguments):
            yield event("response.function_call_arguments.delta", output_index=place, delta=piece)
        yield event("response.output_item.done", output_index=place, item=whole_call)
    whole = _whole(thought, head)
    yield event(f"response.{whole['status']}", response=whole)
