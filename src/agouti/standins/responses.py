"""Stand-ins that speak the dialect ``responses``. Strict: unknown fields are refused, items must have their form."""

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from .chat import in_words, listed
from .doors import Refusal
from .faults import Fault, in_dialect
from .providers import StandIn
from .settings import Settings
from .thought import Refused, Thought, pass_doors, think

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

    async def responses(request: Request) -> Response:
        try:
            await pass_doors(request, provider)
            return await _respond(request, provider, settings)
        except Refused as refused:
            return in_words(refused)

    prefix = f"/{provider.label}{provider.path}"
    return [
        Route(f"{prefix}/responses", responses, methods=["POST"]),
        Route(f"{prefix}/models", listed(provider), methods=["GET"]),
    ]


def _wrong(message: str) -> Refused:
    return Refused(Refusal(400, message))


def _checked(body: Any) -> list[tuple[str, str]]:
    """Role and text of the items of a request that is as the format demands."""
    for name in body:
        if name not in _KNOWN:
            raise _wrong(f"Unknown parameter: '{name}'.")
    found: list[tuple[str, str]] = []
    if body.get("instructions"):
        found.append(("system", body["instructions"]))
    items = body["input"]
    for item in [{"role": "user", "content": items}] if isinstance(items, str) else items:
        if "role" not in item:
            continue  # calls and their results
        content = item["content"]
        if isinstance(content, list):
            wanted = _TEXTS.get(item["role"], "input_text")
            if any(part["type"] not in (wanted, "input_image") for part in content):
                raise _wrong(f"Invalid type of a part; {item['role']} takes {wanted}.")
            content = " ".join(part.get("text", "") for part in content)
        found.append((item["role"], content))
    return found


async def _respond(request: Request, provider: StandIn, settings: Settings) -> Response:
    try:
        body = await request.json()
        messages = _checked(body)
        name, fault = in_dialect(request.headers, body["model"])
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise _wrong(f"The request cannot be read: {wrong!r}") from None
    thought = think(provider, settings, name, messages, cap=body.get("max_output_tokens"))
    head = {"id": settings.next_id("resp"), "object": "response", "model": name}
    if body.get("stream"):
        return StreamingResponse(_events(thought, head, settings, fault), media_type="text/event-stream")
    await asyncio.sleep(settings.pace)
    return JSONResponse(_whole(thought, head))


def _whole(thought: Thought, head: dict[str, Any]) -> dict[str, Any]:
    reply = thought.answers[0]
    short = reply.finish == "length"
    content = [{"type": "output_text", "text": reply.text, "annotations": []}]
    counts = {"input_tokens": thought.prompt_tokens, "output_tokens": thought.output_tokens}
    return {
        **head,
        "status": "incomplete" if short else "completed",
        "incomplete_details": {"reason": "max_output_tokens"} if short else None,
        "error": None,
        "output": [{"type": "message", "id": "item-1", "role": "assistant", "content": content}],
        "usage": {**counts, "total_tokens": sum(counts.values())},
    }


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
    whole = _whole(thought, head)
    yield event(f"response.{whole['status']}", response=whole)
