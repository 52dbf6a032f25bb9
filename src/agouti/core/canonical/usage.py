"""Token usage and prices: what a reply counted, what it cost, and sums of either."""

from collections.abc import Iterable
from datetime import date
from decimal import Decimal
from functools import lru_cache

from msgspec import Struct
from msgspec.structs import force_setattr

from ..errors import ConfigError


class Usage(Struct, frozen=True, gc=False, repr_omit_defaults=True):
    """Token counts as the provider reports them; `None` where it does not.

    ``input_tokens`` includes those that came out of the provider's prompt cache (``cached_tokens``) and those that were
    written into it (``cache_write_tokens``), ``output_tokens`` the reasoning ones. Either includes the tokens of sound
    (``audio_input_tokens``, ``audio_output_tokens``). Of those that were written into the cache,
    ``long_cache_write_tokens`` are kept for an hour. ``cost`` is what the provider says itself that it costs.
    """

    input_tokens: int | None = None
    output_tokens: int | None = None
    total_tokens: int | None = None
    cached_tokens: int | None = None
    reasoning_tokens: int | None = None
    cache_write_tokens: int | None = None
    audio_input_tokens: int | None = None
    audio_output_tokens: int | None = None
    long_cache_write_tokens: int | None = None
    cost: float | None = None

    def __post_init__(self) -> None:
        # Some say -1 for what they have not counted.
        if (
            (self.input_tokens is not None and self.input_tokens < 0)
            or (self.output_tokens is not None and self.output_tokens < 0)
            or (self.total_tokens is not None and self.total_tokens < 0)
            or (self.cached_tokens is not None and self.cached_tokens < 0)
            or (self.reasoning_tokens is not None and self.reasoning_tokens < 0)
        ):
            for name in _COUNTS:
                if (getattr(self, name) or 0) < 0:
                    force_setattr(self, name, None)


_COUNTS = ("input_tokens", "output_tokens", "total_tokens", "cached_tokens", "reasoning_tokens")
NO_USAGE = Usage()


class PriceStep(Struct, frozen=True, gc=False, forbid_unknown_fields=True):
    """What tokens cost once a prompt is longer than so many: all of them, as providers count.

    Attributes:
        above: tokens of the prompt.
        input, output: tokens of prompts and answers.
        cached_input, cache_write, reasoning: as of `Price`.
    """

    above: int
    input: float
    output: float
    cached_input: float | None = None
    cache_write: float | None = None
    reasoning: float | None = None

    def __post_init__(self) -> None:
        if self.above < 1:
            raise ConfigError(f"price step above = {self.above} is out of range", hint="It counts tokens, from 1.")
        _check_amounts(self, "price step ", _STEP_AMOUNTS)


_STEP_AMOUNTS = ("input", "output", "cached_input", "cache_write", "reasoning")
_AMOUNTS = (*_STEP_AMOUNTS, "image", "request", "audio_input", "audio_output", "long_cache_write", "batch")


def _check_amounts(price: Struct, prefix: str, names: tuple[str, ...]) -> None:
    for name in names:
        value = getattr(price, name)
        if value is not None and not 0 <= value < float("inf"):
            raise ConfigError(f"{prefix}{name} = {value} is out of range", hint="It takes an amount from 0.")


