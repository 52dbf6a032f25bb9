"""The ledger: a row for every attempt, nothing committed is lost, and its sums are those of the providers' own books."""

import asyncio
import gc
import json
import os
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

import agouti
from agouti.config.budgets import Plan
from agouti.config.tables import LedgerSettings
from agouti.core.http.exchange import HttpReply
from agouti.core.secrets.secret import Secret
from agouti.ledger.open import open_ledger
from agouti.ledger.rows import PICO, LedgerRow
from agouti.ledger.sqlite import SqliteLedger
from agouti.ledger.usage import usage_of
from agouti.standins import serve
from agouti.tables.statistics import bucket_of, percentile
from agouti.testing import AsyncFakeTransport, FakeTransport

GOOD = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 9, "completion_tokens": 4, "prompt_tokens_details": {"cached_tokens": 3}}}  # fmt: skip


def config(folder: Path | str, **ledger: Any) -> dict[str, Any]:
    price = {"input": 0.1, "output": 0.2, "currency": "USD"}
    return {
        "providers": {
            "nb": {"address": "https://nb.example/v1", "key": {"env": "NB_PASS"}, "retries": {"base": 0.001}},
            "shed": {"address": "https://shed.example/v1"},
        },
        "models": {"a": {"provider": "nb", "name": "quill", "price": price}, "b": {"provider": "shed", "name": "loam"}},
        "ledger": {"store": folder if isinstance(folder, str) else str(folder / "usage.sqlite"), **ledger},
    }


