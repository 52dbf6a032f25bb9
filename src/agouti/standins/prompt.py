"""Stand-ins that speak the dialect ``prompt``: a text goes on. Strict: unknown fields are refused."""

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from .asked import Asked
from .auth import Refusal
from .chat import in_words, listed
from .faults import Fault, in_dialect
from .loose import events, is_loose, plain, with_points
from .model import Refused, Thought, guarded, think
from .providers import StandIn
from .settings import Settings

_KNOWN = frozenset(
    [
        "model",
        "prompt",
        "temperature",
        "top_p",
        "max_tokens",
        "seed",
        "n",
        "presence_penalty",
        "frequency_penalty",
        "logit_bias",
        "user",
        "stop",
        "stream",
        "stream_options",
        "logprobs",
        "echo",
        "suffix",
        "best_of",
        "top_k",
        "min_p",
        "repetition_penalty",
    ]
)


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""

    @guarded(provider, in_words)
    async def completions(request: Request) -> Response:
        return await _complete(request, provider, settings)

    prefix = f"/{provider.label}{provider.path}"
    return [
        Route(f"{prefix}/completions", completions, methods=["POST"]),
        Route(f"{prefix}/models", listed(provider), methods=["GET"]),
    ]


async def _complete(request: Request, provider: StandIn, settings: Settings) -> Response:
    try:
        body = await request.json()
        name, fault = in_dialect(request.headers, body["model"])
        unknown = next((field for field in body if field not in _KNOWN), None)
        if unknown is not None or not isinstance(body["prompt"], str):
            raise Refused(Refusal(400, f"Unknown parameter: '{unknown}'."))
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise Refused(Refusal(400, f"The request cannot be read: {wrong!r}")) from None
    # What a base model would go on from: the last lines of the text.
    messages = [("system", body["prompt"]), ("user", body["prompt"].strip().rpartition("\nUser: ")[2])]
    asked = Asked(
        messages,
        cap=body.get("max_tokens"),
        stop=body.get("stop") or (),
        seed=body.get("seed"),
        count=body.get("n") or 1,
    )
    thought = think(provider, settings, name, asked, fault)
    counts = {"prompt_tokens": thought.prompt_tokens, "completion_tokens": thought.output_tokens}
    usage = {**counts, "total_tokens": sum(counts.values())}
    head = {"id": settings.next_id("cmpl"), "object": "text_completion", "created": 1767225600, "model": name}
    if body.get("stream"):
        stream = _chunks(thought, head, usage, settings, fault)
        return StreamingResponse(
            events(stream, _loose_chunk) if is_loose(fault) else stream, media_type="text/event-stream"
        )
    await asyncio.sleep(settings.pace)
    choices = [
        {"index": index, "text": reply.text, "finish_reason": reply.finish, "logprobs": None}
        for index, reply in enumerate(thought.answers)
    ]
    whole = {**head, "choices": choices, "usage": usage}
    return plain(whole, _loose_chunk) if is_loose(fault) else JSONResponse(whole)


def _loose_chunk(chunk: dict[str, Any]) -> None:
    with_points(chunk.get("usage"))
    for choice in chunk["choices"]:
        choice["finish_reason"] = choice["finish_reason"] or ""
        if not choice["index"]:
            del choice["index"]


async def _chunks(
    thought: Thought, head: dict[str, Any], usage: dict[str, int], settings: Settings, fault: Fault | None
) -> AsyncIterator[str]:
    def chunk(index: int, text: str, finish: str | None = None) -> str:
        return f"data: {json.dumps({**head, 'choices': [{'index': index, 'text': text, 'finish_reason': finish}]})}\n\n"

    for index, reply in enumerate(thought.answers):
        for place, piece in enumerate(reply.pieces):
            if fault is not None and fault.name == "error" and place == fault.number:
                error = {"error": {"message": "The server is overloaded.", "code": "server_overloaded"}}
                yield f"data: {json.dumps(error)}\n\n"
                return
            await asyncio.sleep(settings.pace)
            yield chunk(index, piece)
        yield chunk(index, "", reply.finish)
    yield f"data: {json.dumps({**head, 'choices': [], 'usage': usage})}\n\n"
    yield "data: [DONE]\n\n"
