"""Comparisons: several models, the same prompts; checks, spread, figures, pages, runs that are gone on with."""

import asyncio
import csv
import json
import threading
import time
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.services.compare.journal import Journal
from agouti.services.compare.page import marked
from agouti.standins import Served, serve
from agouti.standins.quotas import Quota
from agouti.tables.statistics import mean, rate, similarity, spread
from agouti.testing import FakeTransport

from .dialects.samples import data
from .hostile.kit import END, STREAM, Connection, chunked, config, piece, reply, serving

LABELS = ["almanac", "almanac-local"]
PEAS = "When do peas go in?"


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_rows_summary_and_checks(served: Served, kind: str) -> None:
    prompts = [PEAS, "When does garlic go in?"]
    options: dict[str, Any] = {
        "repeats": 2,
        "parameters": [{"temperature": 0}, {"temperature": 0.9, "max_tokens": 5}],
        "contains": ["March", "October"],
        "expect": ["peas", "garlic"],
        "pattern": r"\bgo(es)? in\b",
        "form": {"type": "object"},
        "judge": "almanac",
        "judge_repeats": 2,
        "similarity": "finder",
    }
    if kind == "sync":
        with agouti.Client(served.config) as client:
            result = agouti.compare(client, LABELS, prompts, check=lambda reply: len(reply.text) / 1000, **options)
    else:

        async def go() -> agouti.Comparison:
            async def check(reply: agouti.Reply) -> float:
                return len(reply.text) / 1000

            async with agouti.AsyncClient(served.config) as client:
                return await agouti.compare(client, LABELS, prompts, check=check, **options)

        result = asyncio.run(go())
    assert [(row.label, row.parameters["temperature"], row.prompt, row.repeat) for row in result] == [
        (label, warmth, prompt, repeat)
        for label in LABELS
        for warmth in (0, 0.9)
        for prompt in (0, 1)
        for repeat in (0, 1)
    ]
    first, cut = result[0], result[4]
    assert first.checks["contains"] == first.checks["pattern"] == 1
    assert (first.checks["expect"], first.checks["form"]) == (0, 0)
    assert first.checks["check"] == len(first.text) / 1000
    assert (cut.finish_reason, cut.output_tokens, first.name, first.question) == ("length", 5, "quill-large", PEAS)
    assert 0 <= first.checks["judge"] <= 1
    assert (first.judge_spread, bool(first.reason), first.judge_currency) == (0, True, "USD")
    assert first.first_token is not None
    assert first.seconds is not None
    assert first.first_token <= first.seconds
    assert [row.error for row in result] == [None] * 16
    [hosted, _, local, _] = result.summary
    assert (hosted.answers, hosted.errors, hosted.distinct) == (4, 0, 0.5)
    assert hosted.similarity == pytest.approx(1)
    assert hosted.checks["contains"] == rate(2, 2)  # two prompts, however often each is asked
    assert (local.cost, local.currency) == (None, None)
    assert list(result.cost) == ["USD"]
    assert result.cost["USD"] == pytest.approx(sum((row.cost or 0) + (row.judge_cost or 0) for row in result))
    assert [remark.partition(":")[0] for remark in result.warnings[1:]] == ["expect", "form"]


# Two-sided 95 % quantiles of Student's distribution, as any table has them.
STUDENT = {2: 12.706, 3: 4.303, 4: 3.182, 5: 2.776, 6: 2.571, 8: 2.365, 10: 2.262, 12: 2.201, 15: 2.145, 16: 2.131, 17: 2.120, 21: 2.086, 31: 2.042, 61: 2.000}  # fmt: skip


@pytest.mark.parametrize("count", STUDENT)
def test_means_have_students_intervals(count: int) -> None:
    values = [float(number) for number in range(count)]
    deviation = (sum((each - (count - 1) / 2) ** 2 for each in values) / (count - 1)) ** 0.5
    found = mean(values)
    assert found is not None
    assert found.high is not None
    assert (found.high - found.value) * count**0.5 / deviation == pytest.approx(STUDENT[count], abs=0.0007)


