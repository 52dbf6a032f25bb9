"""Telemetry as a hook: OpenTelemetry spans and metrics of calls and attempts, by its conventions for generative AI.

A span for each call, one below it for each attempt, and events for repeats and waits; calls that belong together (a
fill with its repairs, a question with its functions, a run over rows) are below one span. Counts of tokens, durations
and cost as metrics. What is asked and answered is in none of them, unless that is asked for.
"""

import json
import logging
import time
from collections.abc import Collection, Iterable, Mapping
from threading import Lock
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

from ..core.canonical.chat import Completion, Message, Request, ToolCall
from ..core.errors import ConfigError
from ..engine.hooks import AttemptDetails, AttemptResult, CallResult, GroupDetails, GroupHook, SeeingHook, SendingHook
from ..engine.question import Question
from ..runtime.fork_reset import reset_after_fork

if TYPE_CHECKING:
    from opentelemetry.context import Context
    from opentelemetry.metrics import MeterProvider
    from opentelemetry.trace import Span, TracerProvider

    from ..config.entries import Config

try:
    from opentelemetry import context, metrics, propagate, trace
    from opentelemetry.trace import SpanKind, StatusCode
except ImportError:
    raise ConfigError(
        "telemetry needs opentelemetry-api, which is not installed",
        hint="Install it: pip install 'agouti-client[telemetry]'.",
    ) from None

log = logging.getLogger("agouti.hooks")

# Parameters by the names of the conventions.
_PARAMETERS = {
    "temperature": "temperature",
    "top_p": "top_p",
    "top_k": "top_k",
    "max_tokens": "max_tokens",
    "stop": "stop_sequences",
    "seed": "seed",
    "n": "choice.count",
    "frequency_penalty": "frequency_penalty",
    "presence_penalty": "presence_penalty",
}
_TOKENS = {
    "input_tokens": "input_tokens",
    "output_tokens": "output_tokens",
    "cached_tokens": "cache_read.input_tokens",
    "cache_write_tokens": "cache_creation.input_tokens",
    "reasoning_tokens": "reasoning.output_tokens",
}


_SYSTEM = ("system", "developer")


class _Traced:
    """The spans of a call that is under way."""

    def __init__(self, span: "Span", within: "Context") -> None:
        self.span = span
        self.within = within
        self.attempt: Span | None = None
        self.started_at = 0
        self.error = ""
        self.sent = 0
        self.facts: dict[str, Any] = {}


