"""The dialect marked by ``POST {base}/responses``: input and output as items, a stream of named events."""

from collections.abc import Mapping
from typing import Any

from ...core.canonical.chat import Completion, Json, Message, Request, ToolCall
from ...core.canonical.structured import MEANS
from ...core.errors import ProviderFault, RateLimited, ReplyUnreadable
from ...core.http.address import Ending
from ...core.json.lenient import any_json
from ...core.messages.messages import own_blocks, system_and_rest
from ...core.messages.parts import FilePart, ImagePart, TextPart, cannot_take, parts_of, text_of
from ..base import (
    Abilities,
    Field,
    StreamDecoder,
    VectorAbility,
    Write,
    joined_text,
    no_response_format,
    same_names,
    system_of,
)
from ..chat.fields import CODES
from ..shared.model_listing import ChatVectors, ModelListing
from ..shared.stream_decoding import read_reply
from ..wire import Fault, Outgoing
from .fields import ReplyFields, completion_of, meaning, turn_of_items

_CODES = {**CODES, "server_error": ProviderFault, "rate_limit_error": RateLimited}
_ENCRYPTED = "reasoning.encrypted_content"


def _tools(body: dict[str, Any], tools: list[Mapping[str, Any]], _: Mapping[str, Json]) -> None:
    if tools:
        body["tools"] = [_flat(tool, strict=False) for tool in tools]


def _flat(tool: Mapping[str, Any], **fields: Json) -> dict[str, Json]:
    """The flat form of a tool; a function that says nothing of it is not strict, as everywhere else."""
    for kind in ("function", "custom"):
        if isinstance(inner := tool.get(kind), Mapping):
            return {"type": kind, **(fields if kind == "function" else {}), **inner}
    return {**fields, **tool} if tool.get("type") == "function" else dict(tool)


def _tool_choice(choice: Json) -> Json:
    if not isinstance(choice, Mapping):
        return choice
    allowed = choice.get("allowed_tools")
    if isinstance(allowed, Mapping):
        return {"type": "allowed_tools", **allowed, "tools": [_flat(tool) for tool in allowed.get("tools") or ()]}
    return _flat(choice)


def _store(body: dict[str, Any], store: bool, _: Mapping[str, Json]) -> None:
    body["store"] = store
    if not store:
        # Nothing is kept there: the thinking has to come along, to go back with the next turn.
        body.setdefault("include", []).append(_ENCRYPTED)


def _logprobs(body: dict[str, Any], value: bool | int, _: Mapping[str, Json]) -> None:
    include = body.setdefault("include", [])
    if value and "message.output_text.logprobs" not in include:
        include.append("message.output_text.logprobs")
    if not isinstance(value, bool):
        body["top_logprobs"] = value


def _reasoning(body: dict[str, Any], effort: str, _: Mapping[str, Json]) -> None:
    body["reasoning"] = {"effort": effort, "summary": "auto"}


def _format(form: Mapping[str, Any]) -> dict[str, Json]:
    kind = form.get("type")
    if kind in ("text", "json_object"):
        return {"type": kind}
    if kind == "json_schema":
        return {"type": "json_schema", "name": "answer", **form.get("json_schema", {})}
    raise no_response_format("responses", kind)


SAME = (
    "temperature",
    "top_p",
    "user",
    "safety_identifier",
    "parallel_tool_calls",
    "metadata",
    "service_tier",
    "prompt_cache_key",
    "previous_response_id",
)
"""Parameters that the format calls as we do."""

_PARAMETERS: dict[str, Write] = {
    **same_names(*SAME),
    "max_tokens": Field("max_output_tokens"),
    "reasoning_effort": _reasoning,
    "verbosity": Field("text/verbosity"),
    "response_format": Field("text/format", _format),
    "store": _store,
    "logprobs": _logprobs,
    "top_logprobs": _logprobs,
    "tools": _tools,
    "tool_choice": Field("tool_choice", _tool_choice),
}


