"""What stream decoders share: split the bytes, take each payload, stop at the end or at the first failure."""

from collections.abc import Iterable
from contextlib import suppress
from typing import TYPE_CHECKING, Any, ClassVar, Protocol, TypeVar

import msgspec

from ...core.errors import ReplyUnreadable
from ...core.json.lenient import UNDECODABLE, any_json, decode_json, lenient
from ..wire import Fault

if TYPE_CHECKING:
    from ...core.canonical.events import Event
    from ...core.framing.sse import ServerEvent

T = TypeVar("T", bound=msgspec.Struct)


class Splitter(Protocol):
    """Cuts a stream into payloads: server-sent events, or lines."""

    def feed(self, data: bytes) -> "list[ServerEvent] | list[bytes]":
        """Take the next bytes; raises `FramingError`."""


class PayloadStream:
    """A `StreamDecoder` whose payloads are JSON objects; a dialect says in `take` what each of them means.

    Attributes:
        takes_blanks: a payload of blanks is no filler, but a part of the answer.
        terminator: what ends any payload of the format; empty where the bytes themselves say how long it is.
    """

    takes_blanks: ClassVar[bool] = False
    terminator: ClassVar[bytes] = b"\n\n"

    def __init__(self, splitter: Splitter) -> None:
        self._splitter = splitter
        self.done = False
        self.failure: Fault | None = None

    def feed(self, data: bytes) -> "list[Event]":
        """See `StreamDecoder`."""
        events: list[Event] = []
        if self.done or self.failure is not None:
            return events  # some servers send more after the end mark: not part of the reply
        try:
            payloads = self._splitter.feed(data)
        except ReplyUnreadable as error:
            self.failure = Fault(type(error), error.message)
            return events
        for item in payloads:
            name, payload = ("", item) if isinstance(item, bytes) else item
            # Nearly every payload is an object; what is only filler is told by its bytes.
            if payload[:1] == b"{" or self.takes_blanks or payload.strip() not in (b"", b"null"):
                self.take(name, payload, events)
                if self._over():
                    break
        return events

    def last(self) -> "list[Event]":
        """See `StreamDecoder`."""
        return self.feed(self.terminator) if self.terminator else []

    def end(self) -> bool:
        """See `StreamDecoder`."""
        return self.done

    def take(self, name: str, payload: bytes, events: "list[Event]") -> None:
        """Add the events of one payload."""
        raise NotImplementedError

    def read(self, payload: bytes, decoder: "msgspec.json.Decoder[T]", kind: type[T]) -> T | None:
        """A payload as a struct, mended where its fields have odd types; `None` once it is a failure."""
        try:
            return decoder.decode(payload)
        except UNDECODABLE:
            pass
        try:
            return lenient(decode_json(payload), kind)
        except msgspec.MsgspecError as error:
            self.failure = Fault(ReplyUnreadable, f"a part of the stream cannot be read ({error})")
            return None

    def _over(self) -> bool:
        return self.done or self.failure is not None


def rows_of(values: Iterable[Any], kind: type[T]) -> list[T]:
    """The rows of a list as structs: a field of an odd type is left out, and a row that is none at all; no other is.

    >>> class Listed(msgspec.Struct):
    ...     id: str | None = None
    ...     context: int | None = None
    >>> rows_of([{"id": "quill", "context": "8k"}, 7, {"id": "loam"}], Listed)
    [Listed(id='quill', context=None), Listed(id='loam', context=None)]
    """
    rows = []
    for value in values:
        with suppress(msgspec.ValidationError):
            rows.append(lenient(value, kind))
    return rows


def read_reply(body: bytes, kind: type[T], subject: str) -> T:
    """A whole reply as a struct, mended where its fields have odd types, without what is behind it.

    Raises:
        ReplyUnreadable: it is not one.
    """
    try:
        value: Any = any_json(body)
    except msgspec.DecodeError as error:
        raise ReplyUnreadable(f"{subject} is not JSON ({error})") from None
    try:
        return lenient(value, kind)
    except msgspec.ValidationError as error:
        raise ReplyUnreadable(f"{subject} is JSON of another kind ({error})") from None
