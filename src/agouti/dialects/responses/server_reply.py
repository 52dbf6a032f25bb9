"""Replies of ``POST {base}/responses``: the items of a turn."""

from typing import Any

from ...core.canonical.chat import Choice, Citation, Completion, Json, MediaFile, TokenLogprob, ToolCall, is_known_end
from ...core.canonical.usage import NO_USAGE, Usage
from ...core.messages.messages import sendable
from ..server_base import ReplyHead
from ..shared.packed_turns import packed

_NAME = "responses"
_INCOMPLETE = {"length": "max_output_tokens", "content_filter": "content_filter", "refusal": "content_filter"}


def response_of(completion: Completion, head: ReplyHead) -> dict[str, Json]:
    """A whole reply."""
    choice = completion.choices[0] if completion.choices else Choice()
    identifier = completion.id or head.identifier
    reply = response(head, identifier, completion.model or head.model)
    reason = "stop" if choice.refusal and choice.finish_reason == "refusal" else choice.finish_reason
    return ended(reply, items_of(choice, identifier), reason, completion.usage)


def response(head: ReplyHead, identifier: str, model: str) -> dict[str, Json]:
    """A reply that has just begun; it repeats a part of what was asked."""
    parameters: dict[str, Any] = head.request.parameters
    request_body = head.body
    text = request_body.get("text")
    return {
        "id": identifier,
        "object": "response",
        "created_at": head.created,
        "status": "in_progress",
        "error": None,
        "incomplete_details": None,
        "instructions": request_body.get("instructions"),
        "max_output_tokens": parameters.get("max_tokens"),
        "metadata": parameters.get("metadata") or {},
        "model": model,
        "output": [],
        "parallel_tool_calls": parameters.get("parallel_tool_calls", True),
        "previous_response_id": parameters.get("previous_response_id"),
        "temperature": parameters.get("temperature"),
        "reasoning": request_body.get("reasoning"),
        "text": {"format": {"type": "text"}, **(text if isinstance(text, dict) else {})},
        "tool_choice": request_body.get("tool_choice") or "auto",
        "tools": request_body.get("tools") or [],
        "top_p": parameters.get("top_p"),
        "usage": None,
    }


def ended(reply: dict[str, Json], items: list[Json], reason: str | None, usage: Usage | None) -> dict[str, Json]:
    """The same reply at its end."""
    incomplete_reason = _INCOMPLETE.get(reason or "") or (None if is_known_end(reason) else reason)
    return {
        **reply,
        "status": "incomplete" if incomplete_reason else "completed",
        "incomplete_details": {"reason": incomplete_reason} if incomplete_reason else None,
        "output": items,
        "usage": _usage(usage or NO_USAGE),
    }


def _usage(usage: Usage) -> dict[str, Json] | None:
    if usage.input_tokens is None and usage.output_tokens is None:
        return None  # nobody has told
    inputs, outputs = usage.input_tokens or 0, usage.output_tokens or 0
    return {
        "input_tokens": inputs,
        "input_tokens_details": {"cached_tokens": usage.cached_tokens or 0},
        "output_tokens": outputs,
        "output_tokens_details": {"reasoning_tokens": usage.reasoning_tokens or 0},
        "total_tokens": inputs + outputs if usage.total_tokens is None else usage.total_tokens,
    }


def items_of(choice: Choice, identifier: str) -> list[Json]:
    """The items of an answer; those of a provider of the same format as they came."""
    provider_turn = choice.provider_turn
    if provider_turn is not None and provider_turn.dialect == _NAME:
        return provider_turn.blocks
    items: list[Json] = []
    if choice.reasoning or provider_turn is not None:
        items.append(reasoning(f"{identifier}_thinking", choice.reasoning or "", packed(provider_turn)))
    if choice.text or choice.refusal or not (choice.tool_calls or choice.files):
        parts: list[Json] = []
        if choice.text or not choice.refusal:
            sources, scores = map(annotation, choice.citations), map(logprob, choice.logprobs)
            parts.append(output_text(choice.text, list(sources), list(scores)))
        if choice.refusal:
            parts.append({"type": "refusal", "refusal": choice.refusal})
        items.append(message(f"{identifier}_message", parts))
    items += [image(f"{identifier}_file_{number}", each) for number, each in enumerate(choice.files)]
    items += [call_item(f"{identifier}_call_{number}", number, each) for number, each in enumerate(choice.tool_calls)]
    return items


def reasoning(identifier: str, text: str, secret: str) -> dict[str, Json]:
    """An item of thinking."""
    summary = [{"type": "summary_text", "text": text}] if text else []
    return {"type": "reasoning", "id": identifier, "summary": summary, "encrypted_content": secret}


def message(identifier: str, parts: list[Json], status: str = "completed") -> dict[str, Json]:
    """An item of what is said."""
    return {"type": "message", "id": identifier, "status": status, "role": "assistant", "content": parts}


def output_text(text: str, annotations: list[Json], logprobs: list[Json]) -> dict[str, Json]:
    """A piece of text."""
    return {"type": "output_text", "text": text, "annotations": annotations, "logprobs": logprobs}


def logprob(token: TokenLogprob) -> dict[str, Json]:
    """The log probability of a token, and of the likeliest ones at its place."""
    top = [{"token": each.token, "logprob": each.logprob, "bytes": _bytes(each.token)} for each in token.top]
    return {
        "token": token.token,
        "logprob": token.logprob,
        "bytes": _bytes(token.token),
        "top_logprobs": top,
    }


def _bytes(token: str) -> list[int]:
    return list(token.encode("utf-8", "surrogatepass"))


def annotation(citation: Citation) -> dict[str, Json]:
    """A source."""
    return {
        "type": "url_citation",
        "url": citation.address,
        "title": citation.title,
        "start_index": citation.start or 0,
        "end_index": citation.end or 0,
    }


def image(identifier: str, file: MediaFile) -> dict[str, Json]:
    """An item that is a file."""
    form = file.media_type.rpartition("/")[2] or "png"
    return {
        "type": "image_generation_call",
        "id": identifier,
        "status": "completed",
        "result": file.data or file.address,
        "output_format": form,
    }


def call_item(identifier: str, number: int, call: ToolCall, status: str = "completed") -> dict[str, Json]:
    """An item that is a call."""
    named = {"id": identifier, "call_id": call.id or f"call_{number}", "name": call.function.name, "status": status}
    if call.extra.get("type") == "custom":
        return {"type": "custom_tool_call", **named, "input": call.function.arguments or ""}
    return {"type": "function_call", **named, "arguments": sendable(number, call).function.arguments}
