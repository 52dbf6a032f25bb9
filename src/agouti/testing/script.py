"""Scripted replies: what a test wants models to say, whatever their format; and what they were asked."""

import json
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import partial
from threading import Lock
from time import sleep
from typing import Any, TypeAlias

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..core.canonical.chat import Choice, Completion, Json, Request, ToolCall, ToolFunction
from ..core.canonical.usage import Usage
from ..core.canonical.vectors import Vectors, VectorsRequest
from ..core.errors import AgoutiError, NotRecorded
from ..core.messages.parts import text_of
from ..core.messages.token_estimate import estimate_text, estimate_tokens
from ..engine.effects import RunCallable, Steps
from ..engine.hooks import AnsweringHook, AttemptDetails, BrokenAnswer
from ..forms.plain_values import plain_value
from ..replies.errors import StreamCut
from ..transport.test_override import ACTIVE, AsyncGuarded, Guarded

ScriptedReply: TypeAlias = "str | Mapping[str, Any] | list[Any] | Callable[[Sent], Any] | Any"
"""What a model says: a text, a value that is written as JSON, or a function of what was asked."""


class Sent(Struct, frozen=True, kw_only=True):
    """What a model was asked.

    Attributes:
        label: of the model that was tried; ``asked`` is the label that the application asked.
        name, provider: what its provider calls it, and the label of that.
        operation: ``chat``, ``embeddings``, ``models`` or ``count``.
        text: the last text of the prompt.
        messages: all messages, system text and examples included, in the OpenAI-compatible form.
        parameters: under their usual names, those of the entry included.
        texts: of embeddings.
        tags: what the call was for.
    """

    label: str
    asked: str
    name: str
    provider: str
    operation: str
    text: str = ""
    messages: list[dict[str, Json]] = []
    parameters: dict[str, Json] = {}
    texts: list[str] = []
    tags: Mapping[str, str] = {}


def sent_of(attempt: AttemptDetails) -> Sent:
    """What an attempt asks."""
    request = attempt.request
    facts: dict[str, Any] = {}
    if isinstance(request, Request):
        messages = [_as_json(message) for message in request.messages]
        facts = {"messages": messages, "parameters": dict(request.parameters)}
        facts["text"] = next((text_of(each) for each in reversed(request.messages) if each.content), "")
    elif isinstance(request, VectorsRequest):
        facts = {"texts": list(request.texts), "text": request.texts[-1] if request.texts else ""}
    return Sent(
        label=attempt.model,
        asked=attempt.label,
        name=attempt.name,
        provider=attempt.provider,
        operation=attempt.operation,
        tags=attempt.tags,
        **facts,
    )


def _as_json(message: Any) -> dict[str, Json]:
    json_value: dict[str, Json] = msgspec.to_builtins(message)
    return {name: value for name, value in json_value.items() if value not in (None, (), [], {}, False)}


class _Rule(Struct):
    """What is said to what is asked."""

    label: str | None
    pattern: "re.Pattern[str] | None"
    replies: list[Any]
    facts: dict[str, Any]
    remaining: int | None
    used: bool = False

    def fits(self, sent: Sent) -> bool:
        if self.remaining == 0 or (self.label is not None and self.label != sent.label):
            return False
        return self.pattern is None or self.pattern.search(sent.text) is not None

    def next(self) -> Any:
        self.used = True
        if self.remaining is not None:
            self.remaining -= 1
        return self.replies.pop(0) if len(self.replies) > 1 else self.replies[0]


