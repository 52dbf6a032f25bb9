"""The dialect marked by ``POST {base}/models/{model}:generateContent``: contents in parts, one object of settings."""

from collections.abc import Mapping, Set
from typing import Any
from urllib.parse import urlencode

from msgspec import Struct
from msgspec.structs import replace

from ...core.canonical.chat import Choice, Completion, Json, Message, Request
from ...core.canonical.structured import MEANS
from ...core.canonical.vectors import Vectors, VectorsRequest
from ...core.errors import (
    CredentialRefused,
    ModelUnknown,
    NoAccess,
    Overloaded,
    ParameterUnsupported,
    ProviderFault,
    RateLimited,
    ReplyUnreadable,
)
from ...core.http.address import Ending, in_path
from ...core.json.lenient import any_json
from ...core.messages.call_pairs import named_results
from ...core.messages.messages import arguments_of, by_role, own_blocks, system_and_rest
from ...core.messages.parts import AudioPart, FilePart, ImagePart, Part, TextPart, cannot_take, parts_of, text_of
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
    joined_text,
    no_response_format,
    no_tool_choice,
)
from ..shared.stream_decoding import read_reply, rows_of
from ..wire import Fault, ListedModel, Outgoing
from .fields import CandidateFields, ReplyFields, meaning, texts_of, turn_of

# Tokens of thinking; -1 leaves them to the model.
_THINKING = {"none": 0, "minimal": 512, "low": 1024, "medium": 8192, "high": 24576, "adaptive": -1}
CODES = {
    "UNAUTHENTICATED": CredentialRefused,
    "PERMISSION_DENIED": NoAccess,
    "NOT_FOUND": ModelUnknown,
    "RESOURCE_EXHAUSTED": RateLimited,
    "UNAVAILABLE": Overloaded,
    "DEADLINE_EXCEEDED": ProviderFault,
    "INTERNAL": ProviderFault,
}
_MEDIA = {
    "png": "image/png",
    "jpg": "image/jpeg",
    "jpeg": "image/jpeg",
    "webp": "image/webp",
    "gif": "image/gif",
    "pdf": "application/pdf",
    "txt": "text/plain",
}


class _Count(Struct, rename="camel"):
    total_tokens: int | None = None
    error: Any = None


class _Listed(Struct, rename="camel"):
    name: str | None = None
    input_token_limit: int | None = None


class _List(Struct, rename="camel"):
    models: list[Json]
    next_page_token: str | None = None


class _Values(Struct, gc=False):
    values: list[float] | None = None


class _VectorsReply(Struct):
    embedding: _Values | None = None
    embeddings: list[_Values] | None = None


def _effort(body: dict[str, Any], effort: str, parameters: Mapping[str, Json]) -> None:
    budget = _THINKING.get(effort)
    if budget is None:
        raise ParameterUnsupported(
            f"dialect contents has no reasoning_effort {effort!r}",
            parameter="reasoning_effort",
            hint=f"It takes {', '.join(_THINKING)}; reasoning_budget takes a number of tokens.",
        )
    if "reasoning_budget" not in parameters:
        _budget(body, budget, parameters)


def _budget(body: dict[str, Any], budget: int, _: Mapping[str, Json]) -> None:
    config = body.setdefault("generationConfig", {})
    config["thinkingConfig"] = {"thinkingBudget": budget, "includeThoughts": budget != 0}


def _voice(audio: Mapping[str, Any]) -> dict[str, Json]:
    return {"voiceConfig": {"prebuiltVoiceConfig": {"voiceName": audio.get("voice")}}}


def _tools(body: dict[str, Any], tools: list[Mapping[str, Any]], parameters: Mapping[str, Json]) -> None:
    if not tools:
        return
    functions = [_tool(tool) for tool in tools if is_function(tool)]
    further_tools = [dict(tool) for tool in tools if not is_function(tool)]
    body["tools"] = [{"functionDeclarations": functions}, *further_tools] if functions else further_tools
    if "tool_choice" in parameters:
        body["toolConfig"] = {"functionCallingConfig": _tool_mode(parameters["tool_choice"])}


_FUNCTION = {"name": "name", "description": "description", "parameters": "parametersJsonSchema"}


def _tool(tool: Mapping[str, Any]) -> dict[str, Json]:
    function = function_of(tool)
    return {wire_name: function[own_name] for own_name, wire_name in _FUNCTION.items() if function.get(own_name)}


def _tool_mode(choice: str | Mapping[str, Any]) -> dict[str, Json]:
    if isinstance(choice, str):
        return {"mode": {"required": "ANY", "none": "NONE"}.get(choice, "AUTO")}
    allowed = choice.get("allowed_tools")
    if isinstance(allowed, Mapping) and allowed.get("mode") == "required":
        names = [function_of(tool).get("name") for tool in allowed.get("tools") or ()]
    elif (name := chosen_function(choice)) is not None:
        names = [name]
    else:
        raise no_tool_choice("contents", choice)
    return {"mode": "ANY", "allowedFunctionNames": names}


