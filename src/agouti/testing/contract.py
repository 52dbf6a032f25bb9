"""The contract that every dialect keeps, as a check: for Agouti's own, and for yours.

from agouti.testing.contract import Sample, check_dialect

def test_my_dialect():
    check_dialect(MyDialect(), Sample(plain=b"...", stream=b"...", completion=Completion(...)))
"""

import random
from collections.abc import Iterator
from itertools import combinations
from typing import Any

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..core.canonical.chat import Completion, Message, Request, ToolCall, ToolFunction
from ..core.canonical.parameters import PARAMETERS
from ..core.canonical.vectors import Vector, Vectors, VectorsRequest
from ..core.errors import AgoutiError, ReplyUnreadable, RequestError
from ..core.messages.messages import reply_message
from ..dialects.base import Dialect, StreamDecoder, complete
from ..dialects.wire import Fault, Pending
from ..engine.receiving.accumulate import ReplyAccumulator


class Sample(Struct, frozen=True):
    """One reply in the words of a dialect.

    Attributes:
        plain: the whole reply.
        stream: the same reply as a stream; empty where the format has none.
        completion: what both mean. (A stream may know less: give ``streamed`` then.)
        streamed: what the stream means, where that differs.
        errors: error replies: status, body, and the class of error that they mean.
        vectors: a reply with vectors and what it means, where the format has embeddings.
    """

    plain: bytes
    stream: bytes
    completion: Completion
    streamed: Completion | None = None
    errors: tuple[tuple[int, bytes, type[AgoutiError]], ...] = ()
    vectors: tuple[bytes, tuple[Vector, ...]] | None = None


class ContractBroken(AssertionError):
    """A dialect does not keep the contract; the message says which part of it."""


def check_dialect(dialect: Dialect, sample: Sample, *, noise: int = 100_000) -> None:
    """Check all of the contract.

    Args:
        noise: how many random bytes the decoders are fed.

    Raises:
        ContractBroken: a part of it is not kept.
    """
    missing = complete(dialect)
    _hold(not missing, f"it has no {', '.join(missing)}: inherit from agouti.dialects.api.Dialect")
    _encodes(dialect)
    _writes_parameters(dialect)
    _decodes(dialect, sample)
    if sample.stream:
        _streams(dialect, sample)
    for status, body, kind in sample.errors:
        fault = dialect.classify(status, {}, body)
        _hold(fault.kind is kind, f"the error {body[:60]!r} means {fault.kind.__name__}, not {kind.__name__}")
    if dialect.abilities.vectors is not None and sample.vectors is not None:
        _embeds(dialect, dialect.abilities.vectors.max_texts, *sample.vectors)
    if dialect.abilities.counts_tokens:
        counted = msgspec.json.encode(dialect.encode_count(Request("m", _CONVERSATION)).body)
        _hold(b"And beans?" in counted, "the request that counts tokens does not hold the conversation")
    _survives_noise(dialect, sample, noise)


def _hold(condition: bool, promise: str) -> None:
    if not condition:
        raise ContractBroken(promise)


_CONVERSATION = (
    Message("system", "Brief."),
    Message("user", [{"type": "text", "text": "Hi"}]),
    Message("assistant", "Hello."),
    Message("user", "And beans?"),
)


def _encodes(dialect: Dialect) -> None:
    for streams in (False, True):
        accepted = dialect.abilities.takes
        parameters: dict[str, Any] = {"max_tokens": 5} if accepted is None or "max_tokens" in accepted else {}
        try:
            outgoing = dialect.encode_chat(Request("m", _CONVERSATION, parameters, {"more": 1}, streams))
        except RequestError as error:
            raise ContractBroken(f"a plain conversation cannot be encoded: {error}") from error
        _hold(outgoing.path.startswith("/"), f"the path {outgoing.path!r} does not begin with a slash")
        body = msgspec.json.encode(outgoing.body)
        _hold(b"And beans?" in body and b"Brief." in body, "the request does not hold the whole conversation")
        _hold(b'"more"' in body, "extra fields do not reach the body")
        second = dialect.encode_chat(Request("n", _CONVERSATION, parameters, {"more": 1}, streams))
        named = (outgoing.path, body) != (second.path, msgspec.json.encode(second.body)) or "{model}" in outgoing.path
        _hold(named, "the model's name is neither in the body nor, as {model}, in the path")
    _tells_roles_apart(dialect)
    _tells_streams_apart(dialect)
    _keeps_pairs_of_parameters(dialect)
    _says_calls(dialect)
    _says_inputs(dialect)


