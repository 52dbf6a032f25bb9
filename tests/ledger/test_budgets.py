"""Budgets: never exceeded, by threads, tasks and processes; refused before anything is sent, settled by what it cost."""

import asyncio
import contextlib
import os
import subprocess
import sys
import threading
import warnings
from concurrent.futures import ThreadPoolExecutor
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.ledger.sqlite import SqliteLedger
from agouti.testing import AsyncFakeTransport, FakeTransport

from ..hostile.kit import STREAM, Connection, serving

# 10 tokens in and 100 out cost 0.00021.
GOOD = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 10, "completion_tokens": 100}}  # fmt: skip
COST = Decimal("0.00021")


def config(folder: Path | str | None, **budgets: Any) -> dict[str, Any]:
    price = {"input": 1.0, "output": 2.0, "currency": "USD"}
    made: dict[str, Any] = {
        "providers": {"nb": {"address": "https://nb.example/v1", "retries": {"max": 0}}},
        "models": {
            "a": {"provider": "nb", "name": "quill", "price": price},
            "b": {"provider": "nb", "name": "quill-2", "price": price, "fallback": ["free"]},
            "free": {"provider": "nb", "name": "free", "price": {"input": 0, "output": 0, "currency": "USD"}},
            "unknown": {"provider": "nb", "name": "x"},
        },
        "budgets": budgets,
    }
    if folder is not None:
        made["ledger"] = {"store": folder if isinstance(folder, str) else str(folder / "usage.sqlite")}
    return made


def spend(client: agouti.Client, count: int, threads: int = 16, **options: Any) -> int:
    """How many of so many calls were let through."""

    def one(_: int) -> bool:
        try:
            client.ask("a", "Peas?", max_tokens=100, **options)
        except agouti.BudgetExceeded:
            return False
        return True

    with ThreadPoolExecutor(threads) as pool:
        return sum(pool.map(one, range(count)))


@pytest.mark.parametrize("per", ["run", "day", "week", "month"])
def test_threads_never_exceed_it(per: str, tmp_path: Path) -> None:
    made = config(None if per == "run" else tmp_path, purse={"amount": 0.005, "currency": "USD", "per": per})
    fake = FakeTransport([GOOD] * 200)
    with pytest.warns(agouti.AgoutiWarning, match="nearly spent"), agouti.Client(made, transport=fake) as client:
        first = spend(client, 64)
        if per != "run":
            client.usage()  # what was put aside has become what was spent
        more = spend(client, 64)
        with pytest.raises(agouti.BudgetExceeded) as caught:
            spend_all(client)
    assert first + more <= len(fake.requests) <= 0.005 / float(COST)
    assert len(fake.requests) * COST > Decimal("0.0045")  # and it is used, nearly all of it
    assert "purse" in caught.value.message
    assert caught.value.hint


def spend_all(client: agouti.Client) -> None:
    for _ in range(100):
        client.ask("a", "Peas?", max_tokens=100)


WORKER = """
import sys, warnings
warnings.simplefilter("ignore")
import agouti
from agouti.testing import FakeTransport
from tests.ledger.test_budgets import GOOD, config, spend
made = config(sys.argv[1], purse={"amount": 0.02, "currency": "USD", "per": "month"})
with agouti.Client(made, transport=FakeTransport([GOOD] * 1000)) as client:
    print(sum(spend(client, 64, threads=64) for _ in range(3)))
"""


