"""The page of a usage report: one HTML file that needs no network."""

from decimal import Decimal
from math import floor, log10

from ..tables.figures import COLOURS
from ..tables.html_page import as_html, document, number_cell, sortable, text_cell
from .budget_status import BudgetStatus, in_words, most_used
from .usage_figures import OTHER_MODELS, spent_by_day
from .usage_rows import WHY_ESTIMATED, WHY_UNPRICED, PlanUsage, UsageFacts, UsageRow

_STYLE = """
.facts { display: flex; flex-wrap: wrap; gap: .6rem 1rem; margin: .8rem 0; }
.facts div { background: var(--soft); border-radius: .4rem; padding: .5rem .8rem; }
.facts strong { display: block; font-size: 1.2rem; font-variant-numeric: tabular-nums; }
svg { max-width: 60rem; width: 100%; height: auto; } svg text { fill: var(--ink); font: 11px system-ui, sans-serif; }
svg line { stroke: var(--line); }
.key { display: inline-block; width: .8em; height: .8em; border-radius: .15em; margin: 0 .35em 0 .9em; }
meter { width: 16rem; max-width: 100%; }
"""
_STEPS = (1, 1.5, 2, 3, 4, 5, 6, 8, 10)
_WIDE, _HIGH, _MARGIN_LEFT, _MARGIN_BOTTOM = 960, 240, 60, 24


def page(report: UsageFacts) -> str:
    """The page as HTML."""
    title = f"Usage {report.since} to {report.until}"
    charts = "".join(_chart(report, currency) for currency in report.total.cost)
    plans = "".join(_plan(plan) for plan in report.plans)
    remarks = []
    if report.total.unpriced:
        remarks.append(f"The cost of {report.total.unpriced:,} calls is not known: {WHY_UNPRICED}.")
    if report.total.estimated:
        remarks.append(f"The tokens of {report.total.estimated:,} calls are estimated: {WHY_ESTIMATED}.")
    text = "".join(f'<p class="small">{each}</p>' for each in ["Days are those of UTC.", *remarks])
    budgets = "".join(_budget(each, further) for each, further in most_used(report.budgets))
    budgets = f"<h2>Budgets</h2>{budgets}" if budgets else ""
    return document(
        title, title, f"{_facts(report.total)}{charts}{budgets}{plans}<h2>Details</h2>{_table(report)}{text}", _STYLE
    )


def money(amount: Decimal) -> str:
    """An amount as it is shown."""
    return f"{amount:,.2f}" if amount >= 1 else f"{amount:.6f}"


def _facts(total: UsageRow) -> str:
    facts = [(f"{total.calls:,}", "calls"), (f"{total.failures:,}", "of them failed")]
    facts += [(f"{total.cached_answers:,}", "answers from the cache")] if total.cached_answers else []
    facts += [(f"{total.unsent:,}", "never sent")] if total.unsent else []
    facts += [(money(amount), f"{as_html(currency)} spent") for currency, amount in total.cost.items()]
    facts += [(f"{total.input_tokens:,}", "tokens in"), (f"{total.output_tokens:,}", "tokens out")]
    if total.cached_share:
        facts.append((f"{total.cached_share:.0%}", "of the input from caches"))
    if total.median is not None and total.p95 is not None:
        facts += [(f"{total.median:.2f} s", "median"), (f"{total.p95:.2f} s", "95 % took no longer")]
    return f'<div class="facts">{"".join(f"<div><strong>{value}</strong>{name}</div>" for value, name in facts)}</div>'


