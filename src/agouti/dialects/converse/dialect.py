"""The dialect marked by ``POST {base}/model/{model}/converse``: blocks without types, streams of binary frames."""

import re
from base64 import b64encode
from collections.abc import Mapping
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ...core.canonical.chat import Completion, Json, Message, Request
from ...core.canonical.usage import Usage
from ...core.canonical.vectors import Vectors, VectorsRequest
from ...core.errors import (
    AgoutiError,
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
from ...core.messages.parts import FilePart, ImagePart, Part, TextPart, cannot_take, parts_of
from ...core.messages.tool_json import function_of, is_function
from ..base import (
    Abilities,
    Dialect,
    Field,
    StreamDecoder,
    VectorAbility,
    Write,
    as_list,
    as_written,
    chosen_function,
    extra_table,
    in_common,
    joined_text,
    mark_of,
    no_tool_choice,
)
from ..shared.error_mapping import classify
from ..shared.stream_decoding import read_reply
from ..wire import Fault, Outgoing
from .fields import ERROR_TYPE, FINISH, BlockFields, UsageFields, choice_of, meaning, turn_of

_CONFIG = "inferenceConfig"
_FORMATS = {"image/png": "png", "image/jpeg": "jpeg", "image/gif": "gif", "image/webp": "webp"}
_DOCUMENTS = {
    "application/pdf": "pdf",
    "text/plain": "txt",
    "text/markdown": "md",
    "text/html": "html",
    "text/csv": "csv",
    "application/msword": "doc",
    "application/vnd.openxmlformats-officedocument.wordprocessingml.document": "docx",
    "application/vnd.ms-excel": "xls",
    "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet": "xlsx",
}
_NOT_ALLOWED = re.compile(r"[^A-Za-z0-9 \-()\[\]]+|\s{2,}")
_CODES: dict[str, type[AgoutiError]] = {
    "AccessDeniedException": NoAccess,
    "ResourceNotFoundException": ModelUnknown,
    "ThrottlingException": RateLimited,
    "ServiceQuotaExceededException": RateLimited,
    "ModelNotReadyException": Overloaded,
    "ServiceUnavailableException": Overloaded,
    "ModelTimeoutException": ProviderFault,
    "ModelErrorException": ProviderFault,
    "ModelStreamErrorException": ProviderFault,
    "InternalServerException": ProviderFault,
    "UnrecognizedClientException": CredentialRefused,
    "InvalidSignatureException": CredentialRefused,
    "MissingAuthenticationTokenException": CredentialRefused,
    "ExpiredTokenException": CredentialRefused,
}


class _Message(Struct):
    content: list[BlockFields] | None = None


class _Output(Struct):
    message: _Message | None = None


class _Reply(Struct, rename="camel"):
    output: _Output | None = None
    stop_reason: str | None = None
    usage: UsageFields | None = None


class _Embedding(Struct, rename="camel"):
    embedding: list[float] | None = None
    input_text_token_count: int | None = None


def _tools(body: dict[str, Any], tools: list[Mapping[str, Any]], parameters: Mapping[str, Json]) -> None:
    choice = parameters.get("tool_choice")
    if not tools or (choice == "none" and not _called(body["messages"])):
        return
    if choice == "none":
        raise ParameterUnsupported(
            "dialect converse cannot forbid tools in a conversation that has called some",
            parameter="tool_choice",
            hint='Leave tool_choice = "none" out and say it in the prompt.',
        )
    config: dict[str, Json] = {"tools": [block for tool in tools for block in _tool(tool)]}
    if isinstance(choice, Mapping):
        if (name := chosen_function(choice)) is None:
            raise no_tool_choice("converse", choice)
        config["toolChoice"] = {"tool": {"name": name}}
    elif choice is not None:
        config["toolChoice"] = {"any": {}} if choice == "required" else {"auto": {}}
    body["toolConfig"] = config


def _called(messages: list[dict[str, Any]]) -> bool:
    return any("toolUse" in block or "toolResult" in block for message in messages for block in message["content"])


def _tool(tool: Mapping[str, Any]) -> list[dict[str, Json]]:
    if not is_function(tool):
        return [dict(tool)]
    function = function_of(tool)
    spec: dict[str, Json] = {
        "name": function.get("name"),
        "inputSchema": {"json": function.get("parameters") or {"type": "object"}},
    }
    if function.get("description"):
        spec["description"] = function["description"]
    return [{"toolSpec": spec}, *_cache_point(mark_of(tool))]


def _cache_point(mark: Json) -> list[dict[str, Json]]:
    """The block that a prompt-cache mark is in this format: behind what it marks."""
    return [] if mark is None else [{"cachePoint": {"type": "default"}}]


_PARAMETERS: dict[str, Write] = {
    "max_tokens": Field(f"{_CONFIG}/maxTokens"),
    "temperature": Field(f"{_CONFIG}/temperature"),
    "top_p": Field(f"{_CONFIG}/topP"),
    "stop": Field(f"{_CONFIG}/stopSequences", as_list),
    "metadata": Field("requestMetadata"),
    "service_tier": Field("serviceTier", lambda tier: {"type": tier}),
    "tools": _tools,
    "tool_choice": as_written,
}


class ConverseDialect(Dialect):
    """See the module."""

    name = "converse"
    abilities = Abilities(
        parameters=_PARAMETERS,
        means=("tool", "prompt"),
        schema_style="inlined",
        inputs=("text", "image", "file"),
        image_addresses=False,
        vectors=VectorAbility(max_texts=1),
        endings=(Ending(r"/model/(?P<model>[^/]+)/(?:converse|converse-stream|invoke)"),),
    )

    def encode_chat(self, request: Request) -> Outgoing:
        system, remaining = system_parts(request.messages)
        body: dict[str, Any] = {
            "messages": [{"role": role, "content": blocks} for role, blocks in by_role(remaining, _blocks)]
        }
        if system:
            body["system"] = [block for part in system for block in ({"text": part.text}, *_cache_point(part.mark))]
        self.abilities.write(body, request.parameters)
        if "toolConfig" not in body and (names := functions_called(request.messages)):
            # A conversation that has called tools has to describe them still.
            body["toolConfig"] = {"tools": [tool for name in names for tool in _tool({"name": name})]}
        extra = dict(request.extra)
        if _CONFIG in extra:
            body[_CONFIG] = {**body.get(_CONFIG, {}), **extra_table(extra, _CONFIG)}
        body.update(extra)
        if request.stream:
            return Outgoing(
                "stream", "/model/{model}/converse-stream", body, accept="application/vnd.amazon.eventstream"
            )
        return Outgoing("chat", "/model/{model}/converse", body)

    def decode_chat(self, body: bytes) -> Completion | Fault:
        reply = read_reply(body, _Reply, "the reply")
        if reply.output is None:
            raise ReplyUnreadable("the reply is JSON, but has no `output`")
        blocks = (reply.output.message.content if reply.output.message is not None else None) or []
        provider_turn = None
        if not all(block.is_plain for block in blocks):
            provider_turn = turn_of(any_json(body)["output"]["message"]["content"])
        choice = replace(
            choice_of(blocks), finish_reason=in_common(FINISH, reply.stop_reason), provider_turn=provider_turn
        )
        return Completion((choice,), None, None, reply.usage.usage() if reply.usage is not None else None)

    def stream_decoder(self) -> StreamDecoder:
        from .stream import ConverseStream

        return ConverseStream(self.classify)

    def pasted_system(self, body: dict[str, Any]) -> str:
        return joined_text(body.get("system"))

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        fault = classify(status, headers, body, _CODES)
        kind = _CODES.get(headers.get(ERROR_TYPE, "").partition(":")[0])
        if kind is None or fault.kind is CredentialRefused:  # a token that has expired is told as denied access
            return fault
        return replace(fault, kind=kind, parameter=None)

    def encode_vectors(self, request: VectorsRequest) -> Outgoing:
        body: dict[str, Any] = {"inputText": request.texts[0]}
        if request.dimensions is not None:
            body["dimensions"] = request.dimensions
        return Outgoing("embeddings", "/model/{model}/invoke", {**body, **request.extra})

    def decode_vectors(self, body: bytes) -> Vectors | Fault:
        reply = read_reply(body, _Embedding, "the reply")
        if reply.embedding is None:
            raise ReplyUnreadable("the reply is JSON, but has no `embedding`")
        count = reply.input_text_token_count
        return Vectors([reply.embedding], None, None if count is None else Usage(count, 0, count))


def _blocks(message: Message) -> list[dict[str, Json]]:
    own_content = own_blocks(message, "converse", meaning, _blocks)
    if own_content is not None:
        return [block for block in own_content if not _is_blank(block)]
    if message.role == "tool":
        content = _content(message) or [{"text": "(empty)"}]
        status = "error" if message.is_error else "success"
        return [{"toolResult": {"toolUseId": allowed_id(message.tool_call_id), "content": content, "status": status}}]
    return _content(message) + [
        {"toolUse": {"toolUseId": allowed_id(call.id), "name": call.function.name, "input": arguments_of(call)}}
        for call in message.tool_calls
    ]


def _is_blank(block: Json) -> bool:
    return isinstance(block, dict) and isinstance(block.get("text"), str) and not block["text"].strip()


def _content(message: Message) -> list[dict[str, Json]]:
    blocks: list[dict[str, Json]] = []
    for number, part in enumerate(parts_of(message)):
        if not isinstance(part, TextPart):
            blocks.append(_media(part, number))
        elif part.text.strip():
            blocks.append({"text": part.text})
        blocks += _cache_point(part.mark)
    return blocks


def _media(part: Part, number: int) -> dict[str, Json]:
    if isinstance(part, FilePart) and part.data:
        if part.media_type not in _DOCUMENTS:
            if (text := part.text) is None:
                raise cannot_take("converse", part)
            part = replace(part, media_type="text/plain", data=b64encode(text.encode()).decode())
        # Names are demanded, and of few characters.
        name = _NOT_ALLOWED.sub(" ", part.name.rpartition(".")[0] or part.name).strip() or f"file {number + 1}"
        return {"document": {"format": _DOCUMENTS[part.media_type], "name": name, "source": {"bytes": part.data}}}
    if not isinstance(part, ImagePart):
        raise cannot_take("converse", part)
    if not part.data:
        raise RequestError(
            "dialect converse takes images only as data, not by their address",
            hint="Pass the image itself (a path or its bytes), or allow that it is fetched: fetch_images=True.",
        )
    if part.media_type not in _FORMATS:
        raise RequestError(
            f"dialect converse takes no images of type {part.media_type}",
            hint=f"It takes {', '.join(_FORMATS)}.",
        )
    return {"image": {"format": _FORMATS[part.media_type], "source": {"bytes": part.data}}}
