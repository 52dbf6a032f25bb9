"""Answers of the relay: a request of any served format asked of a model, its reply or stream in the same format."""

import asyncio
import re
import time
from collections.abc import Mapping
from contextlib import suppress
from typing import TYPE_CHECKING, Any, TypeVar, cast

import msgspec

from ..calls.calls import calls_of
from ..core.attempt import Attempt
from ..core.canonical.chat import Completion, Json, Request, is_failure
from ..core.canonical.usage import NO_USAGE, total_usage
from ..core.canonical.vectors import VectorsRequest
from ..core.errors import AgoutiError, RequestError
from ..dialects.server_base import ReplyHead, ServerFormat, StreamEncoder, encode_json, model_of
from ..dialects.shared.server_embeddings import decode_vectors_request, encode_vectors
from ..dialects.wire import Outgoing
from ..engine.attempts.call_loop import exchange
from ..engine.call import Call
from ..engine.operations.chat import ask
from ..engine.operations.chat_streamed import stream
from ..engine.operations.count import count
from ..engine.operations.deferred import Step
from ..engine.operations.vectors import Embed, checked_texts
from ..engine.providers.provider import Target
from ..engine.question import question_of
from ..engine.receiving.accumulate import ReplyAccumulator, as_events
from ..replies.reply import Reply
from .access_tokens import TAG
from .error_responses import Refused, error_body
from .http_exchange import Exchange
from .passthrough import check_sayable, own_form, query_of, request_in, speaks
from .response_store import ResponseStore, request_for, stored_answer
from .turn_memory import TurnMemory, UniqueCalls

if TYPE_CHECKING:
    from ..calls.options import EmbedOptions, Options
    from ..client.async_client import AsyncClient
    from ..config.tables import RelaySettings
    from ..core.canonical.events import Event
    from ..engine.drivers.async_driver import AsyncDriver

JSON = "application/json"
EVENTS = "text/event-stream; charset=utf-8"
ATTEMPTS = "agouti-attempts"
PROVIDER_ID = "agouti-provider-request-id"
STOPS = "the relay is being stopped: ask again"
# So many prompts may stand in one request, and so many of them are asked at a time.
_PROMPTS = 128
_CONCURRENT_PROMPTS = 8
COMMENT = b": the answer is still to come\n\n"
_Number = TypeVar("_Number", int, float)


def _sum(one: _Number | None, second: _Number | None) -> _Number | None:
    return second if one is None else one if second is None else one + second


class Outcome(msgspec.Struct):
    """What came of a call, for whoever looks on: filled while it is under way."""

    label: str = ""
    streamed: bool = False
    reply: Reply | None = None
    accumulator: ReplyAccumulator | None = None
    tokens: tuple[int | None, int | None] = (None, None)
    cost: float | None = None
    currency: str = ""
    provider: str = ""
    model: str = ""
    error: str = ""
    spent: bool = False

    def add(self, input_tokens: int | None, out: int | None, cost: float | None, currency: str) -> None:
        """What an attempt has taken, as the ledger has it: those of all attempts of a call are added up."""
        before = self.tokens if self.spent else (None, None)
        self.tokens = (_sum(before[0], input_tokens), _sum(before[1], out))
        self.cost = _sum(self.cost if self.spent else None, cost)
        self.currency = currency or self.currency
        self.spent = True

    def known(self) -> Reply | None:
        """The reply, or as much of it as has come."""
        if self.reply is None and self.accumulator is not None and self.accumulator.started:
            return self.accumulator.reply()
        return self.reply