def rows(folder: Path | str) -> list[LedgerRow]:
    store = folder if isinstance(folder, str) else str(folder / "usage.sqlite")
    ledger = open_ledger(LedgerSettings(Secret(store)), reading=True)
    try:
        return list(ledger.attempts(0, 1e12))
    finally:
        ledger.close()


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_a_row_for_every_attempt(kind: str, store: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("NB_PASS", "nb-secret-3f9a-0123456789")
    answers: list[Any] = [
        HttpReply(503, {"x-request-id": "req-1"}, b"{}"),
        HttpReply(200, {"content-type": "application/json", "x-request-id": "req-2"}, msgspec.json.encode(GOOD)),
        [b'data: {"choices":[{"delta":{"content":"In March, peas."}}]}\n\n'] * 3,
    ]
    if kind == "sync":
        with agouti.Client(config(store), transport=FakeTransport(answers)) as client:
            client.ask("a", "Peas?", tags={"feature": "letter"})
            with client.stream("a", "Peas?") as stream:
                next(iter(stream))
    else:

        async def go() -> None:
            async with agouti.AsyncClient(config(store), transport=AsyncFakeTransport(answers)) as client:
                await client.ask("a", "Peas?", tags={"feature": "letter"})
                async with client.stream("a", "Peas?") as stream:
                    async for _ in stream:
                        break

        asyncio.run(go())
    failed, answered, left = rows(store)
    assert (failed.outcome, failed.error, failed.status, failed.request_id) == ("failed", "Overloaded", 503, "req-1")
    assert (answered.outcome, answered.request_id, answered.tags) == ("answered", "req-2", {"feature": "letter"})
    assert (answered.input_tokens, answered.output_tokens, answered.cached_tokens) == (9, 4, 3)
    assert answered.cost == (9 * 100_000 + 4 * 200_000)
    assert (left.outcome, left.estimated, left.provider, left.name, left.label) == (
        "abandoned",
        True,
        "nb",
        "quill",
        "a",
    )
    assert left.cost
    assert len({row.key for row in (failed, answered, left)}) == 1 == len({len(left.key)}) == bool(left.key)
    kept = "".join(map(repr, rows(store)))
    if store[0] == "/":
        kept += Path(store).read_bytes().decode("latin-1")
    assert "secret" not in kept
    assert "Peas" not in kept
    assert abs(time.time() - left.at) < 60


def test_sums_are_those_of_the_standins_books(store: str, tmp_path: Path) -> None:
    with serve() as served:
        made = served.config
        made = msgspec.structs.replace(made, ledger=LedgerSettings(Secret(store)))
        with agouti.Client(made) as client, ThreadPoolExecutor(8) as pool:

            def one(number: int) -> None:
                name = ("quill-large@northbank", "almanac", "loam-2b+status=503x2#l@shed", "quill-large+odd@northbank")[
                    number % 4
                ]
                if number % 3 == 0:
                    with client.stream(name, f"When do peas go in? {number}", max_tokens=9) as stream:
                        list(stream)
                else:
                    client.ask(name, f"Peas? {number}", max_tokens=9, tags={"row": str(number % 2)})

            list(pool.map(one, range(60)))
            report = client.usage(by=("provider", "tag:row"))
            by_day = client.usage(since=datetime.now(UTC).date(), by="day")
        books = served.books
    for provider in ("northbank", "shed"):
        of_provider = [row for row in report if row.group["provider"] == provider]
        assert sum(row.input_tokens for row in of_provider) == books.input_tokens[provider]
        assert sum(row.output_tokens for row in of_provider) == books.output_tokens[provider]
        assert sum(row.calls for row in of_provider) == sum(n for (p, _), n in books.requests.items() if p == provider)
        assert sum(row.failures for row in of_provider) == books.requests[provider, 503]
    assert {row.group["tag:row"] for row in report} == {None, "0", "1"}
    assert [row.group["day"] for row in by_day] == [datetime.now(UTC).date().isoformat()]
    assert report.total.calls == 62
    assert report.total.median is not None
    assert report.total.unpriced > 0
    prices = [float(row.cost.get("USD", 0)) for row in report]
    assert sum(prices) == pytest.approx(float(report.total.cost["USD"]), abs=1e-12)
    for name in ("u.csv", "u.jsonl", "u.parquet"):
        report.save(tmp_path / name)
    assert len(report.frame()) == len(report)


WRITER = """
import sys, time, agouti
from pathlib import Path
from agouti.testing import FakeTransport
from tests.ledger.test_ledger import GOOD, config
stop = Path(sys.argv[2])
client = agouti.Client(config(sys.argv[1]), transport=FakeTransport([GOOD] * 100000))
count = 0
print("begun", flush=True)
while not stop.exists():
    client.ask("b", "Peas?", tags={"process": sys.argv[3]})
    count += 1
    if count % 20 == 0:
        print(count, time.time(), flush=True)
    time.sleep(0.001)
client.close()
print(count, time.time(), flush=True)
"""


def test_processes_write_together_and_a_kill_loses_a_tenth_of_a_second(store: str, tmp_path: Path) -> None:
    root = Path(__file__).parent.parent.parent
    stop = tmp_path / "stop"
    environment = {**os.environ, "PYTHONPATH": str(root)}
    writers = [
        subprocess.Popen([sys.executable, "-c", WRITER, store, str(stop), str(number)], stdout=subprocess.PIPE, env=environment, text=True)
        for number in range(3)
    ]  # fmt: skip
    assert all(writer.stdout.readline() == "begun\n" for writer in writers)  # type: ignore[union-attr]
    lines = [writers[0].stdout.readline() for _ in range(30)]  # type: ignore[union-attr]
    killed = time.time()
    os.kill(writers[0].pid, signal.SIGKILL)
    time.sleep(0.3)  # the others go on
    stop.touch()
    told = [line.split() for line in [*lines, *writers[0].communicate()[0].splitlines()] if line.split()]
    counts = [writer.communicate(timeout=100)[0].splitlines()[-1].split()[0] for writer in writers[1:]]
    found = [row.tags["process"] for row in rows(store)]
    assert [found.count("1"), found.count("2")] == [int(count) for count in counts]
    # What was answered a while before the kill is there.
    sure = max((int(count) for count, at in told if float(at) < killed - 0.3), default=0)
    assert found.count("0") >= sure > 0
    ledger = open_ledger(LedgerSettings(Secret(store)), reading=True)
    assert usage_of(ledger, None, None, ["day"]).total.calls == len(found)
    if store[0] == "/":
        assert ledger._execute("PRAGMA integrity_check").fetchone() == ("ok",)
    ledger.close()


def test_programs_that_begin_at_the_same_moment(store: str) -> None:
    script = "import sys; from agouti.ledger.open import open_ledger; from agouti.config.tables import LedgerSettings; print(flush=True); input(); open_ledger(LedgerSettings(sys.argv[1])).close()"
    for round_ in range(2):
        place = f"{store}-{round_}" if store[0] == "/" else store
        programs = [
            subprocess.Popen(
                [sys.executable, "-c", script, place],
                stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
            )
            for _ in range(4)
        ]  # fmt: skip
        assert all(program.stdout.readline() == "\n" for program in programs)  # type: ignore[union-attr]
        for program in programs:
            program.stdin.write("\n")  # type: ignore[union-attr]
            program.stdin.flush()  # type: ignore[union-attr]
        said = [program.communicate(timeout=100)[1] for program in programs]
        assert [program.returncode for program in programs] == [0] * 4, said


def foreign(path: Path) -> None:
    with sqlite3.connect(path) as database:
        database.execute("CREATE TABLE beds (id)")
    database.close()


def newer(path: Path) -> None:
    SqliteLedger(path).close()
    with sqlite3.connect(path) as database:
        database.execute("PRAGMA user_version = 99")
    database.close()


@pytest.mark.parametrize(
    ("make", "what"),
    [
        (lambda path: path.write_text("Dear Bo,\n" * 200), "cannot be opened"),
        (foreign, "another program's database"),
        (newer, "newer Agouti"),
        (lambda path: path.mkdir(), "cannot be opened"),
        (lambda path: path.parent.joinpath("usage.sqlite-x").write_text(""), ""),
    ],
)
def test_files_that_are_no_ledger_are_told_before_anything_is_sent(tmp_path: Path, make: Any, what: str) -> None:
    path = tmp_path / "usage.sqlite"
    make(path)
    before = path.read_bytes() if path.is_file() else b""
    fake = FakeTransport([GOOD])
    with agouti.Client(config(tmp_path), transport=fake) as client:
        if not what:
            client.ask("b", "Peas?")
            return
        with pytest.raises(agouti.ConfigError, match=what) as caught:
            client.ask("b", "Peas?")
    assert caught.value.hint
    assert (fake.requests, path.read_bytes() if path.is_file() else b"") == ([], before)


def test_a_ledger_that_cannot_be_written_fails_no_call_and_is_told_once(
    tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    client = agouti.Client(config(tmp_path), transport=FakeTransport([GOOD] * 4))
    client.ask("b", "Peas?")
    assert client.usage().total.calls == 1
    with sqlite3.connect(tmp_path / "usage.sqlite") as database:
        database.execute("DROP TABLE sums")
    database.close()
    for _ in range(3):
        assert client.ask("b", "Peas?").text == "x"
        time.sleep(0.15)
    with pytest.raises(agouti.ConfigError, match="cannot be read"):
        client.usage()
    with pytest.warns(agouti.AgoutiWarning, match="3 rows of the ledger .* are not written: no such table"):
        client.close()
    assert caplog.text.count("cannot be written") == 1


@pytest.mark.parametrize(
    ("ledger", "what"),
    [
        ({"store": ""}, "is no store"),
        ({"store": "carrier-pigeon://x"}, "is no store"),
        ({"stor": "x"}, "unknown key 'stor'"),
        ({"keep_days": 0, "store": "x"}, "keep_days = 0"),
        ({}, "wrong"),
        ({"store": 3}, "wrong"),
        ({"store": "u", "plans": {"nb": {"tokens": 5}}}, "provider that has no entry"),
        ({"store": "u", "plans": {"shed": {"tokens": 0}}}, "tokens = 0"),
        ({"store": "u", "plans": {"shed": {"tokens": 5, "overage": -1}}}, "overage = -1"),
    ],
)
def test_ledgers_that_cannot_be(tmp_path: Path, ledger: dict[str, Any], what: str) -> None:
    plans = ledger.pop("plans", {})
    text = "\n".join(f"{name} = {json.dumps(value)}" for name, value in ledger.items())
    text += "".join(
        f"\n[plans.{label}]\n" + "\n".join(f"{n} = {v}" for n, v in plan.items()) for label, plan in plans.items()
    )
    (tmp_path / "agouti.toml").write_text(f'[providers.shed]\naddress = "http://localhost:1/v1"\n[ledger]\n{text}\n')
    with pytest.raises(agouti.ConfigError, match=what) as caught:
        agouti.load_config(tmp_path / "agouti.toml")
    assert caught.value.hint


def test_prompts_are_kept_where_asked_for_and_old_rows_go(tmp_path: Path) -> None:
    path = tmp_path / "usage.sqlite"
    ledger = SqliteLedger(path)
    ledger.add([LedgerRow(at=1.7e9, provider="p", name="n", label="l", operation="chat", cost=5, currency="USD")])
    ledger.close()
    with agouti.Client(config(tmp_path, prompts=True, keep_days=30), transport=FakeTransport([GOOD])) as client:
        client.ask("b", "Peas at Marsh Lane?")
    assert [row.prompt for row in rows(tmp_path)] == ["Question('Peas at Marsh Lane?')"]
    with agouti.Client(config(tmp_path)) as client:
        old = client.usage(since=date(2023, 11, 1), until="2023-11-30", by=[]).total
    assert (old.calls, old.cost) == (1, {"USD": Decimal(5) / PICO})  # sums of days stay


def test_odd_counts_and_words_of_strangers_stop_nothing(tmp_path: Path) -> None:
    odd = [
        {"prompt_tokens": 10**30, "completion_tokens": 1},
        {"prompt_tokens": -5, "completion_tokens": -7},
        {"prompt_tokens": 1, "completion_tokens": 1, "prompt_tokens_details": {"cached_tokens": 10**6}},
    ]
    answers: list[Any] = [{**GOOD, "usage": usage} for usage in odd]
    with agouti.Client(config(tmp_path), transport=FakeTransport([*answers, GOOD])) as client:
        for _ in range(3):
            reply = client.ask("b", "Peas?", tags={"half \ud800": "x\udfff"})
            assert (reply.cost or 0) >= 0
        client.ask("b", "Peas?")
        total = client.usage().total
    assert total.calls == 4
    assert min(total.input_tokens, total.output_tokens, total.cached_tokens) >= 0
    assert all(row.input_tokens and row.input_tokens > 0 for row in rows(tmp_path))  # no count below none: an estimate


FULL = """
import resource, signal, sys
from pathlib import Path
import agouti
from agouti.testing import FakeTransport
from tests.ledger.test_ledger import GOOD, config
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
with agouti.Client(config(Path(sys.argv[1])), transport=FakeTransport([GOOD] * 60)) as client:
    client.ask("b", "Peas?")
    client.usage()
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (1000, hard))  # the disk is full
    for _ in range(40):
        client.ask("b", "Peas?", tags={"long": "x" * 500})
    try:
        client.usage()
    except agouti.AgoutiError:
        pass
    resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))  # and has room again
    client.ask("b", "Peas?")
    print(client.usage().total.calls)
"""


def test_rows_wait_for_a_disk_that_is_full(tmp_path: Path) -> None:
    environment = {**os.environ, "PYTHONPATH": str(Path(__file__).parent.parent.parent)}
    done = subprocess.run(
        [sys.executable, "-B", "-c", FULL, str(tmp_path)],
        capture_output=True,
        text=True,
        env=environment,
        timeout=100,
        check=False,
    )
    assert (done.returncode, done.stdout) == (0, "42\n"), done.stderr
    assert done.stderr.count("cannot be written") == 1
    assert len(rows(tmp_path)) == 42


def test_the_end_of_a_process_writes_what_waits(store: str) -> None:
    """The client is not closed; its last call is written all the same."""
    script = """
import sys, agouti
from agouti.testing import FakeTransport
from tests.ledger.test_ledger import GOOD, config
client = agouti.Client(config(sys.argv[1]), transport=FakeTransport([GOOD] * 3))
for _ in range(3):
    client.ask("b", "Peas?")
"""
    environment = {**os.environ, "PYTHONPATH": str(Path(__file__).parent.parent.parent)}
    subprocess.run([sys.executable, "-c", script, store], env=environment, check=True, timeout=100)
    assert len(rows(store)) == 3


def test_clients_that_are_closed_or_forgotten_leave_no_thread(tmp_path: Path) -> None:
    for number in range(8):
        client = agouti.Client(config(tmp_path), transport=FakeTransport([GOOD]))
        client.ask("b", "Peas?")
        if number % 2:
            client.close()
        del client
    gc.collect()
    until = time.monotonic() + 10
    while any(thread.name == "agouti-ledger" for thread in threading.enumerate()) and time.monotonic() < until:
        time.sleep(0.02)
    assert [thread.name for thread in threading.enumerate() if thread.name == "agouti-ledger"] == []
    assert len(rows(tmp_path)) == 8


def test_what_costs_nothing_stands_in_no_sum(tmp_path: Path) -> None:
    with agouti.Client(config(tmp_path), transport=FakeTransport([{"data": [{"id": "loam"}]}, GOOD])) as client:
        client.models("shed")
        client.ask("b", "Peas?")
        assert (client.usage().total.calls, client.usage().total.unpriced) == (1, 1)
    assert [row.operation for row in rows(tmp_path)] == ["models", "chat"]


def test_children_write_for_themselves(tmp_path: Path) -> None:
    with agouti.Client(config(tmp_path), transport=FakeTransport([GOOD] * 3)) as client:
        client.ask("b", "Peas?")
        child = os.fork()
        if child == 0:
            try:
                client.ask("b", "Peas?", tags={"who": "child"})
                client.close()
            finally:
                os._exit(0)
        os.waitpid(child, 0)
        client.ask("b", "Peas?")
    assert sorted(row.tags.get("who", "parent") for row in rows(tmp_path)) == ["child", "parent", "parent"]


@pytest.mark.parametrize(
    ("asked", "what"),
    [
        ({"since": "2026-02-01", "until": "2026-01-01"}, "is after"),
        ({"since": "soon"}, "is no day"),
        ({"by": ["colour"]}, "not told by 'colour'"),
        ({"by": ['tag:a"b']}, "not told by"),
    ],
)
def test_reports_that_cannot_be(tmp_path: Path, asked: dict[str, Any], what: str) -> None:
    with agouti.Client(config(tmp_path), transport=FakeTransport([GOOD])) as client:
        with pytest.raises(agouti.ConfigError, match="there is no ledger"):
            client.usage()
        client.ask("b", "Peas?")
        with pytest.raises(agouti.RequestError, match=what):
            client.usage(**asked)
    with agouti.Client.at("http://localhost:1/v1") as client, pytest.raises(agouti.ConfigError, match="no ledger"):
        client.usage()


@pytest.mark.parametrize(
    ("per", "day", "since", "until", "used", "expected"),
    [
        ("month", date(2026, 11, 10), date(2026, 11, 1), date(2026, 11, 30), 1500, 4500),
        ("week", date(2026, 11, 10), date(2026, 11, 9), date(2026, 11, 15), 1500, 5250),
        ("day", date(2026, 11, 10), date(2026, 11, 10), date(2026, 11, 10), 0, 0),
    ],
)
def test_how_much_of_a_plan_is_used(
    tmp_path: Path, per: Any, day: date, since: date, until: date, used: int, expected: int
) -> None:
    ledger = SqliteLedger(tmp_path / "u.sqlite")
    at = datetime(2026, 11, 9, 12, tzinfo=UTC).timestamp()
    for provider in ("nb", "other"):
        row = LedgerRow(
            at=at, provider=provider, name="n", label="l", operation="chat", input_tokens=1000, output_tokens=500
        )
        ledger.add([row])
    plan = Plan("nb", 1200, per=per, fee=10, overage=0.5, currency="USD")
    [found] = usage_of(ledger, None, day, [], [plan]).plans
    ledger.close()
    assert (found.since, found.until, found.used, found.expected) == (since, until, used, expected)
    assert found.overage == max(used - 1200, 0) / 1000 * 0.5
    assert found.expected_overage == max(expected - 1200, 0) / 1000 * 0.5


@given(st.lists(st.floats(0.001, 1000), min_size=1, max_size=200), st.sampled_from([0.5, 0.95, 0.99]))
def test_percentiles_are_right_to_five_per_cent(seconds: list[float], share: float) -> None:
    buckets: dict[int, int] = {}
    for each in seconds:
        buckets[bucket_of(each)] = buckets.get(bucket_of(each), 0) + 1
    exact = sorted(seconds)[max(-(-int(share * 100) * len(seconds) // 100) - 1, 0)]
    assert percentile(buckets, share) == pytest.approx(exact, rel=0.05)


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_a_tagged_client_is_the_same_client(kind: str, tmp_path: Path) -> None:
    stream = [b'data: {"choices":[{"delta":{"content":"x"},"finish_reason":"stop"}]}\n\ndata: [DONE]\n\n']
    vectors = {"data": [{"index": 0, "embedding": [1.0]}], "usage": {"prompt_tokens": 1}}
    answers: list[Any] = [GOOD, GOOD, stream, vectors, GOOD, GOOD]
    if kind == "sync":
        fake: Any = FakeTransport(answers)
        with agouti.Client(config(tmp_path), transport=fake) as client:
            with client.tagged(feature="letter") as letters:
                letters.ask("b", "Peas?")
                letters.tagged(to="bo").ask("b", "Peas?", tags={"feature": "note"})
                list(letters.stream("b", "Peas?"))
                letters.embed("b", ["Peas"])
                letters.conversation("b").say("Peas?")
            assert not fake.closed
            client.ask("b", "Peas?")
            with pytest.raises(agouti.RequestError, match="no table of texts"):
                client.tagged(feature=3)  # type: ignore[arg-type]
    else:
        fake = AsyncFakeTransport(answers)

        async def go() -> None:
            async with agouti.AsyncClient(config(tmp_path), transport=fake) as client:
                async with client.tagged(feature="letter") as letters:
                    await letters.ask("b", "Peas?")
                    await letters.tagged(to="bo").ask("b", "Peas?", tags={"feature": "note"})
                    async for _ in letters.stream("b", "Peas?"):
                        pass
                    await letters.embed("b", ["Peas"])
                    await letters.conversation("b").say("Peas?")
                assert not fake.closed
                await client.ask("b", "Peas?")

        asyncio.run(go())
    letter = {"feature": "letter"}
    assert [row.tags for row in rows(tmp_path)] == [letter, {"feature": "note", "to": "bo"}, letter, letter, letter, {}]


def test_a_block_of_a_tagged_client_counts_all_calls() -> None:
    made = config("x.sqlite")
    del made["ledger"]
    made["providers"]["nb"].pop("key")
    with agouti.Client(made, transport=FakeTransport([GOOD] * 2)) as client:
        with client.tagged(feature="letter").budget(1, "USD") as budget:
            client.ask("a", "Peas?")
        assert budget.spent > 0
