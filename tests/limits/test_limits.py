"""Limits of entries against stand-ins that keep them exactly: no refusal, in threads and tasks, whatever becomes of calls."""

import asyncio
import contextlib
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import msgspec
import pytest

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.core.settings.rate_limits import RateLimits
from agouti.engine.hooks import SendingHook
from agouti.limits.hook import LimitHook
from agouti.limits.local_schedule import Schedule, TurnTooLate
from agouti.standins import Served, serve
from agouti.standins.quotas import Quota
from agouti.testing import FakeTransport

GOOD = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 5, "completion_tokens": 2}}  # fmt: skip


def limited(served: Served, **limits: Any) -> agouti.Config:
    """The configuration of the stand-ins, with limits of one of them, and without repeats."""
    config = served.config
    shed = msgspec.structs.replace(config.providers["shed"], limits=RateLimits(**limits), retries=agouti.Retries(max=0))
    return msgspec.structs.replace(config, providers={**config.providers, "shed": shed})


def fake(answers: int, **limits: Any) -> tuple[FakeTransport, agouti.Client]:
    transport = FakeTransport([GOOD] * answers)
    config = {
        "providers": {"shed": {"address": "http://localhost:1/v1", "limits": limits}, "spare": {"address": "http://localhost:2/v1"}},
        "models": {
            "a": {"provider": "shed", "name": "loam", "fallback": ["b"]},
            "b": {"provider": "spare", "name": "b"},
            "c": {"provider": "shed", "name": "loam", "limits": {"requests_per_minute": 1, "wait": 0}},
        },
    }  # fmt: skip
    return transport, agouti.Client(config, transport=transport)


def test_threads_and_tasks_stay_under_the_limit() -> None:
    # The server shares this process, and may count a request late: a little more, far from twice as many.
    quota = Quota(per_second=24, at_once=7)
    with serve(quotas={"shed": quota}) as served:
        config = limited(served, requests_per_second=20, concurrency=6)
        with agouti.Client(config) as client, ThreadPoolExecutor(12) as pool:
            list(pool.map(lambda _: client.ask("loam-2b@shed", "Peas?", max_tokens=3), range(45)))

        async def tasks() -> None:
            async with agouti.AsyncClient(config) as client:
                left = [asyncio.create_task(client.ask("loam-2b@shed", "Peas?", max_tokens=3)) for _ in range(30)]
                await asyncio.sleep(0.05)
                for task in left[20:]:  # of those that wait
                    task.cancel()
                await asyncio.gather(*left, return_exceptions=True)
                async with client.stream("loam-2b@shed", "Peas?") as stream:
                    async for _ in stream:
                        break
                await asyncio.gather(*[client.ask("loam-2b@shed", "x", max_tokens=3) for _ in range(7)])

        time.sleep(1.1)  # another client does not know what the first one has sent
        asyncio.run(tasks())
        assert served.books.requests["shed", 429] == 0
        assert served.books.requests["shed", 200] >= 45 + 20 + 8


@pytest.mark.parametrize("wait", [0, 0.2])
def test_what_would_wait_too_long_is_refused_and_another_model_takes_over(wait: float) -> None:
    transport, client = fake(3, requests_per_minute=1, wait=wait)
    with client:
        assert client.ask("a", "x").provider == "shed"
        assert client.ask("a", "x").provider == "spare"
        with pytest.raises(agouti.LimitReached) as reached:
            client.ask("loam@shed", "x")
        assert reached.value.wait == pytest.approx(60, abs=3)
        assert "1 requests per minute" in reached.value.message
        assert f"it may wait {wait:g} s" in reached.value.message
        assert reached.value.retryable
        with pytest.raises(agouti.LimitReached):
            client.ask("loam@shed", "x", deadline=0.1)
    assert len(transport.requests) == 2


