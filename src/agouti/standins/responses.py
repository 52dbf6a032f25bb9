"""Stand-ins that speak the dialect ``responses``. Strict: unknown fields are refused, items must have their form."""

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from .asked import Asked
from .auth import Refusal
from .chat import embedded, in_words, listed
from .faults import Fault, in_dialect
from .loose import events, is_loose, plain, with_points
from .model import Refused, Thought, call_id, guarded, image_bytes, think, tool_of
from .providers import StandIn
from .rules import Turn, is_signed, pairing_complaint, signature
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
        "metadata",
        "service_tier",
        "prompt_cache_key",
        "safety_identifier",
        "include",
    ]
)
_ENCRYPTED = "reasoning.encrypted_content"
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


def _checked(body: Any, known: frozenset[str] = frozenset()) -> Asked:
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
    turns: list[Turn] = []
    if isinstance(items, list) and not items:
        raise _wrong("Invalid 'input': empty array. Expected an array with minimum length 1.")
    if "tools" in body and not body["tools"]:
        raise _wrong("Invalid 'tools': empty array. Expected an array with minimum length 1.")
    if "previous_response_id" in body and body["previous_response_id"] not in known:
        raise _wrong(f"Previous response with id '{body['previous_response_id']}' not found.")
    thought_before = False
    for item in [{"role": "user", "content": items}] if isinstance(items, str) else items:
        kind = item.get("type", "message")
        if kind == "reasoning":
            _check_reasoning(item, stored=body.get("store", True))
            thought_before = True
            continue
        if kind == "function_call":
            if str(item.get("id", "")).endswith("-thought") and not thought_before:
                raise _wrong(f"Item '{item['id']}' was provided without its required 'reasoning' item.")
            turns.append(Turn(calls=[(item["call_id"], item["name"])]))
            found.append(("assistant", ""))
        elif kind == "function_call_output":
            turns.append(Turn(results=[(item["call_id"], None)]))
            results.append(_words(item["output"]))
        elif kind != "message":
            raise _wrong(f"Invalid value: '{kind}' is no type of item here.")
        thought_before = thought_before and kind == "function_call"
        if "role" not in item:
            continue
        turns.append(Turn())
        content = item["content"]
        if item["role"] == "user":
            images, results = [], []
        if isinstance(content, list):
            wanted = _TEXTS.get(item["role"], "input_text")
            if not content or any(
                part["type"] not in (wanted, "input_image", "input_file", "refusal") for part in content
            ):
                raise _wrong(f"Invalid type of a part; {item['role']} takes {wanted}.")
            images += [image_bytes(part["image_url"]) for part in content if part["type"] == "input_image"]
            content = _words(content)
        found.append((item["role"], content))
    if unpaired := pairing_complaint(_together(turns)):
        raise _wrong(f"Invalid 'input': {unpaired}.")
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
        thinks="reasoning" in body,
    )


def _check_reasoning(item: dict[str, Any], *, stored: bool) -> None:
    """Thinking that is kept nowhere has to come along; what comes along is as it was given."""
    encrypted = item.get("encrypted_content")
    if not stored and not encrypted:
        raise _wrong(
            f"Item with id '{item.get('id')}' not found. Items are not persisted when `store` is set to false."
        )
    if encrypted and not is_signed(" ".join(part["text"] for part in item["summary"]), encrypted):
        raise _wrong("The encrypted content could not be verified.")


def _words(content: Any) -> str:
    if isinstance(content, str):
        return content
    words = []
    for part in content:
        data = part.get("file_data") or ""
        if data.startswith("data:text/"):
            words.append(image_bytes(data).decode("utf-8", "replace"))
        words.append(part.get("text", ""))
    return " ".join(filter(None, words))


def _together(turns: list[Turn]) -> list[Turn]:
    """Calls that follow each other are one turn, and so are results."""
    grouped: list[Turn] = []
    for turn in turns:
        last = grouped[-1] if grouped else Turn()
        if (turn.calls and last.calls) or (turn.results and last.results):
            grouped[-1] = Turn([*last.calls, *turn.calls], [*last.results, *turn.results])
        else:
            grouped.append(turn)
    return grouped


async def _respond(request: Request, provider: StandIn, settings: Settings) -> Response:
    try:
        body = await request.json()
        asked = _checked(body)
        name, fault = in_dialect(request.headers, body["model"])
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise _wrong(f"The request cannot be read: {wrong!r}") from None
    thought = think(provider, settings, name, asked, fault)
    head = {"id": settings.next_id("resp"), "object": "response", "model": name}
    encrypted = _ENCRYPTED in (body.get("include") or ())
    if body.get("stream"):
        stream = _events(thought, head, settings, fault, encrypted=encrypted)
        return StreamingResponse(
            events(stream, _loose_event) if is_loose(fault) else stream, media_type="text/event-stream"
        )
    await asyncio.sleep(settings.pace)
    whole = _whole(thought, head, encrypted=encrypted)
    return plain(whole, lambda value: with_points(value["usage"])) if is_loose(fault) else JSONResponse(whole)


