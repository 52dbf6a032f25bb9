"""The plan of a batch: what it is likely to take, before anything is sent."""

from collections.abc import Iterable

import msgspec

from ..core.canonical.usage import Usage
from ..core.canonical.vectors import VectorsRequest
from ..core.errors import RequestError
from ..core.settings.rate_limits import RateLimits
from ..engine.call import request_for
from ..engine.operations.chat import Chat, expressible
from ..engine.outgoing import OutgoingRequest, expected_of
from .batch import BatchPlan
from .in_memory import Memory
from .result_file import Results
from .row_requests import RowAsker, Values
from .run import Work


def planned(
    work: Work, ask: RowAsker, results: Results | Memory, *, vectors: bool, limits: Iterable[RateLimits | None]
) -> BatchPlan:
    """What a run is likely to take.

    Args:
        limits: those of model and provider.
    """
    input_tokens = output_tokens = to_ask = unusable = images = 0
    capped = True
    example = ""
    target = None
    for unit in work.requests():
        if unit is None:
            unusable += 1
            continue
        to_ask += 1
        if vectors:
            target = target or ask.call(unit.prompt).targets[0]
            input_tokens += expected_of(VectorsRequest(target.model.name, [unit.prompt.text]))
            example = example or unit.prompt.text
            continue
        try:
            call = ask.call(unit.prompt)
            target = call.targets[0]
            form = ask.form_call(unit.prompt).request(target) if isinstance(ask, Values) else None
            request = form or request_for(call.question, target)
            outgoing = OutgoingRequest(Chat(call.question), expressible(request, target), target)
            input_tokens += outgoing.expected
            caps = outgoing.caps
        except RequestError:
            unusable += 1
            to_ask -= 1
            continue
        output_tokens += (caps.output_tokens or 0) * caps.answers
        capped = capped and caps.output_tokens is not None
        images += outgoing.images
        example = example or unit.prompt.text
    mean = None if vectors else _mean_output(results)
    out = 0 if vectors else round(mean * to_ask) if mean is not None else output_tokens if capped and to_ask else None
    price = target.price if target is not None else None
    cost = None
    if price is not None and out is not None:
        cost = price.cost(Usage(input_tokens, out, input_tokens + out), images=images, requests=to_ask)
    return BatchPlan(
        rows=work.rows_seen,
        to_ask=to_ask,
        unusable=unusable,
        input_tokens=input_tokens,
        output_tokens=out,
        at_most=mean is None and not vectors,
        cost=cost,
        currency=None if price is None or cost is None else price.currency,
        seconds=_least_time(to_ask, input_tokens + (out or 0), limits),
        example=example,
    )


def _mean_output(results: Results | Memory) -> float | None:
    """The tokens of an answer, as far as there are some already."""
    count = total = 0
    for line in results.lines():
        try:
            tokens = msgspec.json.decode(line).get("output_tokens")
        except msgspec.DecodeError:
            continue
        if isinstance(tokens, int):
            count, total = count + 1, total + tokens
        if count >= 1000:
            break
    return total / count if count else None


def _least_time(requests: int, tokens: int, limits: Iterable[RateLimits | None]) -> float | None:
    """Seconds that the limits alone make it take."""
    spans = []
    for each in limits:
        if each is None:
            continue
        for limit, seconds, count in (
            (each.requests_per_second, 1.0, requests),
            (each.requests_per_minute, 60.0, requests),
            (each.requests_per_day, 86400.0, requests),
            (each.tokens_per_minute, 60.0, tokens),
        ):
            if limit:
                spans.append(max(count - limit, 0) / limit * seconds)
    return max(spans, default=None)