class Script(AnsweringHook):
    """What models say in a test, in every format alike: nothing is sent, no key is needed.

    The first rule that fits what is asked, and is not used up, answers. What no rule fits is an error.

    Attributes:
        sent: what was asked, in order; also what was refused.

    Example:
        >>> import agouti
        >>> from agouti.testing import scripted
        >>> config = {"providers": {"northbank": {"address": "https://api.northbank.example/v1"}},
        ...           "models": {"almanac": {"provider": "northbank", "name": "quill-large"}}}
        >>> with scripted() as script, agouti.Client(config) as client:
        ...     script.error(agouti.RateLimited("slow down", status=429), times=1)
        ...     script.reply("In March.", pattern="peas")
        ...     reply = client.ask("almanac", "When do peas go in?")
        >>> reply.text, [attempt.outcome for attempt in reply.attempts], script.sent[0].text
        ('In March.', ['RateLimited', 'answered'], 'When do peas go in?')
    """

    caches = False
    stands_in = True

    def __init__(self) -> None:
        self._rules: list[_Rule] = []
        self._lock = Lock()
        self.sent: list[Sent] = []

    def reply(
        self,
        *replies: ScriptedReply,
        label: str | None = None,
        pattern: str | None = None,
        times: int | None = None,
        finish_reason: str = "stop",
        reasoning: str | None = None,
        calls: Sequence[tuple[str, Mapping[str, Any]]] = (),
        usage: tuple[int, int] | None = None,
        cut: int | None = None,
        latency: float = 0.0,
    ) -> None:
        """Answer what fits.

        Args:
            replies: texts; values, which are written as JSON (for `fill`); or functions of a `Sent`. Several are said
                one after the other, the last one again and again.
            label: only of this model; one that takes over for another has a label of its own.
            pattern: a regular expression that is found in the last text of the prompt.
            times: so often at most.
            finish_reason: ``length`` for an answer that was cut.
            calls: tool calls, as names and arguments.
            usage: tokens in and out; estimated otherwise.
            cut: after so many characters the answer breaks off: a stream has given those, and ends in `StreamCut`.
            latency: seconds until it comes.
        """
        facts: dict[str, Any] = {
            "finish_reason": finish_reason,
            "reasoning": reasoning,
            "calls": tuple(calls),
            "usage": usage,
            "cut": cut,
            "latency": latency,
        }
        self._add(label, pattern, list(replies) or [""], facts, times)

    def error(
        self,
        error: AgoutiError | type[AgoutiError],
        *,
        label: str | None = None,
        pattern: str | None = None,
        times: int | None = None,
    ) -> None:
        """Fail what fits, as a provider would: it is repeated, or the next model takes over, where that makes sense."""
        self._add(label, pattern, [error], {"error": True}, times)

    def vectors(self, dimensions: int = 8, *, label: str | None = None, times: int | None = None) -> None:
        """Answer embeddings: equal texts have equal vectors, and texts that share words are near."""
        self._add(label, None, [dimensions], {"vectors": True}, times)

    def _add(
        self, label: str | None, pattern: str | None, replies: list[Any], facts: dict[str, Any], times: int | None
    ) -> None:
        compiled = None if pattern is None else re.compile(pattern)
        with self._lock:
            self._rules.append(_Rule(label, compiled, replies, facts, times))

    def kept(self, attempt: AttemptDetails) -> Steps[object | None]:
        """What the script says."""
        yield from ()
        sent = sent_of(attempt)
        with self._lock:
            self.sent.append(sent)
            rule = next((each for each in self._rules if each.fits(sent) and self._is_for(each, sent)), None)
            replies: Any = rule.next() if rule is not None else None
        if rule is None:
            return NotRecorded(
                f"the script has no reply to this {sent.operation} of {sent.label} ({sent.text[:80]!r})",
                hint="Add one: script.reply(...), or script.vectors() for embeddings.",
            )
        if "error" in rule.facts:
            return _error(replies)
        if isinstance(attempt.request, VectorsRequest):
            return _vectors(attempt.request, replies)
        if latency := rule.facts.get("latency"):
            yield RunCallable(partial(sleep, latency), None)
        value: Any = replies(sent) if callable(replies) else replies
        completion = _completion(attempt.request, value, sent, rule.facts)
        return completion if (cut := rule.facts.get("cut")) is None else _cut(completion, cut, sent)

    @property
    def unused(self) -> list[str]:
        """What was never said: a line for each reply, error or kind of vectors that nothing has asked for."""
        with self._lock:
            return [_described(each) for each in self._rules if not each.used]

    def check_used(self) -> None:
        """See that all of it was said.

        Raises:
            AssertionError: it was not; says what is left.
        """
        if unused := self.unused:
            raise AssertionError(f"never asked for: {'; '.join(unused)}")

    @staticmethod
    def _is_for(rule: _Rule, sent: Sent) -> bool:
        return "error" in rule.facts or ("vectors" in rule.facts) == (sent.operation == "embeddings")


def _described(rule: _Rule) -> str:
    replies = "vectors" if "vectors" in rule.facts else repr(rule.replies[0])[:60]
    about = [f"label {rule.label}" if rule.label else "", f"pattern {rule.pattern.pattern!r}" if rule.pattern else ""]
    return " of ".join(filter(None, (replies, ", ".join(filter(None, about)))))


