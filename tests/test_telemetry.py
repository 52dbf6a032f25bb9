"""Telemetry with the SDK's in-memory exporters: spans of calls and attempts, metrics, what is told and what is not."""

import asyncio
import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from opentelemetry import trace
from opentelemetry.sdk.metrics import MeterProvider
from opentelemetry.sdk.metrics.export import InMemoryMetricReader
from opentelemetry.sdk.trace import ReadableSpan, TracerProvider
from opentelemetry.sdk.trace.export import SimpleSpanProcessor
from opentelemetry.sdk.trace.export.in_memory_span_exporter import InMemorySpanExporter

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.engine.effects import Sleep
from agouti.telemetry.hook import Telemetry
from agouti.testing import AsyncFakeTransport, FakeTransport

GOOD = {"id": "r-1", "model": "quill-large-2", "choices": [{"message": {"content": "In March."}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 9, "completion_tokens": 4, "prompt_tokens_details": {"cached_tokens": 3}}}  # fmt: skip
CONFIG: dict[str, Any] = {
    "providers": {
        "nb": {"address": "https://nb.example/v1", "retries": {"base": 0.01}, "trace": True},
        "shed": {"address": "http://localhost:8080/v1", "limits": {"requests_per_minute": 1, "wait": 0}},
    },
    "models": {
        "a": {"provider": "nb", "name": "quill", "price": {"input": 1, "output": 2, "currency": "USD"}},
        "b": {"provider": "shed", "name": "loam", "fallback": ["a"]},
    },
}


class Told:
    """What was told."""

    def __init__(self, **options: Any) -> None:
        self._exporter = InMemorySpanExporter()
        self.tracers = tracers = TracerProvider()
        tracers.add_span_processor(SimpleSpanProcessor(self._exporter))
        self.tracer = tracers.get_tracer("test")
        self._reader = InMemoryMetricReader()
        config = agouti.load_config(CONFIG)
        self.meters = meters = MeterProvider([self._reader])
        self.hook = Telemetry(config, tracer_provider=tracers, meter_provider=meters, **options)

    @property
    def spans(self) -> list[ReadableSpan]:
        return sorted(self._exporter.get_finished_spans(), key=lambda span: span.start_time or 0)

    @property
    def numbers(self) -> dict[str, list[Any]]:
        data = self._reader.get_metrics_data()
        scopes = [scope for each in (data.resource_metrics if data else []) for scope in each.scope_metrics]
        return {metric.name: list(metric.data.data_points) for scope in scopes for metric in scope.metrics}


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_a_span_for_each_call_and_each_attempt(kind: str) -> None:
    told = Told()
    answers = [HttpReply(503, {}, b"{}"), GOOD]
    with told.tracer.start_as_current_span("newsletter"):
        if kind == "sync":
            fake: Any = FakeTransport(answers)
            with agouti.Client(CONFIG, transport=fake, hooks=[told.hook]) as client:
                client.ask("a", "Peas at Marsh Lane?", temperature=0.5, stop="x", tags={"feature": "letter"})
        else:
            fake = AsyncFakeTransport(answers)

            async def go() -> None:
                async with agouti.AsyncClient(CONFIG, transport=fake, hooks=[told.hook]) as client:
                    await client.ask("a", "Peas at Marsh Lane?", temperature=0.5, stop="x", tags={"feature": "letter"})

            asyncio.run(go())
    outer, call, failed, good = told.spans
    assert [span.name for span in (call, failed, good)] == ["chat a", "chat quill", "chat quill"]
    assert call.parent is not None
    assert outer.context is not None
    assert call.context is not None
    assert call.parent.span_id == outer.context.span_id
    assert {span.parent and span.parent.span_id for span in (failed, good)} == {call.context.span_id}
    facts = dict(good.attributes or {})
    assert facts["gen_ai.request.model"] == "quill"
    assert facts["gen_ai.provider.name"] == "nb"
    assert (facts["server.address"], facts["server.port"]) == ("nb.example", 443)
    assert facts["gen_ai.response.model"] == "quill-large-2"
    assert facts["gen_ai.response.finish_reasons"] == ("stop",)
    assert (facts["gen_ai.usage.input_tokens"], facts["gen_ai.usage.cache_read.input_tokens"]) == (9, 3)
    assert facts["agouti.cost"] == pytest.approx(17e-6)
    assert facts["agouti.tag.feature"] == "letter"
    asked = dict(call.attributes or {})
    assert (asked["gen_ai.request.temperature"], asked["gen_ai.request.stop_sequences"]) == (0.5, ("x",))
    assert asked["agouti.attempts"] == 2
    assert dict(failed.attributes or {})["error.type"] == "Overloaded"
    assert not failed.status.is_ok
    assert call.status.is_unset
    (event,) = call.events
    assert (event.name, dict(event.attributes or {})["error.type"]) == ("retry", "Overloaded")
    assert "Marsh Lane" not in str([span.to_json() for span in told.spans])
    parents = [request.headers["traceparent"].split("-") for request in fake.requests]
    assert [int(span_id, 16) for _, _, span_id, _ in parents] == [each.context.span_id for each in (failed, good) if each.context]  # fmt: skip
    numbers = told.numbers
    tokens = {point.attributes["gen_ai.token.type"]: point.sum for point in numbers["gen_ai.client.token.usage"]}
    assert tokens == {"input": 9, "output": 4}
    assert [point.value for point in numbers["agouti.cost"]] == [pytest.approx(17e-6)]
    assert numbers["gen_ai.client.operation.duration"][0].count == 1


def tree(told: Told) -> list[str]:
    """The spans, each below its parent, as lines."""
    spans = told.spans

    def below(parent: int | None, depth: int) -> list[str]:
        lines: list[str] = []
        for span in spans:
            if (span.parent.span_id if span.parent else None) == parent and span.context is not None:
                error = dict(span.attributes or {}).get("error.type")
                lines += ["  " * depth + span.name + (f" ({error})" if error else "")]
                lines += below(span.context.span_id, depth + 1)
        return lines

    return below(None, 0)


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_calls_that_belong_together_are_below_one_span(kind: str) -> None:
    told = Told()
    call = {"id": "c1", "type": "function", "function": {"name": "frost", "arguments": '{"place":"Fen"}'}}
    wants = {"choices": [{"message": {"content": None, "tool_calls": [call]}, "finish_reason": "tool_calls"}]}
    number = {"choices": [{"message": {"content": '{"value": 7}'}, "finish_reason": "stop"}]}
    answers = [GOOD, number, wants, GOOD, GOOD, number, GOOD]

    async def tasks() -> None:
        async def frost(place: str) -> str:
            """Whether there is frost."""
            return (await client.ask("a", place)).text

        client = agouti.AsyncClient(CONFIG, transport=AsyncFakeTransport(answers), hooks=[told.hook])
        async with client:
            await client.fill("a", int, "How many?")
            await client.ask("a", "Frost?", tools=[frost], run_tools=True)
            await agouti.batch(client, "a", ["Peas?"], form=int)
            with pytest.raises(agouti.AgoutiError):
                await client.fill("a", bool, "Peas?", max_repairs=0)

    def threads() -> None:
        def frost(place: str) -> str:
            """Whether there is frost."""
            return client.ask("a", place).text

        with agouti.Client(CONFIG, transport=FakeTransport(answers), hooks=[told.hook]) as client:
            client.fill("a", int, "How many?")
            client.ask("a", "Frost?", tools=[frost], run_tools=True)
            agouti.batch(client, "a", ["Peas?"], form=int)
            with pytest.raises(agouti.AgoutiError):
                client.fill("a", bool, "Peas?", max_repairs=0)

    threads() if kind == "sync" else asyncio.run(tasks())
    asked = ["  chat a", "    chat quill"]
    nested = ["    chat a", "      chat quill"]
    assert tree(told) == [
        *("fill int", *asked, *asked),
        *("tools a", *asked, "  execute_tool frost", *nested, *asked),
        *("batch a", "  fill int", *nested),
        *("fill bool (NotFilled)", *asked),
    ]
    assert not told.hook._groups


def test_refusals_streams_and_those_that_are_left() -> None:
    told = Told()
    stream = [b'data: {"choices":[{"delta":{"content":"In March, peas."}}]}\n\n'] * 3
    with agouti.Client(CONFIG, transport=FakeTransport([GOOD, GOOD, stream]), hooks=[told.hook]) as client:
        client.ask("b", "Peas?")
        client.ask("b", "Peas?")  # another model takes over
        with client.stream("a", "Peas?") as streamed:
            next(iter(streamed))
    names = [(span.name, dict(span.attributes or {}).get("error.type")) for span in told.spans]
    # A hook of the application's own stands before the limiter: it sees what that refuses.
    assert names == [("chat b", None), ("chat loam", None), ("chat b", None), ("chat loam", "LimitReached"), ("chat quill", None), ("chat a", "abandoned"), ("chat quill", "abandoned")]  # fmt: skip
    assert told.numbers["gen_ai.client.operation.time_to_first_chunk"][0].count == 1
    assert told.hook._calls == {}


def test_the_table_tells_waits_and_refusals_too(tmp_path: Path) -> None:
    script = """
import agouti, json, sys
from opentelemetry import trace
from opentelemetry.sdk.trace import TracerProvider
from opentelemetry.sdk.trace.export import SimpleSpanProcessor
from opentelemetry.sdk.trace.export.in_memory_span_exporter import InMemorySpanExporter
from agouti.testing import FakeTransport
exporter = InMemorySpanExporter()
provider = TracerProvider()
provider.add_span_processor(SimpleSpanProcessor(exporter))
trace.set_tracer_provider(provider)
config, good = json.loads(sys.argv[1]), json.loads(sys.argv[2])
with agouti.Client(config, transport=FakeTransport([good] * 3)) as client:
    client.ask("b", "Peas?")
    client.ask("b", "Peas?")
for span in sorted(exporter.get_finished_spans(), key=lambda span: span.start_time):
    print(span.name, span.attributes.get("error.type"), span.attributes.get("gen_ai.input.messages"))
"""
    made = {**CONFIG, "telemetry": {"content": True}}
    done = subprocess.run(
        [sys.executable, "-c", script, json.dumps(made), json.dumps(GOOD)], capture_output=True, text=True, check=True
    )
    said = '[{"role": "user", "parts": [{"type": "text", "content": "Peas?"}]}]'
    assert done.stdout.splitlines() == [
        f"chat b None {said}",
        "chat loam None None",
        f"chat b None {said}",
        "chat loam LimitReached None",
        "chat quill None None",
    ]


def test_nothing_said_and_nothing_secret_gets_out_unasked(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Spans, metrics and headers of calls that succeed, fail and are cached: no prompt, no words of an error, no key."""
    monkeypatch.setenv("NB_PASS", "nb-marked-secret-3f9a")
    told = Told()
    made: dict[str, Any] = {
        "providers": {
            "nb": {"address": "https://nb.example/v1", "key": {"env": "NB_PASS"}, "retries": {"max": 0}},
            "shed": {"address": "https://shed.example/v1", "trace": True, "retries": {"max": 0}},
        },
        "cache": {"store": str(tmp_path / "answers.sqlite")},
    }
    refused = HttpReply(400, {}, json.dumps({"error": {"message": "cannot say: marked prompt"}}).encode())
    fake = FakeTransport([refused, GOOD, GOOD])
    hook = Telemetry(agouti.load_config(made), tracer_provider=told.tracers, meter_provider=told.meters)
    with agouti.Client(made, transport=fake, hooks=[hook]) as client:
        with pytest.raises(agouti.RequestRefused, match="marked prompt"):
            client.ask("quill@nb", "A marked prompt.")
        for _ in range(2):
            client.ask("quill@nb", "A marked prompt.", temperature=0)
        client.ask("loam@shed", "A marked prompt.")
    everything = str([span.to_json() for span in told.spans]) + str(told.numbers)
    assert "marked" not in everything
    assert ["traceparent" in request.headers for request in fake.requests] == [False, False, True]
    assert [dict(span.attributes or {}).get("agouti.cached") for span in told.spans if span.name == "chat quill"] == [None, None, True]  # fmt: skip


def test_spans_of_attempts_that_wait_or_are_refused(caplog: pytest.LogCaptureFixture) -> None:
    told = Told()

    class Waits(agouti.Hook):
        def before(self, attempt: agouti.AttemptDetails) -> Any:
            if attempt.name == "never":
                raise agouti.RequestError("not today")
            return wait()

    def wait() -> Any:
        yield Sleep(0.02)

    with agouti.Client(CONFIG, transport=FakeTransport([GOOD]), hooks=[told.hook, Waits()]) as client:
        client.ask("a", "Peas?")
        with pytest.raises(agouti.RequestError, match="not today"):
            client.ask("never@nb", "Peas?")
    attempts = [span for span in told.spans if span.name in ("chat quill", "chat never")]
    assert [[event.name for event in span.events] for span in attempts] == [["waited"], []]
    assert float(dict(attempts[0].events[0].attributes or {})["agouti.seconds"]) >= 0.02
    assert [dict(span.attributes or {}).get("error.type") for span in attempts] == [None, "RequestError"]
    assert told.hook._calls == {}
    assert "a hook failed" not in caplog.text


def test_content_is_told_where_it_is_wanted() -> None:
    told = Told(content=True)
    with agouti.Client(CONFIG, transport=FakeTransport([GOOD]), hooks=[told.hook]) as client:
        client.ask("a", ["Peas?", agouti.Image(b"\x89PNG\r\n\x1a\n" + b"0" * 40)])
    call = dict(told.spans[0].attributes or {})
    assert json.loads(str(call["gen_ai.input.messages"]))[0]["parts"][-1] == {"type": "image_url"}
    assert "In March." in str(call["gen_ai.output.messages"])


def test_calls_of_tools_system_texts_and_whose_seconds_are_told() -> None:
    told = Told(content=True)
    call = {"id": "c1", "type": "function", "function": {"name": "frost", "arguments": '{"at":"Marsh Lane"}'}}
    answer = {"choices": [{"message": {"content": None, "tool_calls": [call]}, "finish_reason": "tool_calls"}]}
    messages = [
        {"role": "user", "content": "Frost?"},
        {"role": "assistant", "content": None, "tool_calls": [call]},
        {"role": "tool", "tool_call_id": "c1", "content": "17"},
    ]
    with agouti.Client(CONFIG, transport=FakeTransport([answer]), hooks=[told.hook]) as client:
        client.ask("a", messages, system="Be short.")
    said = dict(told.spans[0].attributes or {})
    assert json.loads(str(said["gen_ai.system_instructions"])) == [{"type": "text", "content": "Be short."}]
    asked = json.loads(str(said["gen_ai.input.messages"]))
    called = {"type": "tool_call", "id": "c1", "name": "frost", "arguments": '{"at":"Marsh Lane"}'}
    assert [each["role"] for each in asked] == ["user", "assistant", "tool"]
    assert asked[1]["parts"] == [called]
    assert asked[2]["parts"] == [{"type": "tool_call_response", "id": "c1", "response": "17"}]
    assert json.loads(str(said["gen_ai.output.messages"]))[0]["parts"] == [called]
    seconds = told.numbers["gen_ai.client.operation.duration"]
    assert {"gen_ai.provider.name", "gen_ai.request.model"} <= set(seconds[0].attributes)


def test_a_provider_of_spans_that_breaks_fails_no_call(caplog: pytest.LogCaptureFixture) -> None:
    class Broken(trace.NoOpTracerProvider):
        def get_tracer(self, *_: Any, **__: Any) -> Any:
            return None

    hook = Telemetry(tracer_provider=Broken())
    with agouti.Client(CONFIG, transport=FakeTransport([GOOD]), hooks=[hook]) as client:
        assert client.ask("a", "Peas?").text == "In March."
    assert "a hook failed" in caplog.text


def test_nothing_is_loaded_without_it(tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text('[providers.shed]\naddress = "http://localhost:1/v1"\n')
    code = "import sys, agouti; agouti.Client().close(); print([n for n in sys.modules if 'telemetry' in n or n in ('redis', 'psycopg')])"
    done = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"
    (tmp_path / "agouti.toml").write_text('[telemetry]\nprompts = true\n[providers.shed]\naddress = "http://x/v1"\n')
    with pytest.raises(agouti.ConfigError, match="prompts"):
        agouti.load_config(tmp_path / "agouti.toml")
