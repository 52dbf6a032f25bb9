"""What a dialect is: pure translation between the canonical form and one wire format.

A dialect makes bytes from a `Request` and facts from bytes. It opens no connection, reads no clock
and holds no state between calls; only a stream decoder has state, for one stream.
"""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, ClassVar, Literal, Protocol, TypeAlias, runtime_checkable

from msgspec import Struct

from ..core.chat import Completion, Request
from ..core.errors import AgoutiError, ReplyUnreadable
from ..core.events import Event

if TYPE_CHECKING:
    from ..core.vectors import Vectors, VectorsWanted

Means: TypeAlias = Literal["schema", "tool", "json", "prompt"]
"""How a model is held to a form: a schema of the provider's own, a forced call, JSON of any form, or words alone."""


class Fault(Struct, frozen=True):
    """What a provider's error reply means.

    Attributes:
        kind: the class of the error to raise.
        message: the provider's own words.
        parameter: the request field at fault, where the provider names it.
        wait: seconds to wait before another try, where the provider says so.
    """

    kind: type[AgoutiError]
    message: str = ""
    parameter: str | None = None
    wait: float | None = None


class Outgoing(Struct, frozen=True, gc=False):
    """A request of a dialect, before the provider's address, headers, key and peculiarities are added.

    Attributes:
        operation: ``chat``, ``models``, ...: an entry may give it another path.
        path: the dialect's own path, after the base address; ``{model}`` stands for the model's name.
        body: the fields of the JSON body; the engine may change this dict.
        headers: headers that belong to this one operation; the entry's own win over them.
    """

    operation: str
    path: str
    body: dict[str, Any] | None = None
    method: str = "POST"
    accept: str = "application/json"
    headers: tuple[tuple[str, str], ...] = ()


class Pending(Struct, frozen=True, gc=False):
    """The provider has taken the work, and will tell about it at other addresses.

    Attributes:
        poll: where to ask how far it is; the answer is decoded like the first one.
        cancel: where to say that it is no longer wanted (``POST``); empty where there is none.
        stream: where its events are; empty where there are none.
    """

    poll: str
    cancel: str = ""
    stream: str = ""


class ListedModel(Struct, frozen=True):
    """One model of a provider's list; `None` where the provider does not say.

    Attributes:
        name: exactly what is sent as the model's name.
        context: tokens of prompt and answer together.
        input_price, output_price: dollars per million tokens.
        sees: whether it takes images.
    """

    name: str
    context: int | None = None
    input_price: float | None = None
    output_price: float | None = None
    sees: bool | None = None


class StreamDecoder(Protocol):
    """Decodes one stream.

    Attributes:
        done: the format's own end mark has come; nothing more will.
        failure: an error that the provider reported inside the stream, or bytes that cannot be
            read. It does not raise, so that the events that came before it are not lost.
    """

    done: bool
    failure: Fault | None

    def feed(self, data: bytes) -> list[Event]:
        """Take the next bytes, cut anywhere; return the events that they complete. Never raises."""

    def end(self) -> bool:
        """The connection has closed: was the reply complete? (`False`: it was cut off.)"""


@runtime_checkable
class VerbatimDecoder(StreamDecoder, Protocol):
    """A decoder of a stream whose payloads are the canonical form already.

    Attributes:
        verbatim: give each payload as it came, as a `Passed` before its events.
    """

    verbatim: bool


@runtime_checkable
class JsonStreamDecoder(StreamDecoder, Protocol):
    """A decoder that reads ``application/json`` as it comes as well: a stream as a JSON array, or a whole reply.

    Attributes:
        reads_json: says so.
    """

    reads_json: bool


class Dialect(Protocol):
    """One wire format.

    Attributes:
        name: how it is called in a configuration.
        takes: the parameters that it can express; `None`: all of them.

    One that can hold a model to a form says so with two more: ``means``, the strongest first, and ``style``, what
    schemas have to look like (see `core.schema`). Without them there are words alone.
    """

    @property
    def name(self) -> str: ...
    @property
    def takes(self) -> frozenset[str] | None: ...

    def encode_chat(self, request: Request) -> Outgoing:
        """The request as path and body.

        Raises:
            RequestError: the format cannot express it.
        """

    def decode_chat(self, body: bytes) -> "Completion | Fault | Pending":
        """A whole reply; a `Fault` where an error came with a good status; `Pending` where it is still to come.

        Raises:
            ReplyUnreadable: it is not a reply of this dialect.
        """

    def stream_decoder(self) -> StreamDecoder | None:
        """A new decoder for one stream; `None` where the format has no streams: the reply is sent whole then."""

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        """What an error reply means. Never raises, whatever the body holds."""

    def encode_models(self) -> Outgoing | None:
        """The request for the list of models; `None` where the format has none."""

    def decode_models(self, body: bytes) -> tuple[ListedModel, ...]:
        """The provider's list.

        Raises:
            ReplyUnreadable: it is not such a list.
        """


class WithoutList:
    """For a format that has no list of models."""

    def encode_models(self) -> Outgoing | None:
        """There is no request for it."""
        return None

    def decode_models(self, body: bytes) -> tuple[ListedModel, ...]:
        """There is nothing to decode."""
        raise ReplyUnreadable("this dialect has no list of models")


@runtime_checkable
class EmbeddingDialect(Protocol):
    """A wire format that turns texts into vectors as well.

    Attributes:
        most_texts: texts that one request may hold.
        base64: whether it can be asked for vectors as base64 of little-endian 32-bit floats.
    """

    most_texts: ClassVar[int]
    base64: ClassVar[bool]

    def encode_vectors(self, wanted: "VectorsWanted") -> Outgoing:
        """The request as path and body.

        Raises:
            RequestError: the format cannot express it.
        """

    def decode_vectors(self, body: bytes) -> "Vectors | Fault":
        """The vectors, in the order of the texts.

        Raises:
            ReplyUnreadable: it is not such a reply.
        """
