"""The dialect marked by ``POST {base}/models/{model}:generateContent``: contents in parts, one object of settings."""

import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote, urlencode

import msgspec
from msgspec import Struct

from ..core.address import Ending
from ..core.call_pairs import named_results
from ..core.chat import Choice, Citation, Completion, Json, Message, Request, SafetyNote, ToolCall, ToolFunction
from ..core.errors import (
    ContentRefused,
    CredentialRefused,
    ModelUnknown,
    NoAccess,
    Overloaded,
    ParameterUnsupported,
    ProviderFault,
    RateLimited,
    ReplyUnreadable,
    RequestRefused,
)
from ..core.events import Cited, Event, Finished, Reasoning, SafetyTold, Started, Text, ToolCallPiece, UsageTold
from ..core.framing_array import ArraySplitter
from ..core.framing_sse import SseDecoder
from ..core.messages import ImagePart, arguments_of, by_role, parts_of, system_and_rest, text_of
from ..core.structured import MEANS
from ..core.usage import Usage
from ..core.vectors import Vectors, VectorsRequest
from .base import (
    Abilities,
    Dialect,
    Fault,
    Field,
    ListedModel,
    Outgoing,
    StreamDecoder,
    VectorAbility,
    Write,
    as_list,
    as_written,
    chosen_function,
    function_of,
    in_common,
    is_function,
    no_response_format,
)
from .streams import PayloadStream, read_reply

_THINKING = {"none": 0, "minimal": 512, "low": 1024, "medium": 8192, "high": 24576}
_FINISH = {
    "STOP": "stop",
    "MAX_TOKENS": "length",
    "SAFETY": "content_filter",
    "RECITATION": "content_filter",
    "BLOCKLIST": "content_filter",
    "PROHIBITED_CONTENT": "content_filter",
    "SPII": "content_filter",
    "MALFORMED_FUNCTION_CALL": "error",
    "OTHER": "error",
}
CODES = {
    "UNAUTHENTICATED": CredentialRefused,
    "PERMISSION_DENIED": NoAccess,
    "NOT_FOUND": ModelUnknown,
    "RESOURCE_EXHAUSTED": RateLimited,
    "UNAVAILABLE": Overloaded,
    "DEADLINE_EXCEEDED": ProviderFault,
    "INTERNAL": ProviderFault,
    "FAILED_PRECONDITION": RequestRefused,
}
_MADE_UP = re.compile(r"call(_\d+){1,2}")
_MEDIA = {"png": "image/png", "jpg": "image/jpeg", "jpeg": "image/jpeg", "webp": "image/webp", "gif": "image/gif"}


class _FunctionCall(Struct):
    id: str | None = None
    name: str | None = None
    args: Any = None


class _Part(Struct, rename="camel"):
    text: str | None = None
    thought: bool | None = None
    function_call: _FunctionCall | None = None


class _Content(Struct):
    parts: list[_Part] | None = None


class _Source(Struct, rename="camel"):
    uri: str | None = None
    title: str | None = None
    start_index: int | None = None
    end_index: int | None = None


class _Sources(Struct, rename="camel"):
    citation_sources: list[_Source] | None = None
    citations: list[_Source] | None = None


class _Rating(Struct):
    category: str | None = None
    probability: str | None = None
    blocked: bool | None = None


class _Candidate(Struct, rename="camel"):
    content: _Content | None = None
    finish_reason: str | None = None
    index: int | None = None
    citation_metadata: _Sources | None = None
    safety_ratings: list[_Rating] | None = None


class _Usage(Struct, rename="camel", gc=False):
    prompt_token_count: int | None = None
    candidates_token_count: int | None = None
    thoughts_token_count: int | None = None
    cached_content_token_count: int | None = None
    tool_use_prompt_token_count: int | None = None
    total_token_count: int | None = None


class _Feedback(Struct, rename="camel"):
    block_reason: str | None = None


class _Reply(Struct, rename="camel"):
    """A whole reply, and each part of a streamed one."""

    candidates: list[_Candidate] | None = None
    prompt_feedback: _Feedback | None = None
    usage_metadata: _Usage | None = None
    model_version: str | None = None
    response_id: str | None = None
    error: Any = None


class _Count(Struct, rename="camel"):
    total_tokens: int | None = None
    error: Any = None


class _Listed(Struct, rename="camel"):
    name: str | None = None
    input_token_limit: int | None = None


class _List(Struct, rename="camel"):
    models: list[_Listed]
    next_page_token: str | None = None


class _Values(Struct, gc=False):
    values: list[float] | None = None


class _VectorsReply(Struct):
    embedding: _Values | None = None
    embeddings: list[_Values] | None = None


_REPLY = msgspec.json.Decoder(_Reply)
_encode = msgspec.json.Encoder().encode


def _thinking(body: dict[str, Any], effort: str, _: Mapping[str, Json]) -> None:
    budget = _THINKING.get(effort)
    if budget is None:
        raise ParameterUnsupported(
            f"dialect contents has no reasoning_effort {effort!r}",
            parameter="reasoning_effort",
            hint=f"It takes {', '.join(_THINKING)}.",
        )
    config = body.setdefault("generationConfig", {})
    config["thinkingConfig"] = {"thinkingBudget": budget, "includeThoughts": budget > 0}


