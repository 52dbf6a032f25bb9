"""The dialect marked by ``POST {base}/models/{model}/predictions``: jobs, polled at addresses that the reply names.

The first reply names them: one to ask how far it is, one to cancel it, and often one for its events, which are plain
text. The engine goes there: see `base.Pending`.
"""

import re
from collections.abc import Mapping
from typing import Any

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..core.canonical.chat import Choice, Completion, Json, MediaFile, Request
from ..core.canonical.events import Event, Finished, Started, Text
from ..core.canonical.usage import Usage
from ..core.errors import Overloaded, ProviderFault, ReplyUnreadable, RequestError
from ..core.framing.sse import SseDecoder
from ..core.http.address import Ending, in_path
from ..core.json.pointer import read
from ..core.messages.messages import system_and_rest, without_images
from ..core.messages.parts import ImagePart, parts_of
from .base import (
    Abilities,
    Dialect,
    EntryOptions,
    Field,
    StreamDecoder,
    Write,
    as_list,
    extra_table,
    joined_text,
)
from .chat.fields import media_file
from .prompt.dialect import prompt_of
from .shared.error_mapping import classify
from .shared.stream_decoding import PayloadStream, read_reply
from .wire import Fault, Outgoing, Pending

_PARAMETERS: dict[str, Write] = {
    "temperature": Field("input/temperature"),
    "top_p": Field("input/top_p"),
    "max_tokens": Field("input/max_tokens"),
    "stop": Field("input/stop_sequences", as_list),
    "top_k": Field("input/top_k"),
    "min_p": Field("input/min_p"),
    "repetition_penalty": Field("input/repetition_penalty"),
    "seed": Field("input/seed"),
    "presence_penalty": Field("input/presence_penalty"),
    "frequency_penalty": Field("input/frequency_penalty"),
}
_UNDER_WAY = frozenset({"starting", "queued", "processing"})
# The server holds a short piece of work that long; an entry's own header of that name wins.
_HOLD = (("prefer", "wait=5"),)
_VERSION_PATH = "/predictions"
_VERSION = re.compile(r"[0-9a-f]{64}$")
_FILE = re.compile(
    r"data:[a-z]+/[^,\s]*,\S+|https?://\S+\.(png|jpe?g|gif|webp|wav|mp3|ogg|flac|mp4|svg)", re.IGNORECASE
)
_encode = msgspec.json.Encoder().encode


class _Urls(Struct):
    get: str | None = None
    cancel: str | None = None
    stream: str | None = None


class _Metrics(Struct):
    input_token_count: int | None = None
    output_token_count: int | None = None


class _Job(Struct):
    id: str | None = None
    model: str | None = None
    status: str | None = None
    input: dict[str, Any] | None = None
    output: Any = None
    error: Any = None
    metrics: _Metrics | None = None
    urls: _Urls | None = None


