"""The dialect marked by ``POST {base}/messages``: content in blocks, the system text apart, roles that alternate."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from msgspec import Struct
from msgspec.structs import replace

from ...core.canonical.chat import Completion, Json, Message, Request
from ...core.errors import (
    ContentRefused,
    ContextOverflow,
    CredentialRefused,
    ModelUnknown,
    NoAccess,
    Overloaded,
    ParameterUnsupported,
    ProviderFault,
    RateLimited,
    ReplyUnreadable,
    RequestError,
)
from ...core.http.address import Ending
from ...core.json.lenient import any_json
from ...core.messages.call_pairs import allowed_id, functions_called
from ...core.messages.messages import arguments_of, by_role, own_blocks, system_parts
from ...core.messages.parts import MARK, FilePart, ImagePart, Part, TextPart, cannot_take, parts_of
from ...core.messages.tool_json import function_of, is_function
from ..base import (
    Abilities,
    Field,
    StreamDecoder,
    Write,
    as_list,
    as_written,
    chosen_function,
    joined_text,
    mark_of,
    no_response_format,
    no_tool_choice,
)
from ..shared.model_listing import ModelListing
from ..shared.stream_decoding import read_reply
from ..wire import Fault, Outgoing
from .fields import ReplyFields, choice_of, meaning, turn_of, usage_of

if TYPE_CHECKING:
    from ..base import DeferredBatches

# The format demands a cap. This one is said nowhere by the caller, so it is generous; a reply that
# meets it is marked as truncated like any other.
_USUAL_CAP = 4096
# Tokens of thinking; the format takes no fewer than 1024. Of the words beyond these models know only the newer form.
_THINKING = {"none": 0, "minimal": 1024, "low": 1024, "medium": 4096, "high": 16384}
_ADAPTIVE = {"adaptive": None, "xhigh": "xhigh", "max": "max"}
_LEAST_BUDGET = 1024

_CODES = {
    "authentication_error": CredentialRefused,
    "permission_error": NoAccess,
    "not_found_error": ModelUnknown,
    "request_too_large": ContextOverflow,
    "rate_limit_error": RateLimited,
    "overloaded_error": Overloaded,
    "api_error": ProviderFault,
    "content_policy_violation": ContentRefused,
}


class _Count(Struct):
    input_tokens: int | None = None
    error: Any = None


def _temperature(body: dict[str, Any], value: float, parameters: Mapping[str, Json]) -> None:
    if value > 1:
        raise RequestError(
            f"temperature = {value} is out of range for dialect messages", hint="It takes a number from 0 to 1."
        )
    if value != 1:
        _without_thinking("temperature", parameters)
    body["temperature"] = value


def _top_p(body: dict[str, Any], value: float, parameters: Mapping[str, Json]) -> None:
    if value < 0.95:
        _without_thinking("top_p", parameters)
    body["top_p"] = value


def _top_k(body: dict[str, Any], value: int, parameters: Mapping[str, Json]) -> None:
    _without_thinking("top_k", parameters)
    body["top_k"] = value


def _is_thinking(parameters: Mapping[str, Json]) -> bool:
    return bool(parameters.get("reasoning_budget") or parameters.get("reasoning_effort", "none") != "none")


def _without_thinking(name: str, parameters: Mapping[str, Json]) -> None:
    if _is_thinking(parameters):
        raise ParameterUnsupported(
            f"dialect messages takes no {name} together with thinking",
            parameter=name,
            hint=f'Leave out {name}, or the thinking (reasoning_effort = "none").',
        )


def _effort(body: dict[str, Any], effort: str, parameters: Mapping[str, Json]) -> None:
    if effort in _ADAPTIVE:
        body["thinking"] = {"type": "adaptive"}
        if (effort_level := _ADAPTIVE[effort]) is not None:
            body.setdefault("output_config", {})["effort"] = effort_level
        return
    budget = _THINKING.get(effort)
    if budget is None:
        raise ParameterUnsupported(
            f"dialect messages has no reasoning_effort {effort!r}",
            parameter="reasoning_effort",
            hint=f"It takes {', '.join([*_THINKING, *_ADAPTIVE])}.",
        )
    if budget and "reasoning_budget" not in parameters:
        # An effort is a wish: it gives way to the caller's cap, a budget in tokens does not.
        cap = parameters.get("max_tokens")
        _think(body, budget if cap is None else max(min(budget, cap * 3 // 4), _LEAST_BUDGET), parameters)


def _budget(body: dict[str, Any], budget: int, parameters: Mapping[str, Json]) -> None:
    if budget:
        _think(body, budget, parameters)


def _think(body: dict[str, Any], budget: int, parameters: Mapping[str, Json]) -> None:
    cap = parameters.get("max_tokens")
    if budget < _LEAST_BUDGET:
        raise ParameterUnsupported(
            f"dialect messages takes no thinking of fewer than {_LEAST_BUDGET} tokens",
            parameter="reasoning_budget",
            hint=f"Give at least {_LEAST_BUDGET}, or 0 for none.",
        )
    if cap is not None and cap <= budget:
        raise ParameterUnsupported(
            f"max_tokens = {cap} leaves no room for an answer after {budget} tokens of thinking, which count as well",
            parameter="max_tokens",
            hint=f"Give a max_tokens well above {budget}, or leave the thinking out.",
        )
    body["thinking"] = {"type": "enabled", "budget_tokens": budget}
    if cap is None:
        body["max_tokens"] = budget + _USUAL_CAP


def _tools(body: dict[str, Any], tools: list[Mapping[str, Any]], parameters: Mapping[str, Json]) -> None:
    if not tools:
        return
    body["tools"] = [_tool(tool) for tool in tools]
    choice = _tool_choice(parameters)
    if choice is not None:
        if choice["type"] in ("any", "tool"):
            _without_thinking("tool_choice", parameters)
        body["tool_choice"] = choice


def _format(body: dict[str, Any], form: Mapping[str, Any], _: Mapping[str, Json]) -> None:
    kind = form.get("type")
    if kind == "json_schema":
        schema = form.get("json_schema", {}).get("schema")
        body.setdefault("output_config", {})["format"] = {"type": "json_schema", "schema": schema}
    elif kind != "text":
        raise no_response_format("messages", kind, "Give a schema: type json_schema.")


def _user_id(body: dict[str, Any], metadata: Mapping[str, Any], parameters: Mapping[str, Json]) -> None:
    if metadata.keys() - {"user_id"}:
        raise ParameterUnsupported(
            "dialect messages takes no metadata but user_id",
            parameter="metadata",
            hint='Leave the others out; who asks goes into user="...".',
        )
    body["metadata"] = dict(metadata)


_TIERS = {"auto": "auto", "default": "standard_only", "standard_only": "standard_only"}


def _service_tier(tier: str) -> str:
    if tier not in _TIERS:
        raise ParameterUnsupported(
            f"dialect messages has no service_tier {tier!r}",
            parameter="service_tier",
            hint=f"It takes {', '.join(_TIERS)}.",
        )
    return _TIERS[tier]


_PARAMETERS: dict[str, Write] = {
    "max_tokens": Field("max_tokens"),
    "temperature": _temperature,
    "top_p": _top_p,
    "top_k": _top_k,
    "stop": Field("stop_sequences", as_list),
    "metadata": _user_id,
    "user": Field("metadata/user_id"),
    "service_tier": Field("service_tier", _service_tier),
    "reasoning_effort": _effort,
    "reasoning_budget": _budget,
    "tools": _tools,
    "tool_choice": as_written,
    "parallel_tool_calls": as_written,
    "response_format": _format,
}


class MessagesDialect(ModelListing):
    """See the module."""

    name = "messages"
    cursor = "after_id"
    abilities = Abilities(
        parameters=_PARAMETERS,
        means=("schema", "tool", "prompt"),
        schema_style="bare",
        open_schemas=False,
        inputs=("text", "image", "file"),
        file_addresses=True,
        counts_tokens=True,
        endings=(Ending("/messages"), Ending("/messages/count_tokens", "count"), Ending("/models", "models")),
    )

    def encode_chat(self, request: Request) -> Outgoing:
        system, remaining = system_parts(request.messages)
        body: dict[str, Any] = {
            "model": request.model,
            "max_tokens": _USUAL_CAP,
            "messages": [{"role": role, "content": blocks} for role, blocks in by_role(remaining, blocks_of)],
        }
        if any(part.mark is not None for part in system):
            body["system"] = [_block(part) for part in system]
        elif system:
            body["system"] = "\n\n".join([part.text for part in system])
        self.abilities.write(body, request.parameters)
        if "tools" not in body and (names := functions_called(request.messages)):
            # A conversation that has called tools has to describe them still.
            body["tools"] = [{"name": name, "input_schema": {"type": "object"}} for name in names]
            body["tool_choice"] = {"type": "none"}
        if request.stream:
            body["stream"] = True
        body.update(request.extra)
        return Outgoing("chat", "/messages", body, accept="text/event-stream" if request.stream else "application/json")

    def encode_count(self, request: Request) -> Outgoing:
        body = self.encode_chat(request).body or {}
        counted = ("model", "messages", "system", "tools", "tool_choice", "thinking")
        return Outgoing("count", "/messages/count_tokens", {name: body[name] for name in counted if name in body})

    def decode_count(self, body: bytes) -> int | Fault:
        reply = read_reply(body, _Count, "the token count")
        if reply.input_tokens is None:
            if reply.error is not None:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but has no `input_tokens`")
        return reply.input_tokens

    def decode_chat(self, body: bytes) -> Completion | Fault:
        reply = read_reply(body, ReplyFields, "the reply")
        if reply.type == "error" or (reply.error is not None and reply.content is None):
            return self.classify(200, {}, body)
        if reply.content is None:
            raise ReplyUnreadable("the reply is JSON, but no message: it has no `content`")
        choice = choice_of(reply.content, reply.stop_reason)
        if not all(block.is_plain for block in reply.content):
            choice = replace(choice, provider_turn=turn_of(any_json(body)["content"]))
        usage = usage_of(reply.usage) if reply.usage is not None else None
        return Completion((choice,), reply.model, reply.id, usage)

    def stream_decoder(self) -> StreamDecoder:
        from .stream import MessagesStream

        return MessagesStream(self.classify)

    def pasted_system(self, body: dict[str, Any]) -> str:
        return joined_text(body.get("system"))

    def deferred_batches(self) -> "DeferredBatches":
        from ..shared.provider_batches import MessageBatches

        return MessageBatches()

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from ..shared.error_mapping import classify

        return classify(status, headers, body, _CODES)


def blocks_of(message: Message) -> list[dict[str, Json]]:
    """The blocks of a message."""
    own_content = own_blocks(message, "messages", meaning, blocks_of)
    if own_content is not None:
        return [block for block in own_content if not _is_blank(block)]
    blocks = [_block(part) for part in parts_of(message) if not (isinstance(part, TextPart) and not part.text.strip())]
    if message.role == "tool":
        result = {"type": "tool_result", "tool_use_id": allowed_id(message.tool_call_id), "content": blocks}
        return [{**result, "is_error": True} if message.is_error else result]
    return blocks + [
        {
            "type": "tool_use",
            "id": allowed_id(call.id),
            "name": call.function.name,
            "input": arguments_of(call),
        }
        for call in message.tool_calls
    ]


def _is_blank(block: Json) -> bool:
    return isinstance(block, dict) and block.get("type") == "text" and not str(block.get("text") or "").strip()


def _block(part: Part) -> dict[str, Json]:
    block: dict[str, Json]
    if isinstance(part, TextPart):
        block = {"type": "text", "text": part.text}
    elif isinstance(part, ImagePart):
        block = {"type": "image", "source": _source(part)}
    elif isinstance(part, FilePart) and not part.id:
        if (text := part.text) is not None:
            source: dict[str, Json] = {"type": "text", "media_type": "text/plain", "data": text}
        elif part.data and part.media_type != "application/pdf":
            raise cannot_take("messages", part)
        else:
            source = _source(part)
        block = {"type": "document", "source": source, **({"title": part.name} if part.name else {})}
    else:
        raise cannot_take("messages", part)
    return block if part.mark is None else {**block, MARK: part.mark}


def _source(part: ImagePart | FilePart) -> dict[str, Json]:
    if part.address:
        return {"type": "url", "url": part.address}
    return {"type": "base64", "media_type": part.media_type, "data": part.data}


def _tool(tool: Mapping[str, Any]) -> dict[str, Json]:
    if not is_function(tool):
        return dict(tool)
    function = function_of(tool)
    body = {"name": function.get("name"), "input_schema": function.get("parameters") or {"type": "object"}}
    if function.get("description"):
        body["description"] = function["description"]
    if function.get("strict") is not None:
        body["strict"] = function["strict"]
    if (mark := mark_of(tool)) is not None:
        body[MARK] = mark
    return body


def _tool_choice(parameters: Mapping[str, Json]) -> dict[str, Json] | None:
    choice = parameters.get("tool_choice")
    parallel = parameters.get("parallel_tool_calls")
    if choice is None and parallel is None:
        return None
    if isinstance(choice, dict):
        name = chosen_function(choice)
        if name is None and choice.get("type") not in ("auto", "any", "none"):
            raise no_tool_choice("messages", choice)
        body: dict[str, Json] = {"type": "tool", "name": name} if name else dict(choice)
    else:
        body = {"type": {"required": "any", "none": "none"}.get(choice or "auto", "auto")}
    if parallel is False and body["type"] != "none":
        body["disable_parallel_tool_use"] = True
    return body
