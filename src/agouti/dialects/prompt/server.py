"""The server's side of ``POST {base}/completions``: one text to go on with."""

from collections.abc import Mapping, Sequence
from itertools import accumulate
from typing import Any

from msgspec.structs import replace

from ...core.canonical.chat import UNFINISHED, Choice, Completion, Json, Markers, Message, Request, TokenLogprob
from ...core.canonical.events import Event, Finished, LogprobsTold, Passed, Refusal, Started, Text, UsageTold
from ...core.errors import RequestError
from ...core.messages.json_form import finish_word, usage_json
from ..server_base import (
    ErrorTold,
    ReplyHead,
    ServerFormat,
    data_event,
    encode_json,
    field,
    model_of,
    passed_on,
    request_of,
)
from .dialect import SAME

_SAME = (*SAME, "stop")
_KNOWN = frozenset({*_SAME, "model", "prompt", "stream", "logprobs"})

NO_MARKERS = Markers("", "", "", "", ())
"""Nothing stands around the text: it is sent as it is."""


class PromptFormat(ServerFormat):
    """See the module."""

    name = "prompt"
    path = "/completions"
    conversation = "prompt"
    several = True
    blank = ("stop",)
    alone = frozenset({"best_of", "echo", "suffix"})

    def decode_request(self, body: Mapping[str, Json]) -> Request:
        model = model_of(body)
        prompt = body.get("prompt")
        if isinstance(prompt, list) and len(prompt) == 1 and isinstance(prompt[0], str):
            prompt = prompt[0]
        if not isinstance(prompt, str):
            raise RequestError(
                "prompt takes a text, or a list of texts",
                hint="Send tokens as the text that they stand for: they mean something to one model alone.",
            )
        parameters: dict[str, Json] = {name: body[name] for name in _SAME if body.get(name) is not None}
        if (logprobs := field(body, "logprobs", int, "a whole number")) is not None:
            parameters |= {"logprobs": True, "top_logprobs": logprobs}
        if isinstance(parameters.get("stop"), str):
            parameters["stop"] = [parameters["stop"]]
        return replace(request_of(body, model, [Message("user", prompt)], parameters, _KNOWN), markers=NO_MARKERS)

    def own_fields(self, body: Mapping[str, Json], request: Request) -> dict[str, Json]:
        # What an entry says stands around texts is for conversations; this text is whole.
        return {"prompt": body["prompt"], "stop": body.get("stop")}

    def encode_reply(self, completion: Completion, head: ReplyHead) -> dict[str, Json]:
        reply = _head(head, completion.id, completion.model)
        reply["choices"] = [_choice(index, each) for index, each in enumerate(completion.choices)]
        if completion.usage is not None and (usage := usage_json(completion.usage)) is not None:
            reply["usage"] = usage
        return reply

    def stream_encoder(self, head: ReplyHead) -> "_PromptEncoder":
        return _PromptEncoder(head)


def _head(head: ReplyHead, identifier: str | None, model: str | None) -> dict[str, Json]:
    return {
        "id": identifier or head.identifier,
        "object": "text_completion",
        "created": head.created,
        "model": model or head.model,
    }


def _choice(index: int, choice: Choice) -> dict[str, Json]:
    return {
        "index": index,
        "text": choice.text or choice.refusal or "",
        "finish_reason": _reason(choice.finish_reason),
        "logprobs": _logprobs(choice.logprobs) if choice.logprobs else None,
    }


def _reason(reason: str | None) -> str:
    """There are no calls in this format: who called something has stopped."""
    finish_reason = finish_word(reason)
    return "stop" if finish_reason == "tool_calls" else finish_reason


def _logprobs(tokens: Sequence[TokenLogprob], begin: int = 0) -> dict[str, Json]:
    """What is told of tokens, and where in the text each begins."""
    offsets = list(accumulate((len(each.token) for each in tokens), initial=begin))
    return {
        "text_offset": offsets[: len(tokens)],
        "tokens": [each.token for each in tokens],
        "token_logprobs": [each.logprob for each in tokens],
        "top_logprobs": [{top.token: top.logprob for top in each.top} if each.top else None for each in tokens],
    }


class _PromptEncoder:
    """Chunks with the next text, until ``[DONE]``."""

    def __init__(self, head: ReplyHead) -> None:
        self._head = _head(head, None, None)
        options: Any = head.request.parameters.get("stream_options") or {}
        self._counts = bool(options.get("include_usage"))
        self._usage: Json = None
        self._scored: dict[int, int] = {}
        self._ended = False
        self.verbatim = False
        self.between = True

    def of(self, events: Sequence[Event]) -> bytes:
        if self.verbatim or any(type(event) is Passed for event in events):
            self.verbatim = True
            return passed_on(events, counts=self._counts)
        chunks: list[dict[str, Json]] = []
        for event in events:
            match event:
                case Started():
                    self._head |= {"id": event.id or self._head["id"], "model": event.model or self._head["model"]}
                case Text() | Refusal():
                    chunks.append(_empty_choice(event.choice, event.text))
                case LogprobsTold():
                    begin = self._scored.get(event.choice, 0)
                    self._scored[event.choice] = begin + sum(len(each.token) for each in event.tokens)
                    chunks.append({**_empty_choice(event.choice, ""), "logprobs": _logprobs(event.tokens, begin)})
                case Finished() if event.reason != UNFINISHED:
                    self._ended = True
                    chunks.append({**_empty_choice(event.choice, ""), "finish_reason": _reason(event.reason)})
                case UsageTold():
                    self._usage = usage_json(event.usage)
                case _:
                    pass
        return b"".join([self._chunk(choices=[each]) for each in chunks])

    def _chunk(self, **fields: Json) -> bytes:
        return data_event(encode_json({**self._head, **fields}))

    def last(self) -> bytes:
        if self.verbatim:
            return data_event(b"[DONE]")
        reply = b"" if self._ended else self._chunk(choices=[{**_empty_choice(0, ""), "finish_reason": "stop"}])
        if self._counts and self._usage is not None:
            reply += self._chunk(choices=[], usage=self._usage)
        return reply + data_event(b"[DONE]")

    def failed(self, error: ErrorTold) -> bytes:
        return data_event(encode_json(PromptFormat().encode_error(error)))


def _empty_choice(index: int, text: str) -> dict[str, Json]:
    return {"index": index, "text": text, "finish_reason": None, "logprobs": None}