def _format(body: dict[str, Any], form: Mapping[str, Any], _: Mapping[str, Json]) -> None:
    kind = form.get("type")
    if kind == "text":
        return
    if kind not in ("json_object", "json_schema"):
        raise no_response_format("contents", kind)
    config = body.setdefault("generationConfig", {})
    config["responseMimeType"] = "application/json"
    if kind == "json_schema":
        config["responseJsonSchema"] = form.get("json_schema", {}).get("schema")


_PARAMETERS: dict[str, Write] = {
    "temperature": Field("generationConfig/temperature"),
    "top_p": Field("generationConfig/topP"),
    "max_tokens": Field("generationConfig/maxOutputTokens"),
    "n": Field("generationConfig/candidateCount"),
    "seed": Field("generationConfig/seed"),
    "presence_penalty": Field("generationConfig/presencePenalty"),
    "frequency_penalty": Field("generationConfig/frequencyPenalty"),
    "logprobs": Field("generationConfig/responseLogprobs"),
    "top_logprobs": Field("generationConfig/logprobs"),
    "stop": Field("generationConfig/stopSequences", as_list),
    "top_k": Field("generationConfig/topK"),
    "reasoning_effort": _effort,
    "reasoning_budget": _budget,
    "modalities": Field("generationConfig/responseModalities", lambda kinds: [str(kind).upper() for kind in kinds]),
    "audio": Field("generationConfig/speechConfig", _voice),
    "response_format": _format,
    "tools": _tools,
    "tool_choice": as_written,
}
_COLLECTION = "models/"
_OPERATION = "(?:generateContent|embedContent|batchEmbedContents)"


_CONFIGS = ("generationConfig", "generation_config")


class ContentsDialect(Dialect):
    """See the module."""

    name = "contents"
    abilities = Abilities(
        parameters=_PARAMETERS,
        means=MEANS,
        inputs=("text", "image", "file", "audio"),
        file_addresses=True,
        vectors=VectorAbility(max_texts=100),
        # The format takes its names in either spelling.
        caps=tuple([f"/{table}/{name}" for table in _CONFIGS for name in ("maxOutputTokens", "max_output_tokens")]),
        answers=tuple([f"/{table}/{name}" for table in _CONFIGS for name in ("candidateCount", "candidate_count")]),
        counts_tokens=True,
        streams_json=True,
        endings=(
            Ending(rf"/(?P<model>(?:models|tunedModels)/[^/:]+):{_OPERATION}"),
            Ending(r"/(?P<model>(?:models|tunedModels)/[^/:]+):streamGenerateContent", drops=("alt",)),
            Ending(r"/(?P<model>(?:models|tunedModels)/[^/:]+):countTokens", "count"),
            Ending("/models", "models"),
        ),
        model_prefix=_COLLECTION,
    )

    def encode_chat(self, request: Request) -> Outgoing:
        body = self._body(request)
        path = f"/{in_path(_collected(request.model))}"
        if request.stream:
            return Outgoing("stream", f"{path}:streamGenerateContent?alt=sse", body, accept="text/event-stream")
        return Outgoing("chat", f"{path}:generateContent", body)

    def _body(self, request: Request) -> dict[str, Any]:
        system, content_messages = system_and_rest(request.messages)
        body: dict[str, Any] = {"contents": _contents(content_messages)}
        if system:
            body["systemInstruction"] = {"parts": [{"text": system}]}
        self.abilities.write(body, request.parameters)
        extra = dict(request.extra)
        if "generationConfig" in extra:
            body["generationConfig"] = {**body.get("generationConfig", {}), **extra_table(extra, "generationConfig")}
        body.update(extra)
        return body

    def encode_count(self, request: Request) -> Outgoing:
        body = self._body(request)
        path = f"/{in_path(_collected(request.model))}:countTokens"
        if body.keys() == {"contents"}:
            return Outgoing("count", path, body)
        # System text and tools are counted only as a part of the whole request.
        return Outgoing("count", path, {"generateContentRequest": {"model": _collected(request.model), **body}})

    def decode_count(self, body: bytes) -> int | Fault:
        reply = read_reply(body, _Count, "the token count")
        if reply.total_tokens is None:
            if reply.error is not None:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but has no `totalTokens`")
        return reply.total_tokens

    def decode_chat(self, body: bytes) -> Completion | Fault:
        reply = read_reply(body, ReplyFields, "the reply")
        if reply.candidates is None and reply.error:
            return self.classify(200, {}, body)
        if (reason := reply.block_reason) is not None:
            from .stream import refused

            return refused(reason)
        if not reply.candidates:
            raise ReplyUnreadable("the reply is JSON, but has no answer in `candidates`")
        raw = [] if reply.is_plain else any_json(body)["candidates"]
        choices = [_choice(each, raw[number : number + 1]) for number, each in enumerate(reply.candidates)]
        usage = reply.usage_metadata.usage() if reply.usage_metadata is not None else None
        return Completion(tuple(choices), reply.model_version, reply.response_id, usage)

    def stream_decoder(self) -> StreamDecoder:
        from .stream import ContentsStream

        return ContentsStream(self.classify)

    def pasted_system(self, body: dict[str, Any]) -> str:
        content = body.get("systemInstruction") or body.get("system_instruction")
        return joined_text(content.get("parts")) if isinstance(content, dict) else ""

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from ..shared.error_mapping import classify

        return classify(status, headers, body, CODES)

    def encode_models(self) -> Outgoing:
        return Outgoing("models", "/models", method="GET")

    def encode_vectors(self, request: VectorsRequest) -> Outgoing:
        requests: list[dict[str, Any]] = []
        for text in request.texts:
            each: dict[str, Any] = {"content": {"parts": [{"text": text}]}}
            if request.dimensions is not None:
                each["outputDimensionality"] = request.dimensions
            requests.append({**each, **request.extra})
        path = f"/{in_path(_collected(request.model))}"
        if len(requests) == 1:
            return Outgoing("embeddings", f"{path}:embedContent", requests[0])
        named = [{"model": _collected(request.model), **each} for each in requests]
        return Outgoing("embeddings_batch", f"{path}:batchEmbedContents", {"requests": named})

    def decode_vectors(self, body: bytes) -> Vectors | Fault:
        reply = read_reply(body, _VectorsReply, "the reply")
        vectors = reply.embeddings if reply.embedding is None else [reply.embedding]
        if vectors is None or any(each.values is None for each in vectors):
            raise ReplyUnreadable("the reply is JSON, but not one with vectors: it has no `embeddings`")
        return Vectors([each.values for each in vectors if each.values is not None])

    def encode_more_models(self, body: bytes) -> Outgoing | None:
        token = read_reply(body, _List, "the list of models").next_page_token
        return Outgoing("models", "/models", method="GET", query=urlencode({"pageToken": token})) if token else None

    def decode_models(self, body: bytes) -> tuple[ListedModel, ...]:
        named = [each for each in rows_of(read_reply(body, _List, "the list of models").models, _Listed) if each.name]
        collections = [(each.name or "").removeprefix(_COLLECTION) for each in named]
        return tuple(
            [
                ListedModel(name=name, context=each.input_token_limit)
                for name, each in zip(collections, named, strict=True)
            ]
        )