def _body(dialect: Dialect, messages: tuple[Message, ...], *, stream: bool = False, **parameters: Any) -> bytes:
    """All of a request that could differ: path, query and body."""
    outgoing = dialect.encode_chat(Request("m", messages, parameters, {}, stream))
    return msgspec.json.encode([outgoing.operation, outgoing.path, outgoing.query, outgoing.accept, outgoing.body])


def _tells_roles_apart(dialect: Dialect) -> None:
    """Who has said what reaches the provider: two conversations that differ in nothing else are two requests."""
    swapped = (
        _CONVERSATION[0],
        Message("assistant", "Hi"),
        Message("user", "Hello."),
        _CONVERSATION[3],
    )
    _hold(_body(dialect, _CONVERSATION) != _body(dialect, swapped), "it does not matter who says what: roles are lost")


def _tells_streams_apart(dialect: Dialect) -> None:
    if dialect.stream_decoder() is not None:
        simple, streamed = (_body(dialect, _CONVERSATION, stream=stream) for stream in (False, True))
        _hold(simple != streamed, "the request for a stream is that for a whole reply")


# Some are written together, or one in the place of the other: two names of one thing.
_ONE_THING = (
    {"max_tokens", "max_completion_tokens"},
    {"reasoning_effort", "reasoning_budget"},
    {"tools", "tool_choice", "parallel_tool_calls"},
    {"stream", "stream_options"},
    {"logprobs", "top_logprobs"},
    {"user", "safety_identifier", "metadata"},
    {"response_format", "tools", "verbosity"},
    {"modalities", "audio"},
)


def _keeps_pairs_of_parameters(dialect: Dialect) -> None:
    """No parameter takes the place of another one: each changes a body that has the other one already."""
    names = [name for name in dialect.abilities.takes or () if name not in ("stream_options", "tools")]
    samples = {name: PARAMETERS[name].sample for name in names if name in PARAMETERS}
    for one, second in combinations(sorted(samples), 2):
        if any({one, second} <= each for each in _ONE_THING):
            continue
        try:
            # Some ask for nothing without tools.
            needs_tools = {"tool_choice", "parallel_tool_calls"} & {one, second}
            further = {"tools": PARAMETERS["tools"].sample} if needs_tools else {}
            both = _body(dialect, _CONVERSATION, **further, **{one: samples[one], second: samples[second]})
            separate = [_body(dialect, _CONVERSATION, **further, **{name: samples[name]}) for name in (one, second)]
        except RequestError:
            continue  # it says itself that they do not go together
        _hold(both not in separate, f"the parameters {one} and {second} are written to one place: one of them is lost")


def _says_calls(dialect: Dialect) -> None:
    """Calls of functions and their results reach the provider, or are refused before anything is sent."""
    call = ToolCall(ToolFunction("depth_of_frost", '{"place": "Marsh Lane"}'), "call_1")
    messages = (
        Message("user", "How deep?"),
        Message("assistant", None, tool_calls=(call,)),
        Message("tool", "seventeen inches", tool_call_id="call_1", name="depth_of_frost"),
    )
    accepted = dialect.abilities.takes
    parameters = {"tools": PARAMETERS["tools"].sample} if accepted is None or "tools" in accepted else {}
    try:
        body = _body(dialect, messages, **parameters)
    except RequestError:
        return
    except Exception as error:
        raise ContractBroken(f"a call of a function raises {type(error).__name__}: {error}") from error
    for text in (b"depth_of_frost", b"Marsh Lane", b"seventeen inches"):
        _hold(
            text in body, f"a call of a function and its result are not wholly in the request: {text.decode()} is lost"
        )


_PIXEL = "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAIAAACQd1PeAAAADElEQVR4nGO4IWADAAMaATvcNoSpAAAAAElFTkSuQmCC"
_PARTS: dict[str, dict[str, Any]] = {
    "image": {"type": "image_url", "image_url": {"url": f"data:image/png;base64,{_PIXEL}"}},
    "file": {"type": "file", "file": {"filename": "beds.pdf", "file_data": "data:application/pdf;base64,JVBERi0xLjQK"}},
    "audio": {"type": "input_audio", "input_audio": {"data": "UklGRgAAAABXQVZF", "format": "wav"}},
}


