"""The engine driven by hand: no sockets, no clock."""

from typing import Any

import pytest

from agouti import Client, Config, EnvKey, Model, Provider, Secret
from agouti.calls.calls import calls_of
from agouti.core.errors import CredentialMissing, NotRunning
from agouti.core.http.exchange import HttpReply
from agouti.credentials.credential import Credential
from agouti.engine.effects import Drop, Emit, FetchKey, Open, Receive, Send, Sleep
from agouti.engine.operations.chat import ask
from agouti.engine.operations.chat_streamed import stream
from agouti.engine.receiving.accumulate import ReplyAccumulator
from agouti.replies.errors import StreamCut
from agouti.transport.base import TransportFailure

CONFIG = Config.of(
    [Provider("north", "https://api.north.example/v1/", key=EnvKey(("NORTH_KEY",)), headers={"x-club": "marsh"})],
    [Model("almanac", "north", "quill-large")],
)


class Opened:
    status = 200
    headers: dict[str, str] = {}


def call(streams: bool = False) -> Any:
    return calls_of(Client(CONFIG)).chat("almanac", "Hi", {}, stream=streams)


def test_key_is_fetched_once_and_goes_into_the_header_unprinted() -> None:
    first = call()
    steps = ask(first)
    assert isinstance(next(steps), FetchKey)
    effect = steps.send(Credential(Secret("planted"), "here"))
    assert isinstance(effect, Send)
    assert effect.request.url == "https://api.north.example/v1/chat/completions"
    assert effect.request.headers["x-club"] == "marsh"
    assert effect.request.headers["authorization"].encode() == b"Bearer planted"
    assert "planted" not in repr(effect)
    with pytest.raises(StopIteration) as stop:
        steps.send(HttpReply(200, {}, b'{"choices": [{"message": {"content": "Hello"}}]}'))
    assert stop.value.value.text == "Hello"
    assert isinstance(next(ask(first)), Send)  # the second call has the key already


def test_failures_thrown_in_become_errors_that_name_the_entry() -> None:
    steps = ask(call())
    next(steps)
    with pytest.raises(CredentialMissing) as missing:
        steps.throw(CredentialMissing("no key"))
    assert (missing.value.provider, missing.value.model) == ("north", "almanac")
    steps = ask(call())
    next(steps)
    steps.send(Credential(Secret("k"), "here"))
    for _ in range(2):
        assert isinstance(steps.throw(TransportFailure("refused", "refused")), Drop)
        assert isinstance(steps.send(None), Sleep)
        assert isinstance(steps.send(None), Send)
    steps.throw(TransportFailure("refused", "refused"))
    with pytest.raises(NotRunning, match=r"nothing listens at https://api\.north\.example") as refused:
        steps.send(None)
    assert [attempt.outcome for attempt in refused.value.attempts] == ["NotRunning"] * 3


def test_stream_cut_off_keeps_what_came() -> None:
    so_far = ReplyAccumulator()
    steps = stream(call(streams=True), so_far)
    next(steps)
    assert isinstance(steps.send(Credential(Secret("k"), "here")), Open)
    assert isinstance(steps.send(Opened()), Receive)
    emitted = steps.send(b'data: {"choices":[{"delta":{"content":"Sow"}}]}\n\n')
    assert isinstance(emitted, Emit)
    assert so_far.reply(0.0).text == "Sow"
    assert isinstance(steps.send(None), Receive)
    with pytest.raises(StreamCut) as cut:
        steps.send(b"")
        steps.send(None)
    assert cut.value.partial is not None
    assert cut.value.partial.text == "Sow"