def _tools(body: dict[str, Any], tools: list[Mapping[str, Any]], parameters: Mapping[str, Json]) -> None:
    if not tools:
        return
    functions = [_tool(tool) for tool in tools if is_function(tool)]
    others = [dict(tool) for tool in tools if not is_function(tool)]
    body["tools"] = [{"functionDeclarations": functions}, *others] if functions else others
    if "tool_choice" in parameters:
        body["toolConfig"] = {"functionCallingConfig": _choice(parameters["tool_choice"])}


_FUNCTION = {"name": "name", "description": "description", "parameters": "parametersJsonSchema"}


def _tool(tool: Mapping[str, Any]) -> dict[str, Json]:
    function = function_of(tool)
    return {theirs: function[ours] for ours, theirs in _FUNCTION.items() if function.get(ours)}


def _choice(choice: str | Mapping[str, Any]) -> dict[str, Json]:
    if isinstance(choice, Mapping):
        return {"mode": "ANY", "allowedFunctionNames": [chosen_function(choice)]}
    return {"mode": {"required": "ANY", "none": "NONE"}.get(choice, "AUTO")}


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
    "reasoning_effort": _thinking,
    "response_format": _format,
    "tools": _tools,
    "tool_choice": as_written,
}
_COLLECTION = "models/"
_OPERATION = "(?:generateContent|embedContent|batchEmbedContents)"