def _cut(completion: Completion, characters: int, sent: Sent) -> BrokenAnswer:
    """What came of an answer before it broke off."""
    choice = completion.choices[0]
    partial = replace(choice, text=choice.text[:characters], finish_reason=None, tool_calls=())
    error = StreamCut(f"the stream from {sent.provider} was cut off after {len(partial.text)} characters: scripted")
    return BrokenAnswer(replace(completion, choices=(partial,), usage=None), error)


def _error(error: AgoutiError | type[AgoutiError]) -> AgoutiError:
    """A new error each time: what is known of a call is written into it."""
    if isinstance(error, type):
        return error("scripted")
    return type(error)(
        error.message, hint=error.hint, status=error.status, wait=error.wait, provider_message=error.provider_message
    )


def _completion(request: object, value: Any, sent: Sent, facts: dict[str, Any]) -> Completion:
    parameters = request.parameters if isinstance(request, Request) else {}
    forced = parameters.get("tool_choice")
    text = value if isinstance(value, str) else json.dumps(plain_value(value), ensure_ascii=False)
    if isinstance(value, str) and (isinstance(forced, dict) or "response_format" in parameters):
        text = _filling(value)  # a text that fills a form is written as the others are
    calls = [(name, json.dumps(plain_value(arguments))) for name, arguments in facts.get("calls", ())]
    if not calls and isinstance(forced, dict):  # a form that goes through a tool is filled in its arguments
        calls, text = [(forced.get("function", {}).get("name", ""), text)], ""
    reason = facts.get("finish_reason", "stop")
    if calls and reason == "stop":
        reason = "tool_calls"
    written = text or "".join(arguments for _, arguments in calls)
    usage = facts.get("usage") or (
        estimate_tokens(request) if isinstance(request, Request) else 0,
        estimate_text(written),
    )
    choice = Choice(
        text=text,
        finish_reason=reason,
        reasoning=facts.get("reasoning"),
        tool_calls=tuple(
            ToolCall(ToolFunction(name, arguments), f"call_{number}")
            for number, (name, arguments) in enumerate(calls, 1)
        ),
    )
    return Completion((choice,), sent.name, None, Usage(usage[0], usage[1], usage[0] + usage[1]))


def _filling(text: str) -> str:
    """A text as JSON, unless it is some already."""
    try:
        json.loads(text)
    except ValueError:
        return json.dumps({"value": text}, ensure_ascii=False)
    return text


def _vectors(request: VectorsRequest, dimensions: int) -> Vectors:
    from hashlib import blake2b

    size = request.dimensions or dimensions
    value: list[Any] = []
    for text in request.texts:
        vector = [0.0] * size
        for token in re.findall(r"\w+", text.lower()) or [text]:
            digest = int.from_bytes(blake2b(token.encode(), digest_size=4).digest())
            vector[digest % size] += 1.0
        length = sum(each * each for each in vector) ** 0.5
        value.append([each / length for each in vector])
    tokens = sum(map(estimate_text, request.texts))
    return Vectors(value, request.model, Usage(tokens, 0, tokens))


class _Scripted:
    """A script in the place of the network."""

    keyless = True

    def __init__(self, script: Script) -> None:
        self.hooks = (script,)

    def sync(self, network: Any) -> Guarded:
        guarded = Guarded(network, _nothing_goes_out)
        guarded.at_once = True  # nobody waits for a repeat that is scripted
        return guarded

    def asynchronous(self, network: Any) -> AsyncGuarded:
        guarded = AsyncGuarded(network, _nothing_goes_out)
        guarded.at_once = True
        return guarded


def _nothing_goes_out(request: Any) -> None:
    raise NotRecorded(f"the script has no reply to {request.method} {request.url}", hint="Nothing was sent.")


@contextmanager
def scripted() -> Iterator[Script]:
    """A `Script` answers for all models, in all clients, while the block runs."""
    script = Script()
    with standing_in(_Scripted(script)):
        yield script


@contextmanager
def standing_in(instead: Any) -> Iterator[None]:
    """Something stands in for the network while the block runs."""
    ACTIVE.append(instead)
    try:
        yield
    finally:
        ACTIVE.remove(instead)