def _says_inputs(dialect: Dialect) -> None:
    """What a prompt may hold by ``inputs`` reaches the provider."""
    simple = _body(dialect, (Message("user", [{"type": "text", "text": "What is it?"}]),))
    for kind in dialect.abilities.inputs:
        _hold(kind in ("text", *_PARTS), f"inputs has {kind!r}, which nothing in a prompt is")
        if kind == "text":
            continue
        try:
            with_it = _body(dialect, (Message("user", [{"type": "text", "text": "What is it?"}, _PARTS[kind]]),))
        except RequestError:
            continue  # an entry has to say more first, and it is told so
        _hold(simple != with_it, f"inputs has {kind!r}, and {kind} in a prompt is lost")


def _writes_parameters(dialect: Dialect) -> None:
    """Each parameter that a dialect promises changes the body: one that is dropped would be lost without a word."""
    for name in dialect.abilities.takes or ():
        _hold(name in PARAMETERS, f"there is no parameter {name!r}")
        # Some ask for nothing without tools.
        companions = {"tools": PARAMETERS["tools"].sample} if name in ("tool_choice", "parallel_tool_calls") else {}
        streams = name == "stream_options"
        without, with_it = (
            msgspec.json.encode(
                dialect.encode_chat(Request("m", _CONVERSATION, {**companions, **further}, stream=streams)).body
            )
            for further in ({}, {name: PARAMETERS[name].sample})
        )
        _hold(without != with_it, f"the parameter {name} does not change the body")


def _embeds(dialect: Dialect, limit: int, reply: bytes, vectors: tuple[Vector, ...]) -> None:
    texts = ["broad beans", "late peas"][:limit]
    body = msgspec.json.encode(dialect.encode_vectors(VectorsRequest("m", texts, 8, extra={"more": 1})).body)
    _hold(all(text.encode() in body for text in texts), "the request for vectors does not hold its texts")
    _hold(b"8" in body and b'"more"' in body, "dimensions or extra fields do not reach the request for vectors")
    decoded = dialect.decode_vectors(reply)
    _hold(isinstance(decoded, Vectors) and tuple(decoded.vectors) == vectors, f"the vectors are {decoded!r}")


def _decodes(dialect: Dialect, sample: Sample) -> None:
    decoded = dialect.decode_chat(sample.plain)
    _hold(_comparable(decoded) == _comparable(sample.completion), f"the reply means {decoded!r}")
    if isinstance(decoded, Completion):
        _gives_back(dialect, decoded)
    value = msgspec.json.decode(sample.plain)
    further = msgspec.json.encode(_with_unknown(value))
    _hold(
        _comparable(dialect.decode_chat(further)) == _comparable(sample.completion),
        "unknown fields change what the reply means",
    )
    for nulled in _with_nulls(value):
        try:
            dialect.decode_chat(msgspec.json.encode(nulled))
        except ReplyUnreadable:
            continue
        except Exception as error:
            raise ContractBroken(f"a null in the reply raises {type(error).__name__}: {nulled!r}") from error


def _comparable(decoded: Completion | Fault | Pending) -> Completion | Fault | Pending:
    """What a reply says; the provider's own form of it is opaque: see `_gives_back`."""
    if not isinstance(decoded, Completion):
        return decoded
    calls = [tuple([replace(call, extra={}) for call in each.tool_calls]) for each in decoded.choices]
    pairs = zip(decoded.choices, calls, strict=True)
    return replace(
        decoded, choices=tuple([replace(each, provider_turn=None, tool_calls=own_body) for each, own_body in pairs])
    )


def _gives_back(dialect: Dialect, decoded: Completion) -> None:
    """A turn in the provider's own form goes back to its dialect, and to no other."""
    choice = decoded.choices[0] if decoded.choices else None
    provider_turn = choice.provider_turn if choice is not None else None
    if choice is None or provider_turn is None:
        return
    message = reply_message(choice)
    results = [Message("tool", "17", tool_call_id=call.id) for call in message.tool_calls]
    foreign = replace(message, provider_turn=replace(provider_turn, dialect="x-other"))
    own_body, second = (
        msgspec.json.encode(dialect.encode_chat(Request("m", (Message("user", "Hi"), each, *results))).body)
        for each in (message, foreign)
    )
    _hold(provider_turn.dialect == dialect.name, f"the turn is tagged {provider_turn.dialect}")
    texts = [msgspec.json.encode(text)[1:-1] for text in _texts_in(provider_turn.blocks) if text.strip()]
    missing = [text for text in texts if text not in own_body]
    _hold(not missing, f"the provider's own turn does not go back whole: {missing} is missing")
    thought = msgspec.json.encode(choice.reasoning or "")[1:-1]
    _hold(not thought or thought not in second, "another dialect's turn is sent")


