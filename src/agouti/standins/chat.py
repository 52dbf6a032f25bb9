"""Stand-ins that speak the dialect ``chat``. Strict: a field that they do not know is refused."""

import asyncio
import json
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from .faults import Fault, in_dialect
from .providers import StandIn, StandInModel
from .settings import Settings
from .thought import Refused, pass_doors, think
from .writer import Answer

_KNOWN = frozenset(
    [
        "model",
        "messages",
        "temperature",
        "top_p",
        "max_tokens",
        "max_completion_tokens",
        "stop",
        "seed",
        "n",
        "presence_penalty",
        "frequency_penalty",
        "logit_bias",
        "logprobs",
        "top_logprobs",
        "user",
        "stream",
        "stream_options",
    ]
)


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""

    async def chat(request: Request) -> Response:
        try:
            await pass_doors(request, provider)
            return await _chat(request, provider, settings)
        except Refused as refused:
            return in_words(refused)

    prefix = f"/{provider.label}{provider.path}"
    named = "/deployments/{model}" if provider.deployments else ""
    return [
        Route(f"{prefix}{named}/chat/completions", chat, methods=["POST"]),
        Route(f"{prefix}/models", listed(provider), methods=["GET"]),
    ]


def listed(provider: StandIn) -> Callable[[Request], Awaitable[Response]]:
    """The list of models; the same for the dialects that are kin."""

    async def models(request: Request) -> Response:
        try:
            await pass_doors(request, provider)
        except Refused as refused:
            return in_words(refused)
        return JSONResponse({"object": "list", "data": [_listed(model) for model in provider.models]})

    return models


def in_words(refused: Refused) -> Response:
    """A refusal as this dialect says it."""
    refusal = refused.refusal
    reply = error(refusal.status, refusal.message, "invalid_request_error", code=refusal.code)
    reply.headers.update(refusal.headers)
    return reply


def error(status: int, message: str, kind: str, *, code: str | None = None, param: str | None = None) -> JSONResponse:
    """An error reply of this dialect."""
    return JSONResponse({"error": {"message": message, "type": kind, "param": param, "code": code}}, status)


def _listed(model: StandInModel) -> dict[str, Any]:
    found: dict[str, Any] = {"id": model.name, "object": "model", "created": 1767225600, "owned_by": "marsh-lane"}
    found["context_length"] = model.context
    if model.prices:
        found["pricing"] = dict(zip(("prompt", "completion"), (f"{p / 1e6:.10f}" for p in model.prices), strict=True))
    return found


async def _chat(request: Request, provider: StandIn, settings: Settings) -> Response:
    try:
        body = await request.json()
        if provider.deployments and "model" in body:
            return error(400, "The model is named in the path.", "invalid_request_error", param="model")
        name, fault = in_dialect(request.headers, request.path_params.get("model") or body["model"])
        messages = [(message["role"], _text(message.get("content"))) for message in body["messages"]]
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        return error(400, f"The request cannot be read: {wrong!r}", "invalid_request_error")
    unknown = next((field for field in body if field not in _KNOWN), None)
    if unknown is not None:
        return error(400, f"Unknown parameter: '{unknown}'.", "invalid_request_error", param=unknown)
    model = provider.model(name)
    refused = next((field for field in (model.refuses if model else ()) if field in body), None)
    if refused is not None:
        message = f"Unsupported parameter: '{refused}' is not supported with this model."
        return error(400, message, "invalid_request_error", code="unsupported_parameter", param=refused)
    thought = think(
        provider,
        settings,
        name,
        messages,
        region=request.path_params.get("region"),
        cap=body.get("max_tokens") or body.get("max_completion_tokens"),
        stop=body.get("stop") or (),
        seed=body.get("seed"),
        count=body.get("n") or 1,
    )
    replies = thought.answers
    head = {"id": settings.next_id("chat"), "created": int(time.time()), "model": name}
    counts = {"prompt_tokens": thought.prompt_tokens, "completion_tokens": thought.output_tokens}
    usage = {**counts, "total_tokens": sum(counts.values())}
    if body.get("stream"):
        with_usage = bool((body.get("stream_options") or {}).get("include_usage"))
        chunks = _chunks(replies, head, usage if with_usage else None, settings, fault)
        return StreamingResponse(chunks, media_type="text/event-stream")
    await asyncio.sleep(settings.pace)
    choices = [
        {"index": index, "message": {"role": "assistant", "content": reply.text}, "finish_reason": reply.finish}
        for index, reply in enumerate(replies)
    ]
    return JSONResponse({**head, "object": "chat.completion", "choices": choices, "usage": usage})


def _text(content: Any) -> str:
    if isinstance(content, list):
        return " ".join(part.get("text", "") for part in content)
    return content or ""


async def _chunks(
    replies: list[Answer],
    head: dict[str, Any],
    usage: dict[str, int] | None,
    settings: Settings,
    fault: Fault | None,
) -> AsyncIterator[str]:
    head = {**head, "object": "chat.completion.chunk"}

    def chunk(index: int, delta: dict[str, str], finish: str | None = None) -> str:
        choices = [{"index": index, "delta": delta, "finish_reason": finish}]
        return f"data: {json.dumps({**head, 'choices': choices})}\n\n"

    odd = fault is not None and fault.name == "odd"
    if odd:
        yield (
            ": keep-alive\n\ndata: null\n\nevent: tick\ndata: {}\n\ndata: "
            + json.dumps({**head, "choices": None})
            + "\n\n"
        )
    sent = 0
    for index, reply in enumerate(replies):
        yield chunk(index, {"role": "assistant", "content": ""})
        for piece in reply.pieces:
            if fault is not None and fault.name == "error" and sent == fault.number:
                yield f"data: {json.dumps({'error': {'message': 'The server is overloaded.', 'code': 'server_overloaded'}})}\n\n"
                return
            await asyncio.sleep(settings.pace)
            yield chunk(index, {"role": "assistant", "content": piece} if odd else {"content": piece})
            sent += 1
        yield chunk(index, {}, reply.finish)
    if usage is not None:
        for _ in range(2 if odd else 1):
            yield f"data: {json.dumps({**head, 'choices': [], 'usage': usage})}\n\n"
    if odd:
        return
    yield "data: [DONE]\n\n"
