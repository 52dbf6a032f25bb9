"""What a wire format is on the server's side: requests decoded; replies, stream events and errors encoded.

A `ServerFormat` is the mirror of a `agouti.dialects.base.Dialect`: ``decode_request(encode_chat(request).body)`` is the
request again, for every request in the form in which the format itself would say it.
"""

from collections.abc import Callable, Mapping, Sequence
from typing import Any, ClassVar, Protocol

import msgspec
from msgspec import Struct

from ..core.canonical.chat import Completion, Json, Message, ProviderTurn, Request
from ..core.canonical.events import Event, Finished, Passed, TurnTold, UsageTold
from ..core.canonical.parameters import checked
from ..core.canonical.usage import Usage
from ..core.errors import RequestError
from ..core.json.lenient import any_json
from .server_call_order import CallOrder

encode_json = msgspec.json.Encoder().encode


class ReplyHead(Struct, frozen=True, gc=False):
    """What a reply tells besides the answer.

    Attributes:
        created: seconds since the epoch.
        model: its name, where the answer does not tell it.
        identifier: of the reply, where the answer has none.
        request: what was asked.
        body: the same as it came: some formats repeat parts of it.
    """

    created: int
    model: str
    identifier: str
    request: Request
    body: Mapping[str, Json] = {}


class ErrorTold(Struct, frozen=True, gc=False):
    """An error as it is told to a caller.

    Attributes:
        status: the HTTP status.
        message: what happened, and what to do.
        code: one word for what happened, where there is an accepted one.
        parameter: the field at fault, where it is known.
        identifier: of the request.
    """

    status: int
    message: str
    code: str = ""
    parameter: str | None = None
    identifier: str = ""


class StreamEncoder(Protocol):
    """Encodes one stream.

    Attributes:
        verbatim: the provider's own bytes go through; what its events mean need not be encoded.
        between: a whole event has gone out last: something else may stand here.
    """

    verbatim: bool

    @property
    def between(self) -> bool: ...

    def of(self, events: Sequence[Event]) -> bytes:
        """The bytes that these events amount to; none where they say nothing in this format."""

    def last(self) -> bytes:
        """What stands at the end of a stream that is whole."""

    def failed(self, error: ErrorTold) -> bytes:
        """What stands at the end of a stream that broke off."""


class EventEncoder:
    """Encodes a stream of named events; what an event adds to it, a format says in `take`.

    Args:
        head: what the reply tells besides.
        error: makes the body of an error.
    """

    def __init__(self, head: ReplyHead, error: Callable[[ErrorTold], dict[str, Json]]) -> None:
        self.head = head
        self.error = error
        self.usage: Usage | None = None
        self.reason: str | None = None
        self.turn: ProviderTurn | None = None
        self.verbatim = False
        self._tail = b""
        self._order = CallOrder()

    def of(self, events: Sequence[Event]) -> bytes:
        """See `StreamEncoder`."""
        passed = b"".join([event.payload for event in events if type(event) is Passed])
        if passed or self.verbatim:
            self.verbatim = True
            self._tail = (self._tail + passed[-4:])[-4:]
            return passed
        out: list[bytes] = []
        for event in self._order.of([each for each in events if not getattr(each, "choice", 0)]):
            match event:  # such formats have one answer
                case TurnTold():
                    self.turn = event.turn
                case Finished():
                    self.reason = event.reason
                case UsageTold():
                    self.usage = event.usage
                case _:
                    self.take(event, out)
        return b"".join(out)

    def rest(self, out: list[bytes]) -> None:
        """Add what has waited for its turn: the answer has ended."""
        for event in self._order.flush():
            self.take(event, out)

    def take(self, event: Event, out: list[bytes]) -> None:
        """Add what an event amounts to."""
        raise NotImplementedError

    @property
    def between(self) -> bool:
        """Whether a whole event has gone out last: something else may stand here."""
        return not self.verbatim or not self.last_passed()

    def last_passed(self) -> bytes:
        """What stands behind the provider's own bytes: the line end of its last event, where it has left that out."""
        return b"" if not self._tail or self._tail.endswith((b"\n\n", b"\r\n\r\n", b"\r\r")) else b"\n\n"


