"""The dialect marked by ``POST {base}/completions``: one text, no roles.

The roles are rendered to one text by the markers of the model's entry: named pieces of text, put together
here. There is no template language, so nothing in a configuration or a conversation is ever run.
"""

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec
from msgspec import Struct

from ...core.canonical.chat import Choice, Completion, Json, Markers, Message, Request, TokenLogprob
from ...core.canonical.events import Event, Finished, LogprobsTold, Passed, Started, Text, UsageTold
from ...core.errors import ReplyUnreadable
from ...core.framing.sse import SseDecoder
from ...core.http.address import Ending
from ...core.messages.call_pairs import in_words
from ...core.messages.parts import words_of
from ..base import Abilities, Field, StreamDecoder, Write, as_list, same_names
from ..chat.fields import CODES, finish_reason, with_counts
from ..shared.model_listing import ModelListing
from ..shared.stream_decoding import PayloadStream, read_reply
from ..shared.text_template import TextTemplate
from ..shared.usage_fields import UsageFields, usage_of
from ..wire import Fault, Outgoing

SAME = (
    "temperature",
    "top_p",
    "max_tokens",
    "seed",
    "n",
    "presence_penalty",
    "frequency_penalty",
    "logit_bias",
    "user",
    "top_k",
    "min_p",
    "repetition_penalty",
    "stream_options",
)
"""Parameters that the format calls as we do."""


def _logprobs(body: dict[str, Any], value: bool | int, _: Mapping[str, Json]) -> None:
    """One number says whether, and of how many tokens at each place: none beside the chosen one is 0."""
    if value is True:
        body.setdefault("logprobs", 0)
    elif value is not False:
        body["logprobs"] = value


_PARAMETERS: dict[str, Write] = {
    **same_names(*SAME),
    "logprobs": _logprobs,
    "top_logprobs": _logprobs,
    "stop": Field("stop", as_list),
}


class _Logprobs(Struct):
    tokens: list[str] | None = None
    token_logprobs: list[float | None] | None = None
    top_logprobs: list[dict[str, float] | None] | None = None

    def logprobs_of(self) -> tuple[TokenLogprob, ...]:
        tokens = self.tokens or []
        values = [*(self.token_logprobs or ()), *[None] * len(tokens)]
        tops = [*(self.top_logprobs or ()), *[None] * len(tokens)]
        return tuple(
            [
                TokenLogprob(token, value, tuple([TokenLogprob(*pair) for pair in (top or {}).items()]))
                for token, value, top in zip(tokens, values, tops, strict=False)
            ]
        )


class _Choice(Struct):
    text: str | None = None
    index: int | None = None
    finish_reason: str | None = None
    logprobs: _Logprobs | None = None

    def tokens(self) -> tuple[TokenLogprob, ...]:
        return self.logprobs.logprobs_of() if self.logprobs is not None else ()


class _Reply(Struct):
    """A whole reply, and each chunk of a streamed one."""

    id: str | None = None
    model: str | None = None
    choices: list[_Choice] | None = None
    usage: UsageFields | None = None
    error: Any = None


_CHUNK = msgspec.json.Decoder(_Reply)


def rendered(messages: Sequence[Message], markers: Markers) -> str:
    """The conversation as one text that ends where the model is to go on.

    Raises:
        RequestError: it holds images, which have no place in a text.

    >>> rendered([Message("user", "Peas?")], Markers(user="### Instruction: ", assistant="### Response:"))
    '### Instruction: Peas?\\n### Response:'
    """
    lines = []
    before = {"system": markers.system, "developer": markers.system, "user": markers.user}
    for message in in_words(messages):
        text = words_of(message)
        if message.role == "assistant":
            lines.append(f"{markers.assistant} {text}{markers.end}")
        else:
            lines.append(f"{before[message.role]}{text}{markers.end}")
    return "".join(lines) + markers.assistant


