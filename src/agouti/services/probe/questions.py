"""The questions of a probe: each shows one ability by what comes back, not by what is accepted."""

import json
import re
import zlib
from collections.abc import Callable
from struct import pack
from typing import Any

from msgspec import Struct

from ...core.canonical.events import Event, Text
from ...core.errors import (
    AddressWrong,
    AgoutiError,
    BudgetExceeded,
    ContextOverflow,
    LimitReached,
    ModelUnknown,
    NoAccess,
    ReplyError,
    RequestError,
    RequestRefused,
)
from ...engine.effects import Steps
from ...engine.operations.chat import ask
from ...engine.operations.chat_streamed import stream
from ...engine.operations.drain import drained
from ...engine.receiving.accumulate import ReplyAccumulator
from ...replies.reply import Reply
from ...tables.statistics import speed
from .types import Found, Probed, Probing, error_excerpt

REFUSALS = (RequestError, RequestRefused, AddressWrong, ContextOverflow, ModelUnknown, NoAccess)
_CAP = 48
# For the first answer of a model that has used up its cap with thinking.
ROOM = 1000
_LIMITS: dict[str, Any] = {"retries": {"max": 0}, "deadline": 120.0, "cache": False}
_CODE_WORD = "fenland"
_PEAS = "How are peas sown? Answer in two sentences."
_NUMBER = "4711"


class Probe(Struct, frozen=True, kw_only=True):
    """A question, or several that belong together, and what they may take; ``alone``: with nothing else under way."""

    requests: int
    input_tokens: int
    output_tokens: int
    steps: Callable[[Probing], Steps[list[Probed]]]
    images: int = 0
    is_exclusive: bool = False


def first_answer(probing: Probing) -> Steps[list[Probed]]:
    """The answer that others are compared with; a model that thinks gets more room.

    Raises:
        AgoutiError: there is none.
    """
    probing.base = yield from _ask(probing, _PEAS)
    if not probing.base.text and probing.base.truncated:
        probing.base = yield from _ask(probing, _PEAS, max_tokens=ROOM)
    return []


def _ask(probing: Probing, prompt: Any, **options: Any) -> Steps[Reply]:
    options = {"max_tokens": _CAP, **_LIMITS, **options}
    reply: Reply = yield from ask(probing.calls.chat(probing.label, prompt, options))  # type: ignore[arg-type]
    probing.replies.append(reply)
    return reply


def _from_error(feature: str, declared: bool | None, error: AgoutiError) -> Probed:
    """What an error says about a thing."""
    # Limits of our own say nothing of the provider.
    if isinstance(error, BudgetExceeded):
        return Probed(what=feature, declared=declared, found="skipped", detail=error_excerpt(error))
    refused = isinstance(error, REFUSALS) and not isinstance(error, LimitReached)
    return Probed(
        what=feature, declared=declared, found="refused" if refused else "unclear", detail=error_excerpt(error)
    )


def _streams(probing: Probing) -> Steps[list[Probed]]:
    question = "Tell in eighty words how a kitchen garden is begun."
    accumulator = ReplyAccumulator()
    arrivals: list[float] = []
    clock = probing.calls.clocks.clock
    started_at = clock()

    def see(events: list[Event]) -> None:
        # Pieces that arrive together are pieces all the same.
        arrivals.extend([clock() - started_at for event in events if type(event) is Text and event.text])

    try:
        options: Any = {"max_tokens": 160, **_LIMITS}
        call = probing.calls.chat(probing.label, question, options, stream=True)
        reply = yield from drained(stream(call, accumulator), see)
    except AgoutiError as error:
        return [_from_error("stream", True, error)]
    probing.replies.append(reply)
    return _about_stream(reply, arrivals, clock() - started_at)


