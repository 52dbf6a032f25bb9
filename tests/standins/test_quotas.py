"""Stand-ins that keep quotas: exact in every stretch, of tokens, and out of credit."""

import time

import msgspec
import pytest

import agouti
from agouti.standins import Served, serve
from agouti.standins.quotas import Quota


def plain(served: Served) -> agouti.Config:
    shed = msgspec.structs.replace(served.config.providers["shed"], retries=agouti.Retries(max=0))
    return msgspec.structs.replace(served.config, providers={"shed": shed}, models={})


def test_tokens_of_a_minute_on_a_clock_that_runs_faster() -> None:
    with (
        serve(quotas={"shed": Quota(tokens_per_minute=40, speed=60)}) as served,
        agouti.Client(plain(served)) as client,
    ):
        used = 0
        while used < 40:
            used += client.ask("loam-2b@shed", "Peas?", max_tokens=9).usage.total_tokens or 0
        with pytest.raises(agouti.RateLimited) as caught:
            client.ask("loam-2b@shed", "Peas?", max_tokens=9)
        assert caught.value.wait is not None
        assert 0 < caught.value.wait <= 1
        time.sleep(caught.value.wait)
        client.ask("loam-2b@shed", "Peas?", max_tokens=9)


def test_out_of_credit() -> None:
    with serve(quotas={"shed": Quota(credit=30)}) as served, agouti.Client(plain(served)) as client:
        with pytest.raises(agouti.OutOfCredit) as caught:
            for _ in range(30):
                client.ask("loam-2b@shed", "Peas?", max_tokens=9)
        assert caught.value.hint
        assert served.books.input_tokens["shed"] + served.books.output_tokens["shed"] >= 30
        assert served.books.requests["shed", 200] > 1


@pytest.mark.parametrize(
    ("style", "left", "reset"),
    [
        ("x-ratelimit", "x-ratelimit-remaining-requests", "x-ratelimit-reset-requests"),
        ("ratelimit", "ratelimit-remaining", "ratelimit-reset"),
    ],
)
def test_headers_tell_the_truth(style: str, left: str, reset: str) -> None:
    quota = Quota(per_minute=3, speed=60, style=style)
    with serve(quotas={"shed": quota}) as served, agouti.Client(plain(served)) as client:
        replies = [client.ask("loam-2b@shed", "Peas?", max_tokens=4) for _ in range(3)]
        assert [reply.headers[left] for reply in replies] == ["2", "1", "0"]
        with pytest.raises(agouti.RateLimited):
            client.ask("loam-2b@shed", "Peas?", max_tokens=4)
        time.sleep(float(replies[-1].headers[reset]) + 0.05)
        client.ask("loam-2b@shed", "Peas?", max_tokens=4)
