"""The server's side of ``POST {base}/responses``: input and output as items."""

from collections.abc import Mapping, Sequence
from typing import Any, ClassVar

from ...core.canonical.chat import Completion, Json, Message, ProviderTurn, Request, ToolCall, ToolFunction
from ..server_base import ReplyHead, ServerFormat, field, model_of, objects, request_of, wrong
from ..shared.packed_turns import is_packed, unpacked
from .dialect import SAME
from .server_reply import response_of
from .server_stream import ResponsesEncoder

_SAME = (*SAME, "store", "top_logprobs")
# What only this format knows; a provider of another one cannot do it, and is not asked to.
_ONLY_HERE = ("include", "truncation", "stream_options", "max_tool_calls")
_KNOWN = frozenset(
    {
        *_SAME,
        *_ONLY_HERE,
        *("model", "input", "instructions", "stream", "max_output_tokens", "reasoning", "text", "tools", "tool_choice"),
    }
)
_CALLS = {"function_call": "arguments", "custom_tool_call": "input"}
_RESULTS = ("function_call_output", "custom_tool_call_output")
_COMMON = frozenset({"message", "reasoning", *_CALLS, *_RESULTS})
_PARTS = frozenset({"input_text", "output_text", "text", "refusal", "input_image", "input_file", "input_audio"})
_LOGPROBS = "message.output_text.logprobs"


class ResponsesFormat(ServerFormat):
    """See the module."""

    name = "responses"
    path = "/responses"
    conversation = "input"
    identified = True
    alone = frozenset(
        {
            "background", "context_management", "conversation", "max_tool_calls", "messages", "previous_response_id",
            "prompt", "prompt_cache_retention", "truncation",
        }
    )  # fmt: skip
    theirs: ClassVar[Mapping[str, str]] = {
        "max_tokens": "max_output_tokens",
        "max_completion_tokens": "max_output_tokens",
        "response_format": "text.format",
        "verbosity": "text.verbosity",
        "reasoning_effort": "reasoning.effort",
    }
    shared: ClassVar[Mapping[str, tuple[str, ...]]] = {
        "input": (),
        "instructions": (),
        "tools": ("tools",),
        "tool_choice": ("tool_choice",),
        "reasoning": ("reasoning_effort",),
        "text": ("verbosity", "response_format"),
        "include": ("logprobs",),
        "store": ("store",),
        "top_logprobs": ("top_logprobs",),
        "truncation": (),
        "stream_options": (),
        "max_tool_calls": (),
    }

    def decode_request(self, body: Mapping[str, Json]) -> Request:
        model = model_of(body)
        instructions = field(body, "instructions", str, "a text")
        messages = [Message("system", instructions)] if instructions else []
        input_items = body.get("input")
        if isinstance(input_items, str):
            messages.append(Message("user", input_items))
        elif input_items is None and not messages:
            raise wrong("input", "is missing: a text, or a list of items")
        elif input_items is not None:
            messages += _ItemReader().of(objects(input_items, "input"))
        parameters: dict[str, Json] = {name: body[name] for name in _SAME if body.get(name) is not None}
        parameters |= _parameters(body)
        return request_of(body, model, messages, parameters, _KNOWN)

    def own_fields(self, body: Mapping[str, Json], request: Request) -> dict[str, Json]:
        own_fields = super().own_fields(body, request)
        items = body.get("input")
        if isinstance(items, list) and any(is_packed(item.get("encrypted_content")) for item in items):
            # Thinking of another provider, which this one would not know; all else stays as it came.
            own_fields["input"] = [item for item in items if not is_packed(item.get("encrypted_content"))]
        return own_fields

    def foreign(self, body: Mapping[str, Json]) -> str:
        items = body.get("input")
        for number, item in enumerate(items if isinstance(items, list) else ()):
            kind = item.get("type") or "message"
            if kind not in _COMMON:
                return f"input.{number} of type {kind}"
            content = item.get("content") if kind == "message" else item.get("output")
            for at, part in enumerate(content if isinstance(content, list) else ()):
                if part.get("type") == "input_image" and part.get("image_url") is None:
                    return f"input.{number}.content.{at}.file_id"
                if part.get("type") not in _PARTS:
                    return f"input.{number}.content.{at} of type {part.get('type')}"
        return ""

    def encode_reply(self, completion: Completion, head: ReplyHead) -> dict[str, Json]:
        return response_of(completion, head)

    def stream_encoder(self, head: ReplyHead) -> ResponsesEncoder:
        return ResponsesEncoder(head, self.encode_error)


