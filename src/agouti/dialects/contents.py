"""The dialect marked by ``POST {base}/models/{model}:generateContent``: contents in parts, one object of settings."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, ClassVar
from urllib.parse import quote

import msgspec
from msgspec import Struct

from ..core.chat import (
    Choice,
    Citation,
    Completion,
    Json,
    Message,
    Request,
    SafetyNote,
    ToolCall,
    ToolFunction,
    Usage,
)
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
from ..core.jsonarray import ArraySplitter
from ..core.parameters import renamed
from ..core.parts import ImagePart, arguments_of, by_role, messages_of, parts_of, system_and_rest, text_of
from ..core.sse import SseDecoder
from ..core.vectors import Vectors, VectorsWanted
from .base import Fault, ListedModel, Means, Outgoing, StreamDecoder
from .streams import PayloadStream, read_reply

if TYPE_CHECKING:
    from ..core.schema import Style

# Parameters that go into `generationConfig`.
_CONFIG = {
    "temperature": "temperature",
    "top_p": "topP",
    "max_tokens": "maxOutputTokens",
    "n": "candidateCount",
    "seed": "seed",
    "presence_penalty": "presencePenalty",
    "frequency_penalty": "frequencyPenalty",
    "logprobs": "responseLogprobs",
    "top_logprobs": "logprobs",
    "stop": "stopSequences",
}
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


class _Listed(Struct, rename="camel"):
    name: str | None = None
    input_token_limit: int | None = None


class _List(Struct):
    models: list[_Listed]


class _Values(Struct, gc=False):
    values: list[float] | None = None


class _VectorsReply(Struct):
    embedding: _Values | None = None
    embeddings: list[_Values] | None = None


_REPLY = msgspec.json.Decoder(_Reply)
_encode = msgspec.json.Encoder().encode


class ContentsDialect:
    """See the module."""

    name: ClassVar[str] = "contents"
    means: ClassVar[tuple[Means, ...]] = ("schema", "tool", "json", "prompt")
    style: ClassVar["Style"] = "open"
    takes: ClassVar[frozenset[str] | None] = frozenset(
        (*_CONFIG, "tools", "tool_choice", "reasoning_effort", "response_format")
    )

    most_texts: ClassVar[int] = 100
    base64: ClassVar[bool] = False

    def encode_chat(self, request: Request) -> Outgoing:
        system, rest = system_and_rest(messages_of(request.messages))
        given = request.parameters
        body: dict[str, Any] = {"contents": _contents(rest)}
        if system:
            body["systemInstruction"] = {"parts": [{"text": system}]}
        config = renamed(given, _CONFIG)
        if "reasoning_effort" in given and (budget := _THINKING.get(given["reasoning_effort"])) is not None:
            config["thinkingConfig"] = {"thinkingBudget": budget, "includeThoughts": budget > 0}
        if "response_format" in given:
            config |= _format(given["response_format"])
        if given.get("tools"):
            body["tools"] = [{"functionDeclarations": [_tool(tool) for tool in given["tools"]]}]
            if "tool_choice" in given:
                body["toolConfig"] = {"functionCallingConfig": _choice(given["tool_choice"])}
        extra = dict(request.extra)
        if config or "generationConfig" in extra:
            body["generationConfig"] = {**config, **extra.pop("generationConfig", {})}
        body.update(extra)
        path = f"/{quote(_collected(request.model), safe='/')}"
        if request.stream:
            return Outgoing("stream", f"{path}:streamGenerateContent?alt=sse", body, accept="text/event-stream")
        return Outgoing("chat", f"{path}:generateContent", body)

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

    def encode_vectors(self, wanted: VectorsWanted) -> Outgoing:
        requests: list[dict[str, Any]] = []
        for text in wanted.texts:
            each: dict[str, Any] = {"content": {"parts": [{"text": text}]}}
            if wanted.dimensions is not None:
                each["outputDimensionality"] = wanted.dimensions
            requests.append({**each, **wanted.extra})
        path = f"/{quote(_collected(wanted.model), safe='/')}"
        if len(requests) == 1:
            return Outgoing("embeddings", f"{path}:embedContent", requests[0])
        named = [{"model": _collected(wanted.model), **each} for each in requests]
        return Outgoing("embeddings of several", f"{path}:batchEmbedContents", {"requests": named})

    def decode_vectors(self, body: bytes) -> Vectors | Fault:
        reply = read_reply(body, _VectorsReply, "the reply")
        found = reply.embeddings if reply.embedding is None else [reply.embedding]
        if found is None or any(each.values is None for each in found):
            raise ReplyUnreadable("the reply is JSON, but not one with vectors: it has no `embeddings`")
        return Vectors([each.values for each in found if each.values is not None])

    def decode_models(self, body: bytes) -> tuple[ListedModel, ...]:
        listed = read_reply(body, _List, "the list of models").models
        return tuple(
            [ListedModel(each.name.removeprefix("models/"), each.input_token_limit) for each in listed if each.name]
        )


def _collected(model: str) -> str:
    """The model with its collection: a prefix that is there stays, tuned models have one of their own."""
    return model if "/" in model else f"models/{model}"


def _contents(messages: list[Message]) -> list[dict[str, Json]]:
    names = {call.id: call.function.name for message in messages for call in message.tool_calls or ()}
    turns = by_role(messages, lambda message: _parts(message, names), assistant="model")
    return [{"role": role, "parts": parts} for role, parts in turns]


def _parts(message: Message, names: Mapping[str | None, str | None]) -> list[dict[str, Json]]:
    if message.role == "tool":
        name = message.name or names.get(message.tool_call_id) or ""
        response: dict[str, Json] = {"name": name, "response": {"result": text_of(message)}}
        if message.tool_call_id:
            response["id"] = message.tool_call_id
        return [{"functionResponse": response}]
    parts: list[dict[str, Json]] = []
    for part in parts_of(message):
        if not isinstance(part, ImagePart):
            parts.append({"text": part.text})
        elif part.data:
            parts.append({"inlineData": {"mimeType": part.media_type, "data": part.data}})
        else:
            suffix = part.address.partition("?")[0].rpartition(".")[2].lower()
            parts.append({"fileData": {"mimeType": _MEDIA.get(suffix, "image/jpeg"), "fileUri": part.address}})
    for call in message.tool_calls or ():
        made: dict[str, Json] = {"name": call.function.name, "args": arguments_of(call)}
        parts.append({"functionCall": {**made, "id": call.id} if call.id else made})
    return parts


def _tool(tool: Mapping[str, Any]) -> dict[str, Json]:
    function = tool.get("function", tool)
    found = {"name": function.get("name")}
    if function.get("description"):
        found["description"] = function["description"]
    if function.get("parameters"):
        found["parametersJsonSchema"] = function["parameters"]
    return found


def _choice(wanted: str | Mapping[str, Any]) -> dict[str, Json]:
    if isinstance(wanted, Mapping):
        return {"mode": "ANY", "allowedFunctionNames": [wanted.get("function", wanted).get("name")]}
    return {"mode": {"required": "ANY", "none": "NONE"}.get(wanted, "AUTO")}


def _format(wanted: Mapping[str, Any]) -> dict[str, Json]:
    kind = wanted.get("type")
    if kind == "text":
        return {}
    if kind == "json_object":
        return {"responseMimeType": "application/json"}
    if kind == "json_schema":
        schema = wanted.get("json_schema", {}).get("schema")
        return {"responseMimeType": "application/json", "responseJsonSchema": schema}
    error = ParameterUnsupported(f"dialect contents has no response_format of type {kind!r}")
    error.parameter = "response_format"
    raise error


def _blocked(reply: _Reply) -> Fault | None:
    feedback = reply.prompt_feedback
    if feedback is None or not feedback.block_reason or reply.candidates:
        return None
    return Fault(ContentRefused, f"the prompt was refused ({feedback.block_reason})")


def _as_choice(candidate: _Candidate) -> Choice:
    parts = (candidate.content.parts if candidate.content is not None else None) or []
    calls = tuple([_call(place, made) for place, made in enumerate(p.function_call for p in parts if p.function_call)])
    thoughts = "".join([part.text or "" for part in parts if part.thought])
    texts = "".join([part.text or "" for part in parts if not part.thought])
    reason = _finish(candidate.finish_reason, bool(calls))
    return Choice(texts, reason, thoughts or None, None, calls, _citations(candidate), _safety(candidate))


def _citations(candidate: _Candidate) -> tuple[Citation, ...]:
    told = candidate.citation_metadata
    sources = (told.citation_sources or told.citations or ()) if told is not None else ()
    return tuple([Citation(each.uri or "", each.title or "", "", each.start_index, each.end_index) for each in sources])


def _safety(candidate: _Candidate) -> tuple[SafetyNote, ...]:
    ratings = candidate.safety_ratings or ()
    return tuple([SafetyNote(each.category or "", each.probability or "", bool(each.blocked)) for each in ratings])


def _call(place: int, made: _FunctionCall) -> ToolCall:
    arguments = _encode(made.args if isinstance(made.args, dict) else {}).decode()
    # Many models leave the identifier out, and conversations need one.
    return ToolCall(ToolFunction(made.name, arguments), made.id or f"call_{place}")


def _finish(reason: str | None, called: bool) -> str | None:
    if reason is None:
        return None
    found = _FINISH.get(reason, reason)
    return "tool_calls" if called and found == "stop" else found


def _usage(usage: _Usage) -> Usage:
    thoughts = usage.thoughts_token_count
    outputs = usage.candidates_token_count
    if thoughts is not None:
        outputs = (outputs or 0) + thoughts
    return Usage(usage.prompt_token_count, outputs, usage.total_token_count, usage.cached_content_token_count, thoughts)


class _ContentsStream(PayloadStream):
    """Each payload is a reply with the next parts; there is no end mark but the finish reason.

    They come as server-sent events, or as a JSON array where a server passes over ``alt=sse``: the first byte tells.
    """

    reads_json = True

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
                place = self._called.get(index, 0)
                self._called[index] = place + 1
                made = _call(place, part.function_call)
                events.append(ToolCallPiece(place, made.id, made.function.name, made.function.arguments or "", index))
            elif part.text:
                events.append(Reasoning(part.text, index) if part.thought else Text(part.text, index))
        events += [Cited(citation, index) for citation in _citations(candidate)]
        if candidate.safety_ratings:
            events.append(SafetyTold(_safety(candidate), index))
        if candidate.finish_reason is not None:
            self._finished = True
            reason = _finish(candidate.finish_reason, self._called.get(index, 0) > 0)
            events.append(Finished(reason or "stop", index))
