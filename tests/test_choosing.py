"""Choosing and talking without a surprise: personas, files of talks, lists of models, what a probe may say."""

import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.testing import FakeTransport

from .hostile.kit import Connection, answer, reply, serving


def good(text: str = "ok", **more: Any) -> HttpReply:
    return HttpReply(
        200, {}, json.dumps({"choices": [{"message": {"content": text}, "finish_reason": "stop"}], **more}).encode()
    )


PERSONA = """
[providers.p]
address = "https://p.example/v1"
retries = { max = 0 }
[models.m]
provider = "p"
name = "x"
fallback = ["local"]
[models.local]
provider = "p"
name = "y"
system = "You are local."
[models.translator]
extends = "m"
system = "Translate into {language}."
variables = { language = "Italian" }
examples = [["Hallo", "Ciao"]]
[models.own]
extends = "m"
system = "Be brief."
fallback = ["local", "m"]
"""


@pytest.mark.parametrize(
    ("label", "said"),
    [
        ("translator", ["Translate into Italian.", "Hallo", "Ciao", "Guten Tag"]),
        ("m", ["You are local.", "Guten Tag"]),
        ("own", ["You are local.", "Guten Tag"]),
    ],
)
def test_a_persona_stays_itself_when_another_model_takes_over(label: str, said: list[str], tmp_path: Path) -> None:
    (tmp_path / "agouti.toml").write_text(PERSONA)
    fake = FakeTransport([HttpReply(503, {}, b"{}"), good()])
    with agouti.Client(tmp_path / "agouti.toml", transport=fake) as client:
        made = client.ask(label, "Guten Tag")
        assert made.attempts[-1].model == "y"
        with pytest.raises(agouti.RequestError):
            client.ask("translator", "x", variables={"lang": "French"})
    body = json.loads(fake.requests[1].body or b"")
    assert ([message["content"] for message in body["messages"]], body["model"]) == (said, "y")


ENTRY = {
    "providers": {"p": {"address": "https://p.example/v1", "retries": {"max": 0}}},
    "models": {"m": {"provider": "p", "name": "x"}},
}
HEADER = {
    "conversation": {
        "version": 1,
        "label": "m",
        "title": "Beds",
        "settings": {"temperature": 0.1, "temprature": 0.2, "system": "Brief."},
    }
}


def test_files_of_talks_keep_what_nobody_here_knows(tmp_path: Path) -> None:
    path = tmp_path / "t.jsonl"
    lines = [HEADER, {"role": "user", "content": "Peas?"}, {"role": "assistant", "content": "In March."}]
    path.write_text("".join(json.dumps(line) + "\n" for line in lines))
    with agouti.Client(ENTRY, transport=FakeTransport([good("In May.")])) as client:
        with pytest.warns(agouti.AgoutiWarning, match="temprature"):
            talk = client.conversation("m", messages=path)
        talk.say("Beans?")
        talk.save(path)
    kept = json.loads(path.read_text().splitlines()[0])["conversation"]
    assert (kept["title"], kept["version"]) == ("Beds", 1)
    assert kept["settings"] == {"temperature": 0.1, "temprature": 0.2, "system": "Brief."}
    assert path.read_text().count("\n") == 5
    newer = json.dumps({"conversation": {"version": 2, "label": "m"}}) + "\n" + json.dumps(lines[1]) + "\n"
    path.write_text(newer)
    with agouti.Client(ENTRY) as client:
        with pytest.raises(agouti.RequestError, match="version 2"):
            client.conversation("m", messages=path)
        with pytest.raises(agouti.RequestError, match="version 2"):
            client.conversation("m").save(path)
    assert path.read_text() == newer
    path.write_text("".join(json.dumps(line) + "\n" for line in (*lines, *lines)))
    with agouti.Client(ENTRY) as client, pytest.warns(agouti.AgoutiWarning) as told:
        client.conversation("m", messages=path)
    assert any("second header" in str(each.message) for each in told)


def test_a_save_does_not_write_over_a_talk_that_goes_on(tmp_path: Path) -> None:
    from agouti.conversations.files import lock_conversation

    path = tmp_path / "t.jsonl"
    with agouti.Client(ENTRY, transport=FakeTransport([good()])) as client:
        talk = client.conversation("m")
        talk.save(path)
        before = path.read_bytes()
        talk.say("Peas?")
        with lock_conversation(path), pytest.raises(agouti.RequestError, match="a talk is kept"):
            talk.save(path)
        assert path.read_bytes() == before
        talk.save(path)
    assert len(path.read_text().splitlines()) == 3