def test_limits_of_a_model_hold_besides_those_of_its_provider() -> None:
    _, client = fake(3, requests_per_minute=2, wait=0)
    with client:
        client.ask("c", "x")
        with pytest.raises(agouti.LimitReached, match="limit of model c"):
            client.ask("c", "x")
        client.ask("loam@shed", "x")  # what the model refused has not counted there
        with pytest.raises(agouti.LimitReached, match="limit of shed"):
            client.ask("loam@shed", "x")


def test_a_request_counts_from_the_moment_it_goes_out(tmp_path: Path) -> None:
    secret = tmp_path / "secret"
    slow = f"import pathlib, sys, time; time.sleep(0.6); sys.stdout.write(pathlib.Path({str(secret)!r}).read_text())"
    limits = {"requests_per_second": 1, "wait": 5}
    entry = {"address": "http://localhost:1/v1", "key": {"command": [sys.executable, "-c", slow]}, "limits": limits}
    at: list[float] = []

    class Noting(FakeTransport):
        def open(self, request: Any, timeouts: Any) -> Any:
            at.append(time.monotonic())
            return super().open(request, timeouts)

    once = {"providers": {"shed": {**entry, "limits": {"requests_per_minute": 1, "wait": 0}}}}
    with agouti.Client(once, transport=FakeTransport([GOOD])) as client:
        with pytest.raises(agouti.AgoutiError, match="No such file"):
            client.ask("loam@shed", "x")
        secret.write_text("k-1")
        client.ask("loam@shed", "x")  # the one without a key has given its place back
    with agouti.Client({"providers": {"shed": entry}}, transport=Noting([GOOD] * 2)) as client:
        client.ask("loam@shed", "x")
        client.ask("loam@shed", "x")  # the key is there now
    assert at[1] - at[0] >= 1


def test_tokens_are_settled_by_what_was_really_taken() -> None:
    _, client = fake(40, tokens_per_minute=200, wait=0)
    with client:
        for _ in range(3):
            client.ask("loam@shed", "x", max_tokens=150)  # reckoned with 160, takes 7
        with pytest.raises(agouti.RequestError, match="lower max_tokens"):
            client.ask("loam@shed", "x", max_tokens=500)
        for _ in range(25):
            client.ask("loam@shed", "x")
        with pytest.raises(agouti.LimitReached, match="200 tokens per minute"):
            client.ask("loam@shed", "x", max_tokens=100)


def test_refusals_and_headers_of_the_provider_correct_it() -> None:
    zero = {
        "content-type": "application/json",
        "x-ratelimit-remaining-requests": "0",
        "x-ratelimit-reset-requests": "7s",
    }
    answers = [HttpReply(200, zero, msgspec.json.encode(GOOD)), HttpReply(429, {"retry-after": "30"}, b"{}")]
    limits = {"requests_per_second": 50, "wait": 1}
    for answer, seconds in zip(answers, (7, 30), strict=True):
        config = {"providers": {"shed": {"address": "http://localhost:1/v1", "limits": limits, "retries": {"max": 0}}}}
        with agouti.Client(config, transport=FakeTransport([answer, GOOD])) as client:
            with contextlib.suppress(agouti.RateLimited):
                client.ask("loam@shed", "x")
            with pytest.raises(agouti.LimitReached) as reached:
                client.ask("loam@shed", "x")
            assert reached.value.wait == pytest.approx(seconds, abs=1)


@pytest.mark.parametrize("pair", ["-requests", "-tokens", ""])
def test_headers_that_say_that_nothing_is_left_hold_for_all_calls(pair: str) -> None:
    headers = {
        "content-type": "application/json",
        f"x-ratelimit-remaining{pair}": "0",
        f"x-ratelimit-reset{pair}": "7s",
    }
    zero = HttpReply(200, headers, msgspec.json.encode(GOOD))
    config = {
        "providers": {"shed": {"address": "http://localhost:1/v1", "limits": {"requests_per_second": 50, "wait": 1}}}
    }
    with agouti.Client(config, transport=FakeTransport([zero, GOOD])) as client:
        client.ask("loam@shed", "x")
        with pytest.raises(agouti.LimitReached) as reached:
            client.ask("loam@shed", "x")
    assert reached.value.wait == pytest.approx(7, abs=1)


