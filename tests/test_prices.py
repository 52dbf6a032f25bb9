"""Prices: what is counted, exact, from a day on; what is unknown stays unknown."""

from datetime import date
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import agouti
from agouti.core.canonical.usage import Price, PriceStep, price_at
from agouti.testing import FakeTransport

U = agouti.Usage


@pytest.mark.parametrize(
    ("price", "usage", "counted", "cost"),
    [
        (Price(0.1, 0.2), U(3, 7), {}, "0.0000017"),
        (Price(0.1, 0.2), U(3, None), {}, None),
        (Price(1, 2, cached_input=0.1, cache_write=1.25), U(100, 10, cached_tokens=60, cache_write_tokens=30), {}, "0.0000735"),
        (Price(1, 2, cached_input=0), U(100, 0, cached_tokens=100), {}, "0"),
        (Price(1, 2, reasoning=5), U(0, 10, reasoning_tokens=4), {}, "0.000032"),
        (Price(1, 2, reasoning=5), U(0, 3, reasoning_tokens=9), {}, "0.000015"),  # more thinking than output is told
        (Price(0, 0, image=0.002, request=0.01), U(9, 9), {"images": 3}, "0.016"),
        (Price(0, 0, request=0.01), U(9, 9), {"requests": 3}, "0.03"),
        (Price(1, 2, audio_input=10, audio_output=20), U(100, 10, audio_input_tokens=50, audio_output_tokens=5), {}, "0.00066"),
        (Price(1, 2, audio_input=10), U(10, 0, audio_input_tokens=99), {}, "0.0001"),  # more sound than input
        (Price(1, 2, cache_write=1.25, long_cache_write=2), U(100, 0, cache_write_tokens=60, long_cache_write_tokens=40), {}, "0.000145"),
        (Price(1, 2, steps=(PriceStep(100, 3, 4), PriceStep(200, 5, 6))), U(100, 10), {}, "0.00012"),
        (Price(1, 2, steps=(PriceStep(100, 3, 4), PriceStep(200, 5, 6))), U(101, 10), {}, "0.000343"),
        (Price(1, 2, steps=(PriceStep(100, 3, 4), PriceStep(200, 5, 6))), U(201, 10), {}, "0.001065"),
        (Price(1, 2, batch=0.5), U(100, 10), {"deferred": True}, "0.00006"),
        (Price(1, 2, batch=0.5), U(100, 10), {}, "0.00012"),
    ],
)  # fmt: skip
def test_costs(price: Price, usage: agouti.Usage, counted: dict[str, int], cost: str | None) -> None:
    exact = price.exact(usage, **counted)
    assert exact == (None if cost is None else Decimal(cost))
    if "deferred" not in counted:
        assert price.cost(usage, **counted) == (None if cost is None else float(cost))
    if exact is not None:
        images, requests = counted.get("images", 0), counted.get("requests", 1)
        dearest = price.dearest(usage.input_tokens or 0, usage.output_tokens or 0, images=images, requests=requests)
        assert exact <= dearest


@given(
    st.lists(st.tuples(st.integers(0, 10**6), st.integers(0, 10**6)), max_size=30),
    st.integers(0, 9999),
    st.integers(0, 9999),
)
def test_sums_of_exact_costs_lose_no_digit(counts: list[tuple[int, int]], into: int, out: int) -> None:
    price = Price(into / 100, out / 100)
    total = sum((price.exact(U(a, b)) or Decimal(0) for a, b in counts), Decimal(0))
    assert total * 10**8 == sum(a * into + b * out for a, b in counts)


def test_the_price_of_the_day_counts() -> None:
    models = {
        "a": {
            "provider": "p",
            "name": "m",
            "price": [
                {"input": 9, "output": 9, "currency": "USD"},
                {"input": 2, "output": 4, "currency": "EUR", "since": date(2026, 1, 1)},
                {"input": 1000, "output": 1, "currency": "USD", "since": date(2999, 1, 1)},
            ],
        },
        "b": {"provider": "p", "name": "m", "price": {"input": 1, "output": 1, "currency": "USD", "since": date(2999, 1, 1)}},
    }  # fmt: skip
    reply = {"choices": [{"message": {"content": "x"}}], "usage": {"prompt_tokens": 10, "completion_tokens": 5}}
    fake = FakeTransport([reply, reply])
    with agouti.Client(
        {"providers": {"p": {"address": "https://p.example/v1"}}, "models": models}, transport=fake
    ) as client:
        assert client.ask("a", "x").cost == 0.00004
        assert client.ask("b", "x").cost is None
    assert price_at((), date.today()) is None


def test_images_and_requests_of_a_tool_loop_count() -> None:
    call = {"id": "1", "type": "function", "function": {"name": "f", "arguments": "{}"}}
    usage = {"prompt_tokens": 10, "completion_tokens": 5}
    answers: list[Any] = [
        {"choices": [{"message": {"content": None, "tool_calls": [call]}}], "usage": usage},
        {"choices": [{"message": {"content": "x"}}], "usage": usage},
    ]
    model = {
        "provider": "p",
        "name": "m",
        "price": {"input": 0, "output": 0, "image": 0.5, "request": 0.25, "currency": "USD"},
    }
    config = {"providers": {"p": {"address": "https://p.example/v1"}}, "models": {"a": model}}
    seen: list[float | None] = []

    class Ledger(agouti.Hook):
        def after(self, result: agouti.AttemptResult) -> None:
            seen.append(result.cost)

    def f() -> str:
        """F."""
        return "y"

    with agouti.Client(config, transport=FakeTransport(answers), hooks=[Ledger()]) as client:
        reply = client.ask("a", "x", images=[b"\x89PNG\r\n\x1a\n"], tools=[f], run_tools=True)
    assert (reply.cost, seen) == (1.5, [0.75, 0.75])


@pytest.mark.parametrize(
    ("price", "what"),
    [
        ({"input": 1, "output": 2}, "price has no currency"),
        ([{"input": 1, "output": 2, "currency": "USD"}, {"input": 1, "output": 2}], "price has no currency"),
        ({"input": -1, "output": 2, "currency": "USD"}, "input = -1.0 is out of range"),
        ({"input": 1, "output": 2, "currency": " "}, "no currency"),
        ({"input": 1, "currency": "USD"}, "price"),
        ({"input": 1, "output": 2, "curency": "USD", "currency": "x"}, "curency"),
        ({"input": 1, "output": 2, "currency": "USD", "since": "soon"}, "since"),
    ],
)
def test_prices_that_cannot_be(price: Any, what: str) -> None:
    config = {
        "providers": {"p": {"address": "https://p.example/v1"}},
        "models": {"a": {"provider": "p", "name": "m", "price": price}},
    }
    with pytest.raises(agouti.ConfigError, match=what) as caught:
        agouti.load_config(config)
    assert caught.value.hint
