"""Figures of a comparison, drawn with Matplotlib."""

from typing import TYPE_CHECKING

from ...tables.figures import as_label, new_figure, style_of
from .rows import parameters_text
from .summaries import ComparisonFacts, FigureKind, ModelSummary

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


def draw(comparison: ComparisonFacts, kind: FigureKind) -> "Figure":
    """The figure of that kind.

    Raises:
        ConfigError: Matplotlib is not installed.
    """
    if kind == "spread":
        figure, (axes,) = new_figure()
        _spread(axes, comparison)
        return figure
    summary = [row for row in comparison.summary if row.seconds is not None]
    currencies = sorted({row.currency for row in summary if row.currency is not None and row.cost is not None})
    figure, every = new_figure(max(len(currencies), 1))
    labels = list(dict.fromkeys(row.label for row in summary))
    for number, axes in enumerate(every):
        currency = currencies[number] if currencies else ""
        # Amounts of different currencies are never laid along one axis; what has no price stands in the first.
        rows = [row for row in summary if (row.currency if row.cost is not None else None) in (currency, None)]
        rows = [row for row in rows if row.cost is not None or not number]
        _time_and_cost(axes, rows, labels, currency)
    return figure


def _time_and_cost(axes: "Axes", summary: list[ModelSummary], labels: list[str], currency: str) -> None:
    """Seconds to the whole answer against the cost of a thousand answers; bars are 95 % intervals.

    Those without a price stand in a strip of their own: what is unknown is not free.
    """
    costs = [None if row.cost is None else row.cost / max(row.answers, 1) * 1000 for row in summary]
    dearest = max((cost for cost in costs if cost is not None), default=0.0) or 1.0
    unknown = 0
    for row, cost in zip(summary, costs, strict=True):
        colour, mark = style_of(labels, row.label)
        if cost is None:
            unknown += 1
            cost = -dearest * (0.08 + 0.04 * unknown)
        if (seconds := row.seconds) is None:
            continue
        ends = None
        if seconds.low is not None and seconds.high is not None:
            ends = [[seconds.value - max(seconds.low, 0.0)], [seconds.high - seconds.value]]
        axes.errorbar(
            cost, seconds.value, yerr=ends, fmt=mark, color=colour, capsize=3, markersize=8, label=as_label(_name(row))
        )
    left_edge = -dearest * (0.05 if not unknown else 0.16 + 0.04 * unknown)
    if unknown:
        axes.axvspan(left_edge, -0.08 * dearest, color="0.5", alpha=0.12)
        axes.text(left_edge, 0.02, " no price is known", transform=axes.get_xaxis_transform(), fontsize=9)
    axes.set_xlim(left_edge, 1.1 * dearest)
    axes.set_ylim(bottom=0)
    axes.set_xlabel(f"cost of 1,000 answers ({currency or 'no price is known'})")
    axes.set_ylabel("seconds to the whole answer")
    axes.set_title("Time against cost")
    axes.set_xticks([tick for tick in axes.get_xticks() if 0 <= tick <= 1.1 * dearest])
    if summary:
        axes.legend(frameon=False, fontsize=9)


def _spread(axes: "Axes", comparison: ComparisonFacts) -> None:
    """How alike repeated answers are, by temperature."""
    labels = list(dict.fromkeys(row.label for row in comparison.summary))
    drawn = False
    for label in labels:
        points = sorted(
            (float(row.parameters.get("temperature") or 0.0), row.similarity)
            for row in comparison.summary
            if row.label == label and row.similarity is not None
        )
        if points:
            colour, mark = style_of(labels, label)
            axes.plot([x for x, _ in points], [y for _, y in points], marker=mark, color=colour, label=as_label(label))
            drawn = True
    axes.set_xlabel("temperature")
    axes.set_ylabel("how alike answers to one prompt are")
    axes.set_ylim(0, 1.05)
    axes.set_title("Spread between repetitions")
    if drawn:
        axes.legend(frameon=False)
    else:
        axes.text(0.5, 0.5, "no prompt was asked twice: repeats=2", ha="center", transform=axes.transAxes)


def _name(row: ModelSummary) -> str:
    parameters = parameters_text(row.parameters)
    return f"{row.label}, {parameters}" if parameters else row.label
