"""The canonical form as JSON: an OpenAI-compatible request in, the same kind of reply and chunks out."""

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from msgspec import Struct

from ..canonical.chat import UNFINISHED, Choice, Citation, Completion, Json, MediaFile, SafetyNote, TokenLogprob
from ..canonical.events import (
    Cited,
    Event,
    FileTold,
    Finished,
    LogprobsTold,
    Passed,
    Reasoning,
    Refusal,
    SafetyTold,
    Started,
    Text,
    ToolCallPiece,
    TurnTold,
    UsageTold,
)
from ..canonical.parameters import NAMES
from ..canonical.usage import Usage
from ..errors import RequestError
from ..json.lenient import decode_json
from .messages import TURN_FIELD, call_json, turn_json


class ChatRequestArguments(Struct, frozen=True):
    """A request as JSON, taken apart.

    Attributes:
        model: a label, or ``NAME@PROVIDER``.
        options: parameters under their names, and ``extra`` with every field that is none.
        stream_options: what the caller says of the chunks; `None` where nothing.
    """

    model: str
    messages: list[dict[str, Json]]
    options: dict[str, Any]
    stream_options: dict[str, Json] | None = None


_CALL_OPTIONS = frozenset({"deadline", "timeouts", "retries", "headers", "tags", "cache"})


def chat_arguments(body: Mapping[str, Json], further_fields: Mapping[str, Any] | None = None) -> ChatRequestArguments:
    """The parts of a request.

    Args:
        further_fields: limits of the call and the like, which are no part of it.

    Raises:
        RequestError: it names no model, has no messages, or is no request; or there is no such limit.

    >>> chat_arguments({"model": "almanac", "messages": [], "seed": 7, "weather": "wet"}).options
    {'seed': 7, 'extra': {'weather': 'wet'}}
    """
    _check_body(body)
    model, messages, chunks = body.get("model"), body.get("messages"), body.get("stream_options")
    if not isinstance(model, str) or not model:
        raise RequestError("the request names no model", hint='Add "model": a label of the configuration.')
    if not isinstance(messages, list):
        raise RequestError("the request has no messages", hint='Add "messages": a list of {"role", "content"}.')
    if not isinstance(chunks, dict | None):
        raise RequestError("stream_options is no object", hint='Write {"include_usage": true}.')
    options: dict[str, Any] = {}
    extra: dict[str, Json] = {}
    for name, value in body.items():
        if name in ("model", "messages", "stream", "stream_options"):
            continue
        if name not in NAMES:
            extra[name] = value
        elif value is not None:
            options[name] = value
    if extra:
        options["extra"] = extra
    for name, value in (further_fields or {}).items():
        if name not in _CALL_OPTIONS:
            raise RequestError(
                f"exchange has no option {name!r}",
                hint=f"Parameters stand in the body; beside it there are {', '.join(sorted(_CALL_OPTIONS))}.",
            )
        options[name] = value
    return ChatRequestArguments(model, messages, options, chunks)


def _check_body(body: object) -> None:
    if not isinstance(body, Mapping):
        hint = "Decode it first: json.loads(body)." if isinstance(body, (bytes, bytearray, str)) else "Pass a dict."
        raise RequestError(f"a request cannot be a {type(body).__name__}", hint=hint)


def reply_json(completion: Completion, created: int, model: str, identifier: str) -> dict[str, Json]:
    """A reply.

    Args:
        created: seconds since the epoch.
        model: its name, where the reply does not tell it.
        identifier: of the reply, where it has none.
    """
    result: dict[str, Json] = {
        "id": completion.id or identifier,
        "object": "chat.completion",
        "created": created,
        "model": completion.model or model,
        "choices": [_choice(index, choice) for index, choice in enumerate(completion.choices)],
    }
    if completion.usage is not None and (usage := usage_json(completion.usage)) is not None:
        result["usage"] = usage
    return result


def _choice(index: int, choice: Choice) -> dict[str, Json]:
    message: dict[str, Json] = {"role": "assistant", "content": choice.text or (None if choice.tool_calls else "")}
    message["refusal"] = choice.refusal
    if choice.reasoning:
        message["reasoning_content"] = choice.reasoning
    if choice.citations:
        message["annotations"] = [_annotation(citation) for citation in choice.citations]
    for file in choice.files:
        _add_file(message, file, choice.text)
    if choice.tool_calls:
        message["tool_calls"] = [call_json(call, number) for number, call in enumerate(choice.tool_calls)]
    if choice.provider_turn is not None:
        message[TURN_FIELD] = turn_json(choice.provider_turn)
    result: dict[str, Json] = {"index": index, "message": message, "logprobs": None}
    result["finish_reason"] = finish_word(choice.finish_reason, choice.refusal)
    if choice.logprobs:
        result["logprobs"] = {"content": [_logprob(each) for each in choice.logprobs], "refusal": None}
    if choice.safety:
        result["content_filter_results"] = _filter_results(choice.safety)
    return result