class _ItemReader:
    """Puts items together to messages: what an assistant says and calls in a row is one message."""

    def __init__(self) -> None:
        self._messages: list[Message] = []
        self._parts: list[dict[str, Json]] = []
        self._calls: list[ToolCall] = []
        self._own_items: list[Json] = []
        self._is_simple = True
        self._provider_turn: ProviderTurn | None = None

    def of(self, items: Sequence[Mapping[str, Json]]) -> list[Message]:
        for number, item in enumerate(items):
            self._add(item, f"input.{number}")
        self._end()
        return self._messages

    def _add(self, item: Mapping[str, Json], where: str) -> None:
        kind = field(item, "type", str, "a text", f"{where}.") or "message"
        role = field(item, "role", str, "a text", f"{where}.")
        if kind == "message" and role != "assistant":
            if role not in ("user", "system", "developer"):
                raise wrong(f"{where}.role", "takes user, assistant, system or developer")
            self._end()
            self._messages.append(Message(role, _content(item.get("content"), f"{where}.content")))
        elif kind in _RESULTS:
            self._end()
            identifier = field(item, "call_id", str, "a text", f"{where}.")
            self._messages.append(
                Message("tool", _content(item.get("output"), f"{where}.output"), tool_call_id=identifier)
            )
        elif kind == "reasoning" and is_packed(item.get("encrypted_content")):
            self._provider_turn = unpacked(item["encrypted_content"]) or self._provider_turn
        else:
            self._own_items.append(item)
            if kind == "message":
                content = _content(item.get("content"), f"{where}.content")
                self._parts += [{"type": "text", "text": content}] if isinstance(content, str) else content
            elif kind in _CALLS:
                self._calls.append(_call(item, kind, where))
            else:
                self._is_simple = False  # thinking, the provider's own tools: for the same format

    def _end(self) -> None:
        """The turn of the assistant, where one is open, is over."""
        if not self._own_items and self._provider_turn is None:
            return
        provider_turn = self._provider_turn
        if provider_turn is None and not self._is_simple:
            provider_turn = ProviderTurn(ResponsesFormat.name, self._own_items)
        texts = "".join([str(part.get("text") or "") for part in self._parts if part.get("type") == "text"])
        only_text = all(part.keys() == {"type", "text"} for part in self._parts)
        content = (texts if only_text else self._parts) if self._parts else (None if self._calls else "")
        self._messages.append(Message("assistant", content, tool_calls=tuple(self._calls), provider_turn=provider_turn))
        self._parts, self._calls, self._own_items, self._is_simple, self._provider_turn = [], [], [], True, None


def _call(item: Mapping[str, Json], kind: str, where: str) -> ToolCall:
    name = field(item, "name", str, "a text", f"{where}.")
    text = field(item, _CALLS[kind], str, "a text", f"{where}.") or ""
    identifier = field(item, "call_id", str, "a text", f"{where}.")
    extra: dict[str, Json] = {}
    if kind != "function_call":
        extra = {"type": "custom", "custom": {"name": name, "input": text}}
    return ToolCall(ToolFunction(name, text), identifier, extra)


def _content(content: Json, where: str) -> str | list[dict[str, Json]]:
    if content is None or isinstance(content, str):
        return content or ""
    parts = [_part(part, f"{where}.{number}") for number, part in enumerate(objects(content, where))]
    if len(parts) == 1 and parts[0].keys() == {"type", "text"}:
        return str(parts[0]["text"])
    return parts


def _part(part: Mapping[str, Json], where: str) -> dict[str, Json]:
    kind = part.get("type")
    if kind in ("input_text", "output_text", "text"):
        return {"type": "text", "text": field(part, "text", str, "a text", f"{where}.") or ""}
    if kind == "input_image":
        address = field(part, "image_url", str, "an address", f"{where}.")
        if address is None:
            return dict(part)  # by an id that only this provider knows
        detail = {"detail": part["detail"]} if part.get("detail") is not None else {}
        return {"type": "image_url", "image_url": {"url": address, **detail}}
    if kind == "input_file":
        names = ("file_id", "file_url", "filename", "file_data")
        return {"type": "file", "file": {name: part[name] for name in names if part.get(name) is not None}}
    return dict(part)


def _parameters(body: Mapping[str, Json]) -> dict[str, Json]:
    """Parameters that the format says otherwise than we do."""
    format_fields: dict[str, Json] = {}
    if (cap := field(body, "max_output_tokens", int, "a whole number")) is not None:
        format_fields["max_tokens"] = cap
    reasoning = field(body, "reasoning", dict, "an object") or {}
    if (effort := field(reasoning, "effort", str, "a text", "reasoning.")) is not None:
        format_fields["reasoning_effort"] = effort
    text = field(body, "text", dict, "an object") or {}
    if text.get("verbosity") is not None:
        format_fields["verbosity"] = text["verbosity"]
    form = field(text, "format", dict, "an object", "text.")
    if form is not None:
        inner = {name: value for name, value in form.items() if name != "type"}
        kind = form.get("type")
        format_fields["response_format"] = (
            {"type": kind, "json_schema": inner} if kind == "json_schema" else {"type": kind}
        )
    if _LOGPROBS in (field(body, "include", list, "a list of texts") or ()) or body.get("top_logprobs"):
        format_fields["logprobs"] = True
    if body.get("tools"):
        format_fields["tools"] = [_nested(tool) for tool in objects(body["tools"], "tools")]
    choice = body.get("tool_choice")
    if isinstance(choice, str):
        format_fields["tool_choice"] = choice
    elif choice is not None:
        format_fields["tool_choice"] = _choice(field(body, "tool_choice", dict, "a word or an object"))
    return format_fields


def _nested(tool: Mapping[str, Any]) -> dict[str, Json]:
    """The nested form of a tool; those that are no functions stay as they are."""
    kind = tool.get("type")
    if not isinstance(kind, str) or kind not in ("function", "custom") or kind in tool:
        return dict(tool)
    inner = {name: value for name, value in tool.items() if name != "type" and value is not None}
    if kind == "function" and inner.get("strict") is False:
        del inner["strict"]  # as everywhere else, where nothing is said of it
    return {"type": kind, kind: inner}


def _choice(choice: Mapping[str, Json]) -> Json:
    if choice.get("type") == "allowed_tools" and "allowed_tools" not in choice:
        inner = {name: value for name, value in choice.items() if name != "type"}
        tools = [_nested(tool) for tool in objects(inner.get("tools") or [], "tool_choice.tools")]
        return {"type": "allowed_tools", "allowed_tools": {**inner, "tools": tools}}
    return _nested(choice)
