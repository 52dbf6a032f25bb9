"""Stand-ins that speak the dialect ``chat``. Strict: a field that they do not know is refused."""

import asyncio
import json
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from . import deferred
from .asked import Asked
from .auth import Refusal
from .faults import Fault, in_dialect
from .images import sound
from .loose import events, is_loose, plain, with_points
from .misbehaviour import at_once, lie_of, without_files
from .model import Refused, Thought, call_id, guarded, image_bytes, think, tool_of
from .providers import StandIn, StandInModel
from .rules import Turn, pairing_complaint
from .schemas import strict_complaint
from .settings import Settings
from .vectors import embeddings
from .writer import Answer, Call, tokens

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
        "response_format",
        "tools",
        "tool_choice",
        "parallel_tool_calls",
        "reasoning_effort",
        "verbosity",
        "modalities",
        "audio",
        "prediction",
        "store",
        "metadata",
        "service_tier",
        "prompt_cache_key",
        "safety_identifier",
        "top_k",
        "min_p",
        "repetition_penalty",
    ]
)
_PARTS = frozenset(["text", "image_url", "file", "input_audio", "refusal"])


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""

    @guarded(provider, in_words)
    async def chat(request: Request) -> Response:
        return await _chat(request, provider, settings)

    prefix = f"/{provider.label}{provider.path}"
    named = "/deployments/{model}" if provider.deployments else ""
    return [
        Route(f"{prefix}{named}/chat/completions", chat, methods=["POST"]),
        Route(f"{prefix}/models", listed(provider), methods=["GET"]),
        Route(f"{prefix}/embeddings", embedded(provider), methods=["POST"]),
        *deferred.chat_routes(provider, settings, lambda request: _chat(request, provider, settings), in_words),
    ]


def listed(provider: StandIn) -> Callable[[Request], Awaitable[Response]]:
    """The list of models; the same for the dialects that are kin."""

    @guarded(provider, in_words)
    async def models(request: Request) -> Response:
        return JSONResponse({"object": "list", "data": [_listed(model) for model in provider.models]})

    return models


def embedded(provider: StandIn) -> Callable[[Request], Awaitable[Response]]:
    """The vectors of texts; the same for the dialects that are kin."""

    @guarded(provider, in_words)
    async def embed(request: Request) -> Response:
        return await _embed(request, provider)

    return embed


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
        lie = lie_of(fault)
        if lie == "file":
            body["messages"] = without_files(body["messages"])
        asked = _asked(body, request.path_params.get("region"))
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        return error(400, f"The request cannot be read: {wrong!r}", "invalid_request_error")
    unknown = next((field for field in body if field not in _KNOWN), None)
    if unknown is not None:
        return error(400, f"Unknown parameter: '{unknown}'.", "invalid_request_error", param=unknown)
    model = provider.model(name)
    refused = next((field for field in (model.refuses if model else ()) if field in body), None)
    if refused is not None:
        message = f"Unsupported parameter: '{refused}' is not supported with this model."
        if refused == "max_tokens":
            message += " Use 'max_completion_tokens' instead."
        return error(400, message, "invalid_request_error", code="unsupported_parameter", param=refused)
    thought = think(provider, settings, name, asked, fault)
    head = {"id": settings.next_id("chat"), "created": int(time.time()), "model": name}
    counts = {"prompt_tokens": thought.prompt_tokens, "completion_tokens": thought.output_tokens}
    if lie == "usage":
        counts = dict.fromkeys(counts, 0)
    usage: dict[str, Any] = {**counts, "total_tokens": sum(counts.values())}
    if thought.thinking:
        usage["completion_tokens_details"] = {"reasoning_tokens": thought.thinking_tokens}
    told = bool(body.get("logprobs"))
    if body.get("stream"):
        with_usage = bool((body.get("stream_options") or {}).get("include_usage")) and lie != "usage in the stream"
        if lie == "stream":
            at_once(thought.answers)
        chunks = _chunks(thought, head, usage if with_usage else None, settings, fault, logprobs=told)
        if is_loose(fault):
            chunks = events(chunks, _loose_chunk)
        return StreamingResponse(chunks, media_type="text/event-stream")
    await asyncio.sleep(settings.pace)
    spoken = "audio" in (body.get("modalities") or ())
    choices = [
        _choice(index, reply, thought, logprobs=told, spoken=spoken) for index, reply in enumerate(thought.answers)
    ]
    whole = {**head, "object": "chat.completion", "choices": choices, "usage": usage}
    return plain(whole, _loose_reply) if is_loose(fault) else JSONResponse(whole)


