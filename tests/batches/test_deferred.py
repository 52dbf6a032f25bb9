"""Deferred batches: handed over once, fetched whenever they are done, through stops, kills and refusals."""

import asyncio
import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
import tomllib
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.batches import provider_batches as deferred
from agouti.dialects.shared.provider_batches import FilesAndBatches, MessageBatches
from agouti.standins.server import Served, serve

from ..hostile.kit import Connection, config, reply, serving

LABELS = ["quill-large@northbank", "envelope-2@letterbox"]
NOTES = [{"id": f"n{number}", "note": f"Kale sown 4 March, {number} of 24 up."} for number in range(12)]


@pytest.fixture(scope="module")
def late() -> Iterator[Served]:
    with serve(deferred=0.6) as running:
        yield running


def asked(served: Served, label: str) -> int:
    return sum(count for (provider, _), count in served.books.requests.items() if provider == label)


def rows_in(path: Path) -> list[dict[str, Any]]:
    return [json.loads(line) for line in path.read_text().splitlines()]


@pytest.mark.parametrize("label", LABELS)
def test_answers_and_forms_come_later(late: Served, tmp_path: Path, label: str) -> None:
    schema = {"title": "Note", "type": "object", "properties": {"up": {"type": "integer"}}, "required": ["up"]}
    with agouti.Client(late.config) as client:
        asking = {"prompt": "From {note}", "id_column": "id", "deferred": True}
        made = agouti.batch(
            client, label, NOTES, out=tmp_path / "o.jsonl", max_tokens=20, preserve_order=True, **asking
        )  # type: ignore[arg-type]
        assert (made.done, made.failed) == (12, 0)
        at_once = agouti.batch(client, label, NOTES, prompt="From {note}", id_column="id", max_tokens=20)
        assert [row.answer for row in made] == [row.answer for row in at_once]
        assert all(row.cost is None and row.output_tokens for row in made)
        filled = agouti.batch(client, label, NOTES, out=tmp_path / "f.csv", form=schema, **asking)  # type: ignore[arg-type]
        assert (filled.done, filled.failed) == (12, 0)
        assert "18 of 24" not in (tmp_path / "f.csv").read_text()
        again = agouti.batch(client, label, NOTES, out=tmp_path / "o.jsonl", max_tokens=20, **asking)  # type: ignore[arg-type]
        assert (again.done, again.already_done) == (0, 12)


@pytest.mark.parametrize(("share", "each", "estimated"), [({"batch": 0.5}, 0.5, False), ({}, 1.0, True)])
def test_they_count_in_ledger_budgets_and_reports(
    late: Served, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, share: dict[str, float], each: float, estimated: bool
) -> None:
    """Once, though the run is stopped between an answer and the next one."""
    price = {"input": 0, "output": 0, "request": 1, "currency": "USD", **share}
    budget = {"amount": 100, "currency": "USD", "per": "day"}
    table = {
        "providers": tomllib.loads(late.entry("northbank"))["providers"],
        "models": {"later": {"provider": "northbank", "name": "quill-large", "price": price}},
        "ledger": {"store": str(tmp_path / "usage.sqlite")},
        "budgets": {"all": budget},
    }
    asking: Any = {"prompt": "From {note}", "out": tmp_path / "o.jsonl", "id_column": "id", "deferred": True}
    for name, value in late.environment.items():
        monkeypatch.setenv(name, value)
    with agouti.Client(table) as client:
        stopped: list[str] = []

        def full(*_: Any, **__: Any) -> None:
            stopped.append("once")
            raise KeyboardInterrupt

        with pytest.MonkeyPatch.context() as patch, pytest.raises(KeyboardInterrupt):
            patch.setattr(deferred.DeferredRun, "_forget", full)
            agouti.batch(client, "later", NOTES, tags={"shelf": "notes"}, **asking)
        batch = agouti.batch(client, "later", NOTES, tags={"shelf": "notes"}, **asking)
        costs = [row.cost for row in batch]
        assert costs == ([None] * 12 if estimated else [each] * 12)
    with agouti.Client(table) as client:
        usage = client.usage(by=["operation", "tag:shelf"])
        (row,) = [row for row in usage.rows if row.group["operation"] == "batch"]
        assert (row.calls, dict(row.cost), row.group["tag:shelf"]) == (12, {"USD": 12 * each}, "notes")
        (status,) = client.budgets()
        assert float(status.spent) == 12 * each
    assert stopped