def finish_word(reason: str | None, refusal: str | None = None) -> str:
    """The reason for the end, in the words that this form has; one that is not known stays as it is.

    >>> finish_word("refusal"), finish_word("refusal", "I will not."), finish_word(None), finish_word("error")
    ('content_filter', 'stop', 'stop', 'error')
    """
    if reason == "refusal":
        return "stop" if refusal else "content_filter"
    return "stop" if reason is None or reason == UNFINISHED else reason


def _annotation(citation: Citation) -> dict[str, Json]:
    cited: dict[str, Json] = {"url": citation.address, "title": citation.title}
    cited |= {"start_index": citation.start or 0, "end_index": citation.end or 0}
    if citation.quote:
        cited["content"] = citation.quote
    return {"type": "url_citation", "url_citation": cited}


def _add_file(message: dict[str, Json], file: MediaFile, text: str = "") -> None:
    if file.media_type.startswith("audio/"):
        message["audio"] = {"id": "", "data": file.data, "transcript": text, "expires_at": 0}
    else:
        url = file.address or f"data:{file.media_type};base64,{file.data}"
        message.setdefault("images", []).append({"type": "image_url", "image_url": {"url": url}})


def _logprob(token: TokenLogprob) -> dict[str, Json]:
    top = [{"token": each.token, "logprob": each.logprob, "bytes": None} for each in token.top]
    return {"token": token.token, "logprob": token.logprob, "bytes": None, "top_logprobs": top}


def _filter_results(notes: Iterable[SafetyNote]) -> dict[str, Json]:
    return {note.category: {"filtered": note.blocked, "severity": note.level} for note in notes}


def usage_json(usage: Usage) -> dict[str, Json] | None:
    """Token counts under the names of this form; `None` where the provider did not tell them."""
    inputs, outputs, total = usage.input_tokens, usage.output_tokens, usage.total_tokens
    if inputs is not None and outputs is None and total is not None:
        outputs = total - inputs
    if inputs is None or outputs is None:
        return None
    result: dict[str, Json] = {
        "prompt_tokens": inputs,
        "completion_tokens": outputs,
        "total_tokens": inputs + outputs if total is None else total,
    }
    if usage.cached_tokens is not None or usage.cache_write_tokens is not None:
        result["prompt_tokens_details"] = {"cached_tokens": usage.cached_tokens or 0}
        if usage.cache_write_tokens is not None:
            result["prompt_tokens_details"]["cache_write_tokens"] = usage.cache_write_tokens
    if usage.reasoning_tokens is not None:
        result["completion_tokens_details"] = {"reasoning_tokens": usage.reasoning_tokens}
    return result


def chunk_of_reply(reply: dict[str, Json]) -> dict[str, Json]:
    """A whole reply in this form as the one chunk of a stream, every field kept.

    >>> chunk_of_reply({"cost": 1, "choices": [{"message": {"content": "Peas."}, "finish_reason": "stop"}]})["choices"]
    [{'finish_reason': 'stop', 'index': 0, 'delta': {'content': 'Peas.'}}]
    """
    choices = []
    for index, choice in enumerate(reply.get("choices") or ()):
        delta = dict(choice.get("message") or {})
        if isinstance(delta.get("tool_calls"), list):
            delta["tool_calls"] = [{"index": number, **call} for number, call in enumerate(delta["tool_calls"])]
        choice_facts = {name: value for name, value in choice.items() if name != "message"}
        choices.append({**choice_facts, "index": choice.get("index", index), "delta": delta})
    return {**reply, "object": "chat.completion.chunk", "choices": choices}


