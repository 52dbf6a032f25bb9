"""The server's side of ``POST {base}/messages``: content in blocks, the system text apart."""

from base64 import b64encode
from collections.abc import Mapping, Sequence
from typing import Any, ClassVar

from ...core.canonical.chat import Json, Message, ProviderTurn, Request, ToolCall, ToolFunction
from ...core.messages.parts import MARK
from ..server_base import ErrorTold, ReplyHead, ServerFormat, encode_json, field, model_of, objects, request_of, wrong
from ..shared.packed_turns import is_packed, unpacked
from .dialect import blocks_of
from .server_reply import MessagesEncoder, message_of_reply

_SAME = ("max_tokens", "temperature", "top_p", "top_k")
_KNOWN = frozenset(
    {
        *_SAME,
        *("model", "messages", "system", "stream", "stop_sequences", "metadata", "service_tier", "thinking"),
        *("tools", "tool_choice", "output_config"),
    }
)
# The budgets that the dialect makes of efforts, the other way round; others stay budgets.
_EFFORTS = {1024: "low", 4096: "medium", 16384: "high"}
_TIERS = {"auto": "auto", "standard_only": "default"}
_OPAQUE = ("thinking", "redacted_thinking")


class MessagesFormat(ServerFormat):
    """See the module."""

    name = "messages"
    path = "/messages"
    counting = "/messages/count_tokens"
    alone = frozenset({"container", "context_management", "mcp_servers"})
    theirs: ClassVar[Mapping[str, str]] = {
        "stop": "stop_sequences",
        "reasoning_effort": "thinking",
        "reasoning_budget": "thinking.budget_tokens",
        "response_format": "output_config.format",
        "user": "metadata.user_id",
        "parallel_tool_calls": "tool_choice.disable_parallel_tool_use",
    }
    shared: ClassVar[Mapping[str, tuple[str, ...]]] = {
        "messages": (),
        "system": (),
        "tools": ("tools",),
        "tool_choice": ("tool_choice", "parallel_tool_calls"),
        "thinking": ("reasoning_effort", "reasoning_budget"),
        "output_config": ("reasoning_effort", "response_format"),
        "metadata": ("user", "metadata"),
        "stop_sequences": ("stop",),
        "service_tier": ("service_tier",),
    }

    def decode_request(self, body: Mapping[str, Json]) -> Request:
        model = model_of(body)
        messages = _system(body.get("system"))
        for number, each in enumerate(objects(body.get("messages"), "messages")):
            messages += _messages_of(each, f"messages.{number}")
        parameters: dict[str, Json] = {name: body[name] for name in _SAME if body.get(name) is not None}
        parameters |= _parameters(body)
        return request_of(body, model, messages, parameters, _KNOWN)

    def own_fields(self, body: Mapping[str, Json], request: Request) -> dict[str, Json]:
        own_fields = super().own_fields(body, request)
        if _holds_packed(body.get("messages")):
            # Thinking of another provider, which this one would not know; all else stays as it came.
            own_fields["messages"] = [
                each for message in own_fields["messages"] if (each := _without_packed(message)) is not None
            ]
        return own_fields

    def foreign(self, body: Mapping[str, Json]) -> str:
        for number, message in enumerate(body.get("messages") or ()):
            content = message.get("content")
            for at, block in enumerate(content if isinstance(content, list) else ()):
                where = f"messages.{number}.content.{at}"
                if found := _foreign(block, where):
                    return found
                inner = block.get("content") if block.get("type") == "tool_result" else None
                for position, each in enumerate(inner if isinstance(inner, list) else ()):
                    if found := _foreign(each, f"{where}.content.{position}"):
                        return found
        return ""

    def encode_reply(self, completion: Any, head: ReplyHead) -> dict[str, Json]:
        return message_of_reply(completion, head)

    def stream_encoder(self, head: ReplyHead) -> MessagesEncoder:
        return MessagesEncoder(head, self.encode_error)

    def encode_error(self, error: ErrorTold) -> dict[str, Json]:
        kind = _TYPES.get(error.status, "invalid_request_error" if error.status < 500 else "api_error")
        return {
            "type": "error",
            "error": {"type": kind, "message": error.message},
            "request_id": error.identifier or None,
        }


_TYPES = {
    401: "authentication_error",
    402: "billing_error",
    403: "permission_error",
    404: "not_found_error",
    413: "request_too_large",
    429: "rate_limit_error",
    503: "overloaded_error",
    504: "timeout_error",
    529: "overloaded_error",
}


_COMMON = frozenset({"text", "image", "document", "tool_use", "tool_result", "thinking", "redacted_thinking"})