def test_what_was_not_sent_leaves_nothing_in_any_limit() -> None:
    """A model's place and permit come back where its provider has no room, and where there is no key."""
    provider = {"address": "http://localhost:1/v1", "limits": {"requests_per_minute": 2, "wait": 0}}
    config: dict[str, Any] = {
        "providers": {"shed": provider, "locked": {"address": "http://localhost:2/v1", "key": {"env": "NOT_SET_PASS"}}},
        "models": {
            "c": {
                "provider": "shed",
                "name": "loam",
                "limits": {"requests_per_minute": 3, "concurrency": 1, "wait": 0},
            },
            "k": {"provider": "locked", "name": "x", "limits": {"requests_per_minute": 1, "concurrency": 1, "wait": 0}},
        },
    }
    with agouti.Client(config, transport=FakeTransport([GOOD] * 4)) as client:
        for _ in range(2):
            client.ask("loam@shed", "x")
        for _ in range(5):  # the provider has no room: the model's own window stays empty
            with pytest.raises(agouti.LimitReached, match="limit of shed"):
                client.ask("c", "x")
        for _ in range(3):
            with pytest.raises(agouti.CredentialMissing):
                client.ask("k", "x")


def test_one_at_a_time_and_no_wait_refuses_at_once() -> None:
    stream = [b'data: {"choices":[{"delta":{"content":"In March."}}]}\n\n'] * 2
    config = {"providers": {"shed": {"address": "http://localhost:1/v1", "limits": {"concurrency": 1, "wait": 0}}}}
    with agouti.Client(config, transport=FakeTransport([stream, GOOD])) as client:
        pieces = iter(held := client.stream("loam@shed", "x"))
        next(pieces)
        with pytest.raises(agouti.LimitReached, match="1 at a time") as reached:
            client.ask("loam@shed", "x")
        assert reached.value.wait is None
        with pytest.raises(agouti.LimitReached):
            client.ask("loam@shed", "x", deadline=0.5)
        held.close()
        client.ask("loam@shed", "x")


def test_tokens_are_settled_by_both_counts_where_no_total_is_told() -> None:
    usage = {"prompt_tokens": 90, "completion_tokens": 60}
    config = {
        "providers": {"shed": {"address": "http://localhost:1/v1", "limits": {"tokens_per_minute": 200, "wait": 0}}}
    }
    with agouti.Client(config, transport=FakeTransport([{**GOOD, "usage": usage}, GOOD])) as client:
        client.ask("loam@shed", "x", max_tokens=5)
        with pytest.raises(agouti.LimitReached):
            client.ask("loam@shed", "x", max_tokens=60)


def test_whoever_waits_for_a_long_window_waits_for_its_first_request_and_not_for_its_last() -> None:
    now = [0.0]
    schedule = Schedule(RateLimits(requests_per_minute=20, wait=45), lambda: now[0], lambda: now[0])
    for _ in range(20):  # one a second
        ticket = schedule.enter(0, 45)
        assert schedule.try_start(ticket) == 0.0
        schedule.sent(ticket)
        now[0] += 1.0
        schedule.ended(ticket, None)
    waiting = [schedule.enter(0, 45) for _ in range(3)]  # at 20 s: the first place is free at 60
    assert schedule.try_start(waiting[0]) == pytest.approx(40, abs=1.5)
    with pytest.raises(TurnTooLate) as late:
        [schedule.enter(0, 45) for _ in range(6)]
    assert late.value.seconds == pytest.approx(46, abs=1.5)
    with pytest.raises(TurnTooLate) as later:
        [schedule.enter(0, 200) for _ in range(60)]
    assert later.value.seconds > 200


