"""The server's side of ``POST {base}/chat/completions``: nearly the canonical form itself."""

from collections.abc import Mapping, Sequence
from typing import Any

from ...core.canonical.chat import Completion, Json, Request
from ...core.canonical.events import Event, Passed
from ...core.messages.json_form import Chunks, chat_arguments, reply_json
from ...core.messages.messages import messages_of
from ..server_base import (
    ErrorTold,
    ReplyHead,
    ServerFormat,
    data_event,
    encode_json,
    field,
    model_of,
    objects,
    parameters_of,
    passed_on,
)


class ChatFormat(ServerFormat):
    """See the module."""

    name = "chat"
    path = "/chat/completions"
    canonical = True

    def decode_request(self, body: Mapping[str, Json]) -> Request:
        model_of(body)
        streams = field(body, "stream", bool, "true or false")
        objects(body.get("messages"), "messages")
        if body.get("tools") is not None:
            objects(body["tools"], "tools")
        request = chat_arguments(body)
        options = dict(request.options)
        extra = options.pop("extra", {})
        if request.stream_options is not None:
            options["stream_options"] = request.stream_options
        return Request(
            request.model, messages_of(request.messages), parameters_of(options), extra, stream=bool(streams)
        )

    def encode_reply(self, completion: Completion, head: ReplyHead) -> dict[str, Json]:
        reply = reply_json(completion, head.created, head.model, head.identifier)
        if _asks_in_older_words(head.body):
            for choice in reply["choices"]:
                _in_older_words(choice, choice["message"])
        return reply

    def stream_encoder(self, head: ReplyHead) -> "_ChatEncoder":
        return _ChatEncoder(head)


def _asks_in_older_words(body: Mapping[str, Json]) -> bool:
    """Whether a caller knows one function call in an answer, and no tools."""
    return bool(body.get("functions")) and not body.get("tools")


def _in_older_words(choice: dict[str, Json], message: dict[str, Json]) -> None:
    """The first call of an answer, or a piece of it, as such callers read it; further ones they could not have."""
    calls = message.pop("tool_calls", None)
    if calls:
        first = next((call for call in calls if not call.get("index")), None)
        if first is not None:
            message["function_call"] = first["function"]
    if choice.get("finish_reason") == "tool_calls":
        choice["finish_reason"] = "function_call"


class _ChatEncoder:
    """Chunks, each the data of one event, until ``[DONE]``."""

    def __init__(self, head: ReplyHead) -> None:
        options: Any = head.request.parameters.get("stream_options") or {}
        self._counts = bool(options.get("include_usage"))
        self._chunks = Chunks(head.created, head.model, head.identifier, usage=self._counts)
        self._older = _asks_in_older_words(head.body)
        self.verbatim = False
        self.between = True

    def of(self, events: Sequence[Event]) -> bytes:
        if self.verbatim or any(type(event) is Passed for event in events):
            self.verbatim = True
            return passed_on(events, counts=self._counts)
        chunks = list(self._chunks.of(events))
        if self._older:
            for chunk in chunks:
                for choice in chunk["choices"]:
                    _in_older_words(choice, choice["delta"])
        return b"".join([data_event(encode_json(chunk)) for chunk in chunks])

    def last(self) -> bytes:
        last_events = [] if self.verbatim else [data_event(encode_json(chunk)) for chunk in self._chunks.last()]
        return b"".join([*last_events, b"data: [DONE]\n\n"])

    def failed(self, error: ErrorTold) -> bytes:
        return data_event(encode_json(ChatFormat().encode_error(error)))
