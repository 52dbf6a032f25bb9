"""What a dialect is: pure translation between the canonical form and one wire format.

A dialect makes bytes from a `Request` and facts from bytes. It opens no connection, reads no clock and holds no state
between calls; only a stream decoder has state, for one stream. What a format can do is declared in its `Abilities`.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Protocol, TypeAlias

from msgspec import Struct

from ..core.canonical.chat import Completion, Json, Request
from ..core.canonical.structured import Means
from ..core.errors import ParameterUnsupported, ReplyUnreadable, RequestError
from ..core.http.address import Ending
from ..core.messages.parts import MARK
from ..core.messages.tool_json import function_of
from .wire import Fault, Handed, LineResult, ListedModel, Outgoing, Pending

if TYPE_CHECKING:
    from ..core.canonical.events import Event
    from ..core.canonical.vectors import Vectors, VectorsRequest
    from ..core.schemas.fit import Style
    from ..core.settings.declarations import Instance


Write: TypeAlias = Callable[[dict[str, Any], Json, Mapping[str, Json]], None]
"""Puts a parameter into a request body: the body, the value, and all parameters of the call."""


class Field(Struct, frozen=True):
    """A parameter that is one field of the body.

    Attributes:
        path: names from the outside in, with slashes between them.
        convert: makes the format's value of ours.

    >>> body = {}
    >>> Field("generationConfig/topP")(body, 0.5, {})
    >>> body
    {'generationConfig': {'topP': 0.5}}
    """

    path: str
    convert: Callable[[Json], Json] | None = None

    def __call__(self, body: dict[str, Any], value: Json, parameters: Mapping[str, Json]) -> None:
        *outer, name = self.path.split("/")
        for each in outer:
            body = body.setdefault(each, {})
        body[name] = value if self.convert is None else self.convert(value)


def same_names(*names: str) -> dict[str, Write]:
    """Parameters that a format calls as we do."""
    return {name: Field(name) for name in names}


def extra_table(extra: dict[str, Json], name: str) -> dict[str, Json]:
    """A table among the fields that go into a request as they are, taken out of them; an empty one where there is none.

    Raises:
        RequestError: what stands there is no table.

    >>> fields = {"options": {"mirostat": 2}, "weather": "wet"}
    >>> extra_table(fields, "options"), fields
    ({'mirostat': 2}, {'weather': 'wet'})
    """
    value = extra.pop(name, None)
    if value is None:
        return {}
    if not isinstance(value, Mapping):
        raise RequestError(f"{name} cannot be a {type(value).__name__}", hint=f"Give {name} as a table.")
    return dict(value)


def as_list(stop: str | list[str]) -> list[str]:
    """Stop strings as a list, for formats that take no single one."""
    return [stop] if isinstance(stop, str) else stop


def as_written(_: dict[str, Any], __: Json, ___: Mapping[str, Json]) -> None:
    """For a parameter that another one writes together with its own."""


def mark_of(tool: Mapping[str, Any]) -> Json:
    """The prompt-cache mark of a tool; `None` where it has none."""
    return tool.get(MARK) or function_of(tool).get(MARK)


def chosen_function(choice: Json) -> str | None:
    """The function that ``tool_choice`` names; `None` where it is a word."""
    if not isinstance(choice, Mapping) or choice.get("type", "function") not in ("function", "tool"):
        return None
    return function_of(choice).get("name")


def in_common(common_reasons: Mapping[str, str], reason: str | None) -> str | None:
    """A format's word for the end in the common vocabulary; its own where it is none of them."""
    return None if reason is None else common_reasons.get(reason, reason)


def no_response_format(dialect: str, kind: Json, hint: str = "") -> ParameterUnsupported:
    """The error for a ``response_format`` that a format does not have."""
    problem = f"dialect {dialect} has no response_format of type {kind!r}"
    return ParameterUnsupported(problem, parameter="response_format", hint=hint or "Leave response_format out.")


