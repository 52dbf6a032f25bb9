"""Answers of the relay: a request of any served format asked of a model, its reply or stream in the same format."""

import time
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, TypeVar, cast

import msgspec

from ..calls import calls_of
from ..core.chat import Json, Request
from ..core.errors import AgoutiError, RequestError
from ..core.usage import NO_USAGE
from ..core.vectors import VectorsRequest
from ..dialects.base import Outgoing
from ..dialects.server.base import ReplyHead, ServerFormat, encode_json
from ..dialects.server.vectors import decode_vectors_request, encode_vectors
from ..engine.accumulate import ReplyAccumulator
from ..engine.call import Call
from ..engine.exchange import exchange
from ..engine.operations.chat import ask
from ..engine.operations.chat_streamed import stream
from ..engine.operations.count import count
from ..engine.operations.vectors import Embed, checked_texts
from ..engine.provider import Target
from ..engine.question import OwnForm, question_of
from ..reply import Attempt, Reply
from .exchange import Exchange
from .spending import TAG
from .told import told
from .turns import TurnMemory, UniqueCalls

if TYPE_CHECKING:
    from ..client import AsyncClient
    from ..options import EmbedOptions, Options

JSON = "application/json"
EVENTS = "text/event-stream; charset=utf-8"
ATTEMPTS = "agouti-attempts"
# Fields by which some servers are told another model than the one of the request, or several of them.
_CHOOSES = frozenset({"deployment", "deployment_id", "engine", "fallbacks", "models", "route", "version"})


def _check_sayable(form: ServerFormat, request: Request, call: Call) -> None:
    """See that all targets understand what is said in the caller's format.

    Raises:
        RequestError: one that speaks another format would get a field, or a tool of the server's own, that means
            nothing there, or something else.
    """
    others = [target for target in call.targets if target.provider.dialect.name != form.name]
    if not others or form.canonical:
        return
    label, dialect = others[0].model.label, others[0].provider.dialect.name
    said = {**request.extra, **request.parameters}
    if named := sorted(form.alone & said.keys()):
        raise RequestError(
            f"{named[0]} cannot be said to {label}, which is asked in another format ({dialect})",
            hint=f"Leave {named[0]} out, or ask a model of dialect {form.name}.",
        )
    tools = request.parameters.get("tools")
    for tool in tools if isinstance(tools, list) else ():
        kind = tool.get("type", "function") if isinstance(tool, dict) else "function"
        if kind not in ("function", "custom"):
            raise RequestError(
                f"{label} is asked in another format ({dialect}), which has no tool of type {kind!r}",
                hint=f"Leave it out, or ask a model of dialect {form.name}.",
            )


_Number = TypeVar("_Number", int, float)


def _sum(one: _Number | None, other: _Number | None) -> _Number | None:
    return other if one is None else one if other is None else one + other


class Outcome(msgspec.Struct):
    """What came of a call, for whoever looks on: filled while it is under way."""

    label: str = ""
    streamed: bool = False
    reply: Reply | None = None
    so_far: ReplyAccumulator | None = None
    tokens: tuple[int | None, int | None] = (None, None)
    cost: float | None = None
    currency: str = ""
    provider: str = ""
    model: str = ""
    error: str = ""
    spent: bool = False

    def add(self, into: int | None, out: int | None, cost: float | None, currency: str) -> None:
        """What an attempt has taken, as the ledger has it: those of all attempts of a call are added up."""
        before = self.tokens if self.spent else (None, None)
        self.tokens = (_sum(before[0], into), _sum(before[1], out))
        self.cost = _sum(self.cost if self.spent else None, cost)
        self.currency = currency or self.currency
        self.spent = True

    def known(self) -> Reply | None:
        """The reply, or as much of it as has come."""
        if self.reply is None and self.so_far is not None and self.so_far.began:
            return self.so_far.reply()
        return self.reply


