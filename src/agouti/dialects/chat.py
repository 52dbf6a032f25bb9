"""The dialect marked by ``POST {base}/chat/completions``: the OpenAI-compatible interface.

It is nearly the canonical form itself, so a request is encoded as it stands. Replies come from
many kinds of server, hence the lenient reading: see `core.lenient`.
"""

from collections.abc import Callable, Mapping
from functools import cache
from typing import TYPE_CHECKING, Any, ClassVar

import msgspec
from msgspec import Struct

from ..core.chat import Choice, Citation, Completion, Request, SafetyNote, ToolCall, ToolFunction, Usage
from ..core.errors import (
    ContentRefused,
    ContextOverflow,
    CredentialRefused,
    ModelUnknown,
    NoAccess,
    OutOfCredit,
    Overloaded,
    RateLimited,
    ReplyUnreadable,
)
from ..core.events import Cited, Event, Finished, Passed, Reasoning, Refusal, Started, Text, ToolCallPiece, UsageTold
from ..core.lenient import UNDECODABLE, decode_json, lenient
from ..core.sse import SseDecoder
from .base import Fault, ListedModel, Means, Outgoing, StreamDecoder
from .streams import read_reply

if TYPE_CHECKING:
    from ..core.schema import Style
    from ..core.vectors import Vectors, VectorsWanted


class _CachedDetails(Struct, gc=False):
    cached_tokens: int | None = None


class _ReasoningDetails(Struct, gc=False):
    reasoning_tokens: int | None = None


class UsageFields(Struct):
    """The ``usage`` of this dialect and its kin."""

    prompt_tokens: int | None = None
    completion_tokens: int | None = None
    total_tokens: int | None = None
    prompt_tokens_details: _CachedDetails | None = None
    completion_tokens_details: _ReasoningDetails | None = None


class _Function(Struct, gc=False):
    name: str | None = None
    arguments: str | dict[str, Any] | None = None


class _Call(Struct):
    index: int | None = None
    id: str | None = None
    function: _Function | None = None


class _Part(Struct):
    text: str | None = None


class _UrlCitation(Struct):
    url: str | None = None
    title: str | None = None
    content: str | None = None
    start_index: int | None = None
    end_index: int | None = None


class _Annotation(Struct):
    url_citation: _UrlCitation | None = None


class _Message(Struct, gc=False):
    """The ``message`` of a reply and the ``delta`` of a chunk: the same fields."""

    content: str | list[_Part] | None = None
    refusal: str | None = None
    reasoning_content: str | None = None
    reasoning: str | None = None
    tool_calls: list[_Call] | None = None
    annotations: list[_Annotation] | None = None


class _Choice(Struct, gc=False):
    index: int | None = None
    message: _Message | None = None
    finish_reason: str | None = None
    content_filter_results: dict[str, Any] | None = None


class _Reply(Struct):
    id: str | None = None
    model: str | None = None
    choices: list[_Choice] | None = None
    usage: UsageFields | None = None
    citations: list[str] | None = None
    error: Any = None


class _ChunkChoice(Struct, gc=False):
    index: int | None = None
    delta: _Message | None = None
    finish_reason: str | None = None


class _LaterChunk(Struct, gc=False):
    """A chunk after the first: identifier and model have been told, decoding them again costs and tells nothing."""

    choices: list[_ChunkChoice] | None = None
    usage: UsageFields | None = None
    error: Any = None


class _Chunk(_LaterChunk, gc=False):
    id: str | None = None
    model: str | None = None


class _Vector(Struct, gc=False):
    index: int | None = None
    embedding: list[float] | bytes | None = None


class _VectorsReply(Struct):
    data: list[_Vector] | None = None
    model: str | None = None
    usage: UsageFields | None = None
    error: Any = None


@cache
def _vectors_decoder() -> "msgspec.json.Decoder[_VectorsReply]":
    return msgspec.json.Decoder(_VectorsReply)