class Telemetry(SendingHook, SeeingHook, GroupHook):
    """Tells OpenTelemetry of calls and attempts; for ``Client(hooks=[...])``, or by ``[telemetry]`` in a configuration.

    Args:
        config: the addresses of its providers are told, and those with ``trace = true`` get a ``traceparent`` header.
        content: tell what is asked and answered, too.
        tracer_provider, meter_provider: where to; those of the process where not given.
        trace_to: labels of further providers that get the header.

    Example:
        >>> import agouti
        >>> from agouti.telemetry.hook import Telemetry
        >>> from agouti.testing import FakeTransport
        >>> fake = FakeTransport([{"choices": [{"message": {"content": "In March."}}]}])
        >>> with agouti.Client.at("https://nb.example/v1", transport=fake, hooks=[Telemetry()]) as client:
        ...     print(client.ask("quill-large", "When do peas go in?"))
        In March.
    """

    def __init__(
        self,
        config: "Config | None" = None,
        *,
        content: bool = False,
        tracer_provider: "TracerProvider | None" = None,
        meter_provider: "MeterProvider | None" = None,
        trace_to: Collection[str] = (),
    ) -> None:
        providers = {} if config is None else config.providers
        self._content = content
        self._trace_to = {*trace_to, *[label for label, entry in providers.items() if entry.trace]}
        self._servers = {label: _server(entry.address) for label, entry in providers.items()}
        self._tracer = trace.get_tracer("agouti", tracer_provider=tracer_provider)
        meter = metrics.get_meter("agouti", meter_provider=meter_provider)
        self._tokens = meter.create_histogram("gen_ai.client.token.usage", "{token}", "Tokens of a request.")
        self._seconds = meter.create_histogram("gen_ai.client.operation.duration", "s", "Duration of a call.")
        self._first = meter.create_histogram(
            "gen_ai.client.operation.time_to_first_chunk", "s", "Time to the first piece of an answer."
        )
        self._cost = meter.create_counter("agouti.cost", "{currency}", "What requests have cost.")
        self._calls: dict[int, _Traced] = {}
        self._groups: dict[int, tuple[Span, Context]] = {}
        self._lock = Lock()
        reset_after_fork(self)

    def after_fork(self) -> None:
        """What is under way is the parent's."""
        self._calls, self._groups, self._lock = {}, {}, Lock()

    def before(self, attempt: AttemptDetails) -> None:
        """Begin the span of an attempt, and that of its call; what goes wrong with it refuses nothing."""
        try:
            self._begin(attempt)
        except Exception:
            log.exception("a hook failed")

    def _begin(self, attempt: AttemptDetails) -> None:
        facts = self._facts(attempt)
        with self._lock:
            traced = self._calls.get(attempt.call)
        if traced is None:
            within = self._within(attempt.group)
            name = f"{attempt.operation} {attempt.label}".strip()
            request_attributes = _request_attributes(attempt, content=self._content)
            span = self._tracer.start_span(name, within, SpanKind.INTERNAL, {**facts, **request_attributes})
            traced = _Traced(span, trace.set_span_in_context(span, within))
            with self._lock:
                self._calls[attempt.call] = traced
        else:
            attributes: dict[str, Any] = {
                "agouti.attempt": attempt.number,
                "agouti.model": attempt.model,
                "error.type": traced.error,
            }
            traced.span.add_event("retry", attributes)
        name = f"{attempt.operation} {attempt.name}".strip()
        traced.facts = facts  # of the latest one: whoever has answered
        traced.attempt = self._tracer.start_span(name, traced.within, SpanKind.CLIENT, facts)
        traced.started_at = time.monotonic_ns()

    def sending(self, attempt: AttemptDetails) -> Mapping[str, str]:
        """Tell how long it has waited, and give the header with which the provider's own spans go below this one."""
        traced = self._calls.get(attempt.call)
        if traced is None or traced.attempt is None:
            return {}
        traced.sent += 1
        waited = (time.monotonic_ns() - traced.started_at) / 1e9
        if waited >= 0.001:
            traced.attempt.add_event("waited", {"agouti.seconds": waited})
        carrier: dict[str, str] = {}
        if attempt.provider in self._trace_to:
            propagate.inject(carrier, trace.set_span_in_context(traced.attempt))
        return carrier

    def after(self, result: AttemptResult) -> None:
        """End the span of an attempt."""
        with self._lock:
            traced = self._calls.get(result.attempt.call)
        if traced is None or traced.attempt is None:
            return
        span, traced.attempt = traced.attempt, None
        facts = self._facts(result.attempt)
        answer_attributes = {**_answered(result), **(_answer_attributes(result) if self._content else {})}
        span.set_attributes(answer_attributes)
        traced.span.set_attributes(answer_attributes)
        traced.error = _failed(span, result.outcome, result.error)
        span.end()
        self._count(result, facts)
        if result.first_token is not None:
            self._first.record(result.first_token, facts)

    def _count(self, result: AttemptResult, facts: Mapping[str, Any]) -> None:
        """What it took: tokens and cost."""
        for kind in ("input", "output"):
            count: int | None = getattr(result.usage, f"{kind}_tokens", None)
            if count is not None:
                self._tokens.record(max(count, 0), {**facts, "gen_ai.token.type": kind})
        if result.cost:
            self._cost.add(result.cost, {**facts, "agouti.currency": result.currency})

    def deferred(self, result: AttemptResult) -> None:
        """An answer of a deferred batch: it has no span, but its tokens and its cost count."""
        self._count(result, self._facts(result.attempt))

    def cached(self, result: AttemptResult) -> None:
        """An answer came from the cache: its span says so."""
        self.before(result.attempt)
        traced = self._calls.get(result.attempt.call)
        if traced is not None and traced.attempt is not None:
            traced.attempt.set_attribute("agouti.cached", True)
        self.after(result)

    def end(self, result: CallResult) -> None:
        """End the span of a call."""
        with self._lock:
            traced = self._calls.pop(result.call, None)
        if traced is None:  # nothing was tried
            return
        if traced.attempt is not None:  # another hook has refused it
            _failed(traced.attempt, "failed", result.error)
            traced.attempt.end()
        error = _failed(traced.span, result.outcome, result.error)
        traced.span.set_attribute("agouti.attempts", max(result.attempts, traced.sent))
        traced.span.end()
        facts = {**traced.facts, "gen_ai.operation.name": result.operation, "agouti.label": result.label}
        self._seconds.record(result.seconds, {**facts, **({"error.type": error} if error else {})})

    def begin_group(self, group: GroupDetails) -> None:
        """Begin the span of calls that belong together."""
        within = self._within(group.within)
        facts: dict[str, Any] = {"agouti.label": group.label}
        facts |= {f"agouti.tag.{name}": value for name, value in group.tags.items()}
        if group.operation == "execute_tool":
            facts |= {"gen_ai.operation.name": group.operation, "gen_ai.tool.name": group.name}
        name = f"{group.operation} {group.name or group.label}"
        span = self._tracer.start_span(name, within, SpanKind.INTERNAL, facts)
        with self._lock:
            self._groups[group.number] = span, trace.set_span_in_context(span, within)

    def end_group(self, group: GroupDetails, error: BaseException | None) -> None:
        """End it."""
        with self._lock:
            span, _ = self._groups.pop(group.number, (None, None))
        if span is None:
            return
        is_cancelled = isinstance(error, GeneratorExit)
        _failed(span, "answered" if error is None else "failed", None if is_cancelled else error)
        span.end()

    def _within(self, group: int) -> "Context":
        """What a new span is below: its group, or whatever the application is doing."""
        with self._lock:
            _, within = self._groups.get(group, (None, None))
        return context.get_current() if within is None else within

    def _facts(self, attempt: AttemptDetails) -> dict[str, Any]:
        """What tells one span or number from another."""
        return {
            "gen_ai.operation.name": attempt.operation,
            "gen_ai.provider.name": attempt.provider,
            "gen_ai.request.model": attempt.name,
            "agouti.label": attempt.label,
            **self._servers.get(attempt.provider, {}),
            **{f"agouti.tag.{name}": value for name, value in attempt.tags.items()},
        }