def _chart(report: UsageFacts, currency: str) -> str:
    """Bars of the cost by day; each says what it is to whoever points at it or has it read out."""
    days, costs = spent_by_day(report, currency)
    names = list(costs)
    highest = _round(max((sum(each) for each in zip(*costs.values(), strict=True)), default=0.0))
    step = (_WIDE - _MARGIN_LEFT) / len(days)
    bars, lines = [], []
    for share in (0, 0.5, 1):
        y = (_HIGH - _MARGIN_BOTTOM) * (1 - share) + 8
        lines.append(f'<line x1="{_MARGIN_LEFT}" x2="{_WIDE}" y1="{y:.1f}" y2="{y:.1f}"/>')
        lines.append(f'<text x="{_MARGIN_LEFT - 6}" y="{y + 4:.1f}" text-anchor="end">{_tick(highest * share)}</text>')
    every = max(1, round(len(days) / 10))
    for at, day in enumerate(days):
        low = 0.0
        for name in names:
            if spent := costs[name][at]:
                high = (_HIGH - _MARGIN_BOTTOM) * spent / highest
                y = (_HIGH - _MARGIN_BOTTOM) * (1 - low / highest) + 8 - high
                low += spent
                text = f"{day}, {as_html(name)}: {spent:.6f} {as_html(currency)}"
                left = _MARGIN_LEFT + at * step + step * 0.1
                position_style = f'x="{left:.1f}" y="{y:.1f}" width="{step * 0.8:.1f}" height="{high:.1f}"'
                bars.append(f'<rect {position_style} fill="{_colour(names, name)}"><title>{text}</title></rect>')
        if at % every == 0:
            middle = _MARGIN_LEFT + (at + 0.5) * step
            lines.append(f'<text x="{middle:.1f}" y="{_HIGH + 4}" text-anchor="middle">{day.day} {day:%b}</text>')
    keys = "".join(
        f'<span class="key" style="background:{_colour(names, name)}"></span>{as_html(name)}' for name in names
    )
    heading = f"Cost by day and model, {as_html(currency)}"
    return (
        f'<h2>{heading}</h2><svg viewBox="0 0 {_WIDE + 20} {_HIGH + 10}" role="img" aria-label="{heading}">'
        f"{''.join(lines)}{''.join(bars)}</svg><p>{keys}</p>"
    )


def _round(amount: float) -> float:
    """The next round amount: the top of a scale.

    >>> _round(0.0149), _round(7), _round(0)
    (0.015, 8.0, 1.0)
    """
    if amount <= 0:
        return 1.0
    power = 10.0 ** floor(log10(amount))
    return float(f"{next(each for each in _STEPS if each * power >= amount * 0.999999) * power:.6g}")


def _tick(amount: float) -> str:
    return "0" if not amount else f"{amount:.2g}" if amount < 100 else f"{amount:,.0f}"


def _colour(names: list[str], name: str) -> str:
    # Black, the last one, is not seen on a dark page.
    return "#808080" if name == OTHER_MODELS else COLOURS[names.index(name) % (len(COLOURS) - 1)]


def _plan(plan: PlanUsage) -> str:
    used = f"{plan.used:,} of {plan.tokens:,} tokens used since {plan.since}; about {plan.expected:,} by {plan.until}"
    if plan.expected_overage:
        used += f", {plan.expected_overage:.2f} {as_html(plan.currency)} beyond the plan then"
    # Green, yellow when it is nearly used, red beyond it.
    marks = f'low="{plan.tokens * 0.8:.0f}" high="{plan.tokens * 0.999:.0f}" optimum="0"'
    meter = f'<meter min="0" max="{plan.tokens}" {marks} value="{min(plan.used, plan.tokens)}">{plan.share:.0%}</meter>'
    return f"<h2>Plan of {as_html(plan.provider)}</h2><p>{meter} {plan.share:.0%}: {used}</p>"


def _budget(budget: BudgetStatus, further: int) -> str:
    # Green, yellow when it is nearly spent, red where nothing is left.
    marks = 'low="0.8" high="0.999" optimum="0"'
    meter = f'<meter min="0" max="1" {marks} value="{min(budget.share, 1):.4f}">{budget.share:.0%}</meter>'
    name = budget.label + (f", {budget.part}" if budget.part else "")
    others_text = f"<br>and {further:,} more parts, less used" if further else ""
    text = as_html(in_words(budget, short=True))
    return f"<p>{meter} <strong>{as_html(name)}</strong> {budget.share:.0%}: {text}{others_text}</p>"


def _table(report: UsageFacts) -> str:
    if not report.rows:
        return "<p>Nothing was used in these days.</p>"
    groups = list(report.rows[0].group)
    currencies = list(report.total.cost)
    heads = [*groups, "calls", "failed", "left", "tokens in", "cached", "tokens out", "thinking"]
    heads += [*[f"cost, {currency}" for currency in currencies], "median, s", "95 %, s", "99 %, s"]
    return sortable(heads, len(groups), [_cells(row, groups, currencies) for row in report.rows])


def _cells(row: UsageRow, groups: list[str], currencies: list[str]) -> str:
    counts = (row.calls, row.failures, row.abandoned, row.input_tokens, row.cached_tokens, row.output_tokens)
    cells = [text_cell(row.group[each] or "") for each in groups]
    cells += [number_cell(each, f"{each:,}") for each in (*counts, row.reasoning_tokens)]
    for currency in currencies:
        amount = row.cost.get(currency)
        cells.append(number_cell(None if amount is None else float(amount), "" if amount is None else money(amount)))
    cells += [number_cell(each, "" if each is None else f"{each:.2f}") for each in (row.median, row.p95, row.p99)]
    return "".join(cells)
