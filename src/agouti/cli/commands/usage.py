"""``agouti usage``: what was asked, taken and spent, from the ledger."""

from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from typing import Any

import click
import msgspec

from ...config.load import load
from ...core.errors import ConfigError
from ...ledger.budget_status import BudgetStatus, in_words, most_used
from ...ledger.budgets import states_of
from ...ledger.invoice import InvoiceLine, compared, read_invoice
from ...ledger.open import open_ledger
from ...ledger.store import relay_ledger
from ...ledger.usage import UsageReport, usage_of
from ...ledger.usage_rows import WHY_ESTIMATED, WHY_UNPRICED, PlanUsage, UsageRow, record_of
from ..aligned_columns import show_columns
from ..app import Settings
from ..terminal_text import show_json


@click.command("usage")
@click.option("--this-month", is_flag=True, help="From the first of this month to today; so it is by default.")
@click.option("--last-month", is_flag=True, help="The whole month before.")
@click.option("--since", metavar="DAY", help="From this day on, such as 2026-11-01.")
@click.option("--until", metavar="DAY", help="Up to and with this day.")
@click.option(
    "--by",
    metavar="COLUMNS",
    default="day,model",
    show_default=True,
    help="Of day, model, provider, label, operation, key, error, tag:NAME.",
)
@click.option("--out", metavar="FILE", help="Write a .csv, .jsonl or .parquet file, a page (.html) or a figure (.png).")
@click.option("--attempts", is_flag=True, help="Write a row for each single request into --out, not sums.")
@click.option("--forget-before", metavar="DAY", help="Take out the rows of single requests before a day; sums stay.")
@click.option("--thin-before", metavar="DAY", help="Add up the sums of the days before a day, whatever their tags.")
@click.option("--invoice", metavar="FILE", help="Lay a provider's bill in CSV beside the ledger, by day and model.")
@click.option("--json", "as_json", is_flag=True, help="Print rows and total as JSON.")
@click.pass_obj
def command(
    app: Settings,
    this_month: bool,
    last_month: bool,
    since: str | None,
    until: str | None,
    by: str,
    out: str | None,
    attempts: bool,
    forget_before: str | None,
    thin_before: str | None,
    invoice: str | None,
    as_json: bool,
) -> None:
    """Show what was used and spent, by days of UTC; the ledger is [ledger] store of the configuration.

    Calls count each request that was sent, those that were repeated too. Cost that is not known is in no sum.
    """
    if sum([this_month, last_month, since is not None or until is not None]) > 1:
        raise click.UsageError("--this-month, --last-month and --since with --until exclude each other")
    if attempts and out is None:
        raise click.UsageError("--attempts writes a file: name it with --out")
    if attempts and as_json:
        raise click.UsageError("--attempts writes a file, and --json prints sums: leave one of them out")
    has_other_options = out is not None or as_json or this_month or last_month or since or until or invoice is not None
    for name, value in (("--forget-before", forget_before), ("--thin-before", thin_before)):
        if value is not None and has_other_options:
            raise click.UsageError(f"{name} shows nothing: leave the other options out")
    if invoice is not None and (attempts or out is not None):
        raise click.UsageError("--invoice prints a table of its own: leave --out and --attempts out")
    forget_day, thin = _day("--forget-before", forget_before), _day("--thin-before", thin_before)
    config = load(app.config)
    settings = config.ledger or relay_ledger(config)
    if settings is None:
        raise ConfigError("there is no ledger", hint='Write [ledger] and store = "usage.sqlite" into agouti.toml.')
    first, last = _days(last_month, since, until)
    columns = [each.strip() for each in by.split(",") if each.strip()]
    ledger = open_ledger(settings, reading=forget_day is None and thin is None)
    try:
        if forget_day is not None:
            count = ledger.forget(_begins(forget_day))
            click.echo(
                f"{count:,} rows of single requests before {forget_day} are gone; the sums of their days stay", err=True
            )
        if thin is not None:
            count = ledger.thin(thin)
            click.echo(f"{count:,} sums of days before {thin} are added to others; their tags are gone", err=True)
        if forget_day is not None or thin is not None:
            return
        report = usage_of(ledger, first, last, columns, config.plans.values(), budgets=states_of(config, [], ledger))
        if attempts and out is not None:
            from ...ledger.export import export

            span = (_begins(report.since), _begins(report.until + timedelta(days=1)))
            click.echo(f"{export(ledger.attempts(*span), out):,} rows in {out}", err=True)
            return
    finally:
        ledger.close()
    if invoice is not None:
        lines = compared(report, read_invoice(invoice))
        show_json([msgspec.to_builtins(each) for each in lines]) if as_json else _show_invoice(lines)
        return
    if out is not None:
        report.save(out)
    if as_json:
        table_rows = {
            "since": report.since.isoformat(),
            "until": report.until.isoformat(),
            "rows": [_as_json(row) for row in report],
            "total": _as_json(report.total),
            "plans": [{**msgspec.to_builtins(plan), "share": plan.share} for plan in report.plans],
            "budgets": [_budget_as_json(each) for each in report.budgets],
        }
        show_json(table_rows)
    else:
        _show(report, columns)