def _texts_in(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for inner in value.values():
            yield from _texts_in(inner)
    elif isinstance(value, list):
        for inner in value:
            yield from _texts_in(inner)


def _streams(dialect: Dialect, sample: Sample) -> None:
    expected = sample.streamed or sample.completion
    rng = random.Random(7)
    sizes: list[list[int]] = [[len(sample.stream)], [1] * len(sample.stream)]
    sizes += [[rng.randint(1, 40) for _ in range(len(sample.stream))] for _ in range(5)]
    for size in sizes:
        decoder, accumulator, offset = _decoder(dialect), ReplyAccumulator(), 0
        for step in size:
            accumulator.add(decoder.feed(sample.stream[offset : offset + step]), lambda: 0.0)
            offset += step
        accumulator.add(decoder.last(), lambda: 0.0)
        _hold(decoder.failure is None, f"the stream fails: {decoder.failure}")
        _hold(decoder.end(), "the end of a whole stream is taken for a cut")
        decoded = accumulator.completion()
        _hold(
            _comparable(decoded) == _comparable(expected),
            f"split into pieces of {size[0]}, the stream means {decoded!r}",
        )
    _gives_back(dialect, decoded)
    _hold(not _fed(dialect, sample.stream[: len(sample.stream) // 2]).end(), "a stream cut in half is taken for whole")
    _hold(not _decoder(dialect).end(), "an empty stream is taken for whole")


def _decoder(dialect: Dialect) -> StreamDecoder:
    decoder = dialect.stream_decoder()
    if decoder is None:
        raise ContractBroken("there is a sample of a stream, but no decoder for it")
    return decoder


def _fed(dialect: Dialect, data: bytes) -> StreamDecoder:
    decoder = _decoder(dialect)
    decoder.feed(data)
    return decoder


def _survives_noise(dialect: Dialect, sample: Sample, noise: int) -> None:
    rng = random.Random(11)
    fed = 0
    while fed < noise:
        # Half of it is noise from end to end, half a good reply with some bytes changed.
        if rng.random() < 0.5:
            data = rng.randbytes(rng.randint(1, 400))
        else:
            vectors = sample.vectors[0] if sample.vectors is not None else sample.plain
            changed = bytearray(rng.choice((sample.plain, sample.stream or sample.plain, vectors)))
            for _ in range(rng.randint(1, 6)):
                changed[rng.randrange(len(changed))] = rng.randrange(256)
            data = bytes(changed)
        fed += len(data)
        try:
            if (decoder := dialect.stream_decoder()) is not None:
                decoder.feed(data)
                decoder.last()
                decoder.end()
            dialect.classify(rng.choice((200, 400, 404, 429, 500)), {}, data)
        except Exception as error:
            raise ContractBroken(f"{type(error).__name__} on the bytes {data!r}") from error
        try:
            decoded = dialect.decode_chat(data)
            _hold(isinstance(decoded, (Completion, Fault, Pending)), f"decode_chat returns {type(decoded).__name__}")
            if dialect.abilities.vectors is not None:
                dialect.decode_vectors(data)
            if dialect.abilities.counts_tokens:
                dialect.decode_count(data)
        except ReplyUnreadable:
            pass
        except ContractBroken:
            raise
        except Exception as error:
            raise ContractBroken(f"a decoder raises {type(error).__name__} on {data!r}") from error


# Objects that are the model's own words, in which no field is unknown.
_OPAQUE = frozenset({"arguments", "input", "args"})


def _with_unknown(value: Any) -> Any:
    if isinstance(value, dict):
        inner = {name: each if name in _OPAQUE else _with_unknown(each) for name, each in value.items()}
        return {**inner, "x_unknown": {"a": [1]}}
    return [_with_unknown(each) for each in value] if isinstance(value, list) else value


def _with_nulls(value: Any) -> Iterator[Any]:
    """The value with one of its fields null, each in turn."""
    if isinstance(value, dict):
        for name, inner in value.items():
            yield {**value, name: None}
            for nulled in _with_nulls(inner):
                yield {**value, name: nulled}
    elif isinstance(value, list):
        for offset, inner in enumerate(value):
            for nulled in _with_nulls(inner):
                yield [*value[:offset], nulled, *value[offset + 1 :]]