class Answers:
    """Asks models for callers.

    Args:
        client: asks them.
        deadline: seconds that a whole call may take; `None`: as the entries say.
    """

    def __init__(
        self, client: "AsyncClient", settings: "RelaySettings", turn_memory: TurnMemory, stored: ResponseStore
    ) -> None:
        self._client = client
        self._calls = calls_of(client)
        self._deadline = settings.deadline
        self._quiet = settings.quiet_seconds
        self._turn_memory = turn_memory
        self._responses = stored

    def call_of(self, form: ServerFormat, body: Mapping[str, Json], token: str, to: Exchange) -> tuple[Call, Request]:
        """The call that a request amounts to.

        Raises:
            AgoutiError: it is wrong, or there is no such model.
        """
        targets = self._calls.chain(model_of(body))
        request, readable = request_in(form, body, targets)
        check_sayable(form, body, request, targets)
        options: dict[str, Any] = {**request.parameters, "tags": {TAG: token} if token else {}}
        if request.extra:
            options["extra"] = request.extra
        messages = self._turn_memory.with_turns(token, request.messages)
        question = question_of(list(messages), options, stream=request.stream)
        if (own_request := own_form(form, body, request, to.scope, to.headers, readable=readable)) is not None:
            question = msgspec.structs.replace(question, own=own_request)
        limits = {} if self._deadline is None else {"deadline": self._deadline}
        call = self._calls.chat(request.model, question, cast("Options", limits), stream=request.stream)
        return call, request

    def provider_of(self, label: str) -> str:
        """The provider of a model; empty where there is no such model."""
        try:
            return self._calls.target(label).provider.label
        except AgoutiError:
            return ""

    async def answer_whole(
        self, form: ServerFormat, call: Call, request: Request, to: Exchange, outcome: Outcome, body: Mapping[str, Json]
    ) -> None:
        """Answer with the whole reply; the provider's own bytes where it speaks the caller's format."""
        reply = outcome.reply = await self._client._run(ask(call))
        target = self._calls.target(reply.label)
        answered = reply.attempts[-1].model if reply.attempts else target.model.name
        same = self._calls.provider(reply.provider).dialect.name == form.name if reply.provider else False
        if reply.body and same and not any(each.model.reasoning_tag for each in call.targets):
            data, completion = reply.body, reply.completion
        else:
            completion = UniqueCalls().of(reply.completion)
            _check_answered(completion)
            data = encode_json(form.encode_reply(completion, _head(body, request, to, answered)))
        owner = call.question.tags.get(TAG, "")
        self._turn_memory.keep(owner, completion)
        if form.identified:
            identifier = completion.id or f"reply-{to.identifier}"
            self._responses.add(
                owner, identifier, body, provider=reply.provider if same else "", body=b"" if same else data
            )
        await to.answer(200, data, JSON, {ATTEMPTS: attempts_text(reply.attempts), **_passed_back(reply)})

    async def streamed(
        self, form: ServerFormat, call: Call, request: Request, to: Exchange, outcome: Outcome, body: Mapping[str, Json]
    ) -> None:
        """Answer with the reply as it comes."""
        accumulator = outcome.accumulator = ReplyAccumulator()
        driver = self._client._driver(stream(call, accumulator, verbatim=form.name))
        first = asyncio.ensure_future(driver.advance())
        try:
            # What goes wrong before there is anything to say has a status of its own, if it goes wrong soon.
            await asyncio.wait({first}, timeout=self._quiet)
            if first.done():
                await first
            model = accumulator.tool_text or call.targets[0].model.name
            encoder = form.stream_encoder(_head(body, request, to, model))
            attempt = Attempt(provider=accumulator.reply().provider, model=model, outcome="answering")
            attempts = {ATTEMPTS: attempts_text((*accumulator.attempts, attempt))}
            await to.begin(200, EVENTS, {"cache-control": "no-store", **_passed_back(accumulator.reply()), **attempts})
            to.keeps_alive = lambda: encoder.between
            if not first.done():
                await to.send_chunk(COMMENT)
            try:
                await self._answer_all(driver, await first, encoder, to, outcome, call)
                if form.identified:
                    self._keep(encoder, call, to, outcome, body)
            except AgoutiError as error:
                await to.send_chunk(encoder.failed(error_body(error, to.identifier, form.theirs)), has_more=False)
                raise
            except Refused as refused:
                await to.send_chunk(encoder.failed(error_body(refused, to.identifier)), has_more=False)
                raise
            except asyncio.CancelledError:
                if to.disconnected or (task := asyncio.current_task()) is None:
                    raise
                task.uncancel()  # the relay stops: the caller is told so
                stops = Refused(503, STOPS, wait=1.0)
                await to.send_chunk(encoder.failed(error_body(stops, to.identifier)), has_more=False)
                raise stops from None
        finally:
            to.keeps_alive = None
            if not first.done():
                first.cancel()
                with suppress(BaseException):
                    await first
            await driver.close()

    async def _answer_all(
        self,
        driver: "AsyncDriver[Any]",
        batch: "list[Event] | None",
        encoder: StreamEncoder,
        to: Exchange,
        outcome: Outcome,
        call: Call,
    ) -> None:
        """The events of a stream, as they come."""
        accumulator, unique = outcome.accumulator or ReplyAccumulator(), UniqueCalls()
        while batch is not None:
            if data := encoder.of(unique.in_events(batch, accumulator.provider)):
                await to.send_chunk(data)
            batch = await driver.advance()
        outcome.reply = driver.result
        completion = driver.result.completion
        if not encoder.verbatim:
            completion = unique.of(completion)
            _check_answered(completion)
        self._turn_memory.keep(call.question.tags.get(TAG, ""), completion)
        await to.send_chunk(encoder.last(), has_more=False)

    def are_several(self, form: ServerFormat, body: Mapping[str, Json]) -> bool:
        """Whether a request has several prompts, and its model takes one at a time."""
        prompts = body.get(form.conversation)
        if not form.several or not isinstance(prompts, list) or len(prompts) < 2:
            return False
        if not all(isinstance(each, str) for each in prompts):
            return False
        return not all(speaks(form, target) for target in self._calls.chain(model_of(body)))

    async def several(
        self, form: ServerFormat, body: Mapping[str, Json], token: str, to: Exchange, outcome: Outcome
    ) -> None:
        """Answer a request with several prompts: each is asked by itself, and the answers stand in their order."""
        prompts: Any = body[form.conversation]
        if len(prompts) > _PROMPTS:
            raise Refused(400, f"there are {len(prompts)} prompts, and {_PROMPTS} at most go into one request")
        calls = [self.call_of(form, {**body, form.conversation: each, "stream": False}, token, to) for each in prompts]
        slots = asyncio.Semaphore(_CONCURRENT_PROMPTS)

        async def one(call: Call) -> Reply:
            async with slots:
                return await self._client._run(ask(call))

        try:
            async with asyncio.TaskGroup() as group:
                tasks = [group.create_task(one(call)) for call, _ in calls]
        except* AgoutiError as errors:
            raise errors.exceptions[0] from None
        replies = [each.result() for each in tasks]
        choices = tuple([choice for reply in replies for choice in reply.completion.choices])
        usage = total_usage(reply.usage for reply in replies)
        completion = Completion(choices, replies[0].completion.model, None, usage)
        _check_answered(completion)
        if not outcome.spent:
            outcome.tokens = (usage.input_tokens, usage.output_tokens)
        attempts = {ATTEMPTS: attempts_text(tuple([each for reply in replies for each in reply.attempts]))}
        head = _head(body, calls[0][1], to, replies[0].model or "")
        if body.get("stream") is not True:
            await to.answer(200, encode_json(form.encode_reply(completion, head)), JSON, attempts)
            return
        outcome.streamed = True
        encoder = form.stream_encoder(head)
        await to.begin(200, EVENTS, {"cache-control": "no-store", **attempts})
        await to.send_chunk(encoder.of(as_events(completion)) + encoder.last(), has_more=False)

    def _keep(
        self, encoder: StreamEncoder, call: Call, to: Exchange, outcome: Outcome, body: Mapping[str, Json]
    ) -> None:
        """Keep a response that was streamed."""
        reply, owner = outcome.reply, call.question.tags.get(TAG, "")
        final: dict[str, Json] | None = getattr(encoder, "final", None)
        if final is not None:
            self._responses.add(owner, str(final["id"]), body, body=encode_json(final))
        elif reply is not None:
            self._responses.add(owner, reply.completion.id, body, provider=reply.provider)

    async def response(self, action: str, identifier: str, owner: str, to: Exchange) -> None:
        """Answer about a response by its identifier.

        Raises:
            Refused: there is none, or it is over.
        """
        stored = self._responses.of(owner, identifier)
        if stored.provider:
            outgoing = request_for(action, identifier, query_of(to.scope))
            step: Step[bytes] = Step(outgoing, bytes)
            data = (await self._client._run(exchange(self._calls.about(stored.provider), step))).answer.value
        else:
            data = stored_answer(action, identifier, stored)
        if action == "delete":
            self._responses.remove(owner, identifier)
        await to.answer(200, data, JSON)

    async def counted(self, form: ServerFormat, body: Mapping[str, Json], token: str, to: Exchange) -> None:
        """Answer with the number of tokens of a request."""
        call, _ = self.call_of(form, body, token, to)
        counted = await self._client._run(count(call))
        target = call.targets[0]
        attempts = _answered_by(target)
        await to.answer(200, encode_json({"input_tokens": counted.tokens}), JSON, attempts)

    async def vectors(self, body: Mapping[str, Json], token: str, to: Exchange, outcome: Outcome) -> None:
        """Answer with vectors; the provider's own bytes where it speaks the caller's format."""
        target = self._calls.target(model_of(body))
        ability = target.provider.dialect.abilities.vectors
        try:
            request = decode_vectors_request(body)
        except RequestError:
            if ability is None or not ability.compatible or not _may_mean_something(body.get("input")):
                raise
            request = VectorsRequest(model_of(body), ["-"])  # the provider may know what it means
        options: EmbedOptions = {"extra": request.extra, "tags": {TAG: token} if token else {}}
        if self._deadline is not None:
            options["deadline"] = self._deadline
        outcome.provider, outcome.model = target.provider.label, target.model.name
        price = target.price
        outcome.currency = "" if price is None else price.currency
        if ability is not None and ability.compatible and len(request.texts) <= ability.max_texts:
            passed = Passed(checked_texts(request.texts), body)
            exchanged = await self._client._run(exchange(self._calls.vectors_call(target, options), passed))
            usage = passed.usage(exchanged.answer.value) or NO_USAGE
            outcome.cost = None if price is None else price.cost(usage)
            data, attempts = exchanged.answer.body, {ATTEMPTS: attempts_text(exchanged.attempts)}
        else:
            embeddings = await self._client.embed(
                request.model, request.texts, dimensions=request.dimensions, **options
            )
            rows: list[Any] = (
                [row.tobytes() for row in embeddings.vectors] if request.base64 else embeddings.vectors.tolist()
            )
            data = encode_json(encode_vectors(rows, embeddings.model or target.model.name, embeddings.usage))
            usage, outcome.cost = embeddings.usage, embeddings.cost
            attempts = _answered_by(target)
        outcome.tokens = (usage.input_tokens, None)
        await to.answer(200, data, JSON, attempts)