def _about_stream(reply: Reply, arrivals: list[float], seconds: float) -> list[Probed]:
    tokens = reply.usage.output_tokens
    first = reply.first_token if reply.first_token is not None else (arrivals or [seconds])[0]
    found: Found = "yes"
    detail = f"{len(arrivals)} pieces in {seconds:.2f} s"
    if len(reply.text) < 40:
        found, detail = "unclear", "the answer is too short to tell"
    elif len(arrivals) < 2 or (seconds > 1.5 and arrivals[-1] - arrivals[0] < 0.02 and not reply.reasoning):
        found, detail = "no", f"the whole answer came at once, after {seconds:.2f} s"
    usage = reply.usage.input_tokens is not None and tokens is not None
    rows = [
        Probed(what="stream", declared=True, found=found, detail=detail),
        Probed(
            what="usage in the stream",
            declared=True,
            found="yes" if usage else "no",
            detail=f"{reply.usage.input_tokens} in, {tokens} out" if usage else "no token counts came",
        ),
        Probed(what="first token", declared=None, found="yes", value=round(first, 3), detail=f"after {first:.2f} s"),
    ]
    pace = speed(tokens, seconds, seconds - first if len(arrivals) > 1 else None)
    if pace is not None:
        rows.append(
            Probed(what="speed", declared=None, found="yes", value=round(pace, 1), detail=f"{pace:.0f} tokens a second")
        )
    elif tokens:
        rows.append(Probed(what="speed", declared=None, found="unclear", detail="it came at once: nothing tells"))
    return rows


def _counts(probing: Probing) -> Steps[list[Probed]]:
    yield from ()
    usage = probing.base.usage
    good = bool(usage.input_tokens) and bool(usage.output_tokens)
    detail = f"{usage.input_tokens} in, {usage.output_tokens} out"
    return [Probed(what="usage", declared=True, found="yes" if good else "no", detail=detail)]


def _system(probing: Probing) -> Steps[list[Probed]]:
    text = f"You keep the shelf of a seed library. End every answer with the word {_CODE_WORD.upper()}."
    try:
        reply = yield from _ask(probing, _PEAS, system=text)
    except AgoutiError as error:
        return [_from_error("system text", True, error)]
    return [_followed("system text", True, reply, probing.base, at_least=8)]


def _followed(feature: str, declared: bool | None, reply: Reply, base: Reply, *, at_least: int) -> Probed:
    """Whether a text had an effect: its word is in the answer. That its tokens are counted says that it was taken."""
    if _CODE_WORD in reply.text.casefold() or _NUMBER in reply.text:
        return Probed(what=feature, declared=declared, found="yes", detail="the answer follows it")
    before, after = base.usage.input_tokens, reply.usage.input_tokens
    if not before or not after:
        return Probed(what=feature, declared=declared, found="unclear", detail="the answer does not show it")
    if after - before >= at_least:
        detail = f"it counts {after - before} tokens, and the answer does not show it"
        return Probed(what=feature, declared=declared, found="unclear", detail=detail)
    return Probed(what=feature, declared=declared, found="no", detail="neither the answer nor the count shows it")


