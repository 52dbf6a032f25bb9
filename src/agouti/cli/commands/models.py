"""``agouti models``: what all providers offer, joined with the entries."""

import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import click
from msgspec import structs

from ...calls.calls import calls_of
from ...client.client import Client
from ...config.edit import set_values
from ...config.entries import Config, Model
from ...core.canonical.usage import Price
from ...core.errors import ConfigError
from ...core.secrets.masking import printable
from ...dialects.wire import ListedModel
from ...replies.model_list import ModelList, joined
from ...services import run
from ..aligned_columns import show_columns
from ..app import Settings
from ..label_completion import PROVIDER
from ..model_cache import ModelCache
from ..terminal_text import show_json


@click.command("models")
@click.argument("text", required=False)
@click.option("--provider", metavar="LABEL", type=PROVIDER, help="Only the models of this provider.")
@click.option("--free", is_flag=True, help="Only those that cost nothing.")
@click.option("--input", "inputs", metavar="KIND", multiple=True, help="Only those that take it, such as image.")
@click.option("--min-context", type=int, metavar="N", help="Only those with a context window of N tokens.")
@click.option("--sort", type=click.Choice(["name", "price", "context"]), default="name", show_default=True)
@click.option("--refresh", is_flag=True, help="Ask the providers again, also where a list of today is there.")
@click.option("--write", is_flag=True, help="Write prices and context windows that were found into the entries.")
@click.option("--json", "as_json", is_flag=True, help="Print the rows as JSON.")
@click.pass_obj
def command(
    app: Settings,
    text: str | None,
    provider: str | None,
    free: bool,
    inputs: tuple[str, ...],
    min_context: int | None,
    sort: str,
    refresh: bool,
    write: bool,
    as_json: bool,
) -> int:
    """List the models of all providers whose name, label, provider or owner has TEXT in it.

    Prices are per million tokens. Lists are kept for a day.
    """
    from platformdirs import user_cache_path

    with Client(app.config) as client:
        config = client.config
        if provider is not None:
            config.provider(provider)
        cache = ModelCache(config, user_cache_path("agouti"))
        known = {} if refresh else cache.known()
        labels = [label for label in config.providers if label not in known and provider in (None, label)]
        fetched, failures = run(client, calls_of(client).lists(labels))
        cache.keep(fetched)
    lists = {**{label: each.models for label, each in known.items()}, **fetched}
    offered = joined(config, {label: lists[label] for label in config.providers if label in lists}, failures)
    if write:
        _write(config, {label: each for label, each in lists.items() if provider in (None, label)})
    selected = offered.where(
        text=text, provider=provider, free=True if free else None, inputs=inputs, min_context=min_context
    ).sorted(sort)  # type: ignore[arg-type]
    if as_json:
        show_json(selected.records())
    elif len(selected):
        _show(selected)
    else:
        _remark("no model is known to have all that; leave a filter out" if len(offered) else "no model at all")
    for label, error in failures.items():
        _remark(f"{label}: {error.message}" + (f" - {error.hint}" if error.hint else ""))
    ages = [time.time() - each.at for label, each in known.items() if provider in (None, label)]
    if ages:
        of = "1 provider" if len(ages) == 1 else f"{len(ages)} providers"
        _remark(f"lists of {of} are kept from {_age(max(ages))} ago; --refresh asks again")
    return 1 if failures and not any(row.listed for row in offered) else 0


def _show(models: ModelList) -> None:
    rows = [
        (
            row.label or "",
            row.name,
            row.provider,
            "" if row.context is None else f"{row.context:,}",
            _price(row.input_price),
            _price(row.output_price),
            "" if row.free or row.currency is None else row.currency,
            ", ".join(row.inputs or ()),
            row.owner or "",
        )
        for row in models
    ]
    names = ("label", "name", "provider", "context", "in", "out", "", "takes", "owner")
    filled_columns = [at for at in range(len(names)) if any(row[at] for row in rows)]
    right = [filled_columns.index(at) for at in (3, 4, 5) if at in filled_columns]
    show_columns(
        [names[at] for at in filled_columns], [[row[at] for at in filled_columns] for row in rows], right=right
    )


def _price(price: float | None) -> str:
    if price is None:
        return ""
    return "free" if price == 0 else f"{price:.2f}" if price >= 0.1 else f"{price:.4f}".rstrip("0")


def _age(seconds: float) -> str:
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.0f} h"


def _write(config: Config, lists: Mapping[str, tuple[ListedModel, ...]]) -> None:
    """Write what the lists say of price and context into the entries of their models."""
    changed = 0
    for model in config.models.values():
        if model.extends or model.provider not in lists:
            continue  # what it is like has the values
        listed = next((each for each in lists[model.provider] if each.name == model.name), None)
        values = {} if listed is None else _found(model, listed)
        if not values:
            continue
        origin = config.origins.of("models", model.label) if config.origins is not None else None
        if origin is None or origin.kind != "file":
            raise ConfigError(f"the entry of {model.label} stands in no file", hint="Put the price in by hand.")
        if set_values(Path(origin.name), "models", model.label, values):
            changed += 1
            text = ", ".join(f"{name} = {_text_of(value)}" for name, value in values.items())
            _remark(f"{origin.name}: {model.label} has {text}")
    if not changed:
        _remark("nothing to write: the entries have what the lists say")


def _found(model: Model, listed: ListedModel) -> dict[str, Any]:
    values: dict[str, Any] = {}
    if listed.input_price is not None and listed.output_price is not None:
        price = Price(input=listed.input_price, output=listed.output_price)
        old = model.price_now
        if old is None:
            values["price"] = {"input": price.input, "output": price.output, "currency": price.currency}
        elif old.currency == price.currency and (old.input, old.output) != (price.input, price.output):
            if not isinstance(model.price, Price) or old.since is not None:
                _remark(
                    f"{model.label}: the list says input {price.input:g}, output {price.output:g}; the entry has "
                    "prices by date: add one with since = the day from which it holds"
                )
            else:  # all that the list does not say stays as it is
                changed = structs.replace(old, input=price.input, output=price.output)
                values["price"] = _without_defaults(changed)
    if model.context is None and listed.context is not None and listed.context > 0:
        values["context"] = listed.context
    return values


def _without_defaults(price: Price) -> dict[str, Any]:
    no_price = Price(0.0, 0.0)
    named = ("input", "output", "currency")
    return {
        name: getattr(price, name)
        for name in Price.__struct_fields__
        if name in named or getattr(price, name) != getattr(no_price, name)
    }


def _text_of(value: Any) -> str:
    return ", ".join(f"{name} {each}" for name, each in value.items()) if isinstance(value, dict) else str(value)


def _remark(text: str) -> None:
    click.echo(f"  ({printable(text)})", err=True)
