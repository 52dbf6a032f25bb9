"""Against a real model server: shapes only, never words. Runs where AGOUTI_REAL_SERVER holds its address."""

import os

import pytest

import agouti

from ..conftest import Caller

ADDRESS = os.environ.get("AGOUTI_REAL_SERVER", "")
pytestmark = pytest.mark.skipif(not ADDRESS, reason="AGOUTI_REAL_SERVER is not set")
CONFIG = agouti.Config.of([agouti.Provider("real", f"{ADDRESS or 'http://127.0.0.1:9'}/v1")])
MODEL = "real-small@real"


@pytest.mark.parametrize("kind", ["ask", "stream"])
def test_answer_with_usage_and_cap(caller: Caller, kind: str) -> None:
    reply = caller.call(kind, CONFIG, MODEL, "Broad beans are", max_tokens=8, temperature=0)
    assert reply.text
    assert reply.usage.output_tokens == 8
    assert (reply.finish_reason, reply.truncated) == ("length", True)
    assert (reply.usage.total_tokens or 0) > 8
    assert (reply.first_token is None) == (kind == "ask")


def test_leaving_a_stream_early_frees_the_server() -> None:
    with agouti.Client(CONFIG) as client:
        with client.stream(MODEL, "Tell me about beans.", max_tokens=200) as stream:
            next(iter(stream))
        assert client.ask(MODEL, "Peas are", max_tokens=2).text
