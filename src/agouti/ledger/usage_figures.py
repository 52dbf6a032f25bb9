"""Figures of a usage report: cost by day and model, budgets, and latencies by model."""

from datetime import date, timedelta
from typing import TYPE_CHECKING

from ..tables.figures import as_label, new_figure, style_of
from .usage_rows import FigureKind, UsageFacts, UsageRow

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# Of so many models each has a colour; what the others cost is one.
_MODELS = 6
# Of so many budgets a figure has room, the fullest first.
_BUDGETS = 12
OTHER_MODELS = "others"


def draw(report: UsageFacts, kind: FigureKind) -> "Figure":
    """The figure of that kind.

    Raises:
        ConfigError: Matplotlib is not installed.
    """
    if kind == "latency":
        figure, (axes,) = new_figure()
        _latencies(axes, report)
        return figure
    currencies = list(report.total.cost) or [""]
    figure, panels = new_figure(len(currencies) + bool(report.budgets))
    for axes, currency in zip(panels, currencies, strict=False):
        _costs(axes, report, currency)
    if report.budgets:
        _budgets(panels[-1], report)
    return figure


def _budgets(axes: "Axes", report: UsageFacts) -> None:
    """What is spent and put aside of each budget."""
    fullest = sorted(report.budgets, key=lambda each: -each.share)[:_BUDGETS]
    names = []
    for at, each in enumerate(reversed(fullest)):
        spent, reserved = (100 * float(part / each.amount) for part in (each.spent, each.reserved))
        axes.barh(at, spent, color="#0072b2", height=0.6, label="spent" if at == 0 else None)
        axes.barh(at, reserved, left=spent, color="#56b4e9", height=0.6, label="put aside" if at == 0 else None)
        amount_text = f"{each.amount.normalize():f} {each.unit}"
        name = f"{each.label}, {each.part}" if each.part else each.label
        names.append(as_label(f"{name}: {amount_text} a {each.per}"))
    axes.axvline(100, color="0.2", linewidth=1)
    axes.set_yticks(range(len(names)), names)
    axes.set_xlim(0, max(105.0, *[105 * each.share for each in fullest]))
    axes.set_xlabel("per cent of the budget")
    left_out = len(report.budgets) - len(fullest)
    axes.set_title(f"Budgets now, the {len(fullest)} fullest of {len(report.budgets)}" if left_out else "Budgets now")
    axes.legend(frameon=False, fontsize=9, loc="lower right", bbox_to_anchor=(0.93, 0.0))


def spent_by_day(report: UsageFacts, currency: str) -> tuple[list[date], dict[str, list[float]]]:
    """The days of a report, and what each model has cost on each; the dearest models first, all others as one."""
    days = [report.since + timedelta(days=at) for at in range((report.until - report.since).days + 1)]
    at = {day.isoformat(): number for number, day in enumerate(days)}
    costs: dict[str, list[float]] = {}
    for row in report.days:
        if currency in row.cost:
            spent = costs.setdefault(row.group["model"] or "", [0.0] * len(days))
            spent[at[row.group["day"] or ""]] += float(row.cost[currency])
    ordered = sorted(costs, key=lambda name: -sum(costs[name]))
    shown = {name: costs[name] for name in ordered[:_MODELS]}
    if remaining := ordered[_MODELS:]:
        shown[OTHER_MODELS] = [sum(each) for each in zip(*[costs[name] for name in remaining], strict=True)]
    return days, shown


def _costs(axes: "Axes", report: UsageFacts, currency: str) -> None:
    days, costs = spent_by_day(report, currency)
    bottoms = [0.0] * len(days)
    for name, spent in costs.items():
        colour = "0.6" if name == OTHER_MODELS else style_of(list(costs), name)[0]
        axes.bar(range(len(days)), spent, bottom=bottoms, width=0.8, color=colour, label=as_label(name))
        bottoms = [low + height for low, height in zip(bottoms, spent, strict=True)]
    step = max(1, round(len(days) / 8))
    axes.set_xticks(range(0, len(days), step), [f"{day.day} {day:%b}" for day in days[::step]])
    axes.set_ylim(0, max(bottoms, default=0.0) * 1.15 or 1)
    axes.set_ylabel(f"cost, {as_label(currency)}" if currency else "cost")
    axes.set_title(f"Cost by day and model, {report.since} to {report.until}")
    if costs:
        axes.legend(frameon=False, fontsize=9, ncols=len(costs), loc="upper left")
    else:
        axes.text(0.5, 0.5, "no price is known", ha="center", transform=axes.transAxes)


def _latencies(axes: "Axes", report: UsageFacts) -> None:
    from matplotlib.ticker import LogLocator, NullLocator

    rows: list[UsageRow] = [row for row in report.models if row.median is not None]
    rows.sort(key=lambda row: row.median or 0.0, reverse=True)
    for at, row in enumerate(rows):
        if row.median is None or row.p95 is None or row.p99 is None:
            continue
        axes.plot([row.median, row.p99], [at, at], color="0.6", linewidth=2, zorder=1)
        for value, mark, colour in ((row.median, "o", "#0072b2"), (row.p95, "s", "#e69f00"), (row.p99, "D", "#d55e00")):
            axes.plot(value, at, marker=mark, color=colour, linestyle="none")
    for name, mark, colour in (("median", "o", "#0072b2"), ("95 %", "s", "#e69f00"), ("99 %", "D", "#d55e00")):
        axes.plot([], [], marker=mark, color=colour, linestyle="none", label=name)
    axes.set_yticks(range(len(rows)), [f"{as_label(row.group['model'] or '')} ({row.calls:,})" for row in rows])
    axes.set_xscale("log")
    axes.xaxis.set_major_locator(LogLocator(subs=(1, 2, 5)))
    axes.xaxis.set_major_formatter("{x:g}")
    axes.xaxis.set_minor_locator(NullLocator())
    axes.set_xlabel("seconds to the whole answer (so many per cent took no longer)")
    axes.set_title(f"Latency by model, {report.since} to {report.until}")
    if rows:
        axes.set_ylim(-0.6, len(rows) - 0.1)
        axes.legend(frameon=False, fontsize=9, ncols=3, loc="upper left")
    else:
        axes.text(0.5, 0.5, "nothing was answered", ha="center", transform=axes.transAxes)