def no_tool_choice(dialect: str, choice: Json) -> ParameterUnsupported:
    """The error for a ``tool_choice`` that a format cannot express."""
    return ParameterUnsupported(
        f"dialect {dialect} cannot express this tool_choice: {str(choice)[:80]}",
        parameter="tool_choice",
        hint="Take auto, none, required, or the name of a function.",
    )


def system_of(messages: Json) -> str:
    """The system text of messages that were pasted.

    >>> system_of([{"role": "system", "content": "Brief."}, {"role": "user", "content": "Peas?"}])
    'Brief.'
    """
    listed = messages if isinstance(messages, list) else []
    systems = [each for each in listed if isinstance(each, dict) and each.get("role") in ("system", "developer")]
    return "\n\n".join(filter(None, (joined_text(each.get("content")) for each in systems)))


def joined_text(content: Json) -> str:
    """The text of a content: one text, or a list of parts that have some.

    >>> joined_text("Brief."), joined_text([{"text": "Be "}, {"text": "brief."}]), joined_text(None)
    ('Brief.', 'Be brief.', '')
    """
    if isinstance(content, str):
        return content
    parts = content if isinstance(content, list) else []
    return "".join(str(part.get("text") or "") for part in parts if isinstance(part, dict))


class VectorAbility(Struct, frozen=True, kw_only=True):
    """How a format turns texts into vectors.

    Attributes:
        max_texts: texts that one request may hold.
        base64: whether it can be asked for vectors as base64 of little-endian 32-bit floats.
        compatible: whether requests and replies are those of the OpenAI-compatible interface.
    """

    max_texts: int
    base64: bool = False
    compatible: bool = False


class Abilities(Struct, frozen=True, kw_only=True):
    """What a wire format can do; declared by each dialect in its own file.

    Attributes:
        parameters: our name of each parameter that it has, and how it is written; `None`: all, under our names.
        lacks: the parameters that it has no name for, where it takes all others.
        adds: fields that it puts into a request by itself and can do without, where a server refuses them.
        means: how a model can be held to a form (structured output), the strongest first.
        schema_style: what JSON Schemas have to look like: see `agouti.core.schemas.fit`.
        open_schemas: whether its schema mode takes schemas that allow properties which they do not name.
        inputs: what a prompt may hold: ``text``, ``image``, ``file``, ``audio``. What is not among them never reaches
            ``encode_chat``: text files come as words, anything else is an error.
        image_addresses: whether images can be sent by their address; otherwise they are fetched first, if allowed.
        file_addresses: the same of files.
        vectors: how it turns texts into vectors (embeddings); `None` where it does not.
        counts_tokens: whether it counts the tokens of a request (``encode_count``, ``decode_count``).
        canonical: its replies and chunks are in the canonical form already.
        payloads: its ``verbatim_decoder`` tells each payload of a stream as it came.
        streams_json: its stream decoder reads a body of ``application/json`` too; otherwise that is a whole reply.
        endings: the paths of its operations, by which a pasted address is known.
        model_prefix: the collection that its lists put before a model's name, left out in ours.
        caps, answers: where the cap on output tokens and the number of answers may stand in a body, as JSON Pointers,
            besides the places where its parameters ``max_tokens`` and ``n`` are written.
        media_tokens: the most tokens that an ``image``, a ``file`` or ``audio`` can have, where the format says so.
    """

    parameters: Mapping[str, Write] | None = None
    lacks: frozenset[str] = frozenset()
    adds: frozenset[str] = frozenset()
    means: tuple[Means, ...] = ("prompt",)
    schema_style: "Style" = "open"
    open_schemas: bool = True
    inputs: tuple[str, ...] = ("text",)
    image_addresses: bool = True
    file_addresses: bool = False
    vectors: VectorAbility | None = None
    counts_tokens: bool = False
    canonical: bool = False
    payloads: bool = False
    streams_json: bool = False
    endings: tuple[Ending, ...] = ()
    model_prefix: str = ""
    caps: tuple[str, ...] = ()
    answers: tuple[str, ...] = ()
    media_tokens: Mapping[str, int] = {}

    @property
    def takes(self) -> frozenset[str] | None:
        """The parameters that can be expressed; `None`: all of them."""
        return None if self.parameters is None else frozenset(self.parameters)

    @property
    def cap_fields(self) -> tuple[str, ...]:
        """Where the cap on output tokens may stand in a body, as JSON Pointers."""
        return (*self._pointers("max_tokens", "max_completion_tokens"), *self.caps)

    @property
    def answer_fields(self) -> tuple[str, ...]:
        """Where the number of answers may stand in a body, as JSON Pointers."""
        return (*self._pointers("n"), *self.answers)

    def _pointers(self, *names: str) -> tuple[str, ...]:
        if self.parameters is None:
            return tuple([f"/{name}" for name in names if name not in self.lacks])
        fields = [self.parameters.get(name) for name in names]
        return tuple([f"/{each.path}" for each in fields if isinstance(each, Field)])

    @property
    def tool_schema_style(self) -> "Style":
        """What JSON Schemas of tools have to look like: those who demand closed answers take open tools."""
        return "open" if self.schema_style in ("closed", "bare") else self.schema_style

    def ours(self, field: str) -> str:
        """Our name of a parameter that a provider calls by the name of its field, however far out it begins."""
        for name, write in (self.parameters or {}).items():
            if isinstance(write, Field) and field in (write.path.rpartition("/")[2], write.path.replace("/", ".")):
                return name
        return field

    def write(self, body: dict[str, Any], parameters: Mapping[str, Json]) -> None:
        """Put parameters into a body, in the order of the table."""
        for name, write in (self.parameters or {}).items():
            if name in parameters:
                write(body, parameters[name], parameters)