def test_processes_never_exceed_it(store: str) -> None:
    environment = {**os.environ, "PYTHONPATH": str(Path(__file__).parent.parent.parent)}
    workers = [
        subprocess.Popen(
            [sys.executable, "-c", WORKER, store],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            env=environment,
            text=True,
        )
        for _ in range(4)
    ]
    said = [worker.communicate(timeout=100) for worker in workers]
    assert [worker.returncode for worker in workers] == [0] * 4, said
    through = [int(out) for out, _ in said]
    with agouti.Client(config(store)) as client:
        spent = client.usage().total.cost["USD"]
    assert spent == sum(through) * COST
    assert Decimal("0.017") < spent <= Decimal("0.02")


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_a_block_spends_no_more(kind: str) -> None:
    made = config(None)
    answers = [GOOD] * 50
    if kind == "sync":
        fake: Any = FakeTransport(answers)
        with agouti.Client(made, transport=fake) as client:
            with client.budget(0.001, "USD") as budget, pytest.raises(agouti.BudgetExceeded):
                spend_all(client)
            assert 0.0006 < budget.spent <= 0.001
            assert budget.left == pytest.approx(0.001 - budget.spent)
            client.ask("a", "Peas?", max_tokens=100)  # behind the block there is none
            with client.budget(0.001, "USD"):
                assert 2 <= spend(client, 20) <= 4  # threads count as well
    else:
        fake = AsyncFakeTransport(answers)

        async def go() -> None:
            async with agouti.AsyncClient(made, transport=fake) as client:
                with client.budget(0.001, "USD") as budget:
                    results = await asyncio.gather(
                        *[client.ask("a", "Peas?", max_tokens=100) for _ in range(20)], return_exceptions=True
                    )
                assert 2 <= sum(isinstance(each, agouti.Reply) for each in results) <= 4
                assert budget.spent <= 0.001

        asyncio.run(go())