class Chunks:
    """Turns the events of a stream into its chunks; those that came in this form go through as they are.

    Args:
        created: seconds since the epoch.
        model: its name, where the stream does not tell it.
        identifier: of the reply, where the stream has none.
        usage: whether the caller wants the token counts, in a chunk of their own at the end.
    """

    def __init__(self, created: int, model: str, identifier: str, *, usage: bool = False) -> None:
        head = {"id": identifier, "object": "chat.completion.chunk", "created": created, "model": model}
        self._head: dict[str, Json] = head
        self._wants_usage = usage
        self._usage: Usage | None = None
        self._spoke: set[int] = set()
        self._refusals: set[int] = set()
        self._without_arguments: dict[tuple[int, int], None] = {}
        self._verbatim = False
        self._ended = False

    def of(self, events: Iterable[Event]) -> Iterator[dict[str, Json]]:
        """The chunks that these events amount to."""
        for event in events:
            if isinstance(event, Passed):
                self._verbatim = True
                for payload in payloads_of(event):
                    chunk = decode_json(payload)
                    # Counts are asked for in any case, to be kept: the caller gets those that the caller asked for.
                    if isinstance(chunk, dict) and (
                        self._wants_usage or chunk.get("choices") or not chunk.get("usage")
                    ):
                        yield chunk
            elif not self._verbatim:
                yield from self._chunks_of(event)

    def last(self) -> Iterator[dict[str, Json]]:
        """What stands behind the end of the stream: the counts, where they are wanted."""
        if self._spoke and not self._ended and not self._verbatim:
            yield self._chunk(0, {}, finish_reason=finish_word(None))
        if self._usage is not None and self._wants_usage and not self._verbatim:
            usage = usage_json(self._usage)
            if usage is not None:
                yield {**self._head, "choices": [], "usage": usage}

    def _chunks_of(self, event: Event) -> Iterator[dict[str, Json]]:
        match event:
            case Started():
                head = self._head
                self._head = {**head, "id": event.id or head["id"], "model": event.model or head["model"]}
            case Text():
                yield self._chunk(event.choice, {"content": event.text})
            case Reasoning():
                yield self._chunk(event.choice, {"reasoning_content": event.text})
            case Refusal():
                self._refusals.add(event.choice)
                yield self._chunk(event.choice, {"refusal": event.text})
            case ToolCallPiece():
                yield from self._call(event)
            case Cited():
                yield self._chunk(event.choice, {"annotations": [_annotation(event.citation)]})
            case FileTold():
                delta: dict[str, Json] = {}
                _add_file(delta, event.file)
                yield self._chunk(event.choice, delta)
            case LogprobsTold():
                logprobs = {"content": [_logprob(each) for each in event.tokens], "refusal": None}
                yield self._chunk(event.choice, {}, logprobs=logprobs)
            case SafetyTold():
                yield self._chunk(event.choice, {}, content_filter_results=_filter_results(event.notes))
            case TurnTold():
                yield self._chunk(event.choice, {TURN_FIELD: turn_json(event.turn)})
            case Finished() if event.reason == UNFINISHED:
                pass  # the turn goes on in another reply
            case Finished():
                self._ended = True
                for choice, index in self._without_arguments:
                    tool_call = {"index": index, "function": {"arguments": "{}"}}
                    yield self._chunk(choice, {"tool_calls": [tool_call]})
                self._without_arguments.clear()
                refusal = "refused" if event.choice in self._refusals else None
                yield self._chunk(event.choice, {}, finish_reason=finish_word(event.reason, refusal))
            case UsageTold():
                self._usage = event.usage

    def _call(self, event: ToolCallPiece) -> Iterator[dict[str, Json]]:
        call_key = (event.choice, event.index)
        if event.arguments:
            self._without_arguments.pop(call_key, None)
        elif event.id is not None or event.name is not None:
            self._without_arguments[call_key] = None
        custom = event.extra.get("custom")
        if custom is not None or event.arguments or event.id is not None or event.name is not None:
            yield self._chunk(event.choice, {"tool_calls": [_call_delta(event)]})

    def _chunk(self, index: int, delta: dict[str, Json], **fields: Json) -> dict[str, Json]:
        if index not in self._spoke:
            self._spoke.add(index)
            delta = {"role": "assistant", **delta}
        return {**self._head, "choices": [{"index": index, "delta": delta, "finish_reason": None, **fields}]}


def payloads_of(event: Passed) -> list[bytes]:
    """The payloads of what is passed: of framed ones, each is the one line of data of an event.

    >>> payloads_of(Passed(b"data: 1\\n\\ndata: 2\\n\\n", framed=True))
    [b'1', b'2']
    """
    return event.payload[6:-2].split(b"\n\ndata: ") if event.framed else [event.payload]


def _call_delta(event: ToolCallPiece) -> dict[str, Json]:
    result: dict[str, Json] = {"index": event.index}
    if event.id is not None:
        result |= {"id": event.id, "type": "function"}
    function: dict[str, Json] = {"arguments": event.arguments}
    if event.name is not None:
        function["name"] = event.name
    return {**result, "function": function, **event.extra}