class JobsDialect(Dialect):
    """See the module.

    Args:
        is_single: the address is that of the operation itself, ``/predictions``: a server of one model has only it.
    """

    name = "jobs"
    abilities = Abilities(
        inputs=("text", "image"),
        parameters=_PARAMETERS,
        endings=(Ending("/models/(?P<model>[^/]+/[^/]+)/predictions"), Ending("/predictions", keep=True)),
    )

    def __init__(self, *, is_single: bool = False) -> None:
        self._is_single = is_single

    def configured(self, options: EntryOptions) -> "JobsDialect":
        return JobsDialect(is_single=options.chat_path == _VERSION_PATH)

    def encode_chat(self, request: Request) -> Outgoing:
        system, remaining = system_and_rest(request.messages)
        images = [part for message in remaining for part in parts_of(message) if isinstance(part, ImagePart)]
        if len(images) > 1:
            raise RequestError("dialect jobs takes one image at a time", hint="Ask about each in a call of its own.")
        inputs: dict[str, Json] = {
            "prompt": prompt_of(without_images(remaining, "jobs") if images else remaining, request.markers)
        }
        if system:
            inputs["system_prompt"] = system
        for image in images:
            inputs["image"] = image.address or f"data:{image.media_type};base64,{image.data}"
        body: dict[str, Any] = {"input": inputs}
        self.abilities.write(body, request.parameters)
        extra = dict(request.extra)
        body["input"].update(extra_table(extra, "input"))
        path = f"/models/{in_path(request.model)}/predictions"
        version = request.model.rpartition(":")[2]
        if _VERSION.fullmatch(version):
            path, body["version"] = _VERSION_PATH, version
        elif self._is_single and "/" in request.model:
            body["version"] = request.model
        if request.stream:
            body["stream"] = True
        return Outgoing("chat", path, {**body, **extra}, headers=() if request.stream else _HOLD)

    def decode_chat(self, body: bytes) -> Completion | Fault | Pending:
        job = read_reply(body, _Job, "the reply")
        if job.status is None:
            if job.error is not None:
                return self.classify(200, {}, body)
            raise ReplyUnreadable("the reply is JSON, but no job: it has no `status`")
        urls = job.urls or _Urls()
        if job.status in _UNDER_WAY:
            if not urls.get:
                raise ReplyUnreadable("the job is under way, but its reply names no address to ask again (`urls.get`)")
            return Pending(urls.get, urls.cancel or "", urls.stream or "")
        if job.status in ("failed", "canceled", "aborted"):
            reason = job.error if isinstance(job.error, str) else ""
            return _failure(
                reason or f"the job was {job.status}" + ("" if job.status != "failed" else " without a reason")
            )
        choice = Choice(_text(job.output), _finish(job), files=_files(job.output))
        return Completion((choice,), job.model, job.id, _usage(job.metrics))

    def stream_decoder(self) -> StreamDecoder:
        return _JobStream()

    def pasted_system(self, body: dict[str, Any]) -> str:
        return joined_text(read(body, "/input/system_prompt"))

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        fault = classify(status, headers, body, {})
        # All places of a small server are taken.
        return replace(fault, kind=Overloaded) if status == 409 else fault


def _failure(reason: str) -> Fault:
    fault = classify(200, {}, _encode({"error": reason}), {})
    return fault if fault.message else Fault(ProviderFault, reason)


def _text(output: Json) -> str:
    if isinstance(output, list):
        return "".join([_text(part) for part in output])
    if output is None:
        return ""
    return output if isinstance(output, str) else _encode(output).decode()


def _files(output: Json) -> tuple[MediaFile, ...]:
    """Images and audio that models give, as addresses: the text has them too."""
    addresses = [each for each in (output if isinstance(output, list) else [output]) if isinstance(each, str)]
    return tuple([media_file(each) for each in addresses if _FILE.fullmatch(each)])


def _finish(job: _Job) -> str:
    # The format has no reason, but it repeats what was asked, and counts.
    cap = (job.input or {}).get("max_tokens")
    count = job.metrics.output_token_count if job.metrics is not None else None
    return "length" if isinstance(cap, int) and count is not None and count >= cap else "stop"


def _usage(metrics: _Metrics | None) -> Usage | None:
    if metrics is None or (metrics.input_token_count is None and metrics.output_token_count is None):
        return None
    inputs, outputs = metrics.input_token_count, metrics.output_token_count
    return Usage(inputs, outputs, inputs + outputs if inputs is not None and outputs is not None else None)


class _JobStream(PayloadStream):
    """Events whose data is plain text: not JSON, and a line of blanks is a part of the answer."""

    takes_blanks = True

    def __init__(self) -> None:
        super().__init__(SseDecoder())
        self._started = False

    def take(self, name: str, payload: bytes, events: list[Event]) -> None:
        if name == "output":
            if not self._started:
                self._started = True
                events.append(Started())
            events.append(Text(payload.decode("utf-8", "replace")))
        elif name == "error":
            self.failure = classify(200, {}, payload, {})
        elif name == "done":
            self._end(payload, events)

    def _end(self, payload: bytes, events: list[Event]) -> None:
        reason = _reason(payload)
        if reason in ("error", "canceled"):
            self.failure = Fault(ProviderFault, f"the job ended early ({reason})")
            return
        self.done = True
        events.append(Finished("stop"))


class _Done(Struct):
    reason: str | None = None


def _reason(payload: bytes) -> str | None:
    try:
        return read_reply(payload, _Done, "the end").reason
    except ReplyUnreadable:
        return None
