"""Stand-ins that speak the dialect ``lines``. Strict: unknown fields are refused; streaming unless told otherwise."""

import asyncio
import json
from collections.abc import AsyncIterator, Callable, Sequence
from dataclasses import replace
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, PlainTextResponse, Response, StreamingResponse
from starlette.routing import Route

from .asked import Asked
from .auth import Refusal
from .faults import Fault, in_dialect
from .loose import events, is_loose, plain
from .model import Refused, Thought, guarded, image_bytes, think, tool_of
from .providers import StandIn
from .rules import Turn, pairing_complaint
from .settings import Settings
from .vectors import embeddings
from .writer import Call, tokens

_KNOWN = frozenset(
    [
        "model",
        "messages",
        "stream",
        "format",
        "options",
        "keep_alive",
        "think",
        "tools",
        "logprobs",
        "top_logprobs",
    ]
)
_GENERATE = (_KNOWN - {"messages", "tools"}) | {"prompt", "system", "template", "raw", "images", "suffix", "context"}
_EMBED = frozenset(["model", "input", "dimensions", "truncate", "options", "keep_alive"])
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
        "min_p",
        "presence_penalty",
        "frequency_penalty",
    ]
)


def _in_words(refused: Refused) -> Response:
    return JSONResponse({"error": refused.refusal.message}, refused.refusal.status)


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""

    @guarded(provider, _in_words)
    async def chat(request: Request) -> Response:
        operation = request.url.path.rpartition("/")[2]
        if operation == "embed":
            return await _embed(request, provider)
        return await _chat(request, provider, settings, operation == "generate")

    async def tags(request: Request) -> Response:
        details = {"parameter_size": "2B", "quantization_level": "Q4"}
        return JSONResponse(
            {"models": [{"name": model.name, "size": 10**9, "details": details} for model in provider.models]}
        )

    async def alive(request: Request) -> Response:
        return PlainTextResponse("The server is running")

    prefix = f"/{provider.label}{provider.path}"
    return [
        *(Route(f"{prefix}/api/{each}", chat, methods=["POST"]) for each in ("chat", "generate", "embed")),
        Route(f"{prefix}/api/tags", tags, methods=["GET"]),
        Route(prefix or "/", alive, methods=["GET"]),
    ]


async def _chat(request: Request, provider: StandIn, settings: Settings, generates: bool) -> Response:
    try:
        body = await request.json()
        name, fault = in_dialect(request.headers, body["model"])
        options = body.get("options") or {}
        unknown = [field for field in body if field not in (_GENERATE if generates else _KNOWN)] + [
            field for field in options if field not in _OPTIONS
        ]
        if unknown:
            raise Refused(Refusal(400, f"unknown field {unknown[0]!r}"))
        asked = _prompted(body, options) if generates else _asked(body, options)
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise Refused(Refusal(400, f"the request cannot be read: {wrong!r}")) from None
    if provider.model(name) is None:
        raise Refused(Refusal(404, f"model '{name}' not found"))
    thought = think(provider, settings, name, asked, fault)
    said = _response if generates else _message
    if body.get("stream", True):
        stream = _lines(thought, name, settings, fault, said)
        return StreamingResponse(
            events(stream, _loose_line) if is_loose(fault) else stream, media_type="application/x-ndjson"
        )
    await asyncio.sleep(settings.pace)
    answer = thought.answers[0]
    whole = {**_head(name), **said(answer.text or answer.refusal, answer.calls), **_end(thought)}
    if thought.thinking:
        (whole if generates else whole["message"])["thinking"] = thought.thinking
    return plain(whole, _loose_line) if is_loose(fault) else JSONResponse(whole)


def _loose_line(line: dict[str, Any]) -> None:
    # Some versions leave the reason out where it is the usual one.
    if line.get("done_reason") == "stop":
        del line["done_reason"]
    line["created_at"] = None
    for name in ("prompt_eval_count", "eval_count"):
        if name in line:
            line[name] = float(line[name])


