"""Stand-ins that speak the dialect ``chat``. Strict: a field that they do not know is refused."""

import asyncio
import json
import time
from collections.abc import AsyncIterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from .doors import NoCredit
from .faults import Fault, in_dialect
from .providers import StandIn, StandInModel
from .settings import Settings
from .writer import Answer, answer, tokens

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
        return await _refused(request, provider) or await _chat(request, provider, settings)

    async def models(request: Request) -> Response:
        return await _refused(request, provider) or JSONResponse(
            {"object": "list", "data": [_listed(model) for model in provider.models]}
        )

    prefix = f"/{provider.label}{provider.path}"
    named = "/deployments/{model}" if provider.deployments else ""
    return [
        Route(f"{prefix}{named}/chat/completions", chat, methods=["POST"]),
        Route(f"{prefix}/models", models, methods=["GET"]),
    ]


def error(status: int, message: str, kind: str, *, code: str | None = None, param: str | None = None) -> JSONResponse:
    """An error reply of this dialect."""
    return JSONResponse({"error": {"message": message, "type": kind, "param": param, "code": code}}, status)


def _listed(model: StandInModel) -> dict[str, Any]:
    found: dict[str, Any] = {"id": model.name, "object": "model", "created": 1767225600, "owned_by": "marsh-lane"}
    found["context_length"] = model.context
    if model.prices:
        found["pricing"] = dict(zip(("prompt", "completion"), (f"{p / 1e6:.10f}" for p in model.prices), strict=True))
    return found


async def _refused(request: Request, provider: StandIn) -> Response | None:
    body = await request.body()
    for door in provider.doors:
        # A list of models costs nothing, so that an account without credit may still see it.
        if isinstance(door, NoCredit) and request.method == "GET":
            continue
        refusal = door.refuse(request, body)
        if refusal is not None:
            reply = error(refusal.status, refusal.message, "invalid_request_error", code=refusal.code)
            reply.headers.update(refusal.headers)
            return reply
    return None


def _not_offered(model: StandInModel | None, name: str, request: Request) -> Response | None:
    if model is None:
        return error(404, f"The model '{name}' does not exist.", "invalid_request_error", code="model_not_found")
    if not model.open:
        message = f"Your account has not been granted access to {name}."
        return error(403, message, "invalid_request_error", code="model_access_denied")
    region = request.path_params.get("region")
    if model.regions and region not in model.regions:
        return error(403, f"{name} is not available in this region ({region}).", "invalid_request_error")
    return None


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
    not_offered = _not_offered(model, name, request)
    if not_offered is not None or model is None:
        return not_offered or Response(status_code=500)
    refused = next((field for field in model.refuses if field in body), None)
    if refused is not None:
        message = f"Unsupported parameter: '{refused}' is not supported with this model."
        return error(400, message, "invalid_request_error", code="unsupported_parameter", param=refused)
    prompt_tokens = sum(len(tokens(text)) + 3 for _, text in messages)
    if prompt_tokens > model.context:
        return error(
            400,
            f"This model's maximum context length is {model.context} tokens; the messages have {prompt_tokens}.",
            "invalid_request_error",
            code="context_length_exceeded",
        )
    replies = _answers(body, messages, settings)
    head = {"id": settings.next_id("chat"), "created": int(time.time()), "model": name}
    counts = {"prompt_tokens": prompt_tokens, "completion_tokens": sum(len(reply.pieces) for reply in replies)}
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


def _answers(body: dict[str, Any], messages: list[tuple[str, str]], settings: Settings) -> list[Answer]:
    question = next((text for role, text in reversed(messages) if role == "user"), "")
    stop = body.get("stop") or ()
    cap = body.get("max_tokens") or body.get("max_completion_tokens")
    seed = body.get("seed", settings.seed)
    return [
        Answer(answer(question, seed, variant), cap=cap, stop=(stop,) if isinstance(stop, str) else tuple(stop))
        for variant in range(body.get("n") or 1)
    ]


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
