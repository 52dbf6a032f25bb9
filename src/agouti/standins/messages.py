"""Stand-ins that speak the dialect ``messages``. Strict: a cap is demanded, roles alternate, unknown fields are refused."""

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from . import deferred
from .asked import Asked
from .auth import Refusal
from .faults import Fault, in_dialect
from .loose import events, is_loose, plain, with_points
from .model import Refused, Thought, call_id, guarded, image_bytes, prompt_tokens, think, tool_of
from .providers import StandIn
from .rules import ALLOWED_ID, Turn, blank, is_signed, pairing_complaint, signature, under_way
from .schemas import strict_complaint
from .settings import Settings
from .writer import Answer, tokens

_KNOWN = frozenset(
    [
        "model",
        "messages",
        "max_tokens",
        "system",
        "temperature",
        "top_p",
        "top_k",
        "stop_sequences",
        "stream",
        "metadata",
        "thinking",
        "tools",
        "tool_choice",
        "output_config",
        "service_tier",
    ]
)
# Only what the prompt is made of is counted; what governs the answer has no place here.
_COUNTED = frozenset(["model", "messages", "system", "thinking", "tools", "tool_choice", "output_config"])
_KINDS = {400: "invalid_request_error", 401: "authentication_error", 403: "permission_error", 404: "not_found_error"}
_FINISH = {"stop": "end_turn", "length": "max_tokens", "tool_calls": "tool_use"}
_BLOCKS = frozenset(["text", "image", "document", "tool_use", "tool_result", "thinking", "redacted_thinking"])
_FIELDS = {
    "text": {"text", "citations"},
    "image": {"source"},
    "document": {"source", "title", "context", "citations"},
    "tool_use": {"id", "name", "input"},
    "tool_result": {"tool_use_id", "content", "is_error"},
    "thinking": {"thinking", "signature"},
    "redacted_thinking": {"data"},
}
_IMAGES = frozenset(["image/png", "image/jpeg", "image/gif", "image/webp"])
_LEAST_BUDGET = 1024
# What a schema cannot say here.
_NO_BOUNDS = ("minimum", "maximum", "multipleOf", "minLength", "maxLength", "maxItems")


def routes(provider: StandIn, settings: Settings) -> list[Route]:
    """The paths of one provider."""

    @guarded(provider, _in_words)
    async def messages(request: Request) -> Response:
        return await _messages(request, provider, settings)

    @guarded(provider, _in_words)
    async def count(request: Request) -> Response:
        name, asked, _, _ = await _read(request, _COUNTED)
        return JSONResponse({"input_tokens": prompt_tokens(provider, name, asked)})

    @guarded(provider, _in_words)
    async def models(request: Request) -> Response:
        # One to a page: nobody may take a part for the whole.
        names = [model.name for model in provider.models]
        start = names.index(after) + 1 if (after := request.query_params.get("after_id")) in names else 0
        page = [{"type": "model", "id": name} for name in names[start : start + 1]]
        return JSONResponse(
            {"data": page, "has_more": start + 1 < len(names), "last_id": names[min(start, len(names) - 1)]}
        )

    prefix = f"/{provider.label}{provider.path}"
    return [
        Route(f"{prefix}/messages", messages, methods=["POST"]),
        Route(f"{prefix}/messages/count_tokens", count, methods=["POST"]),
        Route(f"{prefix}/models", models, methods=["GET"]),
        *deferred.messages_routes(
            provider, settings, lambda request: _messages(request, provider, settings), _in_words
        ),
    ]


def _in_words(refused: Refused) -> Response:
    refusal = refused.refusal
    kind = _KINDS.get(refusal.status, "api_error")
    body = {"type": "error", "error": {"type": kind, "message": refusal.message}, "request_id": "req-0001"}
    return JSONResponse(body, refusal.status, headers=refusal.headers)


def _wrong(message: str) -> Refused:
    return Refused(Refusal(400, message))