@pytest.mark.parametrize(
    ("text", "finish", "check", "wanted", "passed"),
    [
        ("Peas", "stop", "expect", "peas.", 1),
        ('"Peas!"', "stop", "expect", "peas", 1),
        ("Peas and kale", "stop", "expect", "peas", 0),
        (
            '{"a": 1}',
            "stop",
            "form",
            {"type": "object", "properties": {"a": {"type": "integer"}}, "required": ["a"]},
            1,
        ),
        (
            '{"a": 1',
            "length",
            "form",
            {"type": "object", "properties": {"a": {"type": "integer"}}, "required": ["a"]},
            0,
        ),
        (
            "{'a': 1}",
            "stop",
            "form",
            {"type": "object", "properties": {"a": {"type": "integer"}}, "required": ["a"]},
            0,
        ),
        (
            '{"b": 1}',
            "stop",
            "form",
            {"type": "object", "properties": {"a": {"type": "integer"}}, "required": ["a"]},
            0,
        ),
    ],
)
def test_what_passes_a_check(text: str, finish: str, check: str, wanted: Any, passed: float) -> None:
    fake = FakeTransport([{"choices": [{"message": {"content": text}, "finish_reason": finish}]}])
    with agouti.Client.at("https://p.example/v1", transport=fake) as client:
        [row] = agouti.compare(client, ["m"], PEAS, **{check: wanted})
    assert row.checks == {check: passed}


def test_models_are_asked_in_turn_and_their_pace_is_of_the_writing() -> None:
    """A slow hour of a provider is everybody's; tokens a second count from the first piece on."""
    asked: list[str] = []

    def behave(connection: Connection, _: int) -> None:
        body = json.loads(connection.request.partition(b"\r\n\r\n")[2])
        asked.append(body["model"])
        time.sleep(0.15)
        connection.write(STREAM + piece("a "))
        time.sleep(0.1)
        told = b'data: {"choices": [], "usage": {"prompt_tokens": 3, "completion_tokens": 100}}\n\n'
        connection.write(piece("b", "stop") + chunked(told) + END)

    with serving(behave) as server, agouti.Client(config(server)) as client:
        result = agouti.compare(client, ["one@p", "two@p", "three@p"], [PEAS, "Kale?"], concurrency=1)
    assert [sorted(asked[at : at + 3]) for at in (0, 3)] == [["one", "three", "two"]] * 2
    for row in result:
        assert row.first_token is not None
        assert row.seconds is not None
        assert row.first_token >= 0.15
        assert row.tokens_per_second == pytest.approx(100 / (row.seconds - row.first_token), rel=0.01)


WRONG: list[tuple[dict[str, Any], str]] = [
    ({"labels": ["almanac", "almanac"]}, "label 'almanac' is there twice"),
    ({"labels": []}, "no model"),
    ({"labels": ["almanak"]}, "no model 'almanak'"),
    ({"prompts": []}, "no prompts"),
    ({"prompts": [""]}, "prompt is empty"),
    ({"repeats": 0}, "repeats = 0"),
    ({"repeat": 2}, "compare has no option 'repeat'"),
    ({"concurrency": 0}, "concurrency = 0"),
    ({"parameters": []}, "parameters is an empty list"),
    ({"parameters": [{"temprature": 1}]}, "temprature"),
    ({"parameters": [{"temperature": "hot"}]}, "temperature"),
    ({"contains": ""}, "a text of contains is empty"),
    ({"contains": ["a", "b"]}, "2 texts for 1 prompts"),
    ({"expect": 3}, "expect is neither"),
    ({"pattern": "("}, "cannot be read"),
    ({"form": object()}, "form"),
    ({"check": 3}, "check cannot be a int"),
    ({"judge": "nobody"}, "no model 'nobody'"),
    ({"judge": "almanac", "judge_question": " "}, "judge_question is empty"),
    ({"similarity": "nobody"}, "no model 'nobody'"),
    ({"labels": ["blind"], "images": [b"\x89PNG\r\n\x1a\n"]}, "blind takes no images"),
    ({"checkpoint": "nowhere/k.jsonl"}, "cannot be written"),
]


@pytest.mark.parametrize(("options", "what"), WRONG, ids=[what for _, what in WRONG])
def test_what_is_wrong_is_said_before_anything_is_sent(options: dict[str, Any], what: str) -> None:
    models = {"almanac": {"provider": "shed", "name": "loam-2b"}, "blind": {"extends": "almanac", "inputs": ["text"]}}
    fake = FakeTransport([])
    with agouti.Client(
        {"providers": {"shed": {"address": "http://localhost:8080/v1"}}, "models": models}, transport=fake
    ) as client:
        given = {"labels": ["almanac"], "prompts": [PEAS], **options}
        with pytest.raises(agouti.AgoutiError) as caught:
            agouti.compare(client, **given)
    assert what in caught.value.message
    assert caught.value.hint
    assert fake.requests == []


