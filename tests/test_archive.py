"""Recording into an HTTP Archive, and answering from one."""

import json
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.standins import Served

from .conftest import Caller
from .dialects.test_contract import MODELS


def record(caller: Caller, served: Served, path: Path) -> list[agouti.Reply]:
    import asyncio

    calls: list[tuple[str, str, str]] = [
        ("ask", "almanac", "Peas?"),
        ("stream", "almanac-local", "Garlic?"),
        ("ask", "leaflet-1@kiosk", "Peas?"),
        ("ask", "pippin-1@orchard", "Peas?"),
        ("stream", "loam-2b+gzip@shed", "Peas?"),
    ]
    if caller.kind == "sync":
        with agouti.Client(served.config, record=path) as client:
            found = []
            for kind, label, prompt in calls:
                if kind == "ask":
                    found.append(client.ask(label, prompt))
                else:
                    with client.stream(label, prompt) as stream:
                        list(stream)
                    found.append(stream.reply)
            with pytest.raises(agouti.StreamCut):
                list(client.stream("loam-2b+cut=3@shed", "Peas?"))
            return found

    async def go() -> list[agouti.Reply]:
        async with agouti.AsyncClient(served.config, record=path) as client:
            found = []
            for kind, label, prompt in calls:
                if kind == "ask":
                    found.append(await client.ask(label, prompt))
                else:
                    async with client.stream(label, prompt) as stream:
                        async for _ in stream:
                            pass
                    found.append(stream.reply)
            with pytest.raises(agouti.StreamCut):
                async for _ in client.stream("loam-2b+cut=3@shed", "Peas?"):
                    pass
            return found

    return asyncio.run(go())


def test_recorded_exchanges_are_answered_without_network_or_keys(
    served: Served, caller: Caller, tmp_path: Path
) -> None:
    path = tmp_path / "exchange.har"
    replies = record(caller, served, path)
    text = path.read_text()
    assert not [key for key in served.environment.values() if key in text]
    log = json.loads(text)["log"]
    assert log["version"] == "1.2"
    assert len(log["entries"]) == len(replies) + 1
    keyless = agouti.Config(served.config.providers, served.config.models)
    with agouti.Client(keyless, replay=path) as client:
        assert client.ask("almanac", "Peas?").text == replies[0].text
        with client.stream("almanac-local", "Garlic?") as stream:
            texts = [event.text for event in stream.events() if isinstance(event, agouti.events.Text)]
        assert "".join(texts) == replies[1].text
        assert len(texts) > 5
        assert client.ask("leaflet-1@kiosk", "Peas?").text == replies[2].text
        with pytest.raises(agouti.StreamCut) as cut:
            list(client.stream("loam-2b+cut=3@shed", "Peas?"))
        assert cut.value.partial is not None
        with pytest.raises(agouti.NotRecorded) as missing:
            client.ask("almanac", "Beans?")
        assert "body differs" in missing.value.hint


def test_archive_has_the_shape_that_network_views_read(served: Served, tmp_path: Path) -> None:
    path = tmp_path / "exchange.har"
    record(Caller("sync"), served, path)
    wanted = {
        "request": {"method", "url", "httpVersion", "cookies", "headers", "queryString", "headersSize", "bodySize"},
        "response": {"status", "statusText", "httpVersion", "cookies", "headers", "content", "redirectURL", "headersSize", "bodySize"},
        "timings": {"send", "wait", "receive"},
    }  # fmt: skip
    for each in json.loads(path.read_text())["log"]["entries"]:
        assert {"startedDateTime", "time", "cache", *wanted} <= set(each)
        for part, names in wanted.items():
            assert names <= set(each[part])
        assert each["time"] >= each["timings"]["wait"] >= 0
        assert sum(size for _, size in each["response"]["_pieces"]) == each["response"]["bodySize"]
        headers = {header["name"]: header["value"] for header in each["request"]["headers"]}
        assert headers.get("authorization", "***") == "***"


@pytest.mark.parametrize(
    "options",
    [
        {"record": "nowhere/x.har"},
        {"replay": "absent.har"},
        {"replay": "broken.har"},
        {"record": "a.har", "replay": "b.har"},
    ],
)
def test_what_cannot_be_recorded_or_replayed_is_said(tmp_path: Path, options: dict[str, Any]) -> None:
    (tmp_path / "broken.har").write_text('{"log": 3}')
    for kind in (agouti.Client, agouti.AsyncClient):
        with pytest.raises((agouti.ConfigError, agouti.RequestError)) as wrong:
            kind({"providers": {"shed": {"address": "localhost:1"}}}, **options)
        assert wrong.value.hint


@pytest.mark.parametrize("name", MODELS)
def test_every_dialect_is_replayed_from_its_record(served: Served, tmp_path: Path, name: str) -> None:
    path = tmp_path / "exchange.har"

    def calls(client: agouti.Client) -> list[Any]:
        whole = client.ask(MODELS[name], "When does garlic go in?", max_tokens=8)
        with client.stream(MODELS[name], "When does garlic go in?", max_tokens=8) as stream:
            text = "".join(stream)
        filled = client.fill(MODELS[name], int, "18 of 24 up")
        return [whole.text, whole.usage, text, stream.reply.finish_reason, filled.value, filled.output_method]

    with agouti.Client(served.config, record=path) as client:
        recorded = calls(client)
    assert "marsh-lane-demo" not in path.read_text()
    assert "DEMOACCESSKEY" not in path.read_text() or name == "converse"  # the name of a key is no secret
    with agouti.Client(served.config, replay=path) as client:
        assert calls(client) == recorded
