"""Against a real model server: shapes only, never words. ToolLike where AGOUTI_REAL_SERVER holds its address.

AGOUTI_REAL_KEY is its key. Two slots that share one context of about 1000 tokens are expected.
"""

import os
from concurrent.futures import ThreadPoolExecutor

import pytest

import agouti

from ..conftest import Caller

ADDRESS = os.environ.get("AGOUTI_REAL_SERVER", "")
KEY = os.environ.get("AGOUTI_REAL_KEY", "")
pytestmark = pytest.mark.skipif(not ADDRESS, reason="AGOUTI_REAL_SERVER is not set")
MODEL = "real-small@real"


def config(key: str = KEY) -> agouti.Config:
    source = agouti.GivenKey(agouti.Secret(key)) if key else None
    return agouti.Config.of([agouti.Provider("real", f"{ADDRESS or 'http://127.0.0.1:9'}/v1", key=source)])


@pytest.mark.parametrize("kind", ["ask", "stream"])
def test_answer_with_usage_and_cap(caller: Caller, kind: str) -> None:
    reply = caller.call(kind, config(), MODEL, "Broad beans are", max_tokens=8, temperature=0)
    assert reply.text
    assert reply.usage.output_tokens == 8
    assert (reply.finish_reason, reply.truncated) == ("length", True)
    assert (reply.usage.total_tokens or 0) > 8
    assert (reply.first_token is None) == (kind == "ask")


def test_parameters_are_taken(caller: Caller) -> None:
    sampled = {"temperature": 1.0, "top_p": 0.9, "seed": 7, "presence_penalty": 0.5, "frequency_penalty": 0.1}
    reply = caller.ask(config(), MODEL, "Peas are", max_tokens=6, system="Brief.", **sampled)
    assert 0 < (reply.usage.output_tokens or 0) <= 6
    assert len(caller.ask(config(), MODEL, "Peas are", max_tokens=4, n=2).texts) == 2
    stopped = caller.ask(config(), MODEL, "Count: 1 2 3", max_tokens=20, stop=[" ", "\n"], temperature=0)
    assert (stopped.usage.output_tokens or 0) < 20


def test_wrong_key_is_told_from_other_refusals(caller: Caller) -> None:
    if not KEY:
        pytest.skip("the server takes any key")
    with pytest.raises(agouti.CredentialRefused) as refused:
        caller.ask(config("wrong"), MODEL, "Peas")
    assert refused.value.status == 401


def test_context_overflow_before_and_in_the_middle_of_a_stream(caller: Caller) -> None:
    with pytest.raises(agouti.ContextOverflow) as overflow:
        caller.stream(config(), MODEL, "bean " * 3000, max_tokens=4)
    assert overflow.value.partial is None
    prompt = "seed bean pea " * 155  # two of these nearly fill the context that they share

    def go(number: int) -> agouti.AgoutiError | None:
        try:
            caller.stream(config(), MODEL, f"{number} {prompt}", max_tokens=250, temperature=1.0)
        except agouti.AgoutiError as error:
            return error
        return None

    # A model may end its answer before the context is full: some tries are allowed.
    for _ in range(5):
        with ThreadPoolExecutor(2) as pool:
            broken = [error for error in pool.map(go, range(2)) if error is not None]
        assert all(isinstance(error, agouti.ContextOverflow) for error in broken)
        if any(error.partial is not None and error.partial.text for error in broken):
            return
    pytest.fail("the context was never exceeded in the middle of a stream")


def test_leaving_a_stream_early_frees_the_server() -> None:
    with agouti.Client(config()) as client:
        for _ in range(4):
            with client.stream(MODEL, "Tell me about beans.", max_tokens=200) as stream:
                next(iter(stream))
        assert client.ask(MODEL, "Peas are", max_tokens=2).text


def test_check_finds_all_well() -> None:
    from agouti.services.check.check_entries import check

    with agouti.Client(config()) as client:
        assert check(client, [MODEL])[0].ok