def test_failures_are_rows_and_what_holds_for_all_ends_a_model_at_once() -> None:
    def two(connection: Connection, _: int) -> None:
        asked = json.loads(connection.request.partition(b"\r\n\r\n")[2])
        if asked["model"] == "shut":
            connection.write(reply(b"{}", "401 Unauthorized"))
        elif "Beans" in str(asked["messages"]):
            connection.write(reply(b"{}", "400 Bad"))
        else:
            connection.write(STREAM + piece("x", "stop") + END)

    with serving(two) as server, agouti.Client(config(server, retries={"max": 0})) as client:
        provider = next(iter(client.config.providers))
        labels = [f"shut@{provider}", f"open@{provider}"]
        result = agouti.compare(client, labels, [PEAS, "Beans?"], repeats=2, concurrency=1, contains="x")
    errors = [(row.error or "")[:12] for row in result]
    assert errors[:4].count("CredentialRe") == 1
    assert errors[:4].count("not asked: w") == 3
    assert errors[4:] == ["", "", "RequestRefus", "RequestRefus"]
    assert [row.checks.get("contains") for row in result][4:] == [1, 1, None, None]


def test_a_run_that_was_stopped_is_gone_on_with(tmp_path: Path, served: Served) -> None:
    keep = tmp_path / "k.jsonl"
    asked: list[str] = []

    class Counting(agouti.Hook):
        def before(self, attempt: agouti.AttemptDetails) -> None:
            asked.append(attempt.model)

    def stop(done: int, total: int, cost: dict[str, float]) -> None:
        if done == 3:
            raise KeyboardInterrupt

    with agouti.Client(served.config, hooks=[Counting()]) as client:
        with pytest.raises(KeyboardInterrupt):
            agouti.compare(client, LABELS, [PEAS, "Kale?"], repeats=2, concurrency=1, checkpoint=keep, progress=stop)
        had = len(keep.read_text().splitlines())
        assert had >= 3
        with keep.open("ab") as file:
            file.write(b'{"key": "torn')
        before = len(asked)
        result = agouti.compare(client, LABELS, [PEAS, "Kale?"], repeats=2, checkpoint=keep, contains="peas")
        assert len(asked) - before == 8 - had
        assert {row.checks["contains"] for row in result if row.prompt == 0} == {1.0}  # of those that were kept, too
        # Another system text is another question.
        agouti.compare(client, LABELS, [PEAS], checkpoint=keep, system="Brief.")
        assert len(asked) - before == 8 - had + 2
        # Two runs at once exclude each other.
        busy = threading.Event()

        def wait(done: int, total: int, cost: dict[str, float]) -> None:
            busy.set()
            time.sleep(0.3)

        thread = threading.Thread(
            target=lambda: agouti.compare(client, LABELS[:1], ["Leeks?"], checkpoint=keep, progress=wait)
        )
        thread.start()
        assert busy.wait(10)
        with pytest.raises(agouti.RequestError, match="another run"):
            agouti.compare(client, LABELS, [PEAS], checkpoint=keep)
        thread.join()


def test_no_other_model_takes_over() -> None:
    models = {"a": {"provider": "p", "name": "m", "fallback": ["b"]}, "b": {"provider": "q", "name": "n"}}
    providers = {name: {"address": f"https://{name}.example/v1", "retries": {"max": 0}} for name in "pq"}
    fake = FakeTransport([HttpReply(500, {}, b"{}")])
    with agouti.Client({"providers": providers, "models": models}, transport=fake) as client:
        [row] = agouti.compare(client, ["a"], PEAS)
    assert (row.error or "").startswith("ProviderFault")
    assert len(fake.requests) == 1


def test_vectors_that_cannot_be_had_lose_no_answer(served: Served) -> None:
    with agouti.Client(served.config) as client:
        result = agouti.compare(client, LABELS, PEAS, repeats=2, similarity="petal-embed+status=500@northbank")
        nothing = agouti.compare(client, ["gone@shed"], PEAS)
    assert (len(result), result.summary[0].similarity) == (4, 1.0)
    assert "no vectors" in result.warnings[0]
    for kind in ("time_cost", "spread"):
        assert nothing.figure(kind).axes  # type: ignore[arg-type]