class Answers:
    """Asks models for callers.

    Args:
        client: asks them.
        deadline: seconds that a whole call may take; `None`: as the entries say.
    """

    def __init__(self, client: "AsyncClient", deadline: float | None) -> None:
        self._client = client
        self._calls = calls_of(client)
        self._deadline = deadline
        self._turns = TurnMemory()

    def call_of(self, form: ServerFormat, body: Mapping[str, Json], token: str) -> tuple[Call, Request]:
        """The call that a request amounts to.

        Raises:
            AgoutiError: it is wrong, or there is no such model.
        """
        request = form.decode_request(body)
        options: dict[str, Any] = {**request.parameters, "tags": {TAG: token} if token else {}}
        if request.extra:
            if named := sorted(_CHOOSES & request.extra.keys()):
                raise RequestError(
                    f"{named[0]} says which model is asked, and here the label alone says that",
                    hint=f"Leave {named[0]} out, and ask the label of the model that you want.",
                )
            options["extra"] = request.extra
        messages = self._turns.with_turns(token, request.messages)
        question = question_of(list(messages), options, stream=request.stream)
        if not form.canonical:
            own = form.own_fields(body, request)
            said = OwnForm(form.name, own, form.conversation in own, form.says(own))
            question = msgspec.structs.replace(question, own=said)
        limits = {} if self._deadline is None else {"deadline": self._deadline}
        call = self._calls.chat(request.model, question, cast("Options", limits), stream=request.stream)
        _check_sayable(form, request, call)
        return call, request

    async def whole(self, form: ServerFormat, call: Call, request: Request, to: Exchange, outcome: Outcome) -> None:
        """Answer with the whole reply; the provider's own bytes where it speaks the caller's format."""
        reply = outcome.reply = await self._client._run(ask(call))
        target = self._calls.target(reply.label)
        answered = reply.attempts[-1].model if reply.attempts else target.model.name
        same = self._calls.provider(reply.provider).dialect.name == form.name if reply.provider else False
        if reply.body and same and not any(each.model.reasoning_tag for each in call.targets):
            data, completion = reply.body, reply.completion
        else:
            completion = UniqueCalls().of(reply.completion)
            data = encode_json(form.encode_reply(completion, _head(call, request, to, answered)))
        self._turns.keep(call.question.tags.get(TAG, ""), completion)
        await to.answer(200, data, JSON, {ATTEMPTS: attempts_text(reply.attempts)})

    async def streamed(self, form: ServerFormat, call: Call, request: Request, to: Exchange, outcome: Outcome) -> None:
        """Answer with the reply as it comes."""
        so_far = outcome.so_far = ReplyAccumulator()
        driver = self._client._driver(stream(call, so_far, verbatim=form.name))
        encoder = form.stream_encoder(_head(call, request, to, call.targets[0].model.name))
        unique = UniqueCalls()
        try:
            batch = await driver.advance()
            # What goes wrong before there is anything to say has a status of its own.
            now = so_far.reply()
            answering = Attempt(
                provider=now.provider, model=now.model or call.targets[0].model.name, outcome="answering"
            )
            attempts = {ATTEMPTS: attempts_text((*so_far.attempts, answering))}
            await to.begin(200, EVENTS, {"cache-control": "no-store", **attempts})
            try:
                while batch is not None:
                    if data := encoder.of(unique.in_events(batch, so_far.provider)):
                        await to.piece(data)
                    batch = await driver.advance()
                outcome.reply = driver.result
                completion = driver.result.completion
                self._turns.keep(
                    call.question.tags.get(TAG, ""), completion if encoder.verbatim else unique.of(completion)
                )
                await to.piece(encoder.last(), more=False)
            except AgoutiError as error:
                await to.piece(encoder.failed(told(error, to.identifier)), more=False)
                raise
        finally:
            await driver.close()

    async def counted(self, form: ServerFormat, body: Mapping[str, Json], token: str, to: Exchange) -> None:
        """Answer with the number of tokens of a request."""
        call, _ = self.call_of(form, body, token)
        counted = await self._client._run(count(call))
        await to.answer(200, encode_json({"input_tokens": counted.tokens}), JSON)

    async def vectors(self, body: Mapping[str, Json], token: str, to: Exchange, outcome: Outcome) -> None:
        """Answer with vectors; the provider's own bytes where it speaks the caller's format."""
        request = decode_vectors_request(body)
        target = self._calls.target(request.model)
        options: EmbedOptions = {"extra": request.extra, "tags": {TAG: token} if token else {}}
        if self._deadline is not None:
            options["deadline"] = self._deadline
        outcome.provider, outcome.model = target.provider.label, target.model.name
        price = target.price
        outcome.currency = "" if price is None else price.currency
        ability = target.provider.dialect.abilities.vectors
        if ability is not None and ability.compatible and len(request.texts) <= ability.max_texts:
            passed = Passed(checked_texts(request.texts), body)
            exchanged = await self._client._run(exchange(self._calls.vectors_call(target, options), passed))
            usage = passed.usage(exchanged.answer.value) or NO_USAGE
            outcome.cost = None if price is None else price.cost(usage)
            data, attempts = exchanged.answer.body, {ATTEMPTS: attempts_text(exchanged.attempts)}
        else:
            made = await self._client.embed(request.model, request.texts, dimensions=request.dimensions, **options)
            rows: list[Any] = [row.tobytes() for row in made.vectors] if request.base64 else made.vectors.tolist()
            data = encode_json(encode_vectors(rows, made.model or target.model.name, made.usage))
            usage, outcome.cost, attempts = made.usage, made.cost, {}
        outcome.tokens = (usage.input_tokens, None)
        await to.answer(200, data, JSON, attempts)


class Passed(Embed):
    """A request for vectors as the caller has sent it."""

    def __init__(self, texts: list[str], body: Mapping[str, Json]) -> None:
        super().__init__(texts, dimensions=None, extra={})
        self._body = {name: value for name, value in body.items() if value is not None}

    def encode(self, request: VectorsRequest, target: Target) -> Outgoing:
        return Outgoing("embeddings", "/embeddings", {**self._body, "model": request.model})


def decoded(body: bytes) -> dict[str, Json]:
    """The body of a request as an object.

    Raises:
        RequestError: it is none.
    """
    try:
        value = msgspec.json.decode(body)
    except RecursionError:
        raise RequestError("the body is nested too deep", hint="Send a flatter request.") from None
    except ValueError as error:
        raise RequestError(f"the body is no JSON ({error})", hint='Send {"model": ..., ...} as JSON.') from None
    if not isinstance(value, dict):
        raise RequestError(f"the body is a {type(value).__name__}, not an object", hint='Send {"model": ..., ...}.')
    return value


def attempts_text(attempts: tuple[Attempt, ...]) -> str:
    """What was tried, as a header says it.

    >>> attempts_text((Attempt(provider="northbank", model="quill-large", outcome="RateLimited", status=429),))
    'northbank/quill-large RateLimited 429'
    """
    pieces = [
        f"{each.provider}/{each.model} {each.outcome}"
        + (f" {each.status}" if each.status and each.outcome != "answered" else "")
        for each in attempts
    ]
    text = ", ".join(pieces)
    return "".join([letter if " " <= letter <= "~" else "?" for letter in text])[:2000]


def _head(call: Call, request: Request, to: Exchange, model: str) -> ReplyHead:
    return ReplyHead(int(time.time()), model, f"reply-{to.identifier}", request)