class StreamDecoder(Protocol):
    """Decodes one stream.

    Attributes:
        done: the format's own end mark has come; nothing more will.
        failure: an error that the provider reported inside the stream, or bytes that cannot be
            read. It does not raise, so that the events that came before it are not lost.
    """

    done: bool
    failure: Fault | None

    def feed(self, data: bytes) -> "list[Event]":
        """Take the next bytes, cut anywhere; return the events that they complete. Never raises."""

    def last(self) -> "list[Event]":
        """The connection has closed: the events of what came without its final line end."""

    def end(self) -> bool:
        """The connection has closed, and `last` was called: was the reply complete? (`False`: it was cut off.)"""


class EntryOptions(Struct, frozen=True, kw_only=True):
    """What an entry says of the form that a format has at its provider.

    Attributes:
        chat_path: the path of the operation ``chat``, where it is not the usual one.
        instance: what an instance of a model looks like.
    """

    chat_path: str = ""
    instance: "Instance | None" = None


class Dialect:
    """One wire format. Inherit from it: what a format does not have need not be written.

    Attributes:
        name: how it is called in a configuration.
        abilities: what it can do.
    """

    name: str
    abilities: Abilities

    def configured(self, options: EntryOptions) -> "Dialect":
        """The dialect in the form that a provider's entry gives it."""
        return self

    def encode_chat(self, request: Request) -> Outgoing:
        """The request as path and body.

        Raises:
            RequestError: the format cannot express it.
        """
        raise NotImplementedError

    def decode_chat(self, body: bytes) -> "Completion | Fault | Pending":
        """A whole reply; a `Fault` where an error came with a good status; `Pending` where it is still to come.

        Raises:
            ReplyUnreadable: it is not a reply of this dialect.
        """
        raise NotImplementedError

    def stream_decoder(self) -> StreamDecoder | None:
        """A new decoder for one stream; `None` where the format has no streams: the reply is sent whole then."""
        raise NotImplementedError

    def verbatim_decoder(self) -> StreamDecoder | None:
        """A decoder that gives each payload as it came as well, as a `Passed`, where the format can (``payloads``)."""
        return self.stream_decoder()

    def classify(self, status: int, headers: Mapping[str, str], body: bytes) -> Fault:
        """What an error reply means. Never raises, whatever the body holds."""
        raise NotImplementedError

    def encode_models(self) -> Outgoing | None:
        """The request for the list of models; `None` where the format has none."""
        return None

    def encode_more_models(self, body: bytes) -> Outgoing | None:
        """The request for the page behind the one in a reply; `None`: there is no more."""
        return None

    def decode_models(self, body: bytes) -> tuple[ListedModel, ...]:
        """The provider's list.

        Raises:
            ReplyUnreadable: it is not such a list.
        """
        raise ReplyUnreadable(f"dialect {self.name} has no list of models")

    def encode_vectors(self, request: "VectorsRequest") -> Outgoing:
        """The request for vectors (embeddings) as path and body.

        Raises:
            RequestError: the format cannot express it.
        """
        raise NotImplementedError

    def decode_vectors(self, body: bytes) -> "Vectors | Fault":
        """The vectors, in the order of the texts.

        Raises:
            ReplyUnreadable: it is not such a reply.
        """
        raise NotImplementedError

    def encode_count(self, request: Request) -> Outgoing:
        """The request that counts the tokens of a chat request as path and body."""
        raise NotImplementedError

    def decode_count(self, body: bytes) -> "int | Fault":
        """The number of tokens.

        Raises:
            ReplyUnreadable: it is not such a reply.
        """
        raise NotImplementedError

    def deferred_batches(self) -> "DeferredBatches | None":
        """How many requests are handed over at once, to be answered later; `None` where the format has no such way."""
        return None

    def pasted_system(self, body: dict[str, Any]) -> str:
        """The system text of a request that was pasted; empty where it has none."""
        return system_of(body.get("messages"))

    def adopted(self, body: dict[str, Any]) -> dict[str, Json]:
        """What a provider's entry must say for requests like this one, which was pasted."""
        return {}