@pytest.mark.parametrize("label", LABELS)
def test_killed_while_it_waits_it_is_fetched_by_the_next_run(late: Served, tmp_path: Path, label: str) -> None:
    (tmp_path / "rows.jsonl").write_text("".join(json.dumps(row) + "\n" for row in NOTES))
    (tmp_path / "agouti.toml").write_text(late.entry("northbank") + "\n" + late.entry("letterbox"))
    run = [sys.executable, "-m", "agouti", "batch", label, "rows.jsonl", "--prompt", "From {note}", "--id-column", "id", "--out", "o.jsonl", "--deferred", "-n", "20"]  # fmt: skip
    environment = {**os.environ, **late.environment}
    before = asked(late, label.partition("@")[2])
    process = subprocess.Popen(run, cwd=tmp_path, env=environment, stderr=subprocess.PIPE)
    for _ in range(500):
        if asked(late, label.partition("@")[2]) >= before + 3:
            break
        time.sleep(0.02)
    process.send_signal(signal.SIGKILL)
    process.communicate()
    done = subprocess.run(run, cwd=tmp_path, env=environment, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert "12 of 12 answered" in done.stderr
    assert sorted(row["key"] for row in rows_in(tmp_path / "o.jsonl")) == sorted(row["id"] for row in NOTES)


def test_second_interrupt_cancels_after_asking(tmp_path: Path) -> None:
    with serve(deferred=60) as slow:
        (tmp_path / "rows.jsonl").write_text("".join(json.dumps(row) + "\n" for row in NOTES))
        (tmp_path / "agouti.toml").write_text(slow.entry("northbank"))
        run = [sys.executable, "-m", "agouti", "batch", LABELS[0], "rows.jsonl", "--prompt", "From {note}", "--out", "o.jsonl", "--deferred"]  # fmt: skip
        process = subprocess.Popen(
            run, cwd=tmp_path, env={**os.environ, **slow.environment}, stderr=subprocess.PIPE, text=True,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
        )  # fmt: skip
        for _ in range(500):
            if asked(slow, "northbank") >= 3:
                break
            time.sleep(0.02)
        time.sleep(0.3)
        looking = [sys.executable, "-m", "agouti", "batch", LABELS[0], "--out", "o.jsonl", "--status"]
        far = subprocess.run(
            looking, cwd=tmp_path, env={**os.environ, **slow.environment}, capture_output=True, text=True, timeout=60
        )
        assert (far.returncode, far.stdout.splitlines()[1].split()[1:4]) == (0, ["waiting", "0", "12"]), far
        process.send_signal(signal.SIGINT)
        assert process.stderr is not None
        told = ""
        while "again" not in told:
            line = process.stderr.readline()
            assert line, told
            told += line
        time.sleep(0.3)
        process.send_signal(signal.SIGINT)
        told += process.communicate(timeout=60)[1]
        assert process.returncode == 130
        assert "cancelled" in told, told
        with agouti.Client(slow.config) as client:
            made = agouti.batch(client, LABELS[0], tmp_path / "rows.jsonl", prompt="From {note}", out=tmp_path / "o.jsonl", deferred=True, give_up_after=1)  # fmt: skip
            assert made.done + made.failed < 12  # what was cancelled is not there; the next run asks it


class Provider:
    """A provider of batches that behaves as it is told."""

    def __init__(self) -> None:
        self.begun: list[dict[str, Any]] = []
        self.fail_begin = 0
        self.lose_begin = 0
        self.fail_look = self.forgets = False
        self.status: dict[str, Any] = {"status": "completed", "output_file_id": "out", "error_file_id": "err"}
        self.out: bytes | list[dict[str, Any]] = b""  # results, in the order of the rows
        self.files: list[bytes] = []
        self.deleted: list[str] = []

    def __call__(self, connection: Connection, _: int) -> None:
        head, _, body = connection.request.partition(b"\r\n\r\n")
        method, path = head.split(b" ")[:2]
        if path.endswith(b"/files"):
            self.files.append(body)
            told: Any = {"id": f"file-{len(self.files)}"}
        elif path.endswith(b"/batches") and method == b"POST":
            if self.fail_begin:
                self.fail_begin -= 1
                connection.write(reply(b'{"error": {"message": "no batches for you"}}', "400 No"))
                return
            self.begun.append(json.loads(body))
            if self.lose_begin:
                self.lose_begin -= 1
                connection.sock.close()
                return
            told = self._batch(len(self.begun) - 1)
        elif path.endswith(b"/content"):
            if b"/file-" in path and self.forgets:
                connection.write(reply(b"{}", "404 None"))
                return
            if b"/file-" in path:
                file = self.files[int(path.split(b"file-")[1].partition(b"/")[0]) - 1]
                connection.write(reply(b"\n".join(each for each in file.splitlines() if each.startswith(b'{"custom'))))
                return
            number = path.partition(b"out-")[2].partition(b"/")[0]
            file = self.files[int(number or 0) - 1]
            out = lines_of(file, *self.out) if isinstance(self.out, list) else self.out
            connection.write(reply(out if b"out" in path else b""))
            return
        elif method == b"DELETE":
            self.deleted.append(path.rpartition(b"/")[2].decode())
            told = {"deleted": True}
        elif b"/batches?" in path:
            told = {"data": [self._batch(number) for number in range(len(self.begun))]}
        elif self.fail_look:
            connection.write(reply(b"{}", "503 Away"))
            return
        elif int(path.rpartition(b"-")[2]) >= len(self.begun):
            connection.write(reply(b"{}", "404 None"))
            return
        else:
            told = self._batch(int(path.rpartition(b"-")[2]))
        connection.write(reply(json.dumps(told).encode()))

    def _batch(self, number: int) -> dict[str, Any]:
        its = {"output_file_id": f"out-{number + 1}"} if "input_file_id" in self.status else {}
        return {"id": f"batch-{number}", "metadata": self.begun[number]["metadata"], **self.status, **its}


def lines_of(file: bytes, *results: Any) -> bytes:
    asked = [json.loads(line) for line in file.splitlines() if line.startswith(b'{"custom_id"')]
    made = []
    for each, result in zip(asked, results, strict=False):
        made.append({"custom_id": each["custom_id"], **result})
    return b"".join(json.dumps(line).encode() + b"\n" for line in made)


def good(text: str) -> dict[str, Any]:
    return {"response": {"status_code": 200, "body": {"choices": [{"message": {"content": text}, "finish_reason": "stop"}]}}}  # fmt: skip


def test_the_request_that_begins_a_batch_is_sent_once_and_noted_before(tmp_path: Path) -> None:
    """A busy provider may have begun it all the same; and what is handed over is on the disk before it goes."""
    provider = Provider()
    out = tmp_path / "o.jsonl"
    noted: list[int] = []
    begins: list[bytes] = []

    def behave(connection: Connection, number: int) -> None:
        if connection.request.startswith(b"POST") and b"/batches " in connection.request.split(b"\r\n")[0]:
            begins.append(connection.request)
            base = sqlite3.connect(tmp_path / ".o.jsonl.journal")
            tables = [name for (name,) in base.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
            noted.append(sum(base.execute(f"SELECT count(*) FROM {name}").fetchone()[0] for name in tables if "batch" in name or "hand" in name))  # fmt: skip
            base.close()
            connection.write(reply(b"{}", "503 Busy"))
        else:
            provider(connection, number)

    with serving(behave) as server, agouti.Client(config(server)) as client:
        with pytest.raises(agouti.Overloaded):
            agouti.batch(client, "a", ["one", "two"], out=out, deferred=True)
    assert (len(begins), len(provider.files)) == (1, 1)
    assert noted[0] > 0


def test_many_rows_go_as_several_batches_all_of_which_are_cancelled(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(FilesAndBatches, "most", 2)
    provider = Provider()
    provider.status = {"status": "in_progress"}
    cancelled: list[bytes] = []

    def behave(connection: Connection, number: int) -> None:
        path = connection.request.split(b" ")[1]
        if path.endswith(b"/cancel"):
            cancelled.append(path)
            connection.write(reply(json.dumps({"id": "batch-0", "status": "cancelling"}).encode()))
        else:
            provider(connection, number)

    with serving(behave) as server, agouti.Client(config(server)) as client:
        asking: Any = {"out": tmp_path / "o.jsonl", "deferred": True}
        with pytest.raises(ZeroDivisionError):  # we do not wait for it
            agouti.batch(client, "a", ["one", "two", "three", "four", "five"], progress=lambda _: 1 // 0, **asking)
        assert [len([line for line in file.splitlines() if line.startswith(b'{"custom_id"')]) for file in provider.files] == [2, 2, 1]  # fmt: skip
        agouti.batch(client, "a", ["one", "two", "three", "four", "five"], cancel_deferred=True, **asking)
    assert sorted(path.split(b"/")[-2] for path in cancelled) == [b"batch-0", b"batch-1", b"batch-2"]


def test_files_of_errors_are_fetched_and_rows_of_a_cancelled_batch_are_asked_again(tmp_path: Path) -> None:
    provider = Provider()
    provider.status = {"status": "cancelled", "output_file_id": "out", "error_file_id": "err"}
    refused = {"response": {"status_code": 400, "body": {"error": {"message": "no such words"}}}}

    def behave(connection: Connection, number: int) -> None:
        path = connection.request.split(b" ")[1]
        if path.endswith(b"/content"):
            lines = lines_of(provider.files[0], good("1"), refused).splitlines()
            connection.write(reply(lines[b"err" in path] + b"\n"))
        else:
            provider(connection, number)

    with serving(behave) as server, agouti.Client(config(server)) as client:
        asking: Any = {"out": tmp_path / "o.jsonl", "deferred": True}
        made = agouti.batch(client, "a", ["one", "two", "three"], **asking)
        assert (made.done, made.failed, made.left) == (1, 1, 1)
        assert "no such words" in made.failures[0][1]


def failing(provider: Provider, fails: Any) -> Any:
    """The provider, but for requests of which `fails` gives a status instead."""
    asked: Counter[str] = Counter()

    def behave(connection: Connection, number: int) -> None:
        method, path = connection.request.split(b" ")[:2]
        what = f"{method.decode()} {path.decode().removeprefix('/v1')}"
        asked[what] += 1
        status = fails(what, asked[what])
        if status is None:
            provider(connection, number)
        else:
            connection.write(reply(b'{"error": {"message": "no"}}', f"{status} No", "retry-after: 0"))

    return behave


def test_an_outage_while_it_looks_and_fetches_is_waited_out(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(deferred, "FIRST", 0.05)
    provider = Provider()
    provider.out = [good("1"), good("2")]
    fails = lambda what, times: 503 if what.startswith("GET") and times <= 2 else None  # noqa: E731
    with serving(failing(provider, fails)) as server, agouti.Client(config(server)) as client:
        made = agouti.batch(client, "a", ["one", "two"], out=tmp_path / "o.jsonl", deferred=True)
    assert (made.done, [row.answer for row in made]) == (2, ["1", "2"])
    assert set(provider.deleted) == {"out", "err"}  # nothing of the rows stays there


def test_a_full_queue_is_waited_for_and_what_is_there_is_fetched(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Providers bound how much may wait: the third batch goes once the first is done."""
    monkeypatch.setattr(FilesAndBatches, "most", 1)
    monkeypatch.setattr(deferred, "FIRST", 0.05)
    provider = Provider()
    provider.out = [good("ok")]
    fails = lambda what, times: 429 if what == "POST /batches" and times in (2, 3, 4) else None  # noqa: E731
    with serving(failing(provider, fails)) as server, agouti.Client(config(server)) as client:
        made = agouti.batch(client, "a", ["one", "two", "three"], out=tmp_path / "o.jsonl", deferred=True)
    assert len(provider.begun) == 3
    assert made.failed == 0


@pytest.mark.parametrize("what", ["GET /batches/batch-0", "GET /files/out/content"])
def test_a_batch_that_is_gone_is_said_and_handed_over_anew(tmp_path: Path, what: str) -> None:
    provider = Provider()
    provider.out = [good("1")]
    fails = lambda asked, times: 404 if asked == what and times == 1 else None  # noqa: E731
    with serving(failing(provider, fails)) as server, agouti.Client(config(server)) as client:
        asking: Any = {"out": tmp_path / "o.jsonl", "deferred": True}
        with pytest.raises(agouti.RequestError, match="knows nothing of the batch batch-0"):
            agouti.batch(client, "a", ["one"], **asking)
        assert agouti.batch(client, "a", ["one"], **asking).done == 1
    assert len(provider.begun) == 2


def test_cancelling_goes_through_all_batches(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(FilesAndBatches, "most", 1)
    provider = Provider()
    provider.status = {"status": "in_progress"}
    cancelled: list[str] = []

    def fails(what: str, times: int) -> int | None:
        if what.endswith("/cancel"):
            cancelled.append(what)
            return {"POST /batches/batch-0/cancel": 409, "POST /batches/batch-1/cancel": 500}.get(what)
        return None

    with serving(failing(provider, fails)) as server, agouti.Client(config(server)) as client:
        asking: Any = {"out": tmp_path / "o.jsonl", "deferred": True}
        with pytest.raises(ZeroDivisionError):
            agouti.batch(client, "a", ["one", "two", "three"], progress=lambda _: 1 // 0, **asking)
        with pytest.raises(agouti.ProviderFault):
            agouti.batch(client, "a", ["one", "two", "three"], cancel_deferred=True, **asking)
    assert set(cancelled) == {f"POST /batches/batch-{number}/cancel" for number in range(3)}


@pytest.mark.parametrize("text", ["--agouti", "agouti-rows", "--" + "x" * 70, "\r\n--"])
def test_rows_with_the_mark_that_parts_a_file_from_its_fields(text: str) -> None:
    for _ in range(2):
        outgoing = FilesAndBatches().upload([("r1", {"text": text})])
        assert outgoing is not None
        mark = dict(outgoing.headers)["content-type"].partition("boundary=")[2]
        assert (outgoing.raw or b"").count(mark.encode()) == 3
        text += mark  # now the row has it


def test_lost_reply_to_the_beginning_hands_nothing_over_twice(tmp_path: Path) -> None:
    provider = Provider()
    provider.lose_begin = 1
    with serving(provider) as server, agouti.Client(config(server, retries={"max": 0})) as client:
        asking: Any = {"out": tmp_path / "o.jsonl", "deferred": True}
        with pytest.raises(agouti.ConnectionLost):
            agouti.batch(client, "a", ["one", "two"], **asking)
        provider.out = lines_of(provider.files[0], good("1"), good("2"))
        made = agouti.batch(client, "a", ["one", "two"], **asking)
        assert (made.done, len(provider.begun)) == (2, 1)


def test_refused_and_failed_batches_are_handed_over_again(tmp_path: Path) -> None:
    provider = Provider()
    provider.fail_begin = 1
    with serving(provider) as server, agouti.Client(config(server)) as client:
        asking: Any = {"out": tmp_path / "o.jsonl", "deferred": True}
        with pytest.raises(agouti.RequestRefused, match="no batches for you"):
            agouti.batch(client, "a", ["one", "two", "three", "four"], **asking)
        provider.status = {"status": "failed", "errors": {"data": [{"message": "line 1 is odd"}]}}
        with pytest.raises(agouti.RequestError, match="line 1 is odd"):
            agouti.batch(client, "a", ["one", "two", "three", "four"], **asking)
        provider.status = {"status": "expired", "output_file_id": "out"}
        refused = {"response": {"status_code": 429, "body": {"error": {"message": "slow down"}}}}
        untried = {"response": None, "error": {"code": "batch_expired", "message": "too late"}}
        provider.out = [good("1"), refused, untried]
        made = agouti.batch(client, "a", ["one", "two", "three", "four"], **asking)
        assert (made.done, made.failed, made.left) == (1, 1, 2)
        assert "RateLimited" in made.failures[0][1]
        provider.out = b""
        provider.status = {"status": "completed", "output_file_id": "out"}
        before = len(provider.files)
        agouti.batch(client, "a", ["one", "two", "three", "four"], **asking)
        left = [line for line in provider.files[before].splitlines() if line.startswith(b'{"custom_id"')]
        assert len(left) == 2  # those of which nothing came


@pytest.mark.parametrize(
    ("label", "options", "words"),
    [
        ("narrow-3@canal", {}, "no deferred batches"),
        ("petal-embed@northbank", {"embed": True}, "not deferred"),
        ("quill-large@northbank", {"out": None}, "goes with out"),
    ],
)
def test_what_cannot_be_deferred_says_so(late: Served, tmp_path: Path, label: str, options: Any, words: str) -> None:
    asking = {"out": tmp_path / "o.jsonl", "deferred": True, **options}
    with agouti.Client(late.config) as client, pytest.raises(agouti.RequestError, match=words):
        agouti.batch(client, label, ["one"], **asking)
    with agouti.Client(late.config) as client, pytest.raises(agouti.RequestError, match="more than once"):
        agouti.batch(client, LABELS[0], iter(["one"]), out=tmp_path / "g.jsonl", deferred=True)
    assert not list(tmp_path.iterdir())


@pytest.mark.parametrize("body", [b"", b"[]", b"{}", b"nonsense", b'{"id": 7}', b'{"data": [7]}'])
def test_odd_words_about_batches_are_unreadable_and_nothing_worse(body: bytes) -> None:
    for batches in (FilesAndBatches(), MessageBatches()):
        for read in (batches.read, batches.read_file):
            with pytest.raises(agouti.ReplyUnreadable):
                read(body)
        for lenient in (batches.read_list, lambda data, each=batches: list(each.read_results(data))):
            with suppress(agouti.ReplyUnreadable):
                lenient(body)


def test_batch_without_a_mark_is_found_by_its_time_and_its_results(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    begun: list[dict[str, Any]] = []
    looks: list[str] = []
    monkeypatch.setattr(deferred, "FIRST", 0.05)
    old = {"id": "b-old", "processing_status": "ended", "request_counts": {"succeeded": 2}, "created_at": "2026-01-01T00:00:00Z"}  # fmt: skip

    def behave(connection: Connection, _: int) -> None:
        head, _, body = connection.request.partition(b"\r\n\r\n")
        if head.startswith(b"POST"):
            begun.append(json.loads(body))
            connection.sock.close()
        elif b"?" in head.split(b" ")[1]:
            now = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
            looks.append(now)  # it is under way at the first look: whose it is, its results will tell
            state = {"processing_status": "in_progress" if len(looks) == 1 else "ended"}
            mine = [{**old, **state, "id": "b-new", "created_at": now}] if begun else []
            connection.write(reply(json.dumps({"data": [old, *mine]}).encode()))
        elif b"results" in head:
            lines = [{"custom_id": each["custom_id"], "result": {"type": "succeeded", "message": {"content": [{"type": "text", "text": "x"}], "stop_reason": "end_turn"}}} for each in begun[0]["requests"]]  # fmt: skip
            connection.write(reply("\n".join(map(json.dumps, lines)).encode()))
        else:
            address = f"http://{head.split(b'ost: ')[1].split()[0].decode()}/v1/results"
            connection.write(reply(json.dumps({**old, "id": "b-new", "results_url": address}).encode()))

    with serving(behave) as server, agouti.Client(config(server, dialect="messages")) as client:
        asking: Any = {"out": tmp_path / "o.jsonl", "deferred": True}
        with pytest.raises(agouti.ConnectionLost):
            agouti.batch(client, "a", ["one", "two"], **asking)
        made = agouti.batch(client, "a", ["one", "two"], **asking)
        assert (made.done, len(begun), len(looks)) == (2, 1, 2)


@pytest.mark.parametrize("wanted", ["sync", "async"])
def test_how_far_batches_are_is_said_while_a_run_waits_and_after_its_kill(
    wanted: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(FilesAndBatches, "most", 2)
    folder = tmp_path / "a#b %41?"  # what an address would take for something else
    folder.mkdir()
    out = folder / "o.jsonl"
    provider = Provider()
    provider.status = {"status": "in_progress", "request_counts": {"total": 2, "completed": 1, "failed": 0}}
    stands: dict[str, Any] = {}

    def behave(connection: Connection, number: int) -> None:
        name = connection.request.split(b" ")[1].rpartition(b"/")[2].decode()
        code, said = stands.get(name, (200, {}))
        if connection.request.startswith(b"GET") and name in stands:
            connection.write(reply(json.dumps({"id": name, **said}).encode(), f"{code} Said"))
        else:
            provider(connection, number)

    def status() -> list[agouti.DeferredBatch]:
        if wanted == "sync":
            return agouti.batch_status(client, "a", out)

        async def go() -> list[agouti.DeferredBatch]:
            async with agouti.AsyncClient(config(server)) as other:
                return await agouti.batch_status(other, "a", out)

        return asyncio.run(go())

    seen: list[list[agouti.DeferredBatch]] = []

    def leave(_: Any) -> None:
        seen.append(status())  # the run is under way
        raise ZeroDivisionError

    with serving(behave) as server, agouti.Client(config(server)) as client:
        with pytest.raises(agouti.RequestError, match="no run has written"):
            status()
        with pytest.raises(ZeroDivisionError):
            agouti.batch(client, "a", ["one", "two", "three"], out=out, deferred=True, progress=leave)
        assert [(each.name, each.state, each.done, each.total) for each in seen[0]] == [
            ("batch-0", "waiting", 1, 2), ("batch-1", "waiting", 1, 1),
        ]  # fmt: skip
        stands["batch-0"] = (404, {"error": {"message": "never heard of it"}})
        stands["batch-1"] = (200, {"status": "failed", "errors": {"data": [{"message": "no such field"}]}})
        after = status()
    assert [(each.name, each.state) for each in after] == [("batch-0", "gone"), ("batch-1", "failed")]
    assert "no such field" in after[1].why
    assert abs(after[0].since - time.time()) < 300
    assert len(provider.begun) == 2  # nothing was handed over, fetched or forgotten by looking


def test_a_batch_whose_journal_is_lost_is_taken_over(tmp_path: Path) -> None:
    """Its answers are found by the keys of the rows, and by what they were asked where the provider tells that."""
    provider = Provider()
    provider.status["input_file_id"] = "file-1"
    rows = [{"id": name, "note": f"{name} is up"} for name in ("pea", "kale", "bean")]
    with serving(provider) as server, agouti.Client(config(server, retries={"max": 0})) as client:
        asking: Any = {"prompt": "{note}", "id_column": "id", "deferred": True}
        provider.out = [good("1"), good("2"), good("3")]
        provider.status["status"] = "in_progress"
        patient = {**asking, "give_up_after": 0.0}
        provider.fail_look = True
        with pytest.raises(agouti.AgoutiError):
            agouti.batch(client, "a", rows, out=tmp_path / "lost.jsonl", **patient)
        provider.fail_look, provider.status["status"] = False, "completed"
        for file in tmp_path.iterdir():
            file.unlink()
        changed = [*rows[:2], {"id": "bean", "note": "bean is eaten"}, {"id": "leek", "note": "leek is up"}]
        with pytest.raises(agouti.RequestError, match="answers to other rows"):
            agouti.batch(
                client, "a", [{"id": "x", "note": "y"}], out=tmp_path / "x.jsonl", take_over="batch-0", **asking
            )
        assert len(provider.begun) == 1

        def handed_over() -> list[str]:
            return [json.loads(line)["body"]["messages"][0]["content"] for line in provider.files[-1].splitlines() if line.startswith(b'{"custom')]  # fmt: skip

        made = agouti.batch(client, "a", changed, out=tmp_path / "o.jsonl", take_over="batch-0", **asking)
        assert handed_over() == ["bean is eaten", "leek is up"]  # and nothing that is answered
        assert made.done == 4
        assert {row.key: row.answer for row in made} == {"pea": "1", "kale": "2", "bean": "1", "leek": "2"}
        again = agouti.batch(client, "a", changed, out=tmp_path / "o.jsonl", **asking)
        assert (again.done, again.already_done) == (0, 4)
        provider.forgets = True  # what was asked is there no more: the keys are proof enough
        made = agouti.batch(client, "a", rows[:2], out=tmp_path / "f.jsonl", take_over="batch-0", **asking)
        assert (made.done, len(provider.begun)) == (2, 2)
        assert "batch-0 does not say what was asked" in made.warnings[0]  # and that is said
        for wrong, words in (
            (["batch 7"], "no name of a batch"),
            ([7], "no name"),
            ("batch-9", "p knows no batch batch-9"),
        ):
            with pytest.raises(agouti.AgoutiError, match=words):
                agouti.batch(client, "a", rows, out=tmp_path / "w.jsonl", take_over=wrong, **asking)
        with pytest.raises(agouti.RequestError, match="goes with deferred"):
            agouti.batch(client, "a", rows, out=tmp_path / "w.jsonl", take_over="batch-0")


def test_the_command_takes_over_where_nothing_is_told_of_what_was_asked(tmp_path: Path) -> None:
    """Format `messages` tells answers alone: the keys are proof enough, as they are for what was noted."""
    with serve(deferred=0.2) as late:
        (tmp_path / "rows.jsonl").write_text("".join(json.dumps(row) + "\n" for row in NOTES))
        (tmp_path / "agouti.toml").write_text(late.entry("letterbox"))
        run = [sys.executable, "-m", "agouti", "batch", LABELS[1], "rows.jsonl", "--prompt", "From {note}", "--id-column", "id", "--out", "o.jsonl", "--deferred", "-n", "20"]  # fmt: skip
        environment = {**os.environ, **late.environment}
        process = subprocess.Popen(run, cwd=tmp_path, env=environment, stderr=subprocess.PIPE)
        for _ in range(500):
            if asked(late, "letterbox") >= 2:
                break
            time.sleep(0.02)
        process.kill()
        process.communicate()
        name = json.loads(
            subprocess.run(
                [*run[:5], "--out", "o.jsonl", "--status", "--json"], cwd=tmp_path, env=environment, capture_output=True
            ).stdout
        )[0]["name"]
        for file in tmp_path.glob("*o.jsonl*"):
            file.unlink()
        before = asked(late, "letterbox")
        done = subprocess.run(
            [*run, "--take-over", name], cwd=tmp_path, env=environment, capture_output=True, text=True
        )
        assert "12 of 12 answered" in done.stderr, done.stderr
        assert asked(late, "letterbox") - before < 8  # looks and results, and nothing handed over