def _choice(index: int, reply: Answer, thought: Thought, *, logprobs: bool, spoken: bool) -> dict[str, Any]:
    message = _message(reply)
    if thought.thinking:
        message["reasoning_content"] = thought.thinking
    if spoken:
        message |= {"content": None, "audio": {"id": "audio-1", "data": sound(), "transcript": reply.text}}
    choice = {"index": index, "message": message, "finish_reason": reply.finish}
    return {**choice, "logprobs": _logprobs(reply.pieces)} if logprobs else choice


def _logprobs(pieces: list[str]) -> dict[str, Any]:
    return {"content": [{"token": piece, "logprob": -0.5, "bytes": None, "top_logprobs": []} for piece in pieces]}


def _loose_reply(reply: dict[str, Any]) -> None:
    reply["usage"] = _other_names(reply["usage"])
    for choice in reply["choices"]:
        del choice["index"]
        choice["logprobs"] = {"content": [{"token": "x", "logprob": float("nan")}]}


def _other_names(usage: dict[str, Any]) -> dict[str, Any]:
    """The counts as some servers call them, with a point."""
    with_points(usage)
    return {"input_tokens": usage["prompt_tokens"], "output_tokens": usage["completion_tokens"]}


def _loose_chunk(chunk: dict[str, Any]) -> None:
    chunk["id"] = chunk["model"] if chunk["choices"] and "role" not in chunk["choices"][0]["delta"] else ""
    if chunk.get("usage"):
        chunk["usage"] = _other_names(chunk["usage"])
    for choice in chunk["choices"]:
        choice["index"] = str(choice["index"])
        choice["finish_reason"] = choice["finish_reason"] or ""
        for call in choice["delta"].get("tool_calls") or ():
            del call["index"]


def _asked(body: dict[str, Any], region: str | None) -> Asked:
    """What a request asks, once it is as the format demands."""
    messages = body["messages"]
    if not messages:
        raise wrong("Invalid 'messages': empty array. Expected an array with minimum length 1.")
    if "tools" in body and not body["tools"]:
        raise wrong("Invalid 'tools': empty array. Expected an array with minimum length 1.")
    last = max((place for place, message in enumerate(messages) if message["role"] == "user"), default=-1)
    thinks = body.get("reasoning_effort", "none") != "none"
    turns = [_turn(place, message, thinks=thinks and place > last) for place, message in enumerate(messages)]
    results = [_text(message.get("content")) for message in messages[last + 1 :] if message["role"] == "tool"]
    if complaint := pairing_complaint(_grouped(turns)):
        raise wrong(f"Invalid 'messages': {complaint}.")
    schema, as_json = _format(body.get("response_format") or {"type": "text"})
    choice = body.get("tool_choice") or "auto"
    tools = [tool_of(tool["function"]) for tool in body.get("tools") or () if tool["type"] == "function"]
    if "tool_choice" in body and not tools:
        raise wrong("tool_choice is only allowed when tools are specified.")
    return Asked(
        [(message["role"], _text(message.get("content"))) for message in messages],
        region,
        body.get("max_tokens") or body.get("max_completion_tokens"),
        body.get("stop") or (),
        body.get("seed"),
        body.get("n") or 1,
        tools,
        choice["function"]["name"] if isinstance(choice, dict) else choice,
        schema,
        as_json,
        [image for message in messages[max(last, 0) :] for image in _images(message.get("content"))],
        results,
        thinks,
        isinstance(warmth := body.get("temperature"), (int, float)) and warmth >= 0.5,
    )