_encode = msgspec.json.Encoder().encode
_decode_reply = msgspec.json.Decoder(_Reply).decode
_decode_chunk: Callable[[bytes], _LaterChunk] = msgspec.json.Decoder(_Chunk).decode
_decode_later_chunk = msgspec.json.Decoder(_LaterChunk).decode

# Words of compatible servers that mean one of the vocabulary.
FINISH = {
    "function_call": "tool_calls",
    "tool_use": "tool_calls",
    "max_tokens": "length",
    "eos": "stop",
    "end_turn": "stop",
}

CODES = {
    "invalid_api_key": CredentialRefused,
    "authentication_error": CredentialRefused,
    "token_expired": CredentialRefused,
    "insufficient_quota": OutOfCredit,
    "billing_hard_limit_reached": OutOfCredit,
    "rate_limit_exceeded": RateLimited,
    "model_not_found": ModelUnknown,
    "context_length_exceeded": ContextOverflow,
    "exceed_context_size_error": ContextOverflow,
    "content_filter": ContentRefused,
    "content_policy_violation": ContentRefused,
    "permission_error": NoAccess,
    "overloaded_error": Overloaded,
    "server_overloaded": Overloaded,
}


class _Pricing(Struct, gc=False):
    prompt: str | float | None = None
    completion: str | float | None = None


class _Architecture(Struct):
    input_modalities: list[str] | None = None


class _Listed(Struct):
    id: str | None = None
    context_length: int | None = None
    context_window: int | None = None
    max_model_len: int | None = None
    pricing: _Pricing | None = None
    architecture: _Architecture | None = None


class _List(Struct):
    data: list[_Listed]


class ChatDialect:
    """See the module."""

    name: ClassVar[str] = "chat"
    means: ClassVar[tuple[Means, ...]] = ("schema", "tool", "json", "prompt")
    style: ClassVar["Style"] = "closed"
    takes: ClassVar[frozenset[str] | None] = None
    most_texts: ClassVar[int] = 256
    base64: ClassVar[bool] = True

    def encode_chat(self, request: Request) -> Outgoing:
        body: dict[str, Any] = {"model": request.model, "messages": request.messages, **request.parameters}
        if request.stream:
            body["stream"] = True
            body.setdefault("stream_options", {"include_usage": True})
        if request.extra:
            body.update(request.extra)
        return Outgoing("chat", "/chat/completions", body, accept="text/event-stream" if request.stream else "")

    def decode_chat(self, body: bytes) -> Completion | Fault:
        try:
            reply = _decode_reply(body)
        except UNDECODABLE:
            reply = read_reply(body, _Reply, "the reply")
        if reply.choices is None:
            if reply.error is not None:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but not a chat reply: it has no `choices`")
        return Completion(
            tuple([_choice(choice, reply.citations) for choice in reply.choices]),
            reply.model,
            reply.id,
            usage_of(reply.usage) if reply.usage is not None else None,
        )

    def stream_decoder(self) -> StreamDecoder:
        return _ChatStream(self)

    def encode_models(self) -> Outgoing:
        return Outgoing("models", "/models", method="GET")

    def encode_vectors(self, wanted: "VectorsWanted") -> Outgoing:
        body: dict[str, Any] = {"model": wanted.model, "input": wanted.texts}
        if wanted.dimensions is not None:
            body["dimensions"] = wanted.dimensions
        if wanted.base64:
            body["encoding_format"] = "base64"
        body.update(wanted.extra)
        return Outgoing("embeddings", "/embeddings", body)

    def decode_vectors(self, body: bytes) -> "Vectors | Fault":
        from ..core.vectors import Vectors

        try:
            reply = _vectors_decoder().decode(body)
        except UNDECODABLE:
            reply = read_reply(body, _VectorsReply, "the reply")
        if reply.data is None:
            if reply.error is not None:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but not one with vectors: it has no `data`")
        if any(each.embedding is None for each in reply.data):
            raise ReplyUnreadable("a vector is missing in the reply")
        data = reply.data
        if all(each.index is not None for each in data):
            data = sorted(data, key=lambda each: each.index or 0)
        usage = usage_of(reply.usage) if reply.usage is not None else None
        return Vectors([each.embedding for each in data if each.embedding is not None], reply.model, usage)

    def decode_models(self, body: bytes) -> tuple[ListedModel, ...]:
        if body.lstrip()[:1] == b"[":
            body = b'{"data": %s}' % body  # some servers leave the object around it out
        listed = read_reply(body, _List, "the list of models").data
        return tuple([_listed(model.id, model) for model in listed if model.id])

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from .faults import classify  # only needed once something is wrong

        return classify(status, headers, body, CODES)