def test_two_blocks_do_not_count_each_others_calls() -> None:
    with agouti.Client(config(None), transport=FakeTransport([GOOD] * 50)) as client:
        spent: list[float] = []
        both = threading.Barrier(2)

        def block() -> None:
            with client.budget(1, "USD") as budget:
                both.wait(60)
                for _ in range(5):
                    client.ask("a", "Peas?", max_tokens=100)
                both.wait(60)
                spent.append(budget.spent)

        threads = [threading.Thread(target=block) for _ in range(2)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    assert spent == [pytest.approx(5 * float(COST))] * 2


def test_what_counts_in_a_budget(tmp_path: Path) -> None:
    made = config(
        None,
        letters={"amount": 0.0005, "currency": "USD", "per": "run", "tags": {"feature": "letter"}, "warn": 1},
        b={"amount": 0.00001, "currency": "USD", "per": "run", "models": ["b"], "warn": 1},
        euros={"amount": 0.00001, "currency": "EUR", "per": "run"},
    )
    with agouti.Client(made, transport=FakeTransport([GOOD] * 30)) as client:
        with pytest.warns(agouti.AgoutiWarning, match="a are paid in USD, and count in no budget in EUR"):
            client.ask("a", "Peas?", max_tokens=100)
        for _ in range(2):  # that is told once
            client.ask("a", "Peas?", max_tokens=100)
        with pytest.warns(agouti.AgoutiWarning, match="(b|free) are paid in USD"):
            assert client.ask("b", "Peas?", max_tokens=100).attempts[-1].model == "free"  # a cheaper one takes over
        client.ask("a", "Peas?", max_tokens=100, tags={"feature": "letter", "more": "x"})
        with pytest.raises(agouti.BudgetExceeded, match="letters"):
            for _ in range(9):
                client.ask("a", "Peas?", max_tokens=100, tags={"feature": "letter"})
        with pytest.warns(agouti.AgoutiWarning, match="unknown have no price"):
            client.ask("unknown", "Peas?")
        client.ask("unknown", "Peas?")  # it is told once


def test_failures_cost_nothing_and_give_back_what_was_put_aside(tmp_path: Path) -> None:
    purse = {"amount": 0.0003, "currency": "USD", "warn": 1}
    made = config(tmp_path, purse={**purse, "per": "day"}, here={**purse, "per": "run"})
    answers = [HttpReply(500, {}, b"{}")] * 5 + [GOOD]
    with agouti.Client(made, transport=FakeTransport(answers)) as client:
        for _ in range(5):
            with pytest.raises(agouti.ProviderFault):
                client.ask("a", "Peas?", max_tokens=100)
            client.usage()  # all is written, and what was put aside is back
        client.ask("a", "Peas?", max_tokens=100)
    ledger = SqliteLedger(tmp_path / "usage.sqlite")
    assert ledger._database.execute("SELECT count(*) FROM reservations").fetchone() == (0,)
    ledger.close()


def test_what_is_left_without_a_word_costs_what_was_put_aside(tmp_path: Path) -> None:
    purse = {"amount": 1, "currency": "USD", "warn": 1}
    made = config(tmp_path, purse={**purse, "per": "day"})
    begun = threading.Event()

    def silent(connection: Connection, _: int) -> None:
        connection.write(STREAM + b"9\r\ndata: {}\n\r\n")
        begun.set()
        connection.gone(20)

    async def left(made: Any) -> float:
        async with agouti.AsyncClient(made) as client:
            with client.budget(1) as budget:
                async with client.stream("a", "Peas?", max_tokens=100) as stream:
                    task = asyncio.ensure_future(anext(aiter(stream)))
                    await asyncio.to_thread(begun.wait, 10)
                    task.cancel()
                    with contextlib.suppress(asyncio.CancelledError):
                        await task
            return budget.spent

    with serving(silent) as server:
        made["providers"]["nb"]["address"] = server.address
        spent = asyncio.run(left(made))
    with agouti.Client(made) as client:
        total = client.usage().total
    assert total.estimated == 1
    assert float(total.cost["USD"]) == pytest.approx(spent)
    assert spent > 0.0002


def test_warnings_that_are_errors_leave_nothing_put_aside(tmp_path: Path) -> None:
    purse = {"amount": 0.0003, "currency": "USD", "warn": 0.1}
    for per, folder in (("run", None), ("day", tmp_path)):
        made = config(folder, purse={**purse, "per": per})
        with warnings.catch_warnings(), agouti.Client(made, transport=FakeTransport([GOOD])) as client:
            warnings.simplefilter("error")
            with pytest.raises(agouti.AgoutiWarning):
                client.ask("a", "Peas?", max_tokens=100)
            if folder is not None:
                client.usage()  # all is written
            client.ask("a", "Peas?", max_tokens=100)  # there is room: the first one has taken nothing


def test_children_go_on_with_what_was_spent() -> None:
    made = config(None, purse={"amount": 0.0005, "currency": "USD", "per": "run", "warn": 1})
    with agouti.Client(made, transport=FakeTransport([GOOD] * 5)) as client:
        client.ask("a", "Peas?", max_tokens=100)
        child = os.fork()
        if child == 0:
            code = 1
            try:
                client.ask("a", "Peas?", max_tokens=100)
                client.ask("a", "Peas?", max_tokens=100)
            except agouti.BudgetExceeded:
                code = 0
            finally:
                os._exit(code)
        assert os.waitpid(child, 0)[1] == 0


def test_many_threads_that_begin_blocks_at_once_share_one_book() -> None:
    for _ in range(20):
        with agouti.Client(config(None), transport=FakeTransport([GOOD] * 90)) as client:
            begin = threading.Barrier(8)
            refused: list[bool] = []

            def block(client: Any = client, begin: Any = begin, refused: Any = refused) -> None:
                begin.wait(5)
                with client.budget(0.0003, "USD"):
                    client.ask("a", "Peas?", max_tokens=100)
                    try:
                        client.ask("a", "Peas?", max_tokens=100)
                    except agouti.BudgetExceeded:
                        refused.append(True)

            threads = [threading.Thread(target=block) for _ in range(8)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            assert len(refused) == 8


@pytest.mark.parametrize(
    ("budget", "what"),
    [
        ({"amount": 0, "currency": "USD"}, "amount = 0"),
        ({"amount": -3, "currency": "USD"}, "amount = -3"),
        ({"amount": 3}, "currency is missing"),
        ({"amount": 3, "currency": "USD", "per": "hour"}, "per"),
        ({"amount": 3, "currency": "USD", "per": "month"}, "no ledger that remembers"),
        ({"amount": 3, "currency": "USD", "per": "run", "models": ["almanak"]}, "no model 'almanak'"),
        ({"amount": 3, "currency": "USD", "per": "run", "warn": 80}, "warn = 80"),
        ({"amount": 3, "currency": "USD", "per": "run", "modells": []}, "modells"),
    ],
)
def test_budgets_that_cannot_be(budget: dict[str, Any], what: str) -> None:
    with pytest.raises(agouti.ConfigError, match=what) as caught:
        agouti.load_config(config(None, purse=budget))
    assert caught.value.hint
    with agouti.Client(config(None)) as client, pytest.raises(agouti.ConfigError):
        client.budget(0)
