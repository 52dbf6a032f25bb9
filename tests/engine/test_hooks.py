"""Hooks: a toy limiter, a toy ledger and a budget that refuses, with both drivers, whatever becomes of the call."""

import asyncio
import threading
import time
from typing import Any

import pytest

import agouti
from agouti.calls.calls import calls_of
from agouti.core.http.exchange import HttpReply, TransportFailure
from agouti.engine.effects import OnAbandon, Settled, Signal, Steps, WaitFor
from agouti.testing import AsyncFakeTransport, FakeTransport

GOOD = {"choices": [{"message": {"content": "In March."}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 9, "completion_tokens": 4}}  # fmt: skip
PIECES = [b'data: {"choices":[{"delta":{"content":"In"}}],"usage":{"prompt_tokens":9,"completion_tokens":1}}\n\n', b'data: {"choices":[{"delta":{"content":" March."},"finish_reason":"stop"}]}\n\ndata: [DONE]\n\n']  # fmt: skip
PRICED = {"input": 1.0, "output": 2.0, "currency": "USD"}


def config(**models: Any) -> dict[str, Any]:
    return {
        "providers": {"north": {"address": "https://n.example/v1", "retries": {"base": 0.001}}},
        "models": {
            "almanac": {"provider": "north", "name": "quill", "price": PRICED, **models},
            "spare": {"provider": "north", "name": "loam"},
        },
    }


class Limiter(agouti.Hook):
    """One at a time, first come first served; a place is given back whatever happens."""

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.busy = 0
        self.most = 0
        self.waiting: list[Signal] = []

    def before(self, attempt: agouti.AttemptDetails) -> Steps[None]:
        with self.lock:
            signal = Signal()
            if self.busy:
                self.waiting.append(signal)
            else:
                self.busy += 1
                signal.set()
        place = OnAbandon(lambda: self.leave(signal))
        yield place
        yield WaitFor(signal, 10)
        yield Settled(place)
        self.most = max(self.most, self.busy)

    def leave(self, signal: Signal) -> None:
        with self.lock:
            if signal in self.waiting:
                self.waiting.remove(signal)
                return
        self.free()

    def free(self) -> None:
        with self.lock:
            if self.waiting:
                self.waiting.pop(0).set()
            else:
                self.busy -= 1

    def after(self, result: agouti.AttemptResult) -> None:
        self.free()


class Ledger(agouti.Hook):
    def __init__(self) -> None:
        self.attempts: list[agouti.AttemptResult] = []
        self.calls: list[agouti.CallResult] = []

    def after(self, result: agouti.AttemptResult) -> None:
        self.attempts.append(result)

    def end(self, result: agouti.CallResult) -> None:
        self.calls.append(result)

    @property
    def outcomes(self) -> tuple[list[str], list[str]]:
        return [each.outcome for each in self.attempts], [each.outcome for each in self.calls]


class Budget(agouti.Hook):
    """Refuses every second attempt."""

    def __init__(self) -> None:
        self.seen: list[agouti.AttemptDetails] = []

    def before(self, attempt: agouti.AttemptDetails) -> None:
        self.seen.append(attempt)
        if len(self.seen) % 2 == 0:
            raise agouti.RequestError("the budget is spent", hint="Wait for the next month.")


class Both:
    """The same calls with either driver."""

    def __init__(self, kind: str) -> None:
        self.kind = kind

    def run(self, answers: list[Any], hooks: list[Any], ask: Any, **models: Any) -> Any:
        """What ``ask(client)`` comes to: steps of a call, or a stream that is left after one piece."""
        if self.kind == "sync":
            with agouti.Client(config(**models), transport=FakeTransport(answers), hooks=hooks) as client:
                return ask(client)

        async def go() -> Any:
            fake = AsyncFakeTransport(answers)
            async with agouti.AsyncClient(config(**models), transport=fake, hooks=hooks) as client:
                return await ask(client)

        return asyncio.run(go())

    def leave(self, answers: list[Any], hooks: list[Any]) -> None:
        if self.kind == "sync":
            with (
                agouti.Client(config(), transport=FakeTransport(answers), hooks=hooks) as client,
                client.stream("almanac", "Peas?", tags={"feature": "letter"}) as stream,
            ):
                next(iter(stream))
            return

        async def go() -> None:
            fake = AsyncFakeTransport(answers)
            async with (
                agouti.AsyncClient(config(), transport=fake, hooks=hooks) as client,
                client.stream("almanac", "Peas?", tags={"feature": "letter"}) as stream,
            ):
                async for _ in stream:
                    break

        asyncio.run(go())


@pytest.fixture(params=["sync", "async"])
def both(request: pytest.FixtureRequest) -> Both:
    return Both(request.param)


def test_ledger_has_a_row_for_every_attempt_and_every_call(both: Both) -> None:
    ledger = Ledger()
    busy = HttpReply(503, {"x-request-id": "r1"}, b"")
    reply = HttpReply(200, {"x-request-id": "r2"}, b'{"choices":[{"message":{"content":"x"}}],"usage":{"prompt_tokens":9,"completion_tokens":4}}')  # fmt: skip
    answer = both.run([busy, TransportFailure("lost", "x"), reply], [ledger], lambda client: client.ask("almanac", "Peas?", tags={"a": "b"}))  # fmt: skip
    assert answer.request_id == "r2"
    assert ledger.outcomes == (["failed", "failed", "answered"], ["answered"])
    assert [each.status for each in ledger.attempts] == [503, None, 200]
    assert [type(each.error).__name__ for each in ledger.attempts] == ["Overloaded", "ConnectionLost", "NoneType"]
    last = ledger.attempts[-1]
    assert (last.usage and last.usage.input_tokens, last.cost, last.headers["x-request-id"]) == (9, 17e-6, "r2")
    details = last.attempt
    assert (details.operation, details.label, details.name, details.provider, details.number) == ("chat", "almanac", "quill", "north", 3)  # fmt: skip
    assert details.question is not None
    assert dict(details.tags) == dict(ledger.calls[0].tags) == {"a": "b"}
    assert ledger.calls[0].attempts == 3


def test_what_is_abandoned_is_told_and_given_back(both: Both) -> None:
    ledger, limiter = Ledger(), Limiter()
    both.leave([PIECES], [ledger, limiter])
    assert ledger.outcomes == (["abandoned"], ["abandoned"])
    assert ledger.attempts[0].usage is not None
    assert ledger.attempts[0].cost == pytest.approx(11e-6)
    assert ledger.attempts[0].first_token is not None
    assert limiter.busy == 0


def test_one_that_refuses_ends_the_call_before_anything_is_sent_and_the_others_are_told(both: Both) -> None:
    ledger, limiter, budget = Ledger(), Limiter(), Budget()
    hooks = [limiter, ledger, budget]
    assert both.run([GOOD], hooks, lambda client: client.ask("almanac", "Peas?")).text
    with pytest.raises(agouti.RequestError, match="budget") as refused:
        both.run([], hooks, lambda client: client.ask("almanac", "Peas?"))
    assert refused.value.attempts == ()
    assert ledger.outcomes == (["answered", "failed"], ["answered", "failed"])
    assert limiter.busy == 0


def test_every_operation_passes_the_hooks(both: Both) -> None:
    ledger = Ledger()
    vectors = {"data": [{"index": 0, "embedding": [1.0]}], "usage": {"prompt_tokens": 3}}
    both.run([vectors], [ledger], lambda client: client.embed("almanac", "peas", tags={"f": "s"}))
    both.run([{"data": [{"id": "quill"}]}], [ledger], lambda client: client.models("north"))
    counted = [each.attempt.operation for each in ledger.attempts]
    assert counted == ["embeddings", "models"]
    assert ledger.attempts[0].usage is not None
    assert ledger.attempts[0].usage.input_tokens == 3
    assert dict(ledger.attempts[0].attempt.tags) == {"f": "s"}
    fallen = both.run([HttpReply(401, {}, b""), GOOD], [ledger], lambda client: client.ask("almanac", "?"), fallback=["spare"])  # fmt: skip
    assert fallen.attempts[-1].model == "loam"
    assert [each.attempt.model for each in ledger.attempts[2:]] == ["almanac", "spare"]
    assert {each.attempt.label for each in ledger.attempts[2:]} == {"almanac"}


class Broken(agouti.Hook):
    def after(self, result: agouti.AttemptResult) -> None:
        raise OSError("disk full")

    def end(self, result: agouti.CallResult) -> None:
        raise ValueError("no")


def test_hook_that_breaks_fails_no_call_and_keeps_nothing_from_the_others(both: Both, caplog: Any) -> None:
    ledger = Ledger()
    assert both.run([GOOD], [ledger, Broken()], lambda client: client.ask("almanac", "Peas?")).text == "In March."
    assert ledger.outcomes == (["answered"], ["answered"])
    assert "disk full" in caplog.text


def test_threads_pass_one_at_a_time() -> None:
    limiter = Limiter()

    class Slow(FakeTransport):
        def open(self, request: Any, timeouts: Any) -> Any:
            time.sleep(0.005)
            return super().open(request, timeouts)

    with agouti.Client(config(), transport=Slow([GOOD] * 20), hooks=[limiter]) as client:
        threads = [threading.Thread(target=client.ask, args=("almanac", "Peas?")) for _ in range(20)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    assert (limiter.busy, limiter.most, limiter.waiting) == (0, 1, [])


def test_cancelled_task_gives_its_place_back_wherever_it_is() -> None:
    limiter, ledger = Limiter(), Ledger()

    class Slow(AsyncFakeTransport):
        async def open(self, request: Any, timeouts: Any) -> Any:
            await asyncio.sleep(0.02)
            return await super().open(request, timeouts)

    async def go() -> None:
        async with agouti.AsyncClient(config(), transport=Slow([GOOD] * 20), hooks=[limiter, ledger]) as client:
            tasks = [asyncio.create_task(client.ask("almanac", "Peas?")) for _ in range(8)]
            await asyncio.sleep(0.01)
            for task in (tasks[0], tasks[3], tasks[7]):  # one under way, two in the queue
                task.cancel()
            done = await asyncio.gather(*tasks, return_exceptions=True)
            assert [isinstance(each, agouti.Reply) for each in done] == [False, True, True, False, True, True, True, False]  # fmt: skip

    asyncio.run(go())
    assert (limiter.busy, limiter.most, limiter.waiting) == (0, 1, [])
    assert sorted(ledger.outcomes[0]) == ["abandoned"] + ["answered"] * 5
    assert sorted(ledger.outcomes[1]) == ["abandoned"] * 3 + ["answered"] * 5


def test_calls_without_hooks_load_none_of_it() -> None:
    with agouti.Client(config(), transport=FakeTransport([GOOD])) as client:
        assert calls_of(client).chat("almanac", "?", {}).hooks == ()


def test_a_fork_waits_for_what_must_not_be_disturbed() -> None:
    import os
    import threading
    import time

    from agouti.runtime.fork_guard import undisturbed

    inside, over = threading.Event(), []

    def busy() -> None:
        with undisturbed(), undisturbed():
            inside.set()
            time.sleep(0.3)
            over.append(True)

    thread = threading.Thread(target=busy)
    thread.start()
    inside.wait(5)
    child = os.fork()
    if child == 0:
        with undisturbed():  # the child begins with nobody inside
            os._exit(0 if over else 1)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0
    thread.join()
