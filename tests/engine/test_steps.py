"""Jobs, forms, rounds of calls and batches of texts, driven by hand: what the engine asks for, in which order."""

import json
from typing import Any

import pytest

import agouti
from agouti.calls.calls import calls_of
from agouti.core.canonical.events import Event, Text
from agouti.core.http.exchange import HttpReply
from agouti.engine.attempts.decide import job_pauses
from agouti.engine.effects import Drop, Emit, OnAbandon, Open, Receive, RunCallable, Send, Settled, Sleep, Together
from agouti.engine.operations.chat import ask
from agouti.engine.operations.chat_streamed import stream
from agouti.engine.operations.vectors import Batch, checked_texts, next_batch
from agouti.engine.receiving.accumulate import ReplyAccumulator, as_events
from agouti.replies.reply import Reply
from agouti.transport.base import TransportFailure

JOBS = agouti.Config.of(
    [agouti.Provider("kiln", "https://kiln.example/v1", "jobs", retries=agouti.Retries(max=2))],
    [agouti.Model("slow", "kiln", "a/b")],
)
CHAT = agouti.Config.of([agouti.Provider("p", "https://p.example/v1")], [agouti.Model("m", "p", "m")])


def job(status: str, **more: Any) -> HttpReply:
    urls = {"get": "/v1/predictions/1", "cancel": "/v1/predictions/1/cancel", **more.pop("urls", {})}
    return HttpReply(200, {}, json.dumps({"id": "1", "status": status, "urls": urls, **more}).encode())


def chat(content: str | None = None, *calls: tuple[str, str], finish: str = "stop") -> HttpReply:
    made = [{"id": f"c{i}", "function": {"name": name, "arguments": text}} for i, (name, text) in enumerate(calls)]
    message = {"content": content, **({"tool_calls": made} if calls else {})}
    return HttpReply(200, {}, json.dumps({"choices": [{"message": message, "finish_reason": finish}]}).encode())


class Driven:
    """Steps with their effects written down; each `Send` is answered by the next of the answers."""

    def __init__(self, steps: Any, answers: list[Any]) -> None:
        self.seen: list[Any] = []
        self.events: list[Event] = []
        self.result: Any = None
        answers = list(answers)
        answer: Any = None
        resume = steps.send
        try:
            while True:
                effect = resume(answer)
                self.seen.append(effect)
                resume, answer = steps.send, None
                if isinstance(effect, Emit):
                    self.events += effect.events
                elif isinstance(effect, (Send, Open, Receive, RunCallable, Together)):
                    answer = answers.pop(0)
                    if isinstance(answer, Exception):
                        resume = steps.throw
        except StopIteration as stop:
            self.result = stop.value
        except agouti.AgoutiError as error:
            self.result = error

    @property
    def open(self) -> list[OnAbandon]:
        """What would be undone now."""
        settled = [effect.undo for effect in self.seen if isinstance(effect, Settled)]
        return [effect for effect in self.seen if isinstance(effect, OnAbandon) and effect not in settled]

    @property
    def kinds(self) -> list[str]:
        return [type(effect).__name__ for effect in self.seen]

    @property
    def sent(self) -> list[str]:
        return [effect.request.url for effect in self.seen if isinstance(effect, (Send, Open))]


def prepared(config: agouti.Config, label: str, **options: Any) -> Any:
    return calls_of(agouti.Client(config)).chat(label, "Hi", options, stream=options.pop("streams", False))


def test_job_is_parted_with_before_the_first_wait_and_no_more_once_it_is_done() -> None:
    run = Driven(ask(prepared(JOBS, "slow")), [job("starting"), job("processing"), job("succeeded", output="Hi.")])
    assert run.kinds == ["Send", "OnAbandon", "Sleep", "Send", "Sleep", "Send", "Settled"]
    cancel, settled = run.seen[1], run.seen[-1]
    assert (cancel.undo.method, cancel.undo.url) == ("POST", "https://kiln.example/v1/predictions/1/cancel")
    assert settled.undo is cancel
    waits = [effect.seconds for effect in run.seen if isinstance(effect, Sleep)]
    assert waits == [pause for pause, _ in zip(job_pauses(), range(2), strict=False)]
    assert run.result.text == "Hi."
    assert [attempt.outcome for attempt in run.result.attempts] == ["answered"]


def test_pauses_grow_to_a_bound() -> None:
    pauses = [pause for pause, _ in zip(job_pauses(), range(40), strict=False)]
    assert pauses == sorted(pauses)
    assert pauses[-1] == 5.0