def _collected(model: str) -> str:
    """The model with its collection: a prefix that is there stays, tuned models have one of their own."""
    return model if "/" in model else _COLLECTION + model


def _contents(messages: list[Message]) -> list[dict[str, Json]]:
    # An identifier goes back only where the provider gave it, and then stands in a turn of its own: some refuse others.
    call_ids = {
        call.id
        for message in messages
        if (provider_turn := message.provider_turn) is not None and provider_turn.dialect == "contents"
        for call in meaning(provider_turn.blocks).tool_calls
    }
    grouped = by_role(named_results(messages), lambda message: _parts(message, call_ids), assistant="model")
    return [{"role": role, "parts": parts} for role, parts in grouped]


def _parts(message: Message, call_ids: Set[str | None]) -> list[dict[str, Json]]:
    own_content = own_blocks(message, "contents", meaning, lambda content_messages: _parts(content_messages, call_ids))
    if own_content is not None:
        return own_content
    parts: list[dict[str, Json]] = []
    if message.role == "tool":
        result = {"error" if message.is_error else "result": text_of(message)}
        response: dict[str, Json] = {"name": message.name or "", "response": result}
        if message.tool_call_id in call_ids and message.tool_call_id:
            response["id"] = message.tool_call_id
        parts.append({"functionResponse": response})
    for part in parts_of(message):
        if not isinstance(part, TextPart):
            parts.append(_media(part))
        elif message.role != "tool":
            parts.append({"text": part.text})
    calls = [{"name": call.function.name, "args": arguments_of(call)} for call in message.tool_calls]
    return parts + [{"functionCall": call} for call in calls]


def _media(part: Part) -> dict[str, Json]:
    if isinstance(part, TextPart) or (isinstance(part, FilePart) and part.id):
        raise cannot_take("contents", part)
    if part.data:
        return {"inlineData": {"mimeType": part.media_type, "data": part.data}}
    address = "" if isinstance(part, AudioPart) else part.address
    default_type = "image/jpeg" if isinstance(part, ImagePart) else "application/pdf"
    suffix = address.partition("?")[0].rpartition(".")[2].lower()
    return {"fileData": {"mimeType": _MEDIA.get(suffix, default_type), "fileUri": address}}


def _choice(candidate: CandidateFields, raw: list[Any]) -> Choice:
    choice = texts_of(candidate.parts)
    collections = all(part.is_plain for part in candidate.parts)
    return replace(
        choice,
        finish_reason=candidate.finish(called=bool(choice.tool_calls)),
        citations=candidate.citations(),
        safety=candidate.safety(),
        logprobs=candidate.logprobs(),
        provider_turn=None if collections or not raw else turn_of(raw[0]["content"]["parts"]),
    )