def prompt_of(messages: Sequence[Message], markers: Markers) -> str:
    """The conversation as one text, for formats that take a question rather than a text to go on with.

    A question alone, with or without a system text, needs no markers.

    Raises:
        RequestError: it holds images.

    >>> prompt_of([Message("system", "Brief."), Message("user", "Peas?")], Markers())
    'Brief.\\n\\nPeas?'
    """
    roles = [message.role for message in messages if message.role not in ("system", "developer")]
    if roles != ["user"] or markers != Markers():
        return rendered(messages, markers)
    return "\n\n".join(filter(None, (words_of(message) for message in messages)))


class PromptDialect(ModelListing):
    """See the module."""

    name = "prompt"
    abilities = Abilities(
        parameters=_PARAMETERS,
        adds=frozenset({"stream_options"}),
        inputs=("text",),
        payloads=True,
        endings=(Ending("/completions"), Ending("/models", "models")),
    )

    def encode_chat(self, request: Request) -> Outgoing:
        body: dict[str, Any] = {"model": request.model, "prompt": rendered(request.messages, request.markers)}
        self.abilities.write(body, request.parameters)
        stops = [*body.get("stop", ()), *request.markers.stop]
        if stops:
            body["stop"] = stops[:4]  # the format takes no more; those of the call come first
        if request.stream:
            body["stream"] = True
            if "stream_options" not in request.refused:
                body["stream_options"] = with_counts(body.get("stream_options"))
        else:
            body.pop("stream_options", None)
        body.update(request.extra)
        accept = "text/event-stream" if request.stream else "application/json"
        return Outgoing("chat", "/completions", body, accept=accept)

    def decode_chat(self, body: bytes) -> Completion | Fault:
        reply = read_reply(body, _Reply, "the reply")
        if reply.choices is None:
            if reply.error:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but has no `choices`")
        choices = tuple(
            [
                Choice(choice.text or "", finish_reason(choice.finish_reason), logprobs=choice.tokens())
                for choice in reply.choices
            ]
        )
        return Completion(choices, reply.model, reply.id, usage_of(reply.usage) if reply.usage is not None else None)

    def stream_decoder(self) -> StreamDecoder:
        return _PromptStream(self)

    def verbatim_decoder(self) -> StreamDecoder:
        return _PromptStream(self, verbatim=True)

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        from ..shared.error_mapping import classify

        return classify(status, headers, body, CODES)


class _PromptStream(PayloadStream):
    """Chunks with the next text, until ``[DONE]``."""

    def __init__(self, dialect: PromptDialect, *, verbatim: bool = False) -> None:
        super().__init__(SseDecoder())
        self._verbatim = verbatim
        self._dialect = dialect
        self._started = False
        self._finished = False
        self._template = TextTemplate("text")

    def end(self) -> bool:
        return self.done or self._finished

    def take(self, name: str, payload: bytes, events: list[Event]) -> None:
        if self._template.fits and (text := self._template.text(payload)) is not None:
            if self._verbatim:
                events.append(Passed(payload))
            events.append(Text(text))
            return
        if payload == b"[DONE]":
            self.done = True
            return
        chunk = self.read(payload, _CHUNK, _Reply)
        if chunk is None:
            return
        if chunk.error or name == "error":
            self.failure = self._dialect.classify(200, {}, payload)
            return
        if self._verbatim:
            events.append(Passed(payload))
        if not self._started and (chunk.model or chunk.id):
            self._started = True
            events.append(Started(chunk.model, chunk.id))
        for choice in chunk.choices or ():
            if choice.text:
                events.append(Text(choice.text, choice.index or 0))
                if self._started and chunk.usage is None and choice == _Choice(choice.text, 0):
                    self._template.learn(payload, choice.text)
            if tokens := choice.tokens():
                events.append(LogprobsTold(tokens, choice.index or 0))
            if choice.finish_reason:
                self._finished = True
                events.append(Finished(finish_reason(choice.finish_reason) or "stop", choice.index or 0))
        if chunk.usage is not None:
            events.append(UsageTold(usage_of(chunk.usage)))
