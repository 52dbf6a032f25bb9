"""The canonical form as JSON: an OpenAI-compatible request in, the same kind of reply and chunks out."""

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from msgspec import Struct

from .chat import Choice, Completion, Json
from .errors import RequestError
from .events import Event, Finished, Passed, Reasoning, Refusal, Started, Text, ToolCallPiece, UsageTold
from .json_lenient import decode_json
from .messages import call_json
from .parameters import NAMES
from .usage import Usage


class Asked(Struct, frozen=True):
    """A request as JSON, taken apart.

    Attributes:
        model: a label, or ``NAME@PROVIDER``.
        options: parameters under their names, and ``extra`` with every field that is none.
    """

    model: str
    messages: list[dict[str, Json]]
    options: dict[str, Any]


def asked(body: Mapping[str, Json]) -> Asked:
    """The parts of a request.

    Raises:
        RequestError: it names no model, or has no messages.

    >>> asked({"model": "almanac", "messages": [], "seed": 7, "top_k": 3}).options
    {'seed': 7, 'extra': {'top_k': 3}}
    """
    model, messages = body.get("model"), body.get("messages")
    if not isinstance(model, str) or not model:
        raise RequestError("the request names no model", hint='Add "model": a label of the configuration.')
    if not isinstance(messages, list):
        raise RequestError("the request has no messages", hint='Add "messages": a list of {"role", "content"}.')
    options: dict[str, Any] = {}
    extra: dict[str, Json] = {}
    for name, value in body.items():
        if name in ("model", "messages", "stream", "stream_options") or value is None:
            continue
        if name in NAMES:
            options[name] = value
        else:
            extra[name] = value
    if extra:
        options["extra"] = extra
    return Asked(model, messages, options)


def reply_json(completion: Completion, created: int, model: str) -> dict[str, Json]:
    """A reply.

    Args:
        created: seconds since the epoch.
        model: its name, where the reply does not tell it.
    """
    made: dict[str, Json] = {
        "id": completion.id or "",
        "object": "chat.completion",
        "created": created,
        "model": completion.model or model,
        "choices": [_choice(index, choice) for index, choice in enumerate(completion.choices)],
    }
    if completion.usage is not None:
        made["usage"] = usage_json(completion.usage)
    return made


def _choice(index: int, choice: Choice) -> dict[str, Json]:
    message: dict[str, Json] = {"role": "assistant", "content": choice.text or (None if choice.tool_calls else "")}
    if choice.refusal:
        message["refusal"] = choice.refusal
    if choice.reasoning:
        message["reasoning_content"] = choice.reasoning
    if choice.tool_calls:
        message["tool_calls"] = [call_json(call, number) for number, call in enumerate(choice.tool_calls)]
    return {"index": index, "message": message, "finish_reason": choice.finish_reason, "logprobs": None}


def usage_json(usage: Usage) -> dict[str, Json]:
    """Token counts under the names of this form."""
    made: dict[str, Json] = {
        "prompt_tokens": usage.input_tokens,
        "completion_tokens": usage.output_tokens,
        "total_tokens": usage.total_tokens,
    }
    if usage.cached_tokens is not None:
        made["prompt_tokens_details"] = {"cached_tokens": usage.cached_tokens}
    if usage.reasoning_tokens is not None:
        made["completion_tokens_details"] = {"reasoning_tokens": usage.reasoning_tokens}
    return made


class Chunks:
    """Turns the events of a stream into its chunks; those that came in this form go through as they are.

    Args:
        created: seconds since the epoch.
        model: its name, where the stream does not tell it.
    """

    def __init__(self, created: int, model: str) -> None:
        self._head: dict[str, Json] = {"id": "", "object": "chat.completion.chunk", "created": created, "model": model}
        self._spoke: set[int] = set()
        self._verbatim = False

    def of(self, events: Iterable[Event]) -> Iterator[dict[str, Json]]:
        """The chunks that these events amount to."""
        for event in events:
            if isinstance(event, Passed):
                self._verbatim = True
                chunk = decode_json(event.payload)
                if isinstance(chunk, dict):
                    yield chunk
            elif not self._verbatim:
                yield from self._made(event)

    def _made(self, event: Event) -> Iterator[dict[str, Json]]:
        match event:
            case Started():
                self._head |= {"id": event.id or "", "model": event.model or self._head["model"]}
            case Text():
                yield self._chunk(event.choice, {"content": event.text})
            case Reasoning():
                yield self._chunk(event.choice, {"reasoning_content": event.text})
            case Refusal():
                yield self._chunk(event.choice, {"refusal": event.text})
            case ToolCallPiece():
                yield self._chunk(event.choice, {"tool_calls": [_piece(event)]})
            case Finished():
                yield self._chunk(event.choice, {}, event.reason)
            case UsageTold():
                yield {**self._head, "choices": [], "usage": usage_json(event.usage)}

    def _chunk(self, index: int, delta: dict[str, Json], finish: str | None = None) -> dict[str, Json]:
        if index not in self._spoke:
            self._spoke.add(index)
            delta = {"role": "assistant", **delta}
        return {**self._head, "choices": [{"index": index, "delta": delta, "finish_reason": finish}]}


def _piece(event: ToolCallPiece) -> dict[str, Json]:
    function: dict[str, Json] = {"arguments": event.arguments}
    if event.name is not None:
        function["name"] = event.name
    made: dict[str, Json] = {"index": event.index, "function": function}
    return {**made, "id": event.id, "type": "function"} if event.id is not None else made