async def _read(request: Request, known: frozenset[str]) -> tuple[str, Asked, Fault | None, bool]:
    """The model, what it is asked, how the answer is to go wrong, and whether it is to be streamed."""
    try:
        body = await request.json()
        asked = _checked(body, known)
        name, fault = in_dialect(request.headers, body["model"])
        return name, asked, fault, bool(body.get("stream"))
    except (ValueError, KeyError, TypeError, AttributeError) as wrong:
        raise _wrong(f"The request cannot be read: {wrong!r}") from None


def _checked(body: Any, known: frozenset[str]) -> Asked:
    """What a request asks, once it is as the format demands."""
    if not isinstance(body, dict):
        raise _wrong("The body must be an object.")
    unknown = next((name for name in body if name not in known), None)
    if unknown:
        raise _wrong(f"{unknown}: Extra inputs are not permitted")
    if "max_tokens" in known and (not isinstance(body.get("max_tokens"), int) or body["max_tokens"] < 1):
        raise _wrong("max_tokens: Field required")
    if not 0 <= body.get("temperature", 0) <= 1:
        raise _wrong("temperature: must be from 0 to 1")
    if body.get("metadata", {}).keys() - {"user_id"}:
        raise _wrong("metadata: Extra inputs are not permitted")
    thinks = _thinks(body)
    found: list[tuple[str, str]] = []
    images: list[bytes] = []
    results: list[str] = []
    turns: list[Turn] = []
    system = body.get("system")
    blocks: list[Any]
    if system is not None:
        blocks = [{"type": "text", "text": system}] if isinstance(system, str) else system
        _check_blocks(blocks, "system")
        found.append(("system", " ".join(each["text"] for each in blocks)))
    if not body.get("messages"):
        raise _wrong("messages: at least one message is required")
    before = "assistant"
    asks = under_way([_is_question(message) for message in body["messages"]])
    for place, message in enumerate(body["messages"]):
        role = message.get("role")
        if role not in ("user", "assistant"):
            raise _wrong(f"messages.{place}.role: must be user or assistant")
        if role == before:
            raise _wrong("messages: roles must alternate between user and assistant")
        before = role
        content = message.get("content")
        blocks = [{"type": "text", "text": content}] if isinstance(content, str) else content
        if not blocks:
            raise _wrong(f"messages.{place}.content: must not be empty")
        _check_blocks(blocks, f"messages.{place}.content")
        found.append((role, " ".join(_said(block) for block in blocks)))
        answers = [block for block in blocks if block["type"] == "tool_result"]
        asked = [block for block in blocks if block["type"] == "tool_use"]
        if asked and thinks and place > asks and blocks[0]["type"] not in ("thinking", "redacted_thinking"):
            raise _wrong(
                f"messages.{place}.content.0.type: Expected `thinking` or `redacted_thinking`, but found `{blocks[0]['type']}`"
            )
        turns.append(
            Turn([(each["id"], each["name"]) for each in asked], [(each["tool_use_id"], None) for each in answers])
        )
        # What stands in the last turn is what is asked about.
        results = [_words(block.get("content") or "") for block in answers]
        images = [image_bytes(block["source"]["data"]) for block in blocks if block["type"] == "image"]
    if before != "user":
        raise _wrong("messages: the last one must be of the user")
    if unpaired := pairing_complaint(turns):
        raise _wrong(f"messages: {unpaired}")
    if any(turn.calls for turn in turns) and not body.get("tools"):
        raise _wrong("tools: a conversation with tool_use blocks must define tools")
    form = (body.get("output_config") or {}).get("format")
    complaint = (strict_complaint(form["schema"]) or _bounds_in(form["schema"])) if form else None
    if complaint:
        raise _wrong(f"output_config.format.schema: {complaint}")
    choice = body.get("tool_choice") or {"type": "auto"}
    if thinks and choice["type"] in ("any", "tool"):
        raise _wrong("tool_choice: Thinking may not be enabled when tool_choice forces tool use.")
    return Asked(
        found,
        cap=body.get("max_tokens"),
        stop=tuple(body.get("stop_sequences") or ()),
        tools=[tool_of(tool, "input_schema") for tool in body.get("tools") or ()],
        choice=choice["name"] if choice["type"] == "tool" else {"any": "required"}.get(choice["type"], choice["type"]),
        schema=form["schema"] if form else None,
        images=images,
        results=results,
        thinks=thinks,
    )