def _foreign(block: Mapping[str, Json], where: str) -> str:
    """What of a block only this format knows."""
    kind = block.get("type")
    if kind not in _COMMON:
        return f"{where} of type {kind}"
    source = block.get("source")
    if isinstance(source, Mapping) and source.get("type") not in ("base64", "url", "text"):
        return f"{where}.source of type {source.get('type')}"
    citations = block.get("citations")
    if kind == "document" and isinstance(citations, Mapping) and citations.get("enabled"):
        return f"{where}.citations"
    return f"{where}.context" if kind == "document" and block.get("context") else ""


def _without_packed(message: Mapping[str, Json]) -> Mapping[str, Json] | None:
    """A message without the thinking of another provider; `None` where nothing is left of it."""
    content = message.get("content")
    if not isinstance(content, list):
        return message
    remaining = [block for block in content if not _is_packed_block(block)]
    return {**message, "content": remaining} if remaining else None if content else message


def _is_packed_block(block: Json) -> bool:
    if not isinstance(block, Mapping) or block.get("type") not in _OPAQUE:
        return False
    return is_packed(block.get("signature")) or is_packed(block.get("data"))


def _holds_packed(messages: Json) -> bool:
    return any(
        _is_packed_block(block)
        for message in messages or ()
        if isinstance(message.get("content"), list)
        for block in message["content"]
    )


def _system(system: Json) -> list[Message]:
    if not system:
        return []
    if isinstance(system, str):
        return [Message("system", system)]
    parts = [_text(block, f"system.{number}") for number, block in enumerate(objects(system, "system"))]
    return [Message("system", parts)]


def _text(block: Mapping[str, Json], where: str) -> dict[str, Json]:
    text = field(block, "text", str, "a text", f"{where}.")
    return _marked({"type": "text", "text": text or ""}, block)


def _marked(part: dict[str, Json], block: Mapping[str, Json]) -> dict[str, Json]:
    return part if block.get(MARK) is None else {**part, MARK: block[MARK]}


def _messages_of(message: Mapping[str, Json], where: str) -> list[Message]:
    """The messages that one turn amounts to: results of tools are messages of their own."""
    role = message.get("role")
    if role not in ("user", "assistant", "system"):
        raise wrong(f"{where}.role", "takes user or assistant")
    content = message.get("content")
    if isinstance(content, str):
        return [Message(role, content)]
    blocks = objects(content, f"{where}.content")
    if role == "assistant":
        return [_assistant(blocks, f"{where}.content")]
    messages: list[Message] = []
    parts: list[dict[str, Json]] = []
    for number, block in enumerate(blocks):
        at = f"{where}.content.{number}"
        if block.get("type") == "tool_result":
            if parts:
                messages.append(Message(role, _content(parts)))
                parts = []
            messages.append(_result(block, at))
        else:
            parts.append(_part(block, at))
    return [*messages, Message(role, _content(parts))] if parts or not messages else messages


def _content(parts: list[dict[str, Json]]) -> str | list[dict[str, Json]]:
    """Parts as they are said shortest: one text without a mark is that text."""
    if not parts:
        return ""
    if len(parts) == 1 and parts[0].keys() == {"type", "text"}:
        return str(parts[0]["text"])
    return parts


def _result(block: Mapping[str, Json], where: str) -> Message:
    content = block.get("content")
    if content is not None and not isinstance(content, str):
        blocks = objects(content, f"{where}.content")
        content = _content([_part(each, f"{where}.content.{number}") for number, each in enumerate(blocks)])
    identifier = field(block, "tool_use_id", str, "a text", f"{where}.")
    failed = block.get("is_error") is True
    if failed and not content:
        content = "Error"  # formats that do not say whether a tool failed have this word alone
    if block.get(MARK) is not None and content:
        parts = [{"type": "text", "text": content}] if isinstance(content, str) else content
        content = [*parts[:-1], _marked(parts[-1], block)]
    return Message("tool", content or "", tool_call_id=identifier, is_error=failed)


def _assistant(blocks: Sequence[Mapping[str, Json]], where: str) -> Message:
    """A turn of the assistant; what is more than text and calls is kept as it came."""
    parts: list[dict[str, Json]] = []
    calls: list[ToolCall] = []
    provider_turn: ProviderTurn | None = None
    own_fields: list[Json] = []
    for number, block in enumerate(blocks):
        at, kind = f"{where}.{number}", block.get("type")
        if kind in _OPAQUE and is_packed(block.get("signature") or block.get("data")):
            provider_turn = unpacked(block.get("signature") or block.get("data") or "") or provider_turn
            continue
        own_fields.append(block)
        if kind == "text":
            parts.append(_text(block, at))
        elif kind == "tool_use":
            name = field(block, "name", str, "a text", f"{at}.")
            arguments = encode_json(field(block, "input", dict, "an object", f"{at}.") or {}).decode()
            calls.append(ToolCall(ToolFunction(name, arguments), field(block, "id", str, "a text", f"{at}.")))
        elif kind in ("image", "document"):
            parts.append(_part(block, at))
    content = _content(parts) if parts else (None if calls else "")
    message = Message("assistant", content, tool_calls=tuple(calls), provider_turn=provider_turn)
    if provider_turn is None and own_fields != blocks_of(message):
        return Message("assistant", content, tool_calls=tuple(calls), provider_turn=ProviderTurn(_NAME, own_fields))
    return message