class ServerFormat:
    """One wire format, on the server's side.

    Attributes:
        name: of the dialect.
        path: of its operation, behind the base address.
        counting: path of the operation that counts the tokens of a request; empty where there is none.
        conversation: the field that holds what is said.
        canonical: the canonical form keeps all that is said in it.
        shared: fields of a request that go on as they came where the provider speaks the same format, and our names of
            the parameters that each of them says.
        alone: further fields that no other format can say: they mean nothing to a provider that speaks another one.
        theirs: what it calls our parameters, where that is otherwise.
        identified: its replies are asked for later, by their identifier.
        several: the conversation may be a list of texts, each of which is a question of its own.
        blank: fields that stand for nothing where a caller in the same format does not say them.
    """

    name: str
    path: str
    counting: str = ""
    conversation: str = "messages"
    canonical: bool = False
    shared: ClassVar[Mapping[str, tuple[str, ...]]] = {}
    alone: ClassVar[frozenset[str]] = frozenset()
    theirs: ClassVar[Mapping[str, str]] = {}
    identified: bool = False
    several: bool = False
    blank: tuple[str, ...] = ()

    def decode_request(self, body: Mapping[str, Json]) -> Request:
        """What is asked, in the canonical form.

        Raises:
            RequestError: the body is no request of this format; says where and why.
        """
        raise NotImplementedError

    def own_fields(self, body: Mapping[str, Json], request: Request) -> dict[str, Json]:
        """Fields that go to a provider of the same format as they came; `None` stands for one that is left out."""
        return {name: body[name] for name in self.shared if name in body}

    def request_in_own_format(self, body: Mapping[str, Json]) -> Request:
        """What is asked, where nothing of it but the model is read: for a provider that speaks the same format.

        Raises:
            RequestError: it names no model.
        """
        streams = bool(field(body, "stream", bool, "true or false"))
        return Request(model_of(body), (Message("user", "-"),), {}, {}, streams)

    def foreign(self, body: Mapping[str, Json]) -> str:
        """Where there is something that only this format knows, and what; empty where there is nothing."""
        return ""

    def says(self, own_fields: Mapping[str, Json]) -> frozenset[str]:
        """Our names of the parameters that fields of a caller's own say already."""
        return frozenset(name for each in own_fields for name in self.shared.get(each, ()))

    def encode_reply(self, completion: Completion, head: ReplyHead) -> dict[str, Json]:
        """A whole reply."""
        raise NotImplementedError

    def stream_encoder(self, head: ReplyHead) -> StreamEncoder:
        """A new encoder for one stream."""
        raise NotImplementedError

    def encode_error(self, error: ErrorTold) -> dict[str, Json]:
        """The body of an error."""
        kind = next((error_type for status, error_type in _TYPES.items() if status == error.status), "")
        kind = kind or ("invalid_request_error" if error.status < 500 else "server_error")
        error_fields = {"message": error.message, "type": kind, "param": error.parameter, "code": error.code or None}
        return {"error": error_fields}


_TYPES = {
    401: "authentication_error",
    402: "insufficient_quota",
    403: "permission_error",
    404: "not_found_error",
    429: "rate_limit_error",
    503: "overloaded_error",
}


def field(
    body: Mapping[str, Json], name: str, kinds: type | tuple[type, ...], description: str, where: str = ""
) -> Any:
    """A field of a body, of the type that the format gives it; `None` where it is not there, or null.

    Raises:
        RequestError: it is of another type.

    >>> field({"stream": True}, "stream", bool, "true or false")
    True
    """
    value = body.get(name)
    if value is None:
        return None
    kinds = kinds if isinstance(kinds, tuple) else (kinds,)
    if not isinstance(value, kinds) or (isinstance(value, bool) and bool not in kinds):
        raise wrong(f"{where}{name}", f"takes {description}")
    return value


def wrong(where: str, reason: str) -> RequestError:
    """The error for a body that is not as the format wants it."""
    return RequestError(f"{where} {reason}", hint="See the format's own description of the request.")


def model_of(body: Mapping[str, Json]) -> str:
    """The model that is asked: a label.

    Raises:
        RequestError: there is none.
    """
    model = field(body, "model", str, "a text: a label of the configuration")
    if not model:
        raise RequestError("model is missing", hint='Add "model": a label of the configuration.')
    return str(model)


def objects(value: Json, where: str) -> list[Mapping[str, Json]]:
    """A list of objects.

    Raises:
        RequestError: it is none.
    """
    if not isinstance(value, list):
        raise wrong(where, "takes a list")
    for number, each in enumerate(value):
        if not isinstance(each, Mapping):
            raise wrong(f"{where}.{number}", "takes an object")
    return value


def parameters_of(values: Mapping[str, Json]) -> dict[str, Json]:
    """Parameters, checked; those that are null are left out.

    Raises:
        RequestError: one is of a wrong type, or out of range.
    """
    return {name: value for name, value in checked(values).items() if value is not None}


def data_event(payload: bytes) -> bytes:
    """A payload as a server-sent event without a name.

    >>> data_event(b"[DONE]")
    b'data: [DONE]\\n\\n'
    """
    # A payload with line breaks came in several lines of data, and goes in as many.
    if b"\n" in payload:
        payload = payload.replace(b"\n", b"\ndata: ")
    return b"data: " + payload + b"\n\n"


def passed_on(events: Sequence[Event], *, counts: bool) -> bytes:
    """The payloads among events, as they came.

    Args:
        counts: whether the caller has asked for token counts: the provider is asked in any case, and the chunk that has
            them alone is kept from those who do not expect it.
    """
    if len(events) == 2 and type(events[0]) is Passed and events[0].framed:
        return events[0].payload  # nearly all of a stream: texts alone, and what they say
    return b"".join([_passed(event, counts) for event in events if type(event) is Passed])


def _passed(event: Passed, counts: bool) -> bytes:
    payload = event.payload
    if event.framed:
        return payload
    return data_event(payload) if counts or b'"usage"' not in payload or not _counts_alone(payload) else b""


def _counts_alone(payload: bytes) -> bool:
    chunk = any_json(payload)
    return isinstance(chunk, dict) and bool(chunk.get("usage")) and not chunk.get("choices")


def request_of(
    body: Mapping[str, Json],
    model: str,
    messages: Sequence[Message],
    parameters: Mapping[str, Json],
    known: "frozenset[str]",
) -> Request:
    """The request that the parts of a body amount to; what is not known of it goes on as it is.

    Raises:
        RequestError: a parameter is of a wrong type, or out of range.
    """
    streams = bool(field(body, "stream", bool, "true or false"))
    return Request(model, tuple(messages), parameters_of(parameters), rest_of(body, known), streams)


def rest_of(body: Mapping[str, Json], known: "frozenset[str] | set[str]") -> dict[str, Json]:
    """The fields that a format does not know: they go on as they are."""
    return {name: value for name, value in body.items() if name not in known and value is not None}