def _days(last_month: bool, since: str | None, until: str | None) -> tuple[date | None, date | None]:
    if last_month:
        last = datetime.now(UTC).date().replace(day=1) - timedelta(days=1)
        return last.replace(day=1), last
    return _day("--since", since), _day("--until", until)


def _day(option: str, text: str | None) -> date | None:
    if text is None:
        return None
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise click.UsageError(f"{option} takes a day such as 2026-11-01, not {text!r}") from None


def _begins(day: date) -> float:
    return datetime(day.year, day.month, day.day, tzinfo=UTC).timestamp()


def _as_json(row: UsageRow) -> dict[str, Any]:
    amounts = ("cost", "provider_cost", "difference")
    prefixes = tuple([f"{name}_" for name in amounts])
    record = {name: value for name, value in record_of(row).items() if not name.startswith(prefixes)}
    values = {name: getattr(row, name) for name in amounts}
    return {**record, **{name: {unit: float(each) for unit, each in value.items()} for name, value in values.items()}}


def _budget_as_json(budget: BudgetStatus) -> dict[str, Any]:
    numbers = {name: float(getattr(budget, name)) for name in ("amount", "spent", "reserved", "left", "share")}
    return {**msgspec.to_builtins(budget), **numbers}


def _show(report: UsageReport, columns: list[str]) -> None:
    click.echo(f"{report.since} to {report.until}, by days of UTC\n")
    names = [*columns, "calls", "failed", "left", "cache", "unsent", "in", "out", "cached", "thinking", "cost"]
    names += ["by provider", "difference", "median, s", "95 %, s"]
    rows = [[*[row.group[each] or "" for each in columns], *_cells(row)] for row in report]
    if rows:
        rows.append([*["total", *[""] * (len(columns) - 1)][: len(columns)], *_cells(report.total)])
    filled_columns = [at for at in range(len(names)) if at < len(columns) or any(row[at] for row in rows)]
    if rows:
        show_columns(
            [names[at] for at in filled_columns],
            [[row[at] for at in filled_columns] for row in rows],
            right=[number for number, at in enumerate(filled_columns) if at >= len(columns)],
        )
    else:
        click.echo("nothing was used in these days")
    if report.budgets:
        click.echo()
    for budget, further in most_used(report.budgets):
        click.echo(in_words(budget))
        if further:
            click.echo(f"  and {further:,} more parts of budget {budget.label}, less used")
    for plan in report.plans:
        _show_plan(plan)
    if report.total.unpriced:
        click.echo(f"  (the cost of {report.total.unpriced} calls is not known: {WHY_UNPRICED})", err=True)
    if report.total.estimated:
        click.echo(f"  (the tokens of {report.total.estimated} calls are estimated: {WHY_ESTIMATED})", err=True)


def _show_invoice(lines: list[InvoiceLine]) -> None:
    show_columns(
        ["day", "model", "calls", "bill", "ledger", "difference"],
        [
            [
                each.day,
                each.model,
                f"{each.calls:,}",
                f"{each.billed:.6f}",
                f"{each.cost:.6f}",
                f"{each.difference:+.6f}",
            ]
            for each in lines
        ],
        right=[2, 3, 4, 5],
    )


def _show_plan(plan: PlanUsage) -> None:
    money = plan.currency
    further = f"; {plan.overage:.2f} {money} beyond it".rstrip() if plan.overage else ""
    expected = f", {plan.expected_overage:.2f} {money} beyond it then".rstrip() if plan.expected_overage else ""
    used = f"{plan.used:,} of {plan.tokens:,} tokens ({plan.share:.0%}) since {plan.since}"
    click.echo(f"plan of {plan.provider}: {used}{further}; about {plan.expected:,} by {plan.until}{expected}")


def _cells(row: UsageRow) -> list[str]:
    return [
        f"{row.calls:,}",
        f"{row.failures:,}" if row.failures else "",
        f"{row.abandoned:,}" if row.abandoned else "",
        f"{row.cached_answers:,}" if row.cached_answers else "",
        f"{row.unsent:,}" if row.unsent else "",
        f"{row.input_tokens:,}",
        f"{row.output_tokens:,}",
        f"{row.cached_tokens:,}" if row.cached_tokens else "",
        f"{row.reasoning_tokens:,}" if row.reasoning_tokens else "",
        ", ".join(f"{_money(amount)} {currency}" for currency, amount in row.cost.items()),
        ", ".join(f"{_money(amount)} {currency}" for currency, amount in row.provider_cost.items()),
        ", ".join(f"{amount:+.6f}" for amount in row.difference.values()),
        "" if row.median is None else f"{row.median:.2f}",
        "" if row.p95 is None else f"{row.p95:.2f}",
    ]


def _money(amount: Decimal) -> str:
    return f"{amount:.2f}" if amount >= 100 else f"{amount:.6f}"