class Price(Struct, frozen=True, gc=False, forbid_unknown_fields=True):
    """Price of a model per million tokens, exact to the last digit that is written.

    Attributes:
        input, output: tokens of prompts and answers.
        cached_input, cache_write: of those, what the provider's cache has given and taken; as ``input`` where not said.
        reasoning: of the output, the thinking; as ``output`` where not said.
        image: for each image of a prompt.
        request: for each request.
        currency: of all of them.
        since: the day from which it holds, where an entry has several.
        audio_input, audio_output: of the input and the output, those that are sound; as ``input`` and ``output`` where
            not said.
        long_cache_write: of what the cache has taken, what it keeps for an hour; as ``cache_write`` where not said.
        steps: other prices for longer prompts: that of the highest ``above`` that a prompt exceeds.
        batch: the share of all of it that deferred requests cost, such as 0.5; where not said,
            all of it is taken, as an estimate.
    """

    input: float
    output: float
    cached_input: float | None = None
    cache_write: float | None = None
    reasoning: float | None = None
    image: float = 0.0
    request: float = 0.0
    currency: str = "USD"
    since: date | None = None
    audio_input: float | None = None
    audio_output: float | None = None
    long_cache_write: float | None = None
    steps: tuple[PriceStep, ...] = ()
    batch: float | None = None

    def __post_init__(self) -> None:
        _check_amounts(self, "price ", _AMOUNTS)
        if not self.currency.strip():
            raise ConfigError("price has no currency", hint='Add currency = "USD".')
        # One spelling: amounts in usd and USD are amounts of one currency.
        force_setattr(self, "currency", self.currency.strip().upper())

    def exact(self, usage: Usage, *, images: int = 0, requests: int = 1, deferred: bool = False) -> Decimal | None:
        """What these tokens, images and requests cost; `None` where the counts are not known.

        Args:
            deferred: they were asked in a deferred batch.

        >>> Price(input=0.1, output=0.2, request=0.002).exact(Usage(3, 7))
        Decimal('0.0020017')
        """
        if usage.input_tokens is None or usage.output_tokens is None:
            return None
        # Servers tell odd counts: a part that is larger than the whole, or less than nothing. No cost is below zero.
        input_tokens, out = max(usage.input_tokens, 0), max(usage.output_tokens, 0)
        cached = min(max(usage.cached_tokens or 0, 0), input_tokens)
        written = min(max(usage.cache_write_tokens or 0, 0), input_tokens - cached)
        thought = min(max(usage.reasoning_tokens or 0, 0), out)
        # Few calls have all of these: what is nothing is not added.
        step = self._step(input_tokens) if self.steps else self
        dearer = ((cached, step.cached_input), (written, step.cache_write), (thought, step.reasoning))
        tokens = input_tokens * exactly(step.input) + out * exactly(step.output)
        for at, (count, price) in enumerate(dearer):
            if count and price is not None:
                tokens += count * (exactly(price) - exactly(step.output if at == 2 else step.input))
        if usage.audio_input_tokens or usage.audio_output_tokens or usage.long_cache_write_tokens:
            tokens += self._rarer(usage, input_tokens, out, written, step)
        amount = tokens.scaleb(-6)
        if images and self.image:
            amount += images * exactly(self.image)
        if self.request:
            amount += requests * exactly(self.request)
        return amount * exactly(self.batch) if deferred and self.batch is not None else amount

    def _step(self, input_tokens: int) -> "Price | PriceStep":
        """The prices for a prompt of so many tokens."""
        exceeded = [each for each in self.steps if input_tokens > each.above]
        return max(exceeded, key=lambda each: each.above) if exceeded else self

    def _rarer(self, usage: Usage, input_tokens: int, out: int, written: int, step: "Price | PriceStep") -> Decimal:
        """What sound and long caches cost more than the same as text, and for a short time."""
        further = Decimal(0)
        base_price = step.cache_write if step.cache_write is not None else step.input
        for count, tokens, price, instead in (
            (usage.audio_input_tokens, input_tokens, self.audio_input, step.input),
            (usage.audio_output_tokens, out, self.audio_output, step.output),
            (usage.long_cache_write_tokens, written, self.long_cache_write, base_price),
        ):
            if count and price is not None:
                further += min(max(count, 0), tokens) * (exactly(price) - exactly(instead))
        return further

    def cost(self, usage: Usage, *, images: int = 0, requests: int = 1) -> float | None:
        """The same as a number.

        >>> Price(input=0.5, output=2.0).cost(Usage(input_tokens=1000, output_tokens=500))
        0.0015
        """
        exact = self.exact(usage, images=images, requests=requests)
        return None if exact is None else float(exact)

    def dearest(self, input_tokens: int, output_tokens: int, *, images: int = 0, requests: int = 1) -> Decimal:
        """What so many tokens can cost at most: all of them of the dearest kind.

        >>> float(Price(input=1.0, output=2.0, cache_write=1.25, reasoning=8.0).dearest(1_000_000, 1_000_000))
        9.25
        """
        dearest_in = [self.cached_input, self.cache_write, self.audio_input, self.long_cache_write]
        dearest_out = [self.reasoning, self.audio_output]
        for step in self.steps:
            if input_tokens > step.above:
                dearest_in += [step.input, step.cached_input, step.cache_write]
                dearest_out += [step.output, step.reasoning]
        prompt_tokens = exactly(max([self.input, *[each for each in dearest_in if each is not None]]))
        out = exactly(max([self.output, *[each for each in dearest_out if each is not None]]))
        tokens = (input_tokens * prompt_tokens + output_tokens * out).scaleb(-6)
        return tokens + images * exactly(self.image) + requests * exactly(self.request)


@lru_cache(maxsize=1024)
def exactly(amount: float) -> Decimal:
    """An amount as it was written."""
    return Decimal(repr(amount))


def price_at(price: Price | tuple[Price, ...] | None, day: date) -> Price | None:
    """The price that holds on a day, of one or several; `None` where none does yet.

    >>> old, new = Price(1, 2), Price(3, 4, since=date(2026, 1, 1))
    >>> price_at((new, old), date(2025, 12, 31)) is old, price_at((new, old), date(2026, 1, 1)) is new
    (True, True)
    """
    if price is None or isinstance(price, Price):
        return price if price is None or price.since is None or price.since <= day else None
    holding = [each for each in price if each.since is None or each.since <= day]
    return max(holding, key=lambda each: each.since or date.min, default=None)


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