def _turn(place: int, message: dict[str, Any], *, thinks: bool) -> Turn:
    """The calls of one message, once it is as the format demands."""
    role, calls = message["role"], message.get("tool_calls") or ()
    if role not in ("system", "developer", "user", "assistant", "tool"):
        raise wrong(f"Invalid value: '{role}' is no role.")
    if "tool_calls" in message and not calls:
        raise wrong(f"Invalid 'messages[{place}].tool_calls': empty array.")
    if "content" not in message:
        raise wrong(f"Missing required parameter: 'messages[{place}].content'.")
    for number, call in enumerate(calls):
        for name in ("id", "type"):
            if not call.get(name):
                raise wrong(f"Missing required parameter: 'messages[{place}].tool_calls[{number}].{name}'.")
        if call["type"] == "function" and not isinstance(call["function"]["arguments"], str):
            raise wrong(f"Invalid type for 'messages[{place}].tool_calls[{number}].function.arguments'.")
    if calls and thinks and not message.get("reasoning_content"):
        raise wrong(f"messages[{place}]: reasoning_content must come back in a turn with tool calls.")
    if role == "tool":
        return Turn(results=[(message.get("tool_call_id"), None)])
    named = [(call["id"], (call.get("function") or call.get("custom"))["name"]) for call in calls]
    return Turn(calls=named)


def _grouped(turns: list[Turn]) -> list[Turn]:
    """Results that follow each other are one turn."""
    grouped: list[Turn] = []
    for turn in turns:
        if turn.results and grouped and grouped[-1].results:
            grouped[-1] = Turn(results=[*grouped[-1].results, *turn.results])
        else:
            grouped.append(turn)
    return grouped


def _format(wanted: dict[str, Any]) -> tuple[dict[str, Any] | None, bool]:
    kind = wanted["type"]
    if kind == "json_schema":
        form = wanted["json_schema"]
        if not form.get("name"):
            raise wrong("Missing required parameter: 'response_format.json_schema.name'.")
        complaint = strict_complaint(form["schema"]) if form.get("strict") else None
        if complaint:
            raise wrong(f"Invalid schema for response_format '{form['name']}': {complaint}")
        return form["schema"], True
    if kind not in ("text", "json_object"):
        raise wrong(f"Invalid value: '{kind}'.")
    return None, kind == "json_object"


def wrong(message: str) -> Refused:
    """A request that is not as the format demands."""
    return Refused(Refusal(400, message))


def _text(content: Any) -> str:
    if isinstance(content, list):
        return " ".join(part["text"] if part["type"] == "text" else _words(part) for part in content)
    return content or ""


def _words(part: dict[str, Any]) -> str:
    """The words of a text file; nothing of any other part."""
    if part["type"] != "file":
        return ""
    data = part["file"].get("file_data") or ""
    if not data.startswith("data:") and "file_id" not in part["file"]:
        raise wrong("Invalid file_data: expected a base64-encoded data URL.")
    return image_bytes(data).decode("utf-8", "replace") if data.startswith("data:text/") else ""


def _images(content: Any) -> list[bytes]:
    parts = content if isinstance(content, list) else ()
    if isinstance(content, list) and not content:
        raise wrong("Invalid 'content': empty array.")
    unknown = next((part["type"] for part in parts if part["type"] not in _PARTS), None)
    if unknown:
        raise wrong(f"Invalid value: '{unknown}' is no type of part here.")
    return [image_bytes(part["image_url"]["url"]) for part in parts if part["type"] == "image_url"]


def _message(reply: Answer) -> dict[str, Any]:
    found: dict[str, Any] = {"role": "assistant", "content": reply.text or (None if reply.calls else "")}
    if reply.refusal:
        found |= {"content": None, "refusal": reply.refusal}
    if reply.calls:
        found["tool_calls"] = [_call(call, place) for place, call in enumerate(reply.calls)]
    return found