class Passed(Embed):
    """A request for vectors as the caller has sent it."""

    def __init__(self, texts: list[str], body: Mapping[str, Json]) -> None:
        super().__init__(texts, dimensions=None, extra={})
        self._body = {name: value for name, value in body.items() if value is not None}

    def encode(self, request: VectorsRequest, target: Target) -> Outgoing:
        return Outgoing("embeddings", "/embeddings", {**self._body, "model": request.model})


class _Named(msgspec.Struct):
    model: Any = None


_NAMED = msgspec.json.Decoder(_Named)


def label_in(body: bytes) -> str | None:
    """The model that a body asks, without anything else being made of it; `None` where it cannot be seen."""
    try:
        model = _NAMED.decode(body.removeprefix(_MARK)).model
    except (ValueError, RecursionError):
        return None
    return model if isinstance(model, str) and model else None


_MARK = b"\xef\xbb\xbf"


def decoded(body: bytes, limit: int) -> dict[str, Json]:
    """The body of a request as an object.

    Args:
        limit: how many objects and lists there may be in it.

    Raises:
        RequestError: it is none.
        Refused: there are more.
    """
    body = body.removeprefix(_MARK)
    if len(body) > limit and body.count(b"{") + body.count(b"[") > limit:
        raise Refused(413, f"the request has more than {limit} objects and lists", "request_too_large")
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
    prompts = [
        f"{each.provider}/{each.model} {each.outcome}"
        + (f" {each.status}" if each.status and each.outcome != "answered" else "")
        for each in attempts
    ]
    text = ", ".join(prompts)
    return "".join([letter if " " <= letter <= "~" else "?" for letter in text])[:2000]