def _server(address: str) -> dict[str, Any]:
    try:
        parts = urlsplit(address)
        port = parts.port or {"https": 443, "http": 80}.get(parts.scheme)
    except ValueError:
        return {}
    return {} if not parts.hostname or port is None else {"server.address": parts.hostname, "server.port": port}


def _request_attributes(attempt: AttemptDetails, *, content: bool) -> dict[str, Any]:
    """Parameters of a question, and where it is wanted the question itself."""
    answer_attributes: dict[str, Any] = {}
    for name, value in getattr(attempt.request, "parameters", {}).items():
        if name in _PARAMETERS and value is not None:
            values = [value] if name == "stop" and isinstance(value, str) else value
            answer_attributes[f"gen_ai.request.{_PARAMETERS[name]}"] = values
    if content and isinstance(attempt.question, Question):
        request = attempt.request
        messages = request.messages if isinstance(request, Request) else attempt.question.messages
        system = [each for each in messages if each.role in _SYSTEM]
        if system:
            parts = [part for each in system for part in _parts(each.content)]
            answer_attributes["gen_ai.system_instructions"] = json.dumps(parts, ensure_ascii=False)
        answer_attributes["gen_ai.input.messages"] = json.dumps(
            [_message(each) for each in messages if each.role not in _SYSTEM], ensure_ascii=False
        )
    return answer_attributes


def _answered(result: AttemptResult) -> dict[str, Any]:
    """What is told of an answer."""
    answer_attributes: dict[str, Any] = {
        f"gen_ai.usage.{name}": count
        for field, name in _TOKENS.items()
        if (count := getattr(result.usage, field, None)) is not None
    }
    if result.status is not None:
        answer_attributes["http.response.status_code"] = result.status
    if result.cost is not None:
        answer_attributes["agouti.cost"], answer_attributes["agouti.currency"] = result.cost, result.currency
    if result.first_token is not None:
        answer_attributes["gen_ai.response.time_to_first_chunk"] = result.first_token
    if isinstance(result.answer, Completion):
        reasons = [each.finish_reason for each in result.answer.choices if each.finish_reason]
        fields = {"finish_reasons": reasons, "model": result.answer.model, "id": result.answer.id}
        answer_attributes.update({f"gen_ai.response.{name}": value for name, value in fields.items() if value})
    return answer_attributes


def _answer_attributes(result: AttemptResult) -> dict[str, Any]:
    """The answer itself."""
    if not isinstance(result.answer, Completion):
        return {}
    messages = [
        {
            "role": "assistant",
            "parts": [*_parts(each.text or None), *_calls(each.tool_calls)],
            "finish_reason": each.finish_reason,
        }
        for each in result.answer.choices
    ]
    return {"gen_ai.output.messages": json.dumps(messages, ensure_ascii=False)}


def _message(message: Message) -> dict[str, Any]:
    """A message by the conventions."""
    if message.role == "tool":
        response = {"type": "tool_call_response", "id": message.tool_call_id, "response": message.content}
        return {"role": "tool", "parts": [response]}
    return {"role": message.role, "parts": [*_parts(message.content), *_calls(message.tool_calls)]}


def _calls(calls: Iterable[ToolCall]) -> list[dict[str, Any]]:
    """Calls of tools, their arguments as they were written."""
    return [
        {"type": "tool_call", "id": each.id, "name": each.function.name, "arguments": each.function.arguments}
        for each in calls
    ]


def _parts(answer_attributes: Any) -> list[dict[str, Any]]:
    """The parts of a message; of those that are no text only the kind."""
    parts = [answer_attributes] if isinstance(answer_attributes, str) else answer_attributes or []
    return [
        {"type": "text", "content": each if isinstance(each, str) else each.get("text", "")}
        if isinstance(each, str) or each.get("type") == "text"
        else {"type": str(each.get("type"))}
        for each in parts
    ]


def _failed(span: "Span", outcome: str, error: BaseException | None) -> str:
    """Put onto a span why it has failed; the class of the error."""
    if outcome in ("answered", "cached"):
        return ""
    kind = "abandoned" if error is None else type(error).__name__
    span.set_attribute("error.type", kind)
    if error is not None:
        span.set_status(StatusCode.ERROR, kind)  # in its words may be some of the prompt
    return kind