def complete(dialect: object) -> list[str]:
    """What an object lacks to be a dialect.

    >>> complete(object())[:2]
    ['abilities', 'adopted']
    """
    names = [each for each in (*vars(Dialect), *Dialect.__annotations__) if not each.startswith("_")]
    return sorted(each for each in set(names) if not hasattr(dialect, each))


class DeferredBatches(Protocol):
    """How a format hands batches over.

    Attributes:
        most: requests of one batch.
    """

    most: int

    def upload(self, requests: Sequence[tuple[str, Mapping[str, Any]]]) -> Outgoing | None:
        """The request that hands the requests over as a file; `None` where they go with the batch itself."""

    def begin(self, requests: Sequence[tuple[str, Mapping[str, Any]]], file: str, mark: str) -> Outgoing:
        """The request that begins a batch."""

    def look(self, name: str) -> Outgoing:
        """The request that asks how far a batch is."""

    def cancel(self, name: str) -> Outgoing:
        """The request that cancels a batch."""

    def listed(self) -> Outgoing:
        """The request for the latest batches."""

    def read_file(self, body: bytes) -> str:
        """The identifier of a file that was handed over."""

    def read(self, body: bytes) -> Handed:
        """How far a batch is."""

    def read_list(self, body: bytes) -> list[Handed]:
        """The latest batches."""

    def read_results(self, body: bytes) -> Iterator[LineResult]:
        """What came of the requests, in any order."""

    def requests(self, submitted: Handed) -> Outgoing | None:
        """The request for what was asked; `None` where the provider does not give it back."""

    def read_requests(self, body: bytes) -> Iterator[tuple[str, Any]]:
        """The identifier of each request of a batch, and its body."""

    def leftovers(self, submitted: Handed) -> list[Outgoing]:
        """The requests that delete what stays at the provider once everything is fetched."""