def test_the_same_prompt_twice_is_asked_twice_and_stands_twice(tmp_path: Path) -> None:
    answers = [[data({"choices": [{"delta": {"content": text}, "finish_reason": "stop"}]})] for text in "abcd"]
    fake = FakeTransport(answers)
    with agouti.Client.at("https://nb.example/v1", transport=fake) as client:
        keep = tmp_path / "k.jsonl"
        result = agouti.compare(client, ["m"], ["Peas?", "Beans?", "Peas?", "Peas?"], concurrency=1, checkpoint=keep)
        again = agouti.compare(client, ["m"], ["Beans?", "Peas?", "Peas?", "Peas?"], checkpoint=keep)
    assert [(row.prompt, row.question, row.text) for row in result] == [
        (0, "Peas?", "a"), (1, "Beans?", "b"), (2, "Peas?", "c"), (3, "Peas?", "d")
    ]  # fmt: skip
    # In another order nothing is asked again, and every answer stands at its question.
    assert [(row.prompt, row.question, row.text) for row in again] == [
        (0, "Beans?", "b"), (1, "Peas?", "a"), (2, "Peas?", "c"), (3, "Peas?", "d")
    ]  # fmt: skip


def test_answers_are_kept_before_they_are_judged_and_verdicts_are_paid_once(served: Served, tmp_path: Path) -> None:
    asked: list[str] = []

    class Counting(agouti.Hook):
        def before(self, attempt: agouti.AttemptDetails) -> None:
            asked.append(attempt.label)
            if attempt.label == "almanac" and len(asked) < 4:
                raise KeyboardInterrupt

    keep = tmp_path / "k.jsonl"
    with agouti.Client(served.config, hooks=[Counting()]) as client:
        with pytest.raises(KeyboardInterrupt):
            agouti.compare(client, ["almanac-local"], [PEAS], judge="almanac", checkpoint=keep)
        assert asked == ["almanac-local", "almanac"]
        asked += ["-", "-"]
        for _ in range(2):
            [row] = agouti.compare(client, ["almanac-local"], [PEAS], judge="almanac", checkpoint=keep)
            assert row.checks["judge"] >= 0
    assert asked[4:] == ["almanac"]


def test_a_judge_whose_key_is_refused_is_asked_once() -> None:
    with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        labels = ["almanac-local", "loam-7b@shed"]
        result = agouti.compare(client, labels, [PEAS] * 4, concurrency=1, judge="quill-large+status=401@northbank")
        assert all(row.judge_error is not None and "judge" not in row.checks for row in result)
        assert result.warnings[-1].startswith("judge: no verdict on 8 of 8 answers")
        assert served.books.requests["northbank", 401] == 1


@pytest.mark.parametrize("text", ["Dear Bo,\nthe beans", "Dear Bo", '{"role": "user"}\n', "\xff\n"])
def test_files_that_are_no_journal_lose_nothing(tmp_path: Path, text: str) -> None:
    (tmp_path / "letter").write_text(text, encoding="latin-1")
    with agouti.Client.at("https://nb.example/v1", transport=(fake := FakeTransport([]))) as client:
        with pytest.raises(agouti.RequestError, match="holds something else"):
            agouti.compare(client, ["m"], ["Peas?"], checkpoint=tmp_path / "letter")
    assert (fake.requests, (tmp_path / "letter").read_text(encoding="latin-1")) == ([], text)


