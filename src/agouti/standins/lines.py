"""Stand-ins that speak the dialect ``lines``. Strict: unknown fields are refused; streaming unless told otherwise."""

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, PlainTextResponse, Response, StreamingResponse
from starlette.routing import Route

from .doors import Refusal
from .faults import Fault, in_dialect
from .providers import StandIn
from .settings import Settings
from .thought import Refused, Thought, pass_doors, think

_KNOWN = frozenset(["model", "messages", "stream", "format", "options", "keep_alive", "think", "tools"])
_OPTIONS = frozenset(
    [
        "temperature",
        "top_p",
        "top_k",
        "num_ctx",
        "num_predict",
        "stop",
        "seed",
        "repeat_penalty",
        "presence_penalty",
        "frequency_penalty",
    ]
)


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""

    async def chat(request: Request) -> Response:
        try:
            await pass_doors(request, provider)
            return await _chat(request, provider, settings)
        except Refused as refused:
            return JSONResponse({"error": refused.refusal.message}, refused.refusal.status)

    async def tags(request: Request) -> Response:
        details = {"parameter_size": "2B", "quantization_level": "Q4"}
        return JSONResponse(
            {"models": [{"name": model.name, "size": 10**9, "details": details} for model in provider.models]}
        )

    async def alive(request: Request) -> Response:
        return PlainTextResponse("The server is running")

    prefix = f"/{provider.label}{provider.path}"
    return [
        Route(f"{prefix}/api/chat", chat, methods=["POST"]),
        Route(f"{prefix}/api/tags", tags, methods=["GET"]),
        Route(prefix or "/", alive, methods=["GET"]),
    ]


async def _chat(request: Request, provider: StandIn, settings: Settings) -> Response:
    try:
        body = await request.json()
        name, fault = in_dialect(request.headers, body["model"])
        options = body.get("options") or {}
        unknown = [field for field in body if field not in _KNOWN] + [
            field for field in options if field not in _OPTIONS
        ]
        if unknown:
            raise Refused(Refusal(400, f"unknown field {unknown[0]!r}"))
        messages = [(message["role"], message["content"]) for message in body["messages"]]
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise Refused(Refusal(400, f"the request cannot be read: {wrong!r}")) from None
    if provider.model(name) is None:
        raise Refused(Refusal(404, f"model '{name}' not found"))
    cap = options.get("num_predict")
    thought = think(
        provider,
        settings,
        name,
        messages,
        cap=None if cap in (None, -1) else cap,
        stop=options.get("stop") or (),
        seed=options.get("seed"),
    )
    if body.get("stream", True):
        return StreamingResponse(_lines(thought, name, settings, fault), media_type="application/x-ndjson")
    await asyncio.sleep(settings.pace)
    return JSONResponse({**_head(name), "message": _message(thought.answers[0].text), **_end(thought)})


def _head(name: str) -> dict[str, Any]:
    return {"model": name, "created_at": "2026-11-23T08:00:00.000000Z"}


def _message(text: str) -> dict[str, str]:
    return {"role": "assistant", "content": text}


def _end(thought: Thought) -> dict[str, Any]:
    return {
        "done": True,
        "done_reason": thought.answers[0].finish,
        "total_duration": 10**8,
        "prompt_eval_count": thought.prompt_tokens,
        "eval_count": thought.output_tokens,
    }


async def _lines(thought: Thought, name: str, settings: Settings, fault: Fault | None) -> AsyncIterator[str]:
    for place, piece in enumerate(thought.answers[0].pieces):
        if fault is not None and fault.name == "error" and place == fault.number:
            yield json.dumps({"error": "the model runner is overloaded"}) + "\n"
            return
        await asyncio.sleep(settings.pace)
        yield json.dumps({**_head(name), "message": _message(piece), "done": False}) + "\n"
    yield json.dumps({**_head(name), "message": _message(""), **_end(thought)}) + "\n"
