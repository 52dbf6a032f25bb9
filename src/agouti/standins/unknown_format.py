"""A stand-in that speaks none of the known formats: what a declared dialect is for. Strict: unknown fields are refused."""

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from .asked import Asked
from .auth import Refusal
from .faults import Fault, in_dialect
from .model import Refused, Thought, guarded, think
from .providers import StandIn
from .settings import Settings

_KNOWN = {"engine", "conversation", "settings", "live"}
_SETTINGS = {"heat", "limit", "ends"}
_WHY = {"stop": "over", "length": "full"}


def _in_words(refused: Refused) -> Response:
    refusal = refused.refusal
    problem = {"said": refusal.message, "code": {404: "E4", 401: "E1"}.get(refusal.status, "E9")}
    return JSONResponse({"problem": problem}, 200 if refusal.status == 400 else refusal.status)


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""

    @guarded(provider, _in_words)
    async def talk(request: Request) -> Response:
        return await _talk(request, provider, settings)

    async def engines(request: Request) -> Response:
        return JSONResponse({"engines": [{"id": model.name} for model in provider.models]})

    prefix = f"/{provider.label}{provider.path}"
    return [Route(f"{prefix}/talk", talk, methods=["POST"]), Route(f"{prefix}/engines", engines, methods=["GET"])]


async def _talk(request: Request, provider: StandIn, settings: Settings) -> Response:
    try:
        body = await request.json()
        name, fault = in_dialect(request.headers, body["engine"])
        wished = body.get("settings") or {}
        unknown = (body.keys() - _KNOWN) | (wished.keys() - _SETTINGS)
        if unknown:
            raise Refused(Refusal(400, f"unknown field {min(unknown)!r}"))
        turns = [({"board": "assistant"}.get(turn["who"], turn["who"]), turn["words"]) for turn in body["conversation"]]
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise Refused(Refusal(400, f"the request cannot be read: {wrong!r}")) from None
    asked = Asked(turns, cap=wished.get("limit"), stop=wished.get("ends") or ())
    thought = think(provider, settings, name, asked, fault)
    if body.get("live"):
        return StreamingResponse(_lines(thought, name, settings, fault), media_type="application/x-ndjson")
    await asyncio.sleep(settings.pace)
    answer = thought.answers[0]
    result = [{"words": answer.text, "why": _WHY[answer.finish]}]
    return JSONResponse({"engine": name, "result": result, "meta": _meta(thought)})


def _meta(thought: Thought) -> dict[str, int]:
    return {"in": thought.prompt_tokens, "out": thought.output_tokens}


async def _lines(thought: Thought, name: str, settings: Settings, fault: Fault | None) -> AsyncIterator[str]:
    def line(**value: Any) -> str:
        return json.dumps({"engine": name, **value}) + "\n"

    for place, piece in enumerate(thought.answers[0].pieces):
        if fault is not None and fault.name == "error" and place == fault.number:
            yield line(problem={"said": "the board is overloaded", "code": "E9"})
            return
        await asyncio.sleep(settings.pace)
        yield line(words=piece)
    yield line(words="", why=_WHY[thought.answers[0].finish], meta=_meta(thought))