def test_a_full_disk_stops_no_comparison(served: Served, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(self: Journal, row: Any) -> None:
        raise agouti.RequestError(f"{self.path} cannot be written (no space)")

    monkeypatch.setattr(Journal, "add", full)
    with agouti.Client(served.config) as client:
        result = agouti.compare(client, LABELS, PEAS, repeats=2, checkpoint=tmp_path / "k")
    assert [row.error for row in result] == [None] * 4
    assert [remark for remark in result.warnings if "could be kept" in remark] == [result.warnings[0]]


def test_columns_of_several_kinds_are_texts(tmp_path: Path) -> None:
    import pandas

    with agouti.Client.at("https://nb.example/v1", transport=FakeTransport([HttpReply(500, {}, b"{}")] * 9)) as client:
        sets: list[dict[str, Any]] = [{"seed": 2**70}, {"stop": ["a", "b"]}, {"stop": "a"}]
        agouti.compare(client, ["m"], "Peas?", parameters=sets, retries={"max": 0}).save(tmp_path / "r.parquet")
    frame = pandas.read_parquet(tmp_path / "r.parquet")
    assert sorted(frame["parameter_stop"].dropna()) == ['["a", "b"]', "a"]
    assert str(2**70) in list(frame["parameter_seed"])


class Page(HTMLParser):
    """What a browser would fetch, and whether every element is closed."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.open: list[str] = []
        self.fetched: list[str] = []
        self.text: list[str] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attributes: list[tuple[str, str | None]]) -> None:
        if tag not in ("meta", "link", "br"):
            self.open.append(tag)
        self.fetched += [str(value) for name, value in attributes if name in ("src", "href")]

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        self.text.append(data)


NASTY = '</section><script>alert("x")</script>\x1b[2J\u202e & "peas"'


def test_results_as_files_pages_and_figures(tmp_path: Path) -> None:
    pieces = [data({"choices": [{"delta": {"content": NASTY}, "finish_reason": "stop"}]}), b"data: [DONE]\n\n"]
    fake = FakeTransport([pieces] * 3 + [HttpReply(400, {}, NASTY.encode())])
    with agouti.Client.at("https://api.northbank.example/v1", transport=fake) as client:
        result = agouti.compare(client, ["a", "b"], f"Peas? {NASTY}", repeats=2, concurrency=1, pattern="peas")
    for name in ("r.csv", "r.jsonl", "r.parquet", "r.html", "r.png"):
        result.save(tmp_path / name)
    rows = list(csv.DictReader((tmp_path / "r.csv").read_text().splitlines(keepends=True)))
    assert [row["text"] for row in rows[:3]] == [NASTY] * 3
    assert (rows[0]["check_pattern"], len(rows)) == ("1.0", 4)
    assert json.loads((tmp_path / "r.jsonl").read_text().splitlines()[0])["text"] == NASTY
    page = Page((tmp_path / "r.html").read_text())
    assert (page.open, page.fetched) == ([], ["data:,"])
    assert sum("alert(" in text for text in page.text) >= 4  # as words
    assert "\x1b" not in "".join(page.text)
    assert (tmp_path / "r.png").read_bytes()[:4] == b"\x89PNG"
    assert len(result.frame()) == 4
    for kind in ("time_cost", "spread"):
        assert result.figure(kind).axes[0].get_title()  # type: ignore[arg-type]
    for wrong in ("r.txt", "nowhere/r.csv"):
        with pytest.raises(agouti.RequestError):
            result.save(tmp_path / wrong)
    with pytest.raises(agouti.RequestError, match="time_cost"):
        result.figure("pie")  # type: ignore[arg-type]


_WORDS = st.lists(st.sampled_from(["peas", "<b>", "in", "&", "March"]), max_size=8).map(" ".join)


@given(_WORDS, _WORDS)
def test_marks_change_no_word(one: str, other: str) -> None:
    page = Page(marked(one, [other]))
    assert "".join(page.text) == one
    assert (one == other) <= ("<mark>" not in marked(one, [other]))
    assert 0 <= similarity(one, other) <= 1


@given(st.lists(st.floats(-1e6, 1e6), min_size=2, max_size=40), st.integers(1, 60))
def test_intervals_hold_the_mean(values: list[float], count: int) -> None:
    estimate = mean(values)
    assert estimate is not None
    assert estimate.low is not None
    assert estimate.high is not None
    assert estimate.low - 1e-3 <= estimate.value <= estimate.high + 1e-3
    share = rate(count // 2, count)
    assert share is not None
    assert 0 <= (share.low or 0) <= share.value <= (share.high or 0) <= 1
    assert spread(["a b"] * count) == (1.0 if count > 1 else None)
    assert (mean([]), rate(0, 0), mean([2.0])) == (None, None, mean([2.0]))


def test_load_is_spread_and_no_provider_gets_more_than_it_may() -> None:
    quotas = {"northbank": Quota(at_once=3), "shed": Quota(at_once=3)}
    labels = ["almanac", "almanac-local", "quill-small@northbank", "loam-7b@shed"]
    order: list[str] = []

    class Order(agouti.Hook):
        def before(self, attempt: agouti.AttemptDetails) -> None:
            order.append(attempt.label)

    with serve(pace=0.005, quotas=quotas) as served, agouti.Client(served.config, hooks=[Order()]) as client:
        result = agouti.compare(client, labels, [f"{PEAS} {n}" for n in range(6)], concurrency=2, max_tokens=6)
        assert not any(status == 429 for _, status in served.books.requests)
    assert [row.error for row in result] == [None] * 24
    assert set(order[:8]) == set(labels)  # nobody waits for another model's end