def test_header_that_tells_what_is_known_makes_nobody_wait_longer() -> None:
    headers = {"content-type": "application/json", "x-ratelimit-remaining": "0", "x-ratelimit-reset": "60"}
    used_up = HttpReply(200, headers, msgspec.json.encode(GOOD))
    limits = {"requests_per_second": 2, "wait": 4}
    config = {"providers": {"shed": {"address": "http://localhost:1/v1", "limits": limits}}}
    with agouti.Client(config, transport=FakeTransport([GOOD, used_up, GOOD])) as client:
        for _ in range(3):
            client.ask("loam@shed", "x")


def test_whoever_comes_first_goes_first() -> None:
    order: list[int] = []
    all_here = threading.Event()
    _, client = fake(0, concurrency=1)

    class Slow(SendingHook):
        def sending(self, attempt: agouti.AttemptDetails) -> None:
            order.append(int(attempt.tags["number"]))
            assert all_here.wait(10)

    with agouti.Client(client.config, transport=FakeTransport([GOOD] * 6), hooks=[Slow()]) as slow:
        limiter = slow._calls.hooks[-1]
        assert isinstance(limiter, LimitHook)

        def ask(number: int) -> None:
            slow.ask("loam@shed", "x", tags={"number": str(number)})

        threads = [threading.Thread(target=ask, args=(number,)) for number in range(6)]
        for number, thread in enumerate(threads):
            thread.start()
            until = time.monotonic() + 10
            while time.monotonic() < until:
                schedule = limiter._schedule("providers", "shed")
                if order and schedule is not None and schedule.waiting == number:
                    break
                time.sleep(0.001)
        all_here.set()
        for thread in threads:
            thread.join()
    assert order == list(range(6))


def test_nothing_is_loaded_without_limits() -> None:
    import subprocess
    import sys

    script = "import agouti, sys; agouti.Client.at('http://localhost:1/v1'); print('agouti.limits.hook' in sys.modules)"
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert done.stdout == "False\n"


def test_days_survive_a_restart_and_a_disk_that_cannot_be_written(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for number in range(3):  # three programs, one after another
        _, client = fake(1, requests_per_day=2, wait=0)
        with client:
            if number < 2:
                client.ask("loam@shed", "x")
            else:
                with pytest.raises(agouti.LimitReached) as reached:
                    client.ask("loam@shed", "x")
                assert 0 < (reached.value.wait or 0) <= 86400
    (tmp_path / "no-folder").write_text("")
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "no-folder"))
    _, client = fake(2, requests_per_day=1, wait=0)
    with client, pytest.warns(agouti.AgoutiWarning, match="cannot be counted") as told:
        client.ask("loam@shed", "x")
        with pytest.raises(agouti.LimitReached):
            client.ask("loam@shed", "x")
    assert len(told) == 1  # not with each call
    with pytest.raises(agouti.LimitReached):
        client.ask("loam@shed", "x")


def test_another_key_is_asked_at_once_where_one_has_to_wait(monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("ONE_PASS", "TWO_PASS"):
        monkeypatch.setenv(name, name)
    made = {
        "providers": {
            "shed": {
                "address": "https://shed.example/v1",
                "key": [{"env": "ONE_PASS"}, {"env": "TWO_PASS"}],
                "limits": {"requests_per_minute": 100},
            }
        }
    }
    busy = HttpReply(429, {"retry-after": "30"}, b"{}")
    fake = FakeTransport([busy, GOOD, GOOD, GOOD, busy])
    with agouti.Client(made, transport=fake) as client:
        for _ in range(3):
            client.ask("loam@shed", "Peas?", deadline=5)
        keys = [request.headers["authorization"].reveal() for request in fake.requests]  # type: ignore[attr-defined]
        assert [key.rpartition(" ")[2] for key in keys] == ["ONE_PASS", "TWO_PASS", "TWO_PASS", "TWO_PASS"]
        with pytest.raises(agouti.RateLimited):  # now both have to wait
            client.ask("loam@shed", "Peas?", deadline=5)