def _loose_event(event: dict[str, Any]) -> None:
    for name in ("output_index", "content_index", "summary_index"):
        event.pop(name, None)
    if event["type"] in ("response.output_text.done", "response.completed"):
        event.pop("text", None)
    with_points(event.get("response", {}).get("usage"))


def _reasoning(thought: Thought, *, encrypted: bool) -> list[dict[str, Any]]:
    if not thought.thinking:
        return []
    item = {"type": "reasoning", "id": "rs-1", "summary": [{"type": "summary_text", "text": thought.thinking}]}
    return [{**item, "encrypted_content": signature(thought.thinking)} if encrypted else item]


def _whole(thought: Thought, head: dict[str, Any], *, encrypted: bool = False) -> dict[str, Any]:
    reply = thought.answers[0]
    short = reply.finish == "length"
    said = {"type": "output_text", "text": reply.text, "annotations": []}
    content = [{"type": "refusal", "refusal": reply.refusal} if reply.refusal else said]
    output = _reasoning(thought, encrypted=encrypted)
    output += [_call(call, place, thought) for place, call in enumerate(reply.calls)]
    if not reply.calls:
        output.append({"type": "message", "id": "item-1", "role": "assistant", "content": content})
    counts: dict[str, Any] = {"input_tokens": thought.prompt_tokens, "output_tokens": thought.output_tokens}
    return {
        **head,
        "status": "incomplete" if short else "completed",
        "incomplete_details": {"reason": "max_output_tokens"} if short else None,
        "error": None,
        "output": output,
        "usage": {
            **counts,
            "total_tokens": sum(counts.values()),
            "output_tokens_details": {"reasoning_tokens": thought.thinking_tokens},
        },
    }


def _call(call: Call, place: int, thought: Thought) -> dict[str, Any]:
    identifier = f"fc-{place}" + ("-thought" if thought.thinking else "")
    called = {"call_id": call_id(call, place), "name": call.name, "arguments": call.arguments}
    return {"type": "function_call", "id": identifier, **called}


async def _events(
    thought: Thought, head: dict[str, Any], settings: Settings, fault: Fault | None, *, encrypted: bool
) -> AsyncIterator[str]:
    def event(kind: str, **more: Any) -> str:
        return f"event: {kind}\ndata: {json.dumps({'type': kind, **more})}\n\n"

    reply, index = thought.answers[0], 0
    under_way = {**head, "status": "in_progress", "output": []}
    yield event("response.created", response=under_way)
    yield event("response.in_progress", response=under_way)
    for item in _reasoning(thought, encrypted=encrypted):
        yield event("response.output_item.added", output_index=0, item={**item, "summary": []})
        for piece in tokens(thought.thinking):
            more = {"item_id": item["id"], "summary_index": 0}
            yield event("response.reasoning_summary_text.delta", output_index=0, delta=piece, **more)
        yield event("response.output_item.done", output_index=0, item=item)
        index = 1
    place_of = {"output_index": index, "content_index": 0, "item_id": "item-1"}
    item = {"type": "message", "id": "item-1", "role": "assistant", "content": []}
    if not reply.calls:
        yield event("response.output_item.added", output_index=index, item=item)
    for place, piece in enumerate(reply.pieces):
        if fault is not None and fault.name == "error" and place == fault.number:
            yield event("error", code="server_overloaded", message="The server is overloaded.")
            return
        await asyncio.sleep(settings.pace)
        yield event("response.output_text.delta", **place_of, delta=piece)
    if reply.pieces:
        yield event("response.output_text.done", **place_of, text=reply.text)
    if reply.refusal:
        yield event("response.refusal.delta", **place_of, delta=reply.refusal)
    for place, call in enumerate(reply.calls):
        whole_call = _call(call, place, thought)
        where = {"output_index": index + place, "item_id": whole_call["id"]}
        yield event("response.output_item.added", output_index=index + place, item={**whole_call, "arguments": ""})
        for piece in [] if is_loose(fault) else tokens(call.arguments):  # some say them only at the end
            yield event("response.function_call_arguments.delta", **where, delta=piece)
        yield event("response.output_item.done", output_index=index + place, item=whole_call)
    whole = _whole(thought, head, encrypted=encrypted)
    yield event(f"response.{whole['status']}", response=whole)