def test_lost_look_at_a_job_is_repeated_and_the_work_is_not() -> None:
    lost = TransportFailure("lost", "reset")
    run = Driven(ask(prepared(JOBS, "slow")), [job("starting"), lost, job("succeeded", output="Hi.")])
    assert [url.rpartition("/")[2] for url in run.sent] == ["predictions", "1", "1"]
    assert run.kinds.count("Drop") == 1
    for failure in (HttpReply(429, {}, b""), HttpReply(408, {}, b""), HttpReply(503, {}, b"")):
        run = Driven(ask(prepared(JOBS, "slow")), [job("starting"), failure, job("succeeded", output="Hi.")])
        assert run.result.text == "Hi."
    for failure in (lost, HttpReply(500, {}, b""), HttpReply(429, {}, b"")):
        run = Driven(ask(prepared(JOBS, "slow")), [job("starting"), failure, failure, failure])
        assert isinstance(run.result, agouti.AgoutiError)
        assert run.sent.count("https://kiln.example/v1/models/a/b/predictions") == 1
    run = Driven(ask(prepared(JOBS, "slow")), [job("starting"), HttpReply(404, {}, b'{"detail": "no such job"}')])
    assert [url.rpartition("/")[2] for url in run.sent] == ["predictions", "1"]


class Opened:
    def __init__(self, media_type: str, status: int = 200) -> None:
        self.status = status
        self.headers = {"content-type": media_type}


def streamed(*after: Any) -> Driven:
    pending = job("starting", urls={"stream": "https://stream.kiln.example/1"}).body
    so_far = ReplyAccumulator()
    answers = [Opened("application/json"), pending, b"", Opened("text/event-stream"), *after]
    return Driven(stream(prepared(JOBS, "slow", streams=True), so_far), answers)


def test_stream_of_a_job_is_at_its_own_address_without_the_key_and_what_it_cost_is_asked_for_behind_it() -> None:
    metrics = {"input_token_count": 3, "output_token_count": 2}
    run = streamed(
        b"event: output\ndata: Hi", b".\n\nevent: done\ndata: {}\n\n", job("succeeded", output="Hi.", metrics=metrics)
    )
    assert run.sent[1] == "https://stream.kiln.example/1"
    assert isinstance(run.result, Reply)
    assert (run.result.text, run.result.usage.total_tokens) == ("Hi.", 5)
    assert [event.text for event in run.events if isinstance(event, Text)] == ["Hi."]
    assert run.open == []


def test_text_of_a_job_is_not_lost_when_only_its_cost_cannot_be_had() -> None:
    lost = TransportFailure("lost", "reset")
    run = streamed(b"event: output\ndata: Hi.\n\nevent: done\ndata: {}\n\n", lost, lost, lost)
    assert isinstance(run.result, Reply)
    assert run.result.text == "Hi."
    failed = streamed(b"event: output\ndata: Hi.\n\nevent: done\ndata: {}\n\n", job("failed", error="out of memory"))
    assert isinstance(failed.result, agouti.ProviderFault)
    assert failed.result.partial is not None
    cut = streamed(b"event: output\ndata: Hi.\n\n", b"")
    assert isinstance(cut.result, agouti.StreamCut)
    assert cut.seen[-1] is not None
    assert len(cut.open) == 1  # still to cancel


def fill_steps(kind: Any, **options: Any) -> Any:
    return calls_of(agouti.Client(CHAT)).form("m", kind, "How many?", options)[0].steps()


def bodies(run: Driven) -> list[dict[str, Any]]:
    return [json.loads(effect.request.body or b"") for effect in run.seen if isinstance(effect, Send)]


def test_form_is_asked_for_repaired_and_given_up_in_this_order() -> None:
    run = Driven(
        fill_steps(int, output_method="tool", max_repairs=2),
        [chat(None, ("int", '{"value": "x"}')), chat("no"), chat("4")],
    )
    assert run.result.value == 4
    sent = bodies(run)
    assert [body["tool_choice"]["function"]["name"] for body in sent] == ["int"] * 3
    assert [message["role"] for message in sent[2]["messages"]] == ["user", "assistant", "tool", "assistant", "user"]
    assert sent[2]["messages"][1]["tool_calls"][0]["id"] == sent[2]["messages"][2]["tool_call_id"]
    assert [each.problem for each in run.result.answers] == ["invalid", "no call", ""]
    run = Driven(fill_steps(int, max_repairs=1), [chat("x"), chat("y")])
    assert isinstance(run.result, agouti.NotFilled)
    assert run.kinds == ["Send", "Send"]


def round_steps(tools: list[Any], **options: Any) -> Any:
    return calls_of(agouti.Client(CHAT)).tool_loop("m", "Frost?", {"tools": tools, **options}).steps()


