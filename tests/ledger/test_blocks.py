"""Budgets of blocks: whose calls count in them, and how they are left."""

import asyncio
import contextlib
import os
import sqlite3
import threading
from collections.abc import AsyncIterator
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.core.http.retry_after import asked_wait
from agouti.testing import AsyncFakeTransport, FakeTransport

GOOD = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 10, "completion_tokens": 10}}  # fmt: skip
PRICE = {"input": 1.0, "output": 1.0, "currency": "USD"}
ENTRIES: dict[str, Any] = {
    "providers": {"p": {"address": "https://p.example/v1", "retries": {"max": 0}}},
    "models": {"a": {"provider": "p", "name": "m", "price": PRICE}},
}


def test_the_budget_of_a_task_refuses_no_other_task_s_call() -> None:
    async def run() -> None:
        async with agouti.AsyncClient(ENTRIES, transport=AsyncFakeTransport([GOOD] * 20)) as client:
            opened, done = asyncio.Event(), asyncio.Event()

            async def with_budget() -> float:
                with client.budget(0.00025) as budget:
                    opened.set()
                    await client.ask("a", "Peas?", max_tokens=10)
                    await done.wait()
                    with pytest.raises(agouti.BudgetExceeded):
                        for _ in range(20):
                            await client.ask("a", "Peas?", max_tokens=10)
                    return budget.spent

            async def without() -> None:
                await opened.wait()
                for _ in range(10):
                    await client.ask("a", "Peas?", max_tokens=10)
                done.set()

            spent, _ = await asyncio.gather(with_budget(), without())
            assert 0 < spent <= 0.00025
            # What a block has started counts in it, in a task of its own too.
            with client.budget(1) as outer:
                await asyncio.create_task(_asked(client))
            assert outer.spent == pytest.approx(0.00002)

    asyncio.run(run())


async def _asked(client: agouti.AsyncClient) -> None:
    await client.ask("a", "Peas?", max_tokens=10)


def test_a_block_can_be_left_from_anywhere() -> None:
    """By another task, by another thread, twice, and by several threads that have entered the same one."""

    async def run() -> None:
        async with agouti.AsyncClient(ENTRIES, transport=AsyncFakeTransport([])) as client:

            async def rows() -> AsyncIterator[int]:
                with client.budget(1):
                    yield 1

            generator = rows()
            assert await asyncio.create_task(anext(generator)) == 1  # type: ignore[arg-type]
            await asyncio.create_task(generator.aclose())  # type: ignore[attr-defined,arg-type]

    asyncio.run(run())
    with agouti.Client(ENTRIES, transport=FakeTransport([GOOD] * 9)) as client:
        stack = contextlib.ExitStack()
        stack.enter_context(client.budget(1))
        thread = threading.Thread(target=stack.close)
        thread.start()
        thread.join()
        budget = client.budget(0.001)
        errors: list[BaseException] = []

        def work() -> None:
            try:
                with budget, budget:
                    client.ask("a", "Peas?", max_tokens=10)
            except BaseException as error:
                errors.append(error)

        threads = [threading.Thread(target=work) for _ in range(3)]
        for each in threads:
            each.start()
        for each in threads:
            each.join()
        assert errors == []
        assert budget.spent == pytest.approx(0.00006)
        client.ask("a", "Peas?", max_tokens=10)  # outside
        assert budget.spent == pytest.approx(0.00006)


def test_threads_count_where_they_were_started_and_nowhere_else() -> None:
    with agouti.Client(ENTRIES, transport=FakeTransport([GOOD] * 9)) as client, ThreadPoolExecutor(1) as pool:
        pool.submit(lambda: None).result()  # its thread is there before the block
        with client.budget(1) as budget:
            thread = threading.Thread(target=lambda: client.ask("a", "Peas?", max_tokens=10))
            thread.start()
            thread.join()
            inside = budget.spent
            pool.submit(client.ask, "a", "Peas?", max_tokens=10).result()
            assert (inside > 0, budget.spent) == (True, inside)
        with client.budget(0.0000001), pytest.raises(agouti.BudgetExceeded):
            client.ask("a", "Peas?", max_tokens=10)


def test_a_ledger_is_its_owner_s_alone_and_a_damaged_one_is_an_error_of_ours(tmp_path: Path) -> None:
    entries = {**ENTRIES, "ledger": {"store": str(tmp_path / "u.sqlite"), "prompts": True}, "budgets": {"b": {"amount": 1, "currency": "USD", "per": "day"}}}  # fmt: skip
    before = os.umask(0o022)
    try:
        with agouti.Client(entries, transport=FakeTransport([GOOD])) as client:
            client.ask("a", "Peas?", max_tokens=10)
            modes = {path.name: path.stat().st_mode & 0o777 for path in tmp_path.iterdir()}
    finally:
        os.umask(before)
    assert set(modes.values()) == {0o600}, modes
    with agouti.Client(entries, transport=FakeTransport([GOOD])) as client:
        base = sqlite3.connect(tmp_path / "u.sqlite")
        for (name,) in base.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name LIKE '%reservations%'").fetchall():  # fmt: skip
            base.execute(f"DROP TABLE {name}")
        base.commit()
        base.close()
        with pytest.raises(agouti.AgoutiError) as told:
            client.ask("a", "Peas?", max_tokens=10)
        assert told.value.hint


@pytest.mark.parametrize("zone", ["Etc/GMT+12", "Etc/GMT-14", "UTC"])
def test_the_day_of_a_price_is_that_of_greenwich(zone: str, monkeypatch: pytest.MonkeyPatch) -> None:
    import time

    today = datetime.now(UTC).date()
    prices = [{**PRICE, "since": f"{today - timedelta(days=9)}"}, {**PRICE, "output": 7.0, "since": f"{today}"}, {**PRICE, "output": 9.0, "since": f"{today + timedelta(days=1)}"}]  # fmt: skip
    monkeypatch.setenv("TZ", zone)
    time.tzset()
    try:
        model = agouti.load_config({**ENTRIES, "models": {"a": {**ENTRIES["models"]["a"], "price": prices}}}).model("a")
        assert model.price_now is not None
        assert model.price_now.output == 7.0
    finally:
        monkeypatch.undo()
        time.tzset()


@pytest.mark.parametrize(
    ("headers", "wait"),
    [
        ({"x-ratelimit-remaining": "0", "x-ratelimit-reset": "1796122861065"}, 1.065),
        ({"retry-after": "1796122862065"}, 2.065),
        ({"retry-after": "1796122862"}, 2.0),
        ({"x-ratelimit-remaining": "0", "x-ratelimit-reset": "2026-12-01T11:01:03Z"}, 3.0),
        ({"x-ratelimit-remaining": "0", "x-ratelimit-reset": "2026-12-01T12:01:03.5+01:00"}, 3.5),
        ({"x-ratelimit-requests-remaining": "0", "x-ratelimit-requests-reset": "2026-12-01T11:01:20Z"}, 20.0),
        ({"ratelimit": '"default";r=0;t=20'}, 20.0),
        ({"ratelimit": "limit=9, remaining=0, reset=20"}, 20.0),
        ({"ratelimit": '"default";r=3;t=20'}, None),
        ({"retry-after": "90000"}, None),  # more than a day
        ({"retry-after": "179612286206500"}, None),
    ],
)
def test_moments_in_headers(headers: dict[str, str], wait: float | None) -> None:
    now = datetime(2026, 12, 1, 11, 1, 0, tzinfo=UTC).timestamp()
    assert now == 1796122860
    found = asked_wait(headers, now=now)
    assert found == (None if wait is None else pytest.approx(wait, abs=0.001))