class ResponsesDialect(ModelListing, ChatVectors):
    """See the module."""

    name = "responses"
    abilities = Abilities(
        parameters=_PARAMETERS,
        adds=frozenset({"reasoning.summary", "include"}),
        means=MEANS,
        schema_style="closed",
        inputs=("text", "image", "file"),
        file_addresses=True,
        vectors=VectorAbility(max_texts=256, base64=True, compatible=True),
        endings=(Ending("/responses"), Ending("/embeddings", "embeddings"), Ending("/models", "models")),
    )

    def encode_chat(self, request: Request) -> Outgoing:
        system, remaining = system_and_rest(request.messages)
        body: dict[str, Any] = {"model": request.model, "input": _input(remaining, request.parameters.get("store"))}
        if system:
            body["instructions"] = system
        self.abilities.write(body, request.parameters)
        if "reasoning.summary" in request.refused and "reasoning" in body:
            del body["reasoning"]["summary"]
        if "include" in request.refused:
            body.pop("include", None)
        if request.stream:
            body["stream"] = True
        body.update(request.extra)
        accept = "text/event-stream" if request.stream else "application/json"
        return Outgoing("chat", "/responses", body, accept=accept)

    def decode_chat(self, body: bytes) -> Completion | Fault:
        reply = read_reply(body, ReplyFields, "the reply")
        if reply.status == "failed" or (reply.error and (reply.status is None or reply.output is None)):
            from .stream import failed

            return failed(reply.error, self.classify)
        if reply.output is None:
            raise ReplyUnreadable("the reply is JSON, but has no `output`")
        is_simple = all(item.type in ("message", "function_call") for item in reply.output)
        return completion_of(reply, None if is_simple else turn_of_items(any_json(body)["output"]))

    def stream_decoder(self) -> StreamDecoder:
        from .stream import ResponsesStream

        return ResponsesStream(self.classify)

    def pasted_system(self, body: dict[str, Any]) -> str:
        return joined_text(body.get("instructions")) or system_of(body.get("input"))

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from ..shared.error_mapping import classify

        return classify(status, headers, body, _CODES)


def _input(messages: list[Message], store: bool | None) -> list[dict[str, Json]]:
    custom = {call.id for message in messages for call in message.tool_calls if _is_custom(call)}
    items: list[dict[str, Json]] = []
    for message in messages:
        own_items = own_blocks(message, "responses", meaning, _items)
        if own_items is not None:
            # Thinking that is kept nowhere cannot be found again: it goes back only where it came along.
            items += [item for item in own_items if store is not False or _is_whole(item)]
        elif message.role == "tool":
            kind = "custom_tool_call_output" if message.tool_call_id in custom else "function_call_output"
            output: Json = text_of(message)
            if any(not isinstance(part, TextPart) for part in parts_of(message)):
                output = _content(message, "input_text")
            items.append({"type": kind, "call_id": message.tool_call_id or "", "output": output})
        else:
            items += _items(message)
    return items


def _is_custom(call: ToolCall) -> bool:
    return call.extra.get("type") == "custom"


def _is_whole(item: Json) -> bool:
    return not isinstance(item, dict) or item.get("type") != "reasoning" or bool(item.get("encrypted_content"))


def _items(message: Message) -> list[dict[str, Json]]:
    kind = "output_text" if message.role == "assistant" else "input_text"
    content = _content(message, kind)
    # Some servers tell items apart by their type alone, although a message may go without.
    item: dict[str, Json] = {"type": "message", "role": message.role, "content": content}
    items: list[dict[str, Json]] = [item] if content else []
    return items + [_call(call) for call in message.tool_calls]


def _call(call: ToolCall) -> dict[str, Json]:
    named = {"call_id": call.id or "", "name": call.function.name}
    if _is_custom(call):
        return {"type": "custom_tool_call", **named, "input": call.function.arguments or ""}
    return {"type": "function_call", **named, "arguments": call.function.arguments or "{}"}


def _content(message: Message, kind: str) -> list[dict[str, Json]]:
    content: list[dict[str, Json]] = []
    for part in parts_of(message):
        if isinstance(part, ImagePart):
            detail = {"detail": part.detail} if part.detail else {}
            content.append({"type": "input_image", "image_url": part.url, **detail})
        elif isinstance(part, FilePart):
            content.append({"type": "input_file", **_file(part)})
        elif isinstance(part, TextPart):
            content.append({"type": kind, "text": part.text})
        else:
            raise cannot_take("responses", part)
    return content


def _file(part: FilePart) -> dict[str, Json]:
    if part.id:
        return {"file_id": part.id}
    if part.address:
        return {"file_url": part.address}
    return {"filename": part.name or "file.pdf", "file_data": part.url}
