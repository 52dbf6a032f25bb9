"""Lists of models: what all providers offer, joined with the entries of the configuration."""

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Literal, TypeAlias, get_args

from msgspec import Struct

from ..core.errors import RequestError
from ..core.text.suggest import near_hint
from ..dialects.wire import ListedModel
from ..tables.table import Table

if TYPE_CHECKING:
    from ..config.entries import Config, Model
    from ..core.errors import AgoutiError

SortBy: TypeAlias = Literal["name", "provider", "label", "context", "price", "input_price", "output_price"]


class OfferedModel(Struct, frozen=True, kw_only=True):
    """One model of a provider; what the entry says counts, then what the provider's list says; `None` is unknown.

    Attributes:
        name: exactly what the provider calls it.
        provider: label of the provider.
        label: your own label for it, the first one; `None` where no entry has it.
        labels: all labels of entries for it.
        context: tokens of prompt and answer together.
        input_price, output_price: per million tokens, in ``currency``.
        currency: of the prices.
        free: whether both prices are zero.
        inputs, outputs: what it takes and gives: ``text``, ``image``, ...
        owner: who has made it, in the provider's word.
        listed: whether the provider's list has it; `None` where there is no list.
    """

    name: str
    provider: str
    label: str | None = None
    labels: tuple[str, ...] = ()
    context: int | None = None
    input_price: float | None = None
    output_price: float | None = None
    currency: str | None = None
    free: bool | None = None
    inputs: tuple[str, ...] | None = None
    outputs: tuple[str, ...] | None = None
    owner: str | None = None
    listed: bool | None = None


class ModelList(Table[OfferedModel]):
    """The models of one or several providers: rows of `OfferedModel`, a frame, and files.

    Attributes:
        rows: the models.
        failures: by label of the provider, why its list could not be had; its entries are among the rows still.

    Example:
        >>> import agouti, agouti.standins
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     cheap = client.models("northbank").where(min_context=16_000).sorted("input_price")
        ...     [(model.name, model.input_price) for model in cheap][0]
        ('quill-large', 0.27)
    """

    def __init__(self, rows: tuple[OfferedModel, ...], failures: "Mapping[str, AgoutiError] | None" = None) -> None:
        super().__init__(rows)
        self.failures = dict(failures or {})

    def __repr__(self) -> str:
        failed = f", failures={list(self.failures)}" if self.failures else ""
        return f"ModelList({len(self.rows)} models{failed})"

    def where(
        self,
        *,
        text: str | None = None,
        provider: str | None = None,
        free: bool | None = None,
        inputs: str | Iterable[str] | None = None,
        min_context: int | None = None,
    ) -> "ModelList":
        """Those that are known to have what is asked for.

        Args:
            text: stands in the name, a label, the provider or the owner, in either case of letters.
            provider: label of the provider.
            free: whether it costs nothing.
            inputs: what it takes: ``"image"``, or several.
            min_context: tokens that its context window has at least.
        """
        kinds = {inputs} if isinstance(inputs, str) else set(inputs or ())
        search_text = (text or "").casefold()

        def fits(row: OfferedModel) -> bool:
            searched = " ".join([row.name, row.provider, row.owner or "", *row.labels]).casefold()
            return (
                search_text in searched
                and provider in (None, row.provider)
                and free in (None, row.free)
                and kinds <= set(row.inputs or ())
                and (min_context is None or (row.context or 0) >= min_context)
            )

        return ModelList(tuple(filter(fits, self.rows)), self.failures)

    def sorted(self, by: SortBy = "name") -> "ModelList":
        """In order: the cheapest first, the largest context first, names from A; what is unknown comes last.

        Raises:
            RequestError: there is no such order.
        """
        if by not in get_args(SortBy):
            raise RequestError(f"models are not sorted by {by!r}", hint=near_hint(by, get_args(SortBy), "order"))

        def key(row: OfferedModel) -> tuple[object, ...]:
            if by == "context":
                return (row.context is None, -(row.context or 0), row.name)
            if by in ("price", "input_price", "output_price"):
                first = row.output_price if by == "output_price" else row.input_price
                # Amounts of different currencies do not compare.
                return (first is None, row.currency or "", first or 0.0, row.output_price or 0.0, row.name)
            value = getattr(row, by)
            return (value is None, (value or "").casefold(), row.name)

        return ModelList(tuple(sorted(self.rows, key=key)), self.failures)


def joined(
    config: "Config", lists: "Mapping[str, Iterable[ListedModel]]", failures: "Mapping[str, AgoutiError]"
) -> ModelList:
    """Lists and entries together: a row for each model of a list, and for each entry that stands in none.

    Args:
        lists: by label of the provider.
        failures: the providers whose list could not be had.
    """
    entries: dict[tuple[str, str], list[Model]] = {}
    for model in sorted(
        config.models.values(), key=lambda each: bool(each.extends)
    ):  # a persona says less of the model
        if model.provider in lists or model.provider in failures:
            entries.setdefault((model.provider, model.name), []).append(model)
    rows = []
    for provider, listed in lists.items():
        named: dict[str, ListedModel] = {}
        for each in listed:
            named.setdefault(each.name, each)
        rows += [_row(provider, each, entries.pop((provider, name), [])) for name, each in named.items()]
    for (provider, name), models in entries.items():
        rows.append(_row(provider, ListedModel(name=name), models, None if provider in failures else False))
    return ModelList(tuple(rows), failures)


def _row(provider: str, listed: "ListedModel", models: "list[Model]", is_listed: bool | None = True) -> OfferedModel:
    price = next((model.price_now for model in models if model.price_now is not None), None)
    input_price = listed.input_price if price is None else price.input
    out = listed.output_price if price is None else price.output
    unknown = input_price is None and out is None
    return OfferedModel(
        name=listed.name,
        provider=provider,
        label=models[0].label if models else None,
        labels=tuple([model.label for model in models]),
        context=next((model.context for model in models if model.context is not None), listed.context),
        input_price=input_price,
        output_price=out,
        currency=None if unknown else "USD" if price is None else price.currency,
        free=None if input_price is None or out is None else input_price == out == 0,
        inputs=next((model.inputs for model in models if model.inputs is not None), listed.inputs),
        outputs=listed.outputs,
        owner=listed.owner,
        listed=is_listed,
    )
