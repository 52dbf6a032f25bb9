"""Probes: what a model really does, found by what comes back."""

import asyncio
import json
from typing import Any

import pytest

import agouti
from agouti.services.probe.probe_model import plan
from agouti.services.probe.questions import FIRST
from agouti.services.probe.types import Probed
from agouti.standins import Served
from agouti.standins.misbehaviour import LIES
from agouti.testing import FakeTransport

from .hostile.kit import Connection, reply, serving

CLAIMS = {"inputs": ["text", "image", "file"], "parameters": {"parallel_tool_calls": True, "reasoning_effort": "low"}}


def config(served: Served, lie: int, monkeypatch: pytest.MonkeyPatch) -> dict[str, Any]:
    for name, value in served.environment.items():
        monkeypatch.setenv(name, value)
    vectors = lie and LIES[lie - 1] in ("length of vectors", "embeddings")
    name = ("petal-embed" if vectors else "quill-large") + (f"+lies={lie}" if lie else "")
    return {
        "providers": {"nb": {"address": served.address("northbank"), "key": {"env": "NORTHBANK_KEY"}}},
        "models": {"m": {"provider": "nb", "name": name, **CLAIMS}},
    }


@pytest.mark.parametrize("lie", range(len(LIES) + 1), ids=["honest", *LIES])
def test_every_lie_is_found_and_nothing_else(served: Served, lie: int, monkeypatch: pytest.MonkeyPatch) -> None:
    with agouti.Client(config(served, lie, monkeypatch)) as client:
        result = agouti.probe(client, "m")
    assert [row.what for row in result.lies] == ([LIES[lie - 1]] if lie else [])
    expected = plan(client, "m")
    assert len(result) > 15 or lie > 16
    assert (result.usage.input_tokens or 0) <= expected.input_tokens
    if not lie:
        assert result.settings == {
            "output_methods": ["schema", "tool", "json", "prompt"],
            "inputs": ["text", "image", "file"],
        }
        assert len(result.frame()) == len(result)


@pytest.mark.parametrize("label", ["envelope-2@letterbox", "loam-2b@shed", "finder", "almanac"])
def test_honest_ones_of_other_formats(served: Served, label: str) -> None:
    async def go() -> agouti.ProbeResult:
        async with agouti.AsyncClient(served.config) as client:
            return await agouti.probe(client, label)

    result = asyncio.run(go())
    assert result.lies == ()
    assert (result.cost is None) == ("@" in label)
    assert result.settings.get("inputs") == {"loam-2b@shed": ["text", "file"], "finder": None}.get(
        label, ["text", "image", "file"]
    )


def test_nothing_is_sent_that_could_cost_more_and_what_holds_for_all_is_raised(served: Served) -> None:
    with agouti.Client(served.config, transport=(fake := FakeTransport([]))) as client:
        for label, what in (("almanac", "could cost 0.00"), ("almanac-local", "could cost an unknown amount")):
            with pytest.raises(agouti.RequestError, match=what):
                agouti.probe(client, label, max_cost=0.0001)
    assert fake.requests == []
    with agouti.Client(served.config) as client:
        for name in ("quill-larg@northbank", "quill-large+status=401@northbank"):
            with pytest.raises((agouti.ModelUnknown, agouti.CredentialRefused)):
                agouti.probe(client, name)
    with agouti.Client.at(served.address("shed")) as client:
        assert agouti.probe(client, "loam-2b").of("schema").found == "yes"


@pytest.mark.parametrize(
    ("declared", "found", "ok"),
    [
        (True, "yes", True),
        (False, "yes", True),
        (None, "yes", True),
        (True, "refused", False),  # claimed, and not there
        (False, "refused", None),
        (None, "refused", None),
        (True, "no", False),
        (False, "no", False),  # accepted, and not done
        (None, "no", None),
        (True, "unclear", None),
        (False, "skipped", None),
    ],
)
def test_what_holds_and_what_does_not(declared: Any, found: Any, ok: Any) -> None:
    assert Probed(what="seed", declared=declared, found=found).ok is ok


