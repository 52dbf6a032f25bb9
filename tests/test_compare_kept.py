"""What a comparison keeps, finds again and times: by what was really sent, to whom, and what came."""

import json
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import agouti

from .hostile.kit import Connection, RawServer, reply, serving

TOOL = {"type": "function", "function": {"name": "frost", "parameters": {"type": "object"}}}
CHOICE = {
    "message": {
        "content": "In March.",
        "reasoning_content": "Hm",
        "tool_calls": [{"id": "c1", "type": "function", "function": {"name": "frost", "arguments": "{}"}}],
    },
    "finish_reason": "tool_calls",
}
USAGE = {"prompt_tokens": 9, "completion_tokens": 4, "prompt_tokens_details": {"cached_tokens": 3}}


def judged_or_answered(connection: Connection, number: int) -> None:
    """Answers questions, and scores answers with 1 for the model ``j1`` and 9 for others."""
    body = json.loads(connection.request.partition(b"\r\n\r\n")[2])
    if body["model"].startswith("j"):
        score = {"reason": "so", "score": 1 if body["model"] == "j1" else 9}
        choice: dict[str, Any] = {"message": {"content": json.dumps(score)}, "finish_reason": "stop"}
    else:
        choice = CHOICE
    connection.write(reply(json.dumps({"choices": [choice], "usage": USAGE}).encode()))


def entries(server: RawServer, **entry: Any) -> dict[str, Any]:
    price = {"input": 1.0, "output": 1.0, "currency": "USD"}
    models = {name: {"provider": "p", "name": name, "price": price} for name in ("m", "j1", "j2")}
    return {"providers": {"p": {"address": server.address, **entry}}, "models": models}


def named(server: RawServer, name: str) -> int:
    return sum(f'"model":"{name}"'.encode() in each.replace(b" ", b"") for each in server.requests)


def test_a_verdict_belongs_to_its_judge_its_question_and_how_often_it_was_asked(tmp_path: Path) -> None:
    keep = tmp_path / "k.jsonl"
    with serving(judged_or_answered) as server, agouti.Client(entries(server)) as client:

        def compared(**options: Any) -> agouti.ComparedAnswer:
            [row] = agouti.compare(client, ["m"], "Peas?", checkpoint=keep, **options)
            return row

        assert compared(judge="j1").checks["judge"] == 0.1
        assert compared(judge="j2").checks["judge"] == 0.9
        assert (named(server, "j1"), named(server, "j2")) == (1, 1)
        compared(judge="j2", judge_question="Is it funny?")
        assert named(server, "j2") == 2
        assert compared(judge="j2", judge_question="Is it funny?", judge_repeats=3).judge_spread == 0
        assert named(server, "j2") == 5
        assert compared(judge="j2", judge_question="Is it funny?", judge_repeats=3).checks["judge"] == 0.9
        plain = compared()
        assert (named(server, "j2"), named(server, "m")) == (5, 1)
        assert (plain.checks, plain.reason, plain.judge_cost) == ({}, None, None)


@pytest.mark.parametrize(
    ("entry", "options"),
    [
        ({"add": {"top_k": 3}}, {}),
        ({"headers": {"x-shelf": "north"}}, {}),
        ({"address": "another server"}, {}),
        ({"drop": ["temperature"]}, {}),
        ({}, {"extra": {"shelf": 2}}),
    ],
)
def test_an_answer_belongs_to_all_that_was_sent(tmp_path: Path, entry: dict[str, Any], options: dict[str, Any]) -> None:
    keep, base = tmp_path / "k.jsonl", {"temperature": 0.5}
    with serving(judged_or_answered) as server, serving(judged_or_answered) as other:
        if "address" in entry:
            entry["address"] = other.address
        for asked, (more, asking) in enumerate([({}, base), (entry, {**base, **options})], 1):
            for _ in range(2):
                with agouti.Client(entries(server, **more)) as client:
                    agouti.compare(client, ["m"], "Peas?", checkpoint=keep, **asking)
                assert len(server.requests) + len(other.requests) == asked


@pytest.mark.parametrize(
    "check",
    [
        lambda reply: bool(reply.calls),
        lambda reply: reply.cost is not None and reply.cost > 0,
        lambda reply: reply.reasoning == "Hm",
        lambda reply: reply.usage.cached_tokens == 3,
        lambda reply: reply.finish_reason == "tool_calls",
    ],
)
def test_a_check_says_the_same_of_an_answer_that_was_kept(
    tmp_path: Path, check: Callable[[agouti.Reply], bool]
) -> None:
    options: Any = {"tools": [TOOL], "check": check, "checkpoint": tmp_path / "k.jsonl"}
    with serving(judged_or_answered) as server, agouti.Client(entries(server)) as client:
        for _ in range(2):
            [row] = agouti.compare(client, ["m"], "Peas?", **options)
            assert row.checks["check"] == 1.0
        assert len(server.requests) == 1


@pytest.mark.parametrize("limits", [{"concurrency": 1}, {"requests_per_second": 2}])
def test_our_own_waiting_is_not_the_model_s(limits: dict[str, Any]) -> None:
    def slow(connection: Connection, number: int) -> None:
        time.sleep(0.1)
        judged_or_answered(connection, number)

    with serving(slow) as server, agouti.Client(entries(server, limits=limits)) as client:
        rows = agouti.compare(client, ["m"], "Peas?", repeats=4)
    waited = [row.waited or 0 for row in rows]
    assert max(waited) >= 0.2
    for row in rows:
        assert row.seconds is not None
        assert row.seconds >= 0.1
        assert abs(row.seconds - min(each.seconds or 9 for each in rows)) < max(waited) / 2


def test_an_attempt_that_failed_before_is_no_part_of_the_answer_s_time() -> None:
    def busy_first(connection: Connection, number: int) -> None:
        if number == 0:
            connection.write(reply(b"{}", "429 Slow", "retry-after: 1"))
        else:
            judged_or_answered(connection, number)

    with serving(busy_first) as server, agouti.Client(entries(server)) as client:
        [row] = agouti.compare(client, ["m"], "Peas?")
    assert (row.seconds or 9) < 0.9 <= (row.waited or 0)
    assert row.first_token is None or row.first_token <= (row.seconds or 0)


def test_repeats_are_never_copies(tmp_path: Path) -> None:
    with serving(judged_or_answered) as server:
        config = {**entries(server), "cache": {"store": str(tmp_path / "c.sqlite"), "always": True}}
        with agouti.Client(config) as client:
            client.ask("m", "Peas?", temperature=0)
            agouti.compare(client, ["m"], "Peas?", temperature=0, repeats=4, judge="j1", judge_repeats=3)
            assert (named(server, "m"), named(server, "j1")) == (5, 12)
            with pytest.raises(agouti.RequestError, match="cache"):
                agouti.compare(client, ["m"], "Peas?", cache=True)
