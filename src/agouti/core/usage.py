"""Token usage and prices: what a reply counted, what it cost, and sums of either."""

from collections.abc import Iterable

from msgspec import Struct


class Usage(Struct, frozen=True, gc=False):
    """Token counts as the provider reports them; `None` where it does not.

    ``input_tokens`` includes those that came out of the provider's prompt cache (``cached_tokens``) and those that were
    written into it (``cache_write_tokens``), ``output_tokens`` the reasoning ones.
    """

    input_tokens: int | None = None
    output_tokens: int | None = None
    total_tokens: int | None = None
    cached_tokens: int | None = None
    reasoning_tokens: int | None = None
    cache_write_tokens: int | None = None


NO_USAGE = Usage()


class Price(Struct, frozen=True, gc=False, forbid_unknown_fields=True):
    """Price of a model per million tokens; what the cache costs is as ``input`` where it is not given."""

    input: float
    output: float
    cached_input: float | None = None
    cache_write: float | None = None
    currency: str = "USD"

    def cost(self, usage: Usage) -> float | None:
        """What these tokens cost; `None` where the counts are not known.

        >>> Price(input=0.5, output=2.0).cost(Usage(input_tokens=1000, output_tokens=500))
        0.0015
        """
        if usage.input_tokens is None or usage.output_tokens is None:
            return None
        cached, written = usage.cached_tokens or 0, usage.cache_write_tokens or 0
        cached_price = self.input if self.cached_input is None else self.cached_input
        write_price = self.input if self.cache_write is None else self.cache_write
        inputs = (usage.input_tokens - cached - written) * self.input + cached * cached_price + written * write_price
        return (inputs + usage.output_tokens * self.output) / 1e6


def total_usage(usages: Iterable[Usage]) -> Usage:
    """Counts added up; `None` where one of them is not told.

    >>> total_usage([Usage(2, 3, 5), Usage(4, 1, 5)]).total_tokens
    10
    """
    usages = list(usages)
    sums: dict[str, int | None] = {}
    for name in Usage.__struct_fields__:
        counts = [getattr(usage, name) for usage in usages]
        sums[name] = None if None in counts else sum(counts)
    return Usage(**sums)


def total_cost(costs: Iterable[float | None]) -> float | None:
    """Costs added up; `None` where one of them is not known.

    >>> total_cost([0.5, 0.25]), total_cost([0.5, None])
    (0.75, None)
    """
    known = list(costs)
    return None if None in known else sum(cost for cost in known if cost is not None)