def _is_question(message: dict[str, Any]) -> bool:
    content = message["content"]
    return message["role"] == "user" and (
        isinstance(content, str) or any(block["type"] != "tool_result" for block in content)
    )


def _thinks(body: dict[str, Any]) -> bool:
    """Whether the model is to think, once that goes together with the rest."""
    thinking = body.get("thinking") or {"type": "disabled"}
    if thinking["type"] == "enabled":
        if thinking["budget_tokens"] < _LEAST_BUDGET:
            raise _wrong(f"thinking.enabled.budget_tokens: Input should be greater than or equal to {_LEAST_BUDGET}")
        if "max_tokens" in body and thinking["budget_tokens"] >= body["max_tokens"]:
            raise _wrong("`max_tokens` must be greater than `thinking.budget_tokens`")
    elif thinking["type"] not in ("adaptive", "disabled"):
        raise _wrong("thinking.type: Input should be 'enabled', 'adaptive' or 'disabled'")
    thinks = thinking["type"] != "disabled"
    if thinks and (body.get("temperature", 1) != 1 or body.get("top_p", 1) < 0.95 or "top_k" in body):
        raise _wrong("`temperature` may only be set to 1 when thinking is enabled; top_p and top_k may not be set.")
    return bool(thinks)


def _check_blocks(blocks: list[Any], where: str) -> None:
    for place, block in enumerate(blocks):
        kind = block["type"]
        if kind not in _BLOCKS:
            raise _wrong(f"{where}.{place}: unknown type of block")
        if extra := block.keys() - _FIELDS[kind] - {"type", "cache_control"}:
            raise _wrong(f"{where}.{place}.{kind}.{min(extra)}: Extra inputs are not permitted")
        if kind == "text" and blank(block["text"]):
            raise _wrong(f"{where}.{place}: text content blocks must contain non-whitespace text")
        if kind == "image" and block["source"].get("media_type", "image/png") not in _IMAGES:
            raise _wrong(
                f"{where}.{place}.image.source.media_type: Input should be one of {', '.join(sorted(_IMAGES))}"
            )
        if kind == "thinking" and not is_signed(block["thinking"], block.get("signature")):
            raise _wrong(f"{where}.{place}: Invalid `signature` in `thinking` block")
        for name in ("id", "tool_use_id"):
            if name in block and not ALLOWED_ID.fullmatch(block[name] or ""):
                raise _wrong(f"{where}.{place}.{kind}.{name}: String should match pattern '^[a-zA-Z0-9_-]+$'")
        if kind == "tool_result" and isinstance(block.get("content"), list):
            _check_blocks(block["content"], f"{where}.{place}.tool_result.content")


def _bounds_in(schema: Any) -> str | None:
    """A keyword that the schemas of this format do not have."""
    if isinstance(schema, list):
        return next((found for each in schema if (found := _bounds_in(each))), None)
    if not isinstance(schema, dict):
        return None
    if bound := next((name for name in _NO_BOUNDS if name in schema and not isinstance(schema[name], dict)), None):
        return f"For '{schema.get('type')}' type, property '{bound}' is not supported"
    return next((found for each in schema.values() if (found := _bounds_in(each))), None)


def _said(block: dict[str, Any]) -> str:
    """The words of a block: those of a text, or of a document that is one."""
    if block["type"] == "document" and block["source"]["type"] == "text":
        return str(block["source"]["data"])
    return str(block["text"]) if block["type"] == "text" else ""


def _words(content: Any) -> str:
    return content if isinstance(content, str) else " ".join(block["text"] for block in content if "text" in block)


def _content(thought: Thought) -> list[dict[str, Any]]:
    reply = thought.answers[0]
    blocks: list[dict[str, Any]] = []
    if thought.thinking:
        blocks.append({"type": "thinking", "thinking": thought.thinking, "signature": signature(thought.thinking)})
    blocks += [{"type": "text", "text": reply.text}] if reply.text else []
    return blocks + [
        {"type": "tool_use", "id": call_id(call, place), "name": call.name, "input": call.given}
        for place, call in enumerate(reply.calls)
    ]