def _call(call: Call, place: int) -> dict[str, Any]:
    function = {"name": call.name, "arguments": call.arguments}
    return {"id": call_id(call, place), "type": "function", "function": function}


_EMBEDDING = frozenset(["model", "input", "dimensions", "encoding_format", "user"])


async def _embed(request: Request, provider: StandIn) -> Response:
    try:
        body = await request.json()
        unknown = next((field for field in body if field not in _EMBEDDING), None)
        texts = [body["input"]] if isinstance(body["input"], str) else body["input"]
        name = body["model"]
    except (ValueError, KeyError, TypeError, AttributeError) as missing:
        raise wrong(f"The request cannot be read: {missing!r}") from None
    if unknown:
        return error(400, f"Unknown parameter: '{unknown}'.", "invalid_request_error", param=unknown)
    name, fault = in_dialect(request.headers, name)
    lie = lie_of(fault)
    length = None if lie == "length of vectors" else body.get("dimensions")
    made = embeddings(provider, name, ["x"] * len(texts) if lie == "embeddings" else texts, length, most=2048)
    as_text = body.get("encoding_format") == "base64"
    data = [
        {"object": "embedding", "index": place, "embedding": vector.as_base64() if as_text else vector.numbers}
        for place, vector in enumerate(made.vectors)
    ]
    # The order is told by the index, not by the place.
    data.reverse()
    usage = {"prompt_tokens": made.tokens, "total_tokens": made.tokens}
    return JSONResponse({"object": "list", "model": name, "data": data, "usage": usage})


async def _chunks(
    thought: Thought,
    head: dict[str, Any],
    usage: dict[str, Any] | None,
    settings: Settings,
    fault: Fault | None,
    *,
    logprobs: bool,
) -> AsyncIterator[str]:
    head = {**head, "object": "chat.completion.chunk"}

    def chunk(index: int, delta: dict[str, Any], finish: str | None = None, **more: Any) -> str:
        choices = [{"index": index, "delta": delta, "finish_reason": finish, **more}]
        return f"data: {json.dumps({**head, 'choices': choices})}\n\n"

    odd = fault is not None and fault.name == "odd"
    if odd:
        yield (
            ": keep-alive\n\ndata: null\n\nevent: tick\ndata: {}\n\ndata: "
            + json.dumps({**head, "choices": None})
            + "\n\n"
        )
    sent = 0
    for index, reply in enumerate(thought.answers):
        yield chunk(index, {"role": "assistant", "content": ""})
        for piece in tokens(thought.thinking):
            yield chunk(index, {"reasoning_content": piece})
        for piece in reply.pieces:
            if fault is not None and fault.name == "error" and sent == fault.number:
                yield f"data: {json.dumps({'error': {'message': 'The server is overloaded.', 'code': 'server_overloaded'}})}\n\n"
                return
            await asyncio.sleep(settings.pace)
            more: dict[str, Any] = {"logprobs": _logprobs([piece])} if logprobs else {}
            yield chunk(index, {"role": "assistant", "content": piece} if odd else {"content": piece}, None, **more)
            sent += 1
        if reply.refusal:
            yield chunk(index, {"refusal": reply.refusal})
        for call in _called(reply.calls, whole=is_loose(fault)):
            yield chunk(index, {"tool_calls": [call]})
        yield chunk(index, {}, reply.finish)
    if usage is not None:
        for _ in range(2 if odd else 1):
            yield f"data: {json.dumps({**head, 'choices': [], 'usage': usage})}\n\n"
    if odd:
        return
    yield "data: [DONE]\n\n"


def _called(calls: list[Call], *, whole: bool) -> Iterator[dict[str, Any]]:
    """The pieces of calls; some servers send each of them whole."""
    for place, call in enumerate(calls):
        made = _call(call, place)
        if whole:
            yield {"index": place, **made}
            continue
        yield {"index": place, **made, "function": {"name": call.name, "arguments": ""}}
        for piece in tokens(call.arguments):
            yield {"index": place, "function": {"arguments": piece}}