class ContentsDialect(Dialect):
    """See the module."""

    name = "contents"
    abilities = Abilities(
        parameters=_PARAMETERS,
        means=MEANS,
        vectors=VectorAbility(max_texts=100),
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
        path = f"/{quote(_collected(request.model), safe='/')}"
        if request.stream:
            return Outgoing("stream", f"{path}:streamGenerateContent?alt=sse", body, accept="text/event-stream")
        return Outgoing("chat", f"{path}:generateContent", body)

    def _body(self, request: Request) -> dict[str, Any]:
        system, rest = system_and_rest(request.messages)
        body: dict[str, Any] = {"contents": _contents(rest)}
        if system:
            body["systemInstruction"] = {"parts": [{"text": system}]}
        self.abilities.write(body, request.parameters)
        extra = dict(request.extra)
        if "generationConfig" in extra:
            body["generationConfig"] = {**body.get("generationConfig", {}), **extra.pop("generationConfig")}
        body.update(extra)
        return body

    def encode_count(self, request: Request) -> Outgoing:
        body = self._body(request)
        path = f"/{quote(_collected(request.model), safe='/')}:countTokens"
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
        reply = read_reply(body, _Reply, "the reply")
        if reply.candidates is None and reply.error is not None:
            return self.classify(200, {}, body)
        if (blocked := _blocked(reply)) is not None:
            return blocked
        if reply.candidates is None:
            raise ReplyUnreadable("the reply is JSON, but has no `candidates`")
        choices = tuple([_as_choice(candidate) for candidate in reply.candidates])
        usage = _usage(reply.usage_metadata) if reply.usage_metadata is not None else None
        return Completion(choices, reply.model_version, reply.response_id, usage)

    def stream_decoder(self) -> StreamDecoder:
        return _ContentsStream(self)

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from .faults import classify

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
        path = f"/{quote(_collected(request.model), safe='/')}"
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
        named = [each for each in read_reply(body, _List, "the list of models").models if each.name]
        plain = [(each.name or "").removeprefix(_COLLECTION) for each in named]
        return tuple(
            [ListedModel(name=name, context=each.input_token_limit) for name, each in zip(plain, named, strict=True)]
        )


def _collected(model: str) -> str:
    """The model with its collection: a prefix that is there stays, tuned models have one of their own."""
    return model if "/" in model else _COLLECTION + model


def _contents(messages: list[Message]) -> list[dict[str, Json]]:
    turns = by_role(named_results(messages), _parts, assistant="model")
    return [{"role": role, "parts": parts} for role, parts in turns]


def _parts(message: Message) -> list[dict[str, Json]]:
    parts: list[dict[str, Json]] = []
    if message.role == "tool":
        response: dict[str, Json] = {"name": message.name or "", "response": {"result": text_of(message)}}
        if (identifier := _given(message.tool_call_id)) is not None:
            response["id"] = identifier
        parts.append({"functionResponse": response})
    for part in parts_of(message):
        if not isinstance(part, ImagePart):
            parts += [] if message.role == "tool" else [{"text": part.text}]
        elif part.data:
            parts.append({"inlineData": {"mimeType": part.media_type, "data": part.data}})
        else:
            suffix = part.address.partition("?")[0].rpartition(".")[2].lower()
            parts.append({"fileData": {"mimeType": _MEDIA.get(suffix, "image/jpeg"), "fileUri": part.address}})
    for call in message.tool_calls:
        function: dict[str, Json] = {"name": call.function.name, "args": arguments_of(call)}
        if (identifier := _given(call.id)) is not None:
            function["id"] = identifier
        parts.append({"functionCall": function})
    return parts


def _given(identifier: str | None) -> str | None:
    """An id that the provider gave: some deployments refuse the field, so that ids of ours are not sent."""
    return identifier if identifier and not _MADE_UP.fullmatch(identifier) else None


def _blocked(reply: _Reply) -> Fault | None:
    feedback = reply.prompt_feedback
    if feedback is None or not feedback.block_reason or reply.candidates:
        return None
    return Fault(ContentRefused, f"the prompt was refused ({feedback.block_reason})")


def _as_choice(candidate: _Candidate) -> Choice:
    parts = (candidate.content.parts if candidate.content is not None else None) or []
    functions = [part.function_call for part in parts if part.function_call]
    calls = tuple([_call(number, function) for number, function in enumerate(functions)])
    thoughts = "".join([part.text or "" for part in parts if part.thought])
    texts = "".join([part.text or "" for part in parts if not part.thought])
    return Choice(
        texts,
        _finish(candidate.finish_reason, bool(calls)),
        reasoning=thoughts or None,
        tool_calls=calls,
        citations=_citations(candidate),
        safety=_safety(candidate),
    )


def _citations(candidate: _Candidate) -> tuple[Citation, ...]:
    metadata = candidate.citation_metadata
    sources = (metadata.citation_sources or metadata.citations or ()) if metadata is not None else ()
    return tuple([Citation(each.uri or "", each.title or "", "", each.start_index, each.end_index) for each in sources])


def _safety(candidate: _Candidate) -> tuple[SafetyNote, ...]:
    ratings = candidate.safety_ratings or ()
    return tuple([SafetyNote(each.category or "", each.probability or "", bool(each.blocked)) for each in ratings])


def _call(number: int, function: _FunctionCall) -> ToolCall:
    arguments = _encode(function.args if isinstance(function.args, dict) else {}).decode()
    # Many models leave the identifier out, and conversations need one.
    return ToolCall(ToolFunction(function.name, arguments), function.id or f"call_{number}")


def _finish(reason: str | None, called: bool) -> str | None:
    common = in_common(_FINISH, reason)
    return "tool_calls" if called and common == "stop" else common


def _usage(usage: _Usage) -> Usage:
    inputs, outputs, thoughts = usage.prompt_token_count, usage.candidates_token_count, usage.thoughts_token_count
    inputs = (inputs or 0) + tools if (tools := usage.tool_use_prompt_token_count) else inputs
    if thoughts is not None:
        outputs = (outputs or 0) + thoughts
    return Usage(inputs, outputs, usage.total_token_count, usage.cached_content_token_count, thoughts)


class _ContentsStream(PayloadStream):
    """Each payload is a reply with the next parts; there is no end mark but the finish reason.

    They come as server-sent events, or as a JSON array where a server passes over ``alt=sse``: the first byte tells.
    """

    def __init__(self, dialect: ContentsDialect) -> None:
        super().__init__(SseDecoder())
        self._head: bytes | None = b""
        self._dialect = dialect
        self._started = False
        self._called: dict[int, int] = {}
        self._finished = False

    def feed(self, data: bytes) -> list[Event]:
        if self._head is not None:
            data, self._head = (self._head + data).lstrip(), None
            if not data:
                self._head = b""
            elif data[:1] in (b"[", b"{"):
                self._splitter = ArraySplitter()
        return super().feed(data)

    def end(self) -> bool:
        return self._finished

    def take(self, name: str, payload: bytes, events: list[Event]) -> None:
        reply = self.read(payload, _REPLY, _Reply)
        if reply is None:
            return
        if reply.error is not None:
            self.failure = self._dialect.classify(200, {}, payload)
            return
        if (blocked := _blocked(reply)) is not None:
            self.failure = blocked
            return
        if not self._started and (reply.model_version or reply.response_id):
            self._started = True
            events.append(Started(reply.model_version, reply.response_id))
        for candidate in reply.candidates or ():
            self._candidate(candidate, candidate.index or 0, events)
        if reply.usage_metadata is not None:
            events.append(UsageTold(_usage(reply.usage_metadata)))

    def _candidate(self, candidate: _Candidate, index: int, events: list[Event]) -> None:
        for part in (candidate.content.parts if candidate.content is not None else None) or ():
            if part.function_call is not None:
                number = self._called.get(index, 0)
                self._called[index] = number + 1
                call = _call(number, part.function_call)
                events.append(ToolCallPiece(number, call.id, call.function.name, call.function.arguments or "", index))
            elif part.text:
                events.append(Reasoning(part.text, index) if part.thought else Text(part.text, index))
        events += [Cited(citation, index) for citation in _citations(candidate)]
        if candidate.safety_ratings:
            events.append(SafetyTold(_safety(candidate), index))
        if candidate.finish_reason is not None:
            self._finished = True
            reason = _finish(candidate.finish_reason, self._called.get(index, 0) > 0)
            events.append(Finished(reason or "stop", index))