_NAME = MessagesFormat.name


def _part(block: Mapping[str, Json], where: str) -> dict[str, Json]:
    kind = block.get("type")
    if kind == "text":
        return _text(block, where)
    if kind not in ("image", "document"):
        return dict(block)  # of a kind that only this format has; another one says so
    source = field(block, "source", dict, "an object", f"{where}.") or {}
    title = field(block, "title", str, "a text", f"{where}.")
    if kind == "image":
        return _marked({"type": "image_url", "image_url": {"url": _address(source, where)}}, block)
    file: dict[str, Json] = {"filename": title} if title else {}
    if source.get("type") == "file":
        return _marked({"type": "file", "file": {**file, "file_id": source.get("file_id")}}, block)
    if source.get("type") == "url":
        return _marked({"type": "file", "file": {**file, "file_url": _address(source, where)}}, block)
    return _marked({"type": "file", "file": {**file, "file_data": _address(source, where)}}, block)


def _address(source: Mapping[str, Json], where: str) -> str:
    kind, data = source.get("type"), source.get("data")
    if kind == "url" and isinstance(source.get("url"), str):
        return str(source["url"])
    if kind == "base64" and isinstance(data, str):
        return f"data:{source.get('media_type') or 'application/octet-stream'};base64,{data}"
    if kind == "text" and isinstance(data, str):
        encoded = b64encode(data.encode("utf-8", "replace")).decode()
        return f"data:{source.get('media_type') or 'text/plain'};base64,{encoded}"
    raise wrong(f"{where}.source", "takes base64 with data, url with an address, or text with data")


def _parameters(body: Mapping[str, Json]) -> dict[str, Json]:
    """Parameters that the format says otherwise than we do."""
    format_fields: dict[str, Json] = {}
    if (stop := field(body, "stop_sequences", list, "a list of texts")) is not None:
        format_fields["stop"] = stop
    metadata = field(body, "metadata", dict, "an object") or {}
    if (user := field(metadata, "user_id", str, "a text", "metadata.")) is not None:
        format_fields["user"] = user
    if (tier := field(body, "service_tier", str, "auto or standard_only")) is not None:
        format_fields["service_tier"] = _TIERS.get(tier, tier)
    thinking = field(body, "thinking", dict, "an object") or {}
    output = field(body, "output_config", dict, "an object") or {}
    effort = field(output, "effort", str, "a text", "output_config.")
    if thinking.get("type") == "adaptive" or effort is not None:
        format_fields["reasoning_effort"] = effort or "adaptive"
    elif thinking.get("type") == "disabled":
        format_fields["reasoning_effort"] = "none"
    elif thinking.get("type") == "enabled":
        budget = field(thinking, "budget_tokens", int, "a whole number", "thinking.") or 0
        format_fields |= {"reasoning_effort": _EFFORTS[budget]} if budget in _EFFORTS else {"reasoning_budget": budget}
    form = field(output, "format", dict, "an object", "output_config.")
    if form is not None:
        format_fields["response_format"] = {
            "type": "json_schema",
            "json_schema": {"name": "answer", "schema": form.get("schema")},
        }
    if body.get("tools"):
        format_fields["tools"] = [_tool(tool, f"tools.{n}") for n, tool in enumerate(objects(body["tools"], "tools"))]
    format_fields |= _tool_choice(field(body, "tool_choice", dict, "an object") or {})
    return format_fields


def _tool(tool: Mapping[str, Json], where: str) -> dict[str, Json]:
    if tool.get("type") not in (None, "custom"):
        return dict(tool)
    function: dict[str, Json] = {"name": field(tool, "name", str, "a text", f"{where}.") or ""}
    if (description := field(tool, "description", str, "a text", f"{where}.")) is not None:
        function["description"] = description
    function["parameters"] = field(tool, "input_schema", dict, "a schema", f"{where}.") or {"type": "object"}
    if tool.get("strict") is not None:
        function["strict"] = tool["strict"]
    return _marked({"type": "function", "function": function}, tool)


def _tool_choice(choice: Mapping[str, Json]) -> dict[str, Json]:
    format_fields: dict[str, Json] = {}
    kind = field(choice, "type", str, "a text", "tool_choice.")
    if kind == "tool":
        format_fields["tool_choice"] = {"type": "function", "function": {"name": choice.get("name")}}
    elif kind is not None:
        format_fields["tool_choice"] = {"any": "required"}.get(kind, kind)
    if choice.get("disable_parallel_tool_use") is True:
        format_fields["parallel_tool_calls"] = False
    return format_fields