def _reason(reply: Answer) -> str:
    return "refusal" if reply.refusal else _FINISH[reply.finish]


async def _messages(request: Request, provider: StandIn, settings: Settings) -> Response:
    name, asked, fault, streamed = await _read(request, _KNOWN)
    thought = think(provider, settings, name, asked, fault)
    head = {"id": settings.next_id("msg"), "type": "message", "role": "assistant", "model": name}
    usage = _usage(await request.json(), thought, settings)
    if streamed:
        stream = _events(thought, head, usage, settings, fault)
        if is_loose(fault):
            stream = events(stream, _loose_event)
        return StreamingResponse(stream, media_type="text/event-stream")
    await asyncio.sleep(settings.pace)
    ended = {"stop_reason": _reason(thought.answers[0]), "stop_sequence": None, "usage": usage}
    whole = {**head, "content": _content(thought), **ended}
    return plain(whole, lambda value: with_points(value["usage"])) if is_loose(fault) else JSONResponse(whole)


def _usage(body: dict[str, Any], thought: Thought, settings: Settings) -> dict[str, int]:
    """Token counts; what stands before a prompt-cache mark is written the first time, and read from then on."""
    counts = {"input_tokens": thought.prompt_tokens, "output_tokens": thought.output_tokens}
    marked = json.dumps([body.get("tools"), body.get("system")])
    if "cache_control" in marked:
        kept = min(len(marked) // 4, thought.prompt_tokens - 1)
        known = settings.remembers(marked)
        counts["input_tokens"] -= kept
        counts |= {"cache_read_input_tokens": kept if known else 0, "cache_creation_input_tokens": 0 if known else kept}
    return counts


def _loose_event(event: dict[str, Any]) -> None:
    event.pop("index", None)
    with_points(event.get("usage"))


async def _events(
    thought: Thought, head: dict[str, Any], usage: dict[str, int], settings: Settings, fault: Fault | None
) -> AsyncIterator[str]:
    def event(kind: str, **more: Any) -> str:
        return f"event: {kind}\ndata: {json.dumps({'type': kind, **more})}\n\n"

    reply, index = thought.answers[0], 0
    begun = {**usage, "output_tokens": 1}
    yield event("message_start", message={**head, "content": [], "stop_reason": None, "usage": begun})
    if thought.thinking:
        yield event("content_block_start", index=0, content_block={"type": "thinking", "thinking": "", "signature": ""})
        for piece in tokens(thought.thinking):
            yield event("content_block_delta", index=0, delta={"type": "thinking_delta", "thinking": piece})
        signed = {"type": "signature_delta", "signature": signature(thought.thinking)}
        yield event("content_block_delta", index=0, delta=signed)
        yield event("content_block_stop", index=0)
        index = 1
    yield event("ping")
    if reply.pieces or not reply.calls:
        yield event("content_block_start", index=index, content_block={"type": "text", "text": ""})
        for place, piece in enumerate(reply.pieces):
            if fault is not None and fault.name == "error" and place == fault.number:
                yield event("error", error={"type": "overloaded_error", "message": "Overloaded"})
                return
            await asyncio.sleep(settings.pace)
            yield event("content_block_delta", index=index, delta={"type": "text_delta", "text": piece})
        yield event("content_block_stop", index=index)
        index += 1
    for place, call in enumerate(reply.calls):
        block = {"type": "tool_use", "id": call_id(call, place), "name": call.name, "input": {}}
        if is_loose(fault):  # some servers send a call whole
            block["input"] = call.given
        yield event("content_block_start", index=index + place, content_block=block)
        for piece in [] if is_loose(fault) else tokens(call.arguments):
            delta = {"type": "input_json_delta", "partial_json": piece}
            yield event("content_block_delta", index=index + place, delta=delta)
        yield event("content_block_stop", index=index + place)
    ended = {"stop_reason": _reason(reply), "stop_sequence": None}
    yield event("message_delta", delta=ended, usage={"output_tokens": thought.output_tokens})
    yield event("message_stop")