def _asked(body: dict[str, Any], options: dict[str, Any]) -> Asked:
    messages = body["messages"]
    if not messages:
        raise Refused(Refusal(400, "messages are missing"))
    turns: list[Turn] = []
    for message in messages:
        asked = [(None, call["function"]["name"]) for call in message.get("tool_calls") or ()]
        if any(not isinstance(call["function"]["arguments"], dict) for call in message.get("tool_calls") or ()):
            raise Refused(Refusal(400, "json: cannot unmarshal string into an object: arguments"))
        if message["role"] == "tool":
            result = (None, message.get("tool_name"))
            if turns and turns[-1].results:
                turns[-1] = Turn(results=[*turns[-1].results, result])
            else:
                turns.append(Turn(results=[result]))
        else:
            turns.append(Turn(asked))
    if complaint := pairing_complaint(turns, by_name=True):
        raise Refused(Refusal(400, complaint))
    last = max((place for place, message in enumerate(messages) if message["role"] == "user"), default=-1)
    return replace(
        _settled(body, options),
        messages=[(message["role"], message["content"]) for message in messages],
        tools=[tool_of(tool["function"]) for tool in body.get("tools") or ()],
        images=[image_bytes(data) for message in messages[max(last, 0) :] for data in message.get("images") or ()],
        results=[message["content"] for message in messages[last + 1 :] if message["role"] == "tool"],
    )


def _prompted(body: dict[str, Any], options: dict[str, Any]) -> Asked:
    images = [image_bytes(data) for data in body.get("images") or ()]
    # What a raw model would go on from: the last lines of the text.
    question = body["prompt"].strip().rpartition("\nUser: ")[2]
    messages = [("system", body.get("system") or ""), ("system", body["prompt"]), ("user", question)]
    return replace(_settled(body, options), messages=messages, images=images)


def _settled(body: dict[str, Any], options: dict[str, Any]) -> Asked:
    cap = options.get("num_predict")
    wanted = body.get("format")
    if not (wanted in (None, "", "json") or isinstance(wanted, dict)):
        raise Refused(Refusal(400, "invalid format: it is neither json nor a schema"))
    return Asked(
        (),
        cap=None if cap in (None, -1) else cap,
        stop=options.get("stop") or (),
        seed=options.get("seed"),
        schema=wanted if isinstance(wanted, dict) else None,
        as_json=bool(wanted),
        thinks=_thinks(body.get("think")),
    )


def _thinks(think: Any) -> bool:
    if think not in (None, True, False, "low", "medium", "high"):
        raise Refused(Refusal(400, f'invalid think value: {think!r} (must be "high", "medium", "low", true, or false)'))
    return bool(think)


async def _embed(request: Request, provider: StandIn) -> Response:
    try:
        body = await request.json()
        unknown = next((field for field in body if field not in _EMBED), None)
        if unknown:
            raise Refused(Refusal(400, f"unknown field {unknown!r}"))
        texts = [body["input"]] if isinstance(body["input"], str) else body["input"]
        name = body["model"]
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise Refused(Refusal(400, f"the request cannot be read: {wrong!r}")) from None
    made = embeddings(provider, name, texts, body.get("dimensions"), most=1000)
    vectors = [vector.numbers for vector in made.vectors]
    return JSONResponse({"model": name, "embeddings": vectors, "prompt_eval_count": made.tokens})


def _head(name: str) -> dict[str, Any]:
    return {"model": name, "created_at": "2026-11-23T08:00:00.000000Z"}


def _message(text: str, calls: Sequence[Call] = ()) -> dict[str, Any]:
    message: dict[str, Any] = {"role": "assistant", "content": text}
    if calls:
        message["tool_calls"] = [{"function": {"name": call.name, "arguments": call.given}} for call in calls]
    return {"message": message}


def _response(text: str, calls: Sequence[Call] = ()) -> dict[str, Any]:
    return {"response": text}


def _end(thought: Thought) -> dict[str, Any]:
    return {
        "done": True,
        "done_reason": "length" if thought.answers[0].finish == "length" else "stop",
        "total_duration": 10**8,
        "prompt_eval_count": thought.prompt_tokens,
        "eval_count": thought.output_tokens,
    }


async def _lines(
    thought: Thought, name: str, settings: Settings, fault: Fault | None, said: Callable[..., dict[str, Any]]
) -> AsyncIterator[str]:
    for piece in tokens(thought.thinking):
        line = {**_head(name), **said(""), "done": False}
        line.get("message", line)["thinking"] = piece
        yield json.dumps(line) + "\n"
    for place, piece in enumerate(thought.answers[0].pieces):
        if fault is not None and fault.name == "error" and place == fault.number:
            yield json.dumps({"error": "the model runner is overloaded"}) + "\n"
            return
        await asyncio.sleep(settings.pace)
        yield json.dumps({**_head(name), **said(piece), "done": False}) + "\n"
    answer = thought.answers[0]
    if answer.calls or answer.refusal:
        yield json.dumps({**_head(name), **said(answer.refusal, answer.calls), "done": False}) + "\n"
    yield json.dumps({**_head(name), **said(""), **_end(thought)}) + "\n"
