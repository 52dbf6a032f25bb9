"""Stand-ins that speak the dialect ``jobs``. Strict: the input of a model is its own, a job has an address of its own."""

import asyncio
import json
import time
from collections.abc import AsyncIterator
from dataclasses import dataclass, field
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from .asked import Asked
from .auth import Refusal
from .faults import Fault, in_dialect
from .model import Refused, Thought, guarded, image_bytes, think
from .providers import StandIn
from .settings import Settings

_INPUT = frozenset(
    [
        "prompt",
        "system_prompt",
        "image",
        "temperature",
        "top_p",
        "max_tokens",
        "stop_sequences",
        "seed",
        "top_k",
        "min_p",
        "repetition_penalty",
        "presence_penalty",
        "frequency_penalty",
    ]
)
# How long a job waits in the queue, and how long its work takes, in seconds.
_QUEUED, _AT_WORK = 0.05, 0.1


@dataclass
class _Job:
    """One job; how far it is follows from the clock."""

    id: str
    name: str
    given: dict[str, Any]
    thought: Thought
    fault: Fault | None
    streams: bool
    begun: float = field(default_factory=time.monotonic)
    canceled: bool = False

    @property
    def status(self) -> str:
        if self.canceled:
            return "canceled"
        age = time.monotonic() - self.begun
        if age < _QUEUED:
            return "starting"
        return "processing" if age < _QUEUED + _AT_WORK + 0.002 * len(self.thought.answers[0].pieces) else "succeeded"


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""
    jobs: dict[str, _Job] = {}
    prefix = f"/{provider.label}{provider.path}"

    def answer(job: _Job, request: Request, status: int = 200) -> Response:
        own = f"{request.base_url}{prefix.lstrip('/')}/predictions/{job.id}"
        return JSONResponse(_told(job, own), status)

    @guarded(provider, _in_words)
    async def start(request: Request) -> Response:
        job = _started(await request.body(), request, provider, settings)
        jobs[job.id] = job
        hold = request.headers.get("prefer", "").partition("wait=")[2]
        until = time.monotonic() + float(hold or 0)
        while job.status in ("starting", "processing") and time.monotonic() < until:  # noqa: ASYNC110
            await asyncio.sleep(0.005)
        return answer(job, request, 201 if job.status == "succeeded" else 202)

    @guarded(provider, _in_words)
    async def look(request: Request) -> Response:
        job = jobs.get(request.path_params["id"])
        if job is None:
            raise Refused(Refusal(404, "No such prediction."))
        operation = request.path_params.get("operation")
        if operation == "cancel":
            job.canceled = True
        elif operation == "stream":
            return StreamingResponse(_events(job, settings), media_type="text/event-stream")
        return answer(job, request)

    return [
        Route(f"{prefix}/models/{{model:path}}/predictions", start, methods=["POST"]),
        Route(f"{prefix}/predictions", start, methods=["POST"]),
        Route(f"{prefix}/predictions/{{id}}", look, methods=["GET"]),
        Route(f"{prefix}/predictions/{{id}}/{{operation}}", look, methods=["GET", "POST"]),
    ]


def _in_words(refused: Refused) -> Response:
    refusal = refused.refusal
    body = {"title": "Request failed", "detail": refusal.message, "status": refusal.status}
    return JSONResponse(body, refusal.status, headers=refusal.headers)


def _started(data: bytes, request: Request, provider: StandIn, settings: Settings) -> _Job:
    try:
        body = json.loads(data)
        version = body.get("version")
        versions = {model.version: model.name for model in provider.models}
        named = versions.get(version, version) if version else request.path_params["model"]
        name, fault = in_dialect(request.headers, named)
        given = body["input"]
        unknown = [each for each in body if each not in ("input", "stream", "version")]
        unknown += [each for each in given if each not in _INPUT]
        if unknown:
            raise Refused(Refusal(422, f"- input: Additional property {unknown[0]} is not allowed"))
        # A model of this kind goes on from the last lines of a text.
        question = given["prompt"].strip().rpartition("\nUser: ")[2]
        asked = Asked(
            [("system", given.get("system_prompt") or ""), ("system", given["prompt"]), ("user", question)],
            cap=given.get("max_tokens"),
            stop=tuple(given.get("stop_sequences") or ()),
            seed=given.get("seed"),
            images=[image_bytes(given["image"])] if "image" in given else (),
        )
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise Refused(Refusal(422, f"- input: cannot be read: {wrong!r}")) from None
    thought = think(provider, settings, name, asked, fault)
    # A fault of the stream is known by the job's address.
    suffix = named[len(name) :]
    return _Job(settings.next_id("job") + suffix, name, given, thought, fault, bool(body.get("stream")))


def _told(job: _Job, own: str) -> dict[str, Any]:
    status = job.status
    urls = {"get": own, "cancel": f"{own}/cancel"}
    if job.streams:
        urls["stream"] = f"{own}/stream"
    found: dict[str, Any] = {"id": job.id, "model": job.name, "status": status, "input": job.given, "urls": urls}
    found |= {"output": None, "error": None, "logs": "", "metrics": {}}
    if status == "succeeded":
        reply = job.thought.answers[0]
        found["output"] = reply.pieces or [reply.refusal]
        counts = {"input_token_count": job.thought.prompt_tokens, "output_token_count": job.thought.output_tokens}
        found["metrics"] = {"predict_time": _AT_WORK, **counts}
    return found


async def _events(job: _Job, settings: Settings) -> AsyncIterator[str]:
    await asyncio.sleep(_QUEUED)
    reply = job.thought.answers[0]
    for place, piece in enumerate(reply.pieces or [reply.refusal]):
        if job.canceled:
            yield 'event: done\ndata: {"reason": "canceled"}\n\n'
            return
        if job.fault is not None and job.fault.name == "error" and place == job.fault.number:
            yield "event: error\ndata: the server is overloaded\n\n"
            return
        await asyncio.sleep(settings.pace)
        lines = "".join(f"data: {line}\n" for line in piece.split("\n"))
        yield f"event: output\nid: {place}\n{lines}\n"
    yield "event: done\ndata: {}\n\n"
