"""Probes: what a model and its provider really do, measured by small requests: declared against found."""

from collections.abc import Coroutine
from math import inf
from typing import TYPE_CHECKING, Any, overload

from msgspec import Struct

from ...calls.calls import calls_of
from ...core.errors import RequestError
from ...engine.effects import Steps, Together
from .. import run
from .types import Probed, ProbeResult, Probing

if TYPE_CHECKING:
    from ...client.async_client import AsyncClient
    from ...client.client import Client


_CONCURRENT_PROBES = 3


class ProbePlan(Struct, frozen=True, kw_only=True):
    """What probing a model may take at most.

    Attributes:
        requests: how many are sent; none is repeated.
        input_tokens, output_tokens: of all of them, at most.
        cost: at most; `None` where the entry has no price.
        currency: of the cost.
    """

    requests: int
    input_tokens: int
    output_tokens: int
    cost: float | None
    currency: str | None


def plan(client: "Client | AsyncClient", label: str) -> ProbePlan:
    """What probing a model may take, before anything is sent.

    Raises:
        LabelUnknown: there is no such model.
    """
    from .questions import FIRST, PROBES

    price = calls_of(client).target(label).price
    probes = (FIRST, *PROBES)
    requests = sum(probe.requests for probe in probes)
    input_tokens = sum(probe.input_tokens for probe in probes)
    out = sum(probe.output_tokens for probe in probes)
    cost = None
    if price is not None:
        images = sum(probe.images for probe in probes)
        cost = float(price.dearest(input_tokens, out, images=images, requests=requests))
    return ProbePlan(
        requests=requests,
        input_tokens=input_tokens,
        output_tokens=out,
        cost=cost,
        currency=None if price is None else price.currency,
    )


@overload
def probe(client: "Client", label: str, *, max_cost: float | None = None) -> ProbeResult: ...
@overload
def probe(client: "AsyncClient", label: str, *, max_cost: float | None = None) -> Coroutine[Any, Any, ProbeResult]: ...
def probe(
    client: "Client | AsyncClient", label: str, *, max_cost: float | None = None
) -> ProbeResult | Coroutine[Any, Any, ProbeResult]:
    """Measure what a model and its provider really do; it costs some thousand tokens.

    Args:
        label: a label, or ``NAME@PROVIDER``.
        max_cost: in the currency of the entry's price; where probing could cost more, nothing is sent. What the
            answers cost is added up: where they cost more than was to be expected, the rest is skipped.

    Raises:
        LabelUnknown: there is no such model.
        RequestError: it could cost more than ``max_cost``, or that cannot be told.
        AgoutiError: the model answers nothing at all: wrong key, wrong name, no connection.

    Example:
        >>> import agouti, agouti.standins
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     result = agouti.probe(client, "almanac")
        ...     result.of("stop strings").found, result.lies
        ('yes', ())
    """
    if max_cost is not None and not 0 <= max_cost < inf:
        raise RequestError(f"max_cost = {max_cost} is out of range", hint="It takes an amount from 0.")
    expected = plan(client, label)
    if max_cost is not None and (expected.cost is None or expected.cost > max_cost):
        costs = "an unknown amount" if expected.cost is None else f"{expected.cost:.4f} {expected.currency}"
        raise RequestError(
            f"probing {label} could cost {costs}, and max_cost is {max_cost}",
            hint="Put a price into the entry, or leave max_cost out." if expected.cost is None else "Raise max_cost.",
            model=label,
        )
    limit = expected.cost if max_cost is None else max_cost
    return run(client, _probed(Probing(calls_of(client), label, limit)))


def _probed(probing: "Probing") -> Steps[ProbeResult]:
    from .questions import FIRST, PROBES, REFUSALS, embeds

    try:
        yield from FIRST.steps(probing)
    except REFUSALS as error:
        # A model for embeddings refuses questions, and answers others.
        rows = yield from embeds(probing)
        if not any(row.found == "yes" for row in rows):
            raise error
        return probing.result(rows)
    found: dict[int, list[Probed]] = {}
    # The stream alone, so that its times are its own, and what goes by chance.
    for number, each in enumerate(PROBES):
        if not number or each.is_exclusive:
            found[number] = yield from each.steps(probing)
    remaining = [number for number in range(len(PROBES)) if number not in found]
    findings: list[list[Probed]] = yield Together(
        [PROBES[number].steps(probing) for number in remaining], _CONCURRENT_PROBES
    )
    found |= zip(remaining, findings, strict=True)
    return probing.result([row for number in range(len(PROBES)) for row in found[number]])