def _check_answered(completion: Completion) -> None:
    """See that there is an answer.

    Raises:
        Refused: the provider says itself that there is none.
    """
    if completion.choices and all(map(is_failure, completion.choices)):
        raise Refused(502, f"the answer failed: it ended with {completion.choices[0].finish_reason}", "answer_failed")


# What a provider says of its own limits, by which clients slow down.
_BACK = re.compile(r"x-ratelimit-[a-z-]{1,40}|ratelimit-[a-z-]{1,40}|ratelimit")


def _may_mean_something(texts: Json) -> bool:
    """Whether a provider may know what is to be turned into vectors: texts, or tokens."""
    if isinstance(texts, str):
        return bool(texts)
    if not isinstance(texts, list) or not texts:
        return False
    return all(isinstance(each, str) or _are_tokens(each) for each in texts) or _are_tokens(texts)


def _are_tokens(value: Json) -> bool:
    return isinstance(value, list) and bool(value) and all(type(each) is int for each in value)


def _answered_by(target: Target) -> dict[str, str]:
    attempt = Attempt(provider=target.provider.label, model=target.model.name, outcome="answered")
    return {ATTEMPTS: attempts_text((attempt,))}


def _passed_back(reply: Reply) -> dict[str, str]:
    back = {name: value for name, value in reply.headers.items() if _BACK.fullmatch(name)}
    return {**back, PROVIDER_ID: reply.request_id} if reply.request_id else back


def _head(body: Mapping[str, Json], request: Request, to: Exchange, model: str) -> ReplyHead:
    return ReplyHead(int(time.time()), model, f"reply-{to.identifier}", request, body)