def _listed(name: str, model: _Listed) -> ListedModel:
    pricing = model.pricing or _Pricing()
    modalities = model.architecture.input_modalities if model.architecture is not None else None
    return ListedModel(
        name,
        model.context_length or model.context_window or model.max_model_len,
        _per_million(pricing.prompt),
        _per_million(pricing.completion),
        "image" in modalities if modalities is not None else None,
    )


def _per_million(per_token: str | float | None) -> float | None:
    try:
        return None if per_token is None else round(float(per_token) * 1e6, 6)
    except ValueError:
        return None


def _choice(choice: _Choice, cited: list[str] | None) -> Choice:
    message = choice.message
    reason = choice.finish_reason
    reason = FINISH.get(reason, reason) if reason is not None else None
    if message is None:
        return Choice("", reason)
    content = message.content
    text = content if isinstance(content, str) else "".join([part.text or "" for part in content or ()])
    if message.refusal and reason == "stop":
        reason = "refusal"
    calls = message.tool_calls
    return Choice(
        text,
        reason,
        message.reasoning_content or message.reasoning,
        message.refusal,
        tuple([_call(call) for call in calls]) if calls else (),
        _citations(message.annotations, cited) if message.annotations or cited else (),
        _safety(choice.content_filter_results) if choice.content_filter_results else (),
    )


def _citations(annotations: list[_Annotation] | None, addresses: list[str] | None) -> tuple[Citation, ...]:
    found = [
        Citation(cited.url or "", cited.title or "", cited.content or "", cited.start_index, cited.end_index)
        for annotation in annotations or ()
        if (cited := annotation.url_citation) is not None
    ]
    known = {citation.address for citation in found}
    return tuple(found + [Citation(address) for address in addresses or () if address not in known])


def _safety(results: Mapping[str, Any]) -> tuple[SafetyNote, ...]:
    return tuple(
        [
            SafetyNote(category, str(told.get("severity") or ""), told.get("filtered") is True)
            for category, told in results.items()
            if isinstance(told, dict)
        ]
    )


def _call(call: _Call) -> ToolCall:
    function = call.function
    if function is None:
        return ToolCall(ToolFunction(), call.id)
    return ToolCall(ToolFunction(function.name, _arguments(function.arguments)), call.id)


def _arguments(arguments: str | dict[str, Any] | None) -> str:
    return _encode(arguments).decode() if isinstance(arguments, dict) else arguments or ""


def usage_of(usage: UsageFields) -> Usage:
    """The counts in the library's own words."""
    cached, reasoning = usage.prompt_tokens_details, usage.completion_tokens_details
    total = usage.total_tokens
    if total is None and usage.prompt_tokens is not None and usage.completion_tokens is not None:
        total = usage.prompt_tokens + usage.completion_tokens
    return Usage(
        usage.prompt_tokens,
        usage.completion_tokens,
        total,
        cached.cached_tokens if cached is not None else None,
        reasoning.reasoning_tokens if reasoning is not None else None,
    )