def test_calls_are_given_to_the_driver_all_at_once_and_their_results_to_the_model() -> None:
    def first(place: str) -> int:
        """Days."""
        return 1

    def second() -> int:
        """More days."""
        return 2

    asked_for = chat(None, ("first", '{"place": "x"}'), ("second", "{}"))
    run = Driven(round_steps([first, second]), [asked_for, [17, ValueError("no")], chat("Done.")])
    assert run.kinds == ["Send", "Together", "Send"]
    assert isinstance(run.seen[1], Together)
    assert [next(steps).function() for steps in run.seen[1].steps] == [1, 2]  # type: ignore[union-attr]
    told = [message["content"] for message in bodies(run)[1]["messages"] if message["role"] == "tool"]
    assert told == ["17", "Error: ValueError: no"]
    assert run.result.reply.text == "Done."
    assert len(run.result.replies) == 2


def batches(texts: list[str], most: int) -> list[Batch]:
    parts: list[Batch] = []
    while (start := sum(len(part.texts) for part in parts)) < len(texts):
        parts.append(next_batch(texts, start, most))
    return parts


def test_batches_are_no_larger_than_they_may_be_and_hold_every_text_once() -> None:
    texts = [f"{number} " * (number % 50) + "pea" for number in range(1000)]
    for most in (1, 7, 256, 5000):
        parts = batches(texts, most)
        assert [text for part in parts for text in part.texts] == texts
        assert [part.start for part in parts] == [sum(len(p.texts) for p in parts[:i]) for i in range(len(parts))]
        assert all(len(part.texts) <= most for part in parts)
    large = batches(["x" * 200_000] * 3, 256)
    assert [len(part.texts) for part in large] == [1, 1, 1]
    parts = Batch(5, ["a", "b", "c"]).parts(2)
    assert [(part.start, part.texts) for part in parts] == [(5, ["a", "b"]), (7, ["c"])]
    assert checked_texts(("a", "b")) == ["a", "b"]


def test_events_of_a_whole_reply_put_together_are_the_reply_again() -> None:
    from ..dialects.samples import SAMPLES

    for sample in SAMPLES.values():
        so_far = ReplyAccumulator()
        so_far.add(as_events(sample.completion), lambda: 0.0)
        assert so_far.completion() == sample.completion


def test_another_reply_of_the_same_stream_begins_afresh() -> None:
    so_far = ReplyAccumulator()
    so_far.add([Text("first")], lambda: 0.0)
    so_far.restart()
    so_far.add([Text("second")], lambda: 0.0)
    assert so_far.completion().choices[0].text == "second"


def test_dropped_connection_comes_before_another_try() -> None:
    run = Driven(ask(prepared(CHAT, "m")), [TransportFailure("refused", "x"), chat("Hi.")])
    assert run.kinds == ["Send", "Drop", "Sleep", "Send"]
    assert isinstance(run.seen[1], Drop)


@pytest.mark.parametrize(("cap", "tokens", "reason"), [(4, 4, "length"), (4, 3, None), (None, 9, None)])
def test_as_many_tokens_as_the_cap_mean_that_it_cut_where_the_format_says_nothing(
    cap: int | None, tokens: int, reason: str | None
) -> None:
    counts = {"inputTokenCount": {"totalTokens": 1}, "outputTokenCount": {"totalTokens": tokens}}
    body = json.dumps({"predictions": ["Hi."], "metadata": {"tokenMetadata": counts}}).encode()
    config = agouti.Config.of(
        [agouti.Provider("mill", "https://m.example/v1", "predict")], [agouti.Model("g", "mill", "g")]
    )
    options = {} if cap is None else {"max_tokens": cap}
    assert Driven(ask(prepared(config, "g", **options)), [HttpReply(200, {}, body)]).result.finish_reason == reason


def test_first_error_of_work_side_by_side_stops_what_has_not_begun() -> None:
    import asyncio

    from agouti.engine.drivers import tasks, threads

    taken: list[int] = []

    def take(number: int) -> int:
        taken.append(number)
        if number == 3:
            raise ValueError("no")
        return number

    async def take_async(number: int) -> int:
        await asyncio.sleep(0)
        return take(number)

    for at_once in (1, 2, 8):
        assert threads.side_by_side([0, 1, 2], take, at_once) == [0, 1, 2]
        assert asyncio.run(tasks.side_by_side([0, 1, 2], take_async, at_once)) == [0, 1, 2]
        for asynchronous in (False, True):
            taken.clear()
            work = iter(range(1000))
            with pytest.raises(ValueError, match="no"):
                if asynchronous:
                    asyncio.run(tasks.side_by_side(work, take_async, at_once))
                else:
                    threads.side_by_side(work, take, at_once)
            assert len(taken) < 100