@pytest.mark.parametrize(
    ("rows", "settings"),
    [
        ([("schema", True, "unclear"), ("JSON mode", True, "no"), ("forced call", False, "unclear")], {"output_methods": ["schema", "prompt"]}),
        ([("schema", True, "refused"), ("JSON mode", False, "yes")], {"output_methods": ["json", "prompt"]}),
        ([("image", True, "unclear"), ("file", True, "no")], {}),  # what cannot be told stays as it is claimed
        ([("image", True, "yes"), ("file", True, "unclear")], {"inputs": ["text", "image", "file"]}),
        ([("image", None, "no"), ("file", None, "yes")], {"inputs": ["text", "file"]}),
    ],
)  # fmt: skip
def test_what_is_written_of_a_probe(rows: list[tuple[str, Any, Any]], settings: dict[str, Any]) -> None:
    probed = tuple(Probed(what=what, declared=declared, found=found) for what, declared, found in rows)
    assert agouti.ProbeResult(probed, agouti.Model("m", provider="p", name="n"), []).settings == settings


def test_limits_and_budgets_of_our_own_are_no_lies(served: Served, monkeypatch: pytest.MonkeyPatch) -> None:
    made = config(served, 0, monkeypatch)
    made["models"]["m"]["price"] = {"input": 1, "output": 1, "currency": "USD"}
    made["providers"]["nb"]["limits"] = {"requests_per_minute": 9, "wait": 0}
    with agouti.Client(made) as client:
        assert agouti.probe(client, "m").lies == ()
        made["providers"]["nb"].pop("limits")
    with agouti.Client(made) as client, client.budget(0.001):
        result = agouti.probe(client, "m")
    assert result.lies == ()
    assert "skipped" in {row.found for row in result}


def answering(*, out: int | None = None, thinking: bool = False, busy: int = 0) -> Any:
    """A server that counts what it was asked for, or more, and is busy now and then."""

    def behave(connection: Connection, number: int) -> None:
        body = json.loads(connection.request.partition(b"\r\n\r\n")[2])
        if busy and number % busy == busy - 1:
            connection.write(reply(b"{}", "503 Busy"))
            return
        tokens = out or body.get("max_tokens", 1)
        usage = {
            "prompt_tokens": 20,
            "completion_tokens": tokens,
            "completion_tokens_details": {"reasoning_tokens": tokens},
        }
        choice = {"message": {"content": "" if thinking else "x"}, "finish_reason": "length" if thinking else "stop"}
        connection.write(reply(json.dumps({"choices": [choice], "usage": usage}).encode()))

    return behave


@pytest.mark.parametrize(
    ("price", "server", "most"),
    [
        ({"request": 0.01}, {}, 0.3),
        ({"reasoning": 10.0}, {}, 0.05),
        ({}, {"thinking": True}, 0.02),
        ({}, {"out": 3000}, 0.02),  # it passes over the cap: the first answer shows it
        ({"request": 0.01}, {"busy": 3}, 0.3),
    ],
    ids=["fees", "thinking is dearer", "room for thinking", "caps passed over", "busy"],
)  # fmt: skip
def test_what_a_probe_may_cost_is_a_bound(price: dict[str, float], server: dict[str, Any], most: float) -> None:
    """The server charges as it is asked; 1 and 1 by default."""
    with serving(answering(**server)) as running:
        entry = {
            "providers": {"p": {"address": running.address}},
            "models": {
                "m": {"provider": "p", "name": "n", "price": {"input": 1.0, "output": 1.0, "currency": "USD", **price}}
            },
        }
        with agouti.Client(entry) as client:
            expected = plan(client, "m")
            assert (expected.cost or 0) <= most
            with pytest.raises(agouti.RequestError, match="could cost"):
                agouti.probe(client, "m", max_cost=(expected.cost or 0) * 0.99)
            assert running.requests == []
            result = agouti.probe(client, "m")
        assert len(running.requests) <= expected.requests
        bodies = [json.loads(each.partition(b"\r\n\r\n")[2]) for each in running.requests if b"/chat/" in each]
        out = sum(server.get("out") or body.get("max_tokens", 1) for body in bodies)
        charged = out * price.get("reasoning", 1.0) / 1e6 + len(bodies) * (20e-6 + price.get("request", 0.0))
        assert charged <= (expected.cost or 0)
        if server.get("thinking"):  # asked once more, with more room
            assert [body["max_tokens"] for body in bodies[:2]] == [48, 1000]
            assert (FIRST.requests, FIRST.output_tokens) == (2, 1048)
        if server.get("out"):
            assert "skipped" in {row.found for row in result}


@pytest.mark.parametrize("most", [float("nan"), float("inf"), -1.0])
def test_a_bound_is_an_amount(served: Served, most: float) -> None:
    with agouti.Client(served.config) as client, pytest.raises(agouti.RequestError, match="max_cost"):
        agouti.probe(client, "almanac", max_cost=most)