class _ChatStream:
    """Chunks, each the data of one server-sent event, until ``[DONE]``."""

    __slots__ = ("_dialect", "_events", "_finished", "_refused", "_sse", "_started", "done", "failure", "verbatim")

    def __init__(self, dialect: ChatDialect) -> None:
        self._dialect = dialect
        self._sse = SseDecoder()
        self._events: list[Event] = []
        self._started = False
        self._finished = False
        self._refused = False
        self.done = False
        self.failure: Fault | None = None
        self.verbatim = False

    def feed(self, data: bytes) -> list[Event]:
        events: list[Event] = []
        self._events = events
        if self.done or self.failure is not None:
            return events  # some servers send more after the end mark: not part of the reply
        try:
            decoded = self._sse.feed(data)
        except ReplyUnreadable as error:
            self.failure = Fault(type(error), error.what)
            return events
        add = events.append
        started = self._started
        decode = _decode_later_chunk if started else _decode_chunk
        for item in decoded:
            name, payload = ("", item) if isinstance(item, bytes) else item
            try:
                chunk = decode(payload)
            except UNDECODABLE as error:
                if payload == b"[DONE]":
                    self.done = True
                elif name == "error":
                    self._fail(payload)
                elif (mended := self._mended(payload, error)) is not None:
                    self._chunk(mended, payload)
            else:
                choices = chunk.choices
                if self.verbatim and chunk.error is None and name != "error":
                    add(Passed(payload))
                if choices and started and len(choices) == 1 and chunk.usage is None and chunk.error is None:
                    # Nearly every chunk of a stream, one piece of the first answer's text and nothing
                    # else: worth a way of its own.
                    choice = choices[0]
                    delta = choice.delta
                    if delta is not None and choice.finish_reason is None and not choice.index:
                        text = delta.content
                        if (
                            type(text) is str
                            and text
                            and delta.tool_calls is None
                            and delta.reasoning_content is None
                            and delta.reasoning is None
                            and delta.refusal is None
                            and delta.annotations is None
                        ):
                            add(Text(text))
                            continue
                if name == "error":
                    self._fail(payload)
                else:
                    self._chunk(chunk, payload)
                    if self._started and not started:
                        started, decode = True, _decode_later_chunk
            if self.done or self.failure is not None:
                break
        return events

    def end(self) -> bool:
        # Some servers just close after the last chunk: complete all the same once a finish reason has come.
        return self.done or self._finished

    def _fail(self, payload: bytes) -> None:
        self.failure = self._dialect.classify(200, {}, payload)

    def _chunk(self, chunk: _LaterChunk, payload: bytes) -> None:
        if chunk.error is not None:
            self._fail(payload)
            return
        events = self._events
        if not self._started and isinstance(chunk, _Chunk) and (chunk.model is not None or chunk.id is not None):
            self._started = True
            events.append(Started(chunk.model, chunk.id))
        for choice in chunk.choices or ():
            index = choice.index or 0
            if choice.delta is not None:
                self._delta(choice.delta, index)
            reason = choice.finish_reason
            if reason is not None:
                self._finished = True
                reason = FINISH.get(reason, reason)
                events.append(Finished("refusal" if self._refused and reason == "stop" else reason, index))
        if chunk.usage is not None:
            events.append(UsageTold(usage_of(chunk.usage)))

    def _mended(self, payload: bytes, error: Exception) -> "_Chunk | None":
        """A chunk with fields of other types than promised; none for what is only filler or is garbage."""
        if payload.strip() in (b"", b"null"):
            return None
        if not isinstance(error, msgspec.DecodeError) or isinstance(error, msgspec.ValidationError):
            try:
                return lenient(decode_json(payload), _Chunk)
            except msgspec.MsgspecError as again:
                error = again
        self.failure = Fault(ReplyUnreadable, f"a chunk of the stream cannot be read ({error})")
        return None

    def _delta(self, delta: _Message, index: int) -> None:
        events = self._events
        thought = delta.reasoning_content or delta.reasoning
        if thought:
            events.append(Reasoning(thought, index))
        content = delta.content
        if content:
            if not isinstance(content, str):
                content = "".join([part.text or "" for part in content])
            events.append(Text(content, index))
        if delta.refusal:
            self._refused = True
            events.append(Refusal(delta.refusal, index))
        if delta.annotations:
            events += [Cited(citation, index) for citation in _citations(delta.annotations, None)]
        for place, call in enumerate(delta.tool_calls or ()):
            function = call.function or _Function()
            events.append(
                ToolCallPiece(
                    call.index if call.index is not None else place,
                    call.id,
                    function.name,
                    _arguments(function.arguments),
                    index,
                )
            )
