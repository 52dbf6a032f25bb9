"""Probes on the command line: the cost before, the findings, and what is written into the entries."""

import json
import sys
from pathlib import Path

import click

from ..client.client import Client
from ..config.edit import set_values
from ..config.entries import Config
from ..core.errors import ConfigError
from ..core.secrets.masking import printable
from ..services.probe.probe_model import plan, probe
from ..services.probe.types import ProbeResult
from .terminal_text import colour, paint, show_json

_MARKS = {True: ("ok", "green"), False: ("WRONG", "red"), None: ("-", "yellow")}


def probe_models(client: Client, labels: tuple[str, ...], *, max_cost: float | None, write: bool, as_json: bool) -> int:
    """Probe these models, or every model of the configuration once; 1 where something claimed is not done."""
    config = client.config
    results = []
    selected = labels or tuple(_each_once(config))
    if not labels and len(selected) > 1 and not _is_confirmed(client, selected):
        return 1
    for label in selected:
        expected = plan(client, label)
        cost = "no price is known" if expected.cost is None else f"{expected.cost:.4f} {expected.currency}"
        click.echo(
            f"{label}: at most {expected.requests} requests, {expected.input_tokens:,} tokens in and "
            f"{expected.output_tokens:,} out: {cost}",
            err=True,
        )
        result = probe(client, label, max_cost=max_cost)
        results.append(result)
        if not as_json:
            _show(result)
        if write:
            _write(config, result)
        elif result.settings and not as_json:
            parts = ", ".join(f"{name} = {json.dumps(value)}" for name, value in result.settings.items())
            click.echo(f"  (for the entry: {parts}; --write puts it there)", err=True)
    if as_json:
        rows = [
            {"label": each.label, "provider": each.provider, "name": each.name, "cost": each.cost, **each_rows(each)}
            for each in results
        ]
        show_json(rows)
    return 1 if any(result.lies for result in results) else 0


def _is_confirmed(client: Client, labels: tuple[str, ...]) -> bool:
    """Whether all models are to be asked: what it may cost is said, and whoever is there is asked."""
    plans = [plan(client, label) for label in labels]
    costs: dict[str, float] = {}
    for each in plans:
        if each.cost is not None and each.currency is not None:
            costs[each.currency] = costs.get(each.currency, 0.0) + each.cost
    parts = [f"{amount:.4f} {currency}" for currency, amount in costs.items()]
    parts += ["an unknown amount" for each in plans if each.cost is None][:1]
    tokens = sum(each.input_tokens + each.output_tokens for each in plans)
    click.echo(f"{len(labels)} models, at most {tokens:,} tokens: {' and '.join(parts)}", err=True)
    return not sys.stdin.isatty() or click.confirm("Ask them all?", err=True)


def each_rows(result: ProbeResult) -> dict[str, object]:
    """The rows of a result, and what they amount to."""
    return {"rows": result.records(), "settings": result.settings}


def _each_once(config: Config) -> list[str]:
    """A label for every model: not those that only persuade it to be somebody."""
    labels = {
        (model.provider, model.name): model.label for model in reversed(config.models.values()) if not model.extends
    }
    return list(reversed(labels.values()))


def _show(result: ProbeResult) -> None:
    width = max(len(row.what) for row in result)
    click.echo(f"{paint(result.label, bold=True)}  {printable(result.name)} at {result.provider}")
    for row in result:
        mark, shade = _MARKS[row.ok]
        mark = paint(f"{mark:5}", fg=shade) if colour() else f"{mark:5}"
        click.echo(f"  {mark}  {row.what:{width}}  {row.found:8}  {printable(row.detail)}".rstrip())
    cost = "" if result.cost is None else f": {result.cost:.6f} {result.currency}"
    unmet = len(result.lies)
    ending = f"{unmet} of {len(result)} claimed and not done" if unmet else "all that is claimed is done"
    click.echo(f"  {ending}", nl=True)
    click.echo(
        f"  ({result.usage.input_tokens or 0:,} tokens in, {result.usage.output_tokens or 0:,} out{cost})", err=True
    )


def _write(config: Config, result: ProbeResult) -> None:
    label = result.label
    while label in config.models and config.models[label].extends:
        label = config.models[label].extends  # what the model can do stands where the model is named
    origin = config.origins.of("models", label) if config.origins is not None else None
    if origin is None or origin.kind != "file":
        raise ConfigError(
            f"the entry of {label} stands in no file", hint=f"Put it in by hand: {json.dumps(result.settings)}"
        )
    changed = set_values(Path(origin.name), "models", label, result.settings)
    click.echo(f"  ({origin.name}: {label} {'has it now' if changed else 'had it already'})", err=True)