def pages(path: str) -> dict[str, Any]:
    after = re.search(r"after(?:_id)?=(\w+)", path)
    names = {"": ["a", "b"], "b": ["c"], "c": ["d"]}[after[1] if after else ""]
    return {"data": [{"id": name} for name in names], "has_more": names != ["d"], "last_id": names[-1]}


@pytest.mark.parametrize("dialect", ["chat", "messages", "responses", "prompt"])
def test_lists_of_models_go_on_to_their_last_page(dialect: str) -> None:
    entry = {**ENTRY, "providers": {"p": {"address": "https://p.example/v1", "dialect": dialect}}}
    fakes = [HttpReply(200, {}, json.dumps(pages(url)).encode()) for url in ("", "after=b", "after=c")]
    fake = FakeTransport(fakes)
    with agouti.Client(entry, transport=fake) as client:
        assert [model.name for model in client.models("p")] == ["a", "b", "c", "d", "x"]
    assert [request.url.partition("?")[2] for request in fake.requests][1:] == (
        ["after_id=b", "after_id=c"] if dialect == "messages" else ["after=b", "after=c"]
    )


def test_a_list_that_cannot_be_had_whole_tells_nothing_of_what_is_missing() -> None:
    endless = HttpReply(200, {}, b'{"data": [{"id": "a"}], "has_more": true, "last_id": "a"}')
    entry = {**ENTRY, "models": {"m": {"provider": "p", "name": "second"}}}
    with agouti.Client(entry, transport=FakeTransport([endless] * 9)) as client:
        (checked,) = agouti.check(client)
    assert [finding.ok for finding in checked.findings if finding.what.startswith("model")] == [None]


ODD_ROWS = {
    "chat": {
        "data": [{"id": "a", "context_length": "8k"}, 7, {"id": "b", "context_length": 8192}, {"context_length": 1}]
    },
    "contents": {
        "models": [{"name": "models/a", "inputTokenLimit": "8k"}, None, {"name": "models/b", "inputTokenLimit": 8192}]
    },
    "lines": {"models": [{"name": "a"}, [], {"name": ["x"]}, {"name": "b"}]},
}


@pytest.mark.parametrize("dialect", ODD_ROWS)
def test_one_odd_row_hides_no_other(dialect: str) -> None:
    entry = {**ENTRY, "providers": {"p": {"address": "https://p.example/v1", "dialect": dialect}}}
    fake = FakeTransport([HttpReply(200, {}, json.dumps(ODD_ROWS[dialect]).encode())])
    with agouti.Client(entry, transport=fake) as client:
        listed = client.models("p")
    assert [model.name for model in listed][:2] == ["a", "b"]
    assert [model.context for model in listed][1] in (8192, None)


def probed(say: Callable[[dict[str, Any]], str]) -> agouti.ProbeResult:
    """What a probe finds about a provider that says this."""

    def behave(connection: Connection, number: int) -> None:
        text = connection.request.partition(b"\r\n\r\n")[2]
        body = json.loads(text) if text[:1] == b"{" else {}
        if "messages" not in body:
            connection.write(reply(b"{}", "404 Not Found"))
            return
        tokens = len(json.dumps(body["messages"])) // 4
        usage = {"prompt_tokens": tokens, "completion_tokens": 5, "total_tokens": tokens + 5}
        connection.write(answer(say(body), usage=usage))

    with serving(behave) as server:
        entry = {
            "providers": {"p": {"address": server.address, "retries": {"max": 0}}},
            "models": {"m": {"provider": "p", "name": "x"}},
        }
        with agouti.Client(entry) as client:
            return agouti.probe(client, "m")


LONG = "Peas are sown early in rows, once the soil is warm and dry. Then they are watered."


def test_a_probe_says_only_what_it_saw() -> None:
    result = probed(lambda body: "blue" if "colour" in json.dumps(body) else LONG)
    # Always the same answer says nothing of seeds, an answer at once nothing of speed, another colour is no sight.
    assert result.of("seed").found == "unclear"
    assert result.of("speed").found == "unclear"
    assert (result.of("image").found, "image" in str(result.settings.get("inputs"))) == ("no", False)
    assert result.of("file").found == "unclear"
    seeds: list[int] = []

    def seeded(body: dict[str, Any]) -> str:
        if "seed" in body:
            seeds.append(body["seed"])
            return f"{LONG} {body['seed']}"
        return "red" if "colour" in json.dumps(body) else LONG

    result = probed(seeded)
    assert (result.of("seed").found, result.of("image").found) == ("yes", "yes")
    assert len(set(seeds)) == 2
    counts = iter(range(100))
    assert probed(lambda body: f"{LONG} {next(counts) if 'seed' in body else ''}").of("seed").found == "no"