def _stops(probing: Probing) -> Steps[list[Probed]]:
    tokens = [token.strip(".,;:") for token in probing.base.text.split()]
    middle = [
        token for token in tokens[len(tokens) // 3 : 2 * len(tokens) // 3 + 1] if len(token) > 3 and token.isalpha()
    ]
    feature, declared = "stop strings", probing.accepts("stop")
    if not middle:
        return [Probed(what=feature, declared=declared, found="unclear", detail="the answer is too short to tell")]
    try:
        reply = yield from _ask(probing, _PEAS, stop=[middle[0]])
    except AgoutiError as error:
        return [_from_error(feature, declared, error)]
    if middle[0] in reply.text:
        return [Probed(what=feature, declared=declared, found="no", detail=f"the answer goes on behind {middle[0]!r}")]
    return [Probed(what=feature, declared=declared, found="yes", detail=f"it ends before {middle[0]!r}")]


def _cap(probing: Probing) -> Steps[list[Probed]]:
    limit = 6
    question = "Name twenty vegetables."
    try:
        reply = yield from _ask(probing, question, max_tokens=limit)
    except AgoutiError as error:
        return [_from_error("cap on tokens", True, error)]
    tokens, word_count = reply.usage.output_tokens, len(reply.text.split())
    if (tokens or 0) > limit + 1 or word_count > 3 * limit:
        detail = f"{tokens or word_count} {'tokens' if tokens else 'words'} came, {limit} were asked for"
        return [Probed(what="cap on tokens", declared=True, found="no", detail=detail)]
    cut = (tokens or 0) >= limit - 1 or word_count >= limit - 2
    rows = [Probed(what="cap on tokens", declared=True, found="yes" if cut else "unclear", detail=f"{tokens} tokens")]
    if cut:
        is_cut = reply.finish_reason == "length"
        detail = f"finish reason {reply.finish_reason}"
        rows.append(Probed(what="cut is told", declared=True, found="yes" if is_cut else "no", detail=detail))
    return rows


def _seed(probing: Probing) -> Steps[list[Probed]]:
    feature, declared = "seed", probing.accepts("seed")
    question = "Make up a name for a new kind of bean, and say in one sentence why."
    try:
        one = yield from _ask(probing, question, seed=4711, temperature=1.0, max_tokens=24)
        two = yield from _ask(probing, question, seed=4711, temperature=1.0, max_tokens=24)
        second_reply = yield from _ask(probing, question, seed=815, temperature=1.0, max_tokens=24)
    except AgoutiError as error:
        return [_from_error(feature, declared, error)]
    found: Found = "yes"
    detail = "the same answer twice, and another one with another seed"
    if one.text != two.text:
        found, detail = "no", "another answer with the same seed"
    elif one.text == second_reply.text:
        found, detail = "unclear", "the same answer with every seed: it may pass over it"
    return [Probed(what=feature, declared=declared, found=found, detail=detail)]


def _json_mode(probing: Probing) -> Steps[list[Probed]]:
    feature, declared = "JSON mode", probing.claims("json")
    try:
        reply = yield from _ask(probing, "JSON: when are peas sown?", response_format={"type": "json_object"})
    except AgoutiError as error:
        return [_from_error(feature, declared, error)]
    return [_as_json(feature, declared, reply, lambda value: isinstance(value, dict))]


_SCHEMA = {
    "type": "object",
    "properties": {"shelf": {"type": "integer"}, "crops": {"type": "array", "items": {"enum": ["pea", "kale"]}}},
    "required": ["shelf", "crops"],
    "additionalProperties": False,
}


def _schema(probing: Probing) -> Steps[list[Probed]]:
    feature, declared = "schema", probing.claims("schema")
    form = {"type": "json_schema", "json_schema": {"name": "shelf", "strict": True, "schema": _SCHEMA}}
    try:
        reply = yield from _ask(
            probing, "Peas and kale stand on the fourth shelf.", response_format=form, max_tokens=120
        )
    except AgoutiError as error:
        return [_from_error(feature, declared, error)]

    def fits(value: Any) -> bool:
        return (
            isinstance(value, dict)
            and value.keys() == {"shelf", "crops"}
            and type(value["shelf"]) is int
            and isinstance(value["crops"], list)
            and set(value["crops"]) <= {"pea", "kale"}
        )

    return [_as_json(feature, declared, reply, fits)]


def _as_json(feature: str, declared: bool, reply: Reply, fits: Callable[[Any], bool]) -> Probed:
    try:
        good = fits(json.loads(reply.text))
    except (ValueError, TypeError):
        good = False
    if good:
        return Probed(what=feature, declared=declared, found="yes", detail="it fits")
    if reply.truncated and reply.text.lstrip().startswith(("{", "[")):
        return Probed(what=feature, declared=declared, found="unclear", detail="cut off before its end")
    return Probed(what=feature, declared=declared, found="no", detail=f"it came as: {reply.text[:60]!r}")


def _tool(name: str, description: str) -> dict[str, Any]:
    parameters = {"type": "object", "properties": {"place": {"type": "string"}}, "required": ["place"]}
    return {"type": "function", "function": {"name": name, "description": description, "parameters": parameters}}


_FROST = _tool("days_to_frost", "Days until the last frost at a place.")
_RAIN = _tool("rain_depth", "How much rain has fallen at a place, in millimetres.")


def _forced(probing: Probing) -> Steps[list[Probed]]:
    feature, declared = "forced call", probing.claims("tool")
    try:
        reply = yield from _ask(
            probing, "Good morning, Marsh Lane.", tools=[_FROST, _RAIN], tool_choice="rain_depth", max_tokens=120
        )
    except AgoutiError as error:
        return [_from_error(feature, declared, error)]
    called = [call.name for call in reply.calls]
    if not called and reply.truncated:
        return [Probed(what=feature, declared=declared, found="unclear", detail="cut off before it called anything")]
    good = called[:1] == ["rain_depth"] and isinstance(reply.calls[0].arguments, dict)
    detail = f"it called {', '.join(called)}" if called else "it called nothing"
    return [Probed(what=feature, declared=declared, found="yes" if good else "no", detail=detail)]


def _parallel(probing: Probing) -> Steps[list[Probed]]:
    question = "At Marsh Lane: how many days until the last frost, and how much rain has fallen? Call both functions."
    feature, declared = "parallel calls", True if probing.model.parameters.get("parallel_tool_calls") else None
    try:
        reply = yield from _ask(probing, question, tools=[_FROST, _RAIN], max_tokens=120)
    except AgoutiError as error:
        return [_from_error(feature, declared, error)]
    called = [call.name for call in reply.calls]
    if not called:
        # What a model decides is no promise of its provider.
        return [Probed(what=feature, declared=declared, found="unclear", detail="the model called nothing")]
    found: Found = "yes" if len(called) > 1 else "no"
    return [Probed(what=feature, declared=declared, found=found, detail=f"it called {', '.join(called)}")]


def _round(probing: Probing) -> Steps[list[Probed]]:
    feature, declared = "tool round", probing.accepts("tools")
    question = "How many days until the last frost at Marsh Lane?"
    tool_call = {"id": "call_1", "type": "function", "function": {"name": "days_to_frost", "arguments": "{}"}}
    result = f"{_NUMBER} days, by the records of the library, kept since the hard winter by those who walk the beds."
    messages = [
        {"role": "user", "content": question},
        {"role": "assistant", "content": None, "tool_calls": [tool_call]},
        {"role": "tool", "tool_call_id": "call_1", "content": result},
    ]
    try:
        without = yield from _ask(probing, question, tools=[_FROST], max_tokens=4)
        reply = yield from _ask(probing, messages, tools=[_FROST], max_tokens=80)
    except AgoutiError as error:
        return [_from_error(feature, declared, error)]
    return [_followed(feature, declared, reply, without, at_least=16)]


def _image(probing: Probing) -> Steps[list[Probed]]:
    feature, declared = "image", probing.claims_input("image")
    question = "Which colour has this image? Answer with one word."
    try:
        without = yield from _ask(probing, question, max_tokens=4)
        reply = yield from _ask(probing, question, images=[_red_square()])
    except AgoutiError as error:
        return [_from_error(feature, declared, error)]
    declared = True if declared is None else declared  # it was taken: then it is to be looked at
    colours = [each for each in _COLOURS if re.search(rf"\b{each}\b", reply.text.casefold())]
    if colours and "red" not in colours:
        # What is counted is put into the prompt in some way, and not looked at.
        return [
            Probed(what=feature, declared=declared, found="no", detail=f"it is red, and the answer is {colours[0]}")
        ]
    if "red" in colours:
        return [Probed(what=feature, declared=declared, found="yes", detail="it saw what is on it")]
    return [_followed(feature, declared, reply, without, at_least=8)]


_COLOURS = (
    "red", "crimson", "maroon", "scarlet", "blue", "green", "yellow", "black", "white", "grey", "gray", "orange",
    "purple", "brown", "pink",
)  # fmt: skip


def _red_square(size: int = 64) -> bytes:
    """An image as PNG."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return pack(">I", len(data)) + kind + data + pack(">I", zlib.crc32(kind + data))

    rows = (b"\0" + b"\xd0\x10\x10" * size) * size
    head = pack(">IIBBBBB", size, size, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(rows)) + chunk(b"IEND", b"")


def _file(probing: Probing) -> Steps[list[Probed]]:
    from ...media import File

    feature, declared = "file", probing.claims_input("file")
    question = "What is the code word of the shelf in this file?"
    note = f"Notes of the seed library, spring. The code word of the shelf is {_CODE_WORD.upper()}.".encode()
    try:
        without = yield from _ask(probing, question, max_tokens=4)
        reply = yield from _ask(probing, question, files=[File(note, name="notes.txt")])
    except AgoutiError as error:
        return [_from_error(feature, declared, error)]
    return [_followed(feature, True if declared is None else declared, reply, without, at_least=8)]


def _thinking(probing: Probing) -> Steps[list[Probed]]:
    entry = probing.model
    thinks = any(name.startswith("reasoning") for name in entry.parameters) or bool(entry.reasoning_tag)
    feature, declared = "thinking", True if thinks else None
    try:
        reply = yield from _ask(
            probing, "A bed is 3 by 4 steps. How many plants at one a step?", reasoning_effort="low", max_tokens=1500
        )
    except AgoutiError as error:
        return [_from_error(feature, declared, error)]
    thought = bool(reply.reasoning) or bool(reply.usage.reasoning_tokens)
    detail = f"{reply.usage.reasoning_tokens or len(reply.reasoning or '')} of it" if thought else "none is shown"
    return [Probed(what=feature, declared=declared, found="yes" if thought else "no", detail=detail)]


def _cache(probing: Probing) -> Steps[list[Probed]]:
    feature = "prompt cache"
    price, context = probing.model.price_now, probing.model.context
    declared = True if price is not None and price.cached_input is not None else None
    if context is not None and context < 2500:
        return [Probed(what=feature, declared=declared, found="skipped", detail="its context window is too small")]
    prompt = "The beds of the seed library are walked every morning. " * 160 + "Which beds?"
    try:
        yield from _ask(probing, prompt, max_tokens=4)
        repeated = yield from _ask(probing, prompt, max_tokens=4)
    except AgoutiError as error:
        return [_from_error(feature, declared, error)]
    cached = repeated.usage.cached_tokens
    detail = f"{cached} tokens the second time" if cached else "no cached tokens are told"
    return [Probed(what=feature, declared=declared, found="yes" if cached else "no", value=cached, detail=detail)]


def embeds(probing: Probing) -> Steps[list[Probed]]:
    """Vectors of texts, and vectors of a length that is asked for."""
    feature = "embeddings"
    if probing.target.provider.dialect.abilities.vectors is None:
        return []
    texts = ["When are peas sown?", "Tomatoes like it warm."]
    options: dict[str, Any] = dict(_LIMITS)

    def vectors(dimensions: int | None) -> Steps[Any]:
        return (
            yield from probing.calls.embedding(
                probing.label,
                texts,
                dimensions=dimensions,
                concurrency=1,
                options=options,  # type: ignore[arg-type]
            )
        )

    try:
        embeddings = yield from vectors(None)
    except AgoutiError as error:
        return [_from_error(feature, None, error)]
    length = embeddings.dimensions
    differ = bool((embeddings.vectors[0] != embeddings.vectors[1]).any())
    rows = [
        Probed(
            what=feature,
            declared=True,
            found="yes" if differ else "no",
            value=length,
            detail=f"{length} numbers each" if differ else "the same vector for different texts",
        )
    ]
    half = max(length // 2, 1)
    try:
        yield from vectors(half)
        rows.append(Probed(what="length of vectors", declared=True, found="yes", value=half, detail=f"{half} as asked"))
    except ReplyError as error:  # vectors came, of another length
        rows.append(Probed(what="length of vectors", declared=True, found="no", detail=error_excerpt(error)))
    except AgoutiError as error:
        rows.append(_from_error("length of vectors", None, error))
    return rows


FIRST = Probe(requests=2, input_tokens=120, output_tokens=_CAP + ROOM, steps=first_answer)
PROBES = (
    Probe(requests=1, input_tokens=40, output_tokens=160, steps=_streams),
    Probe(requests=0, input_tokens=0, output_tokens=0, steps=_counts),
    Probe(requests=1, input_tokens=70, output_tokens=_CAP, steps=_system),
    Probe(requests=1, input_tokens=40, output_tokens=_CAP, steps=_stops),
    Probe(requests=1, input_tokens=40, output_tokens=6, steps=_cap),
    # Alone: servers that compute several questions together round otherwise each time.
    Probe(requests=3, input_tokens=120, output_tokens=72, steps=_seed, is_exclusive=True),
    Probe(requests=1, input_tokens=40, output_tokens=_CAP, steps=_json_mode),
    Probe(requests=1, input_tokens=120, output_tokens=120, steps=_schema),
    Probe(requests=1, input_tokens=300, output_tokens=120, steps=_forced),
    Probe(requests=1, input_tokens=320, output_tokens=120, steps=_parallel),
    Probe(requests=2, input_tokens=500, output_tokens=84, steps=_round),
    Probe(requests=2, input_tokens=1200, output_tokens=_CAP + 4, images=1, steps=_image),
    Probe(requests=2, input_tokens=140, output_tokens=_CAP + 4, steps=_file),
    Probe(requests=1, input_tokens=60, output_tokens=1500, steps=_thinking),
    Probe(requests=2, input_tokens=4000, output_tokens=8, steps=_cache),
    Probe(requests=2, input_tokens=40, output_tokens=0, steps=embeds),
)
