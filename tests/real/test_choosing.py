"""Probes, and conversations in a small window, of a real model server."""

import os

import pytest

import agouti

ADDRESS = os.environ.get("AGOUTI_REAL_SERVER")
KEY = os.environ.get("AGOUTI_REAL_KEY", "x")
pytestmark = pytest.mark.skipif(not ADDRESS, reason="AGOUTI_REAL_SERVER is not set")


def client(context: int | None = None) -> agouti.Client:
    provider = agouti.Provider("real", f"{ADDRESS}/v1", "chat", key=agouti.GivenKey(agouti.Secret(KEY)))
    return agouti.Client(
        agouti.Config.of([provider], [agouti.Model("m", provider="real", name="any", context=context)])
    )


def test_what_it_really_does_is_found() -> None:
    with client(1024) as asked:
        result = agouti.probe(asked, "m")
    found = {row.what: row.found for row in result}
    for what in ("stream", "usage in the stream", "usage", "cap on tokens", "cut is told", "schema"):
        assert found[what] in ("yes", "unclear"), (what, result.of(what))
    assert found["image"] in ("refused", "unclear")
    assert found["prompt cache"] == "skipped"


def test_a_talk_stays_within_its_window() -> None:
    with client(300) as asked:
        talk = asked.conversation("m", on_overflow="drop_oldest", max_tokens=20)
        counts = [talk.say(f"{turn}: what is good to know of beans in a wet spring?").usage for turn in range(8)]
    assert max(usage.input_tokens or 0 for usage in counts) <= 280
    assert talk.dropped
    assert len(talk.messages) == 16
