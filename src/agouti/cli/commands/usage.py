"""``agouti usage``: what was asked, taken and spent, from the ledger."""

from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from typing import Any

import click
import msgspec

from ...config.load import load
from ...core.errors import ConfigError
from ...ledger.store import open_ledger
from ...ledger.usage import WHY_UNPRICED, PlanUsage, UsageReport, UsageRow, record_of, usage_of
from ..app import Settings
from ..columns import show_columns
from ..text import show_json


@click.command("usage")
@click.option("--this-month", is_flag=True, help="From the first of this month to today; so it is by default.")
@click.option("--last-month", is_flag=True, help="The whole month before.")
@click.option("--since", metavar="DAY", help="From this day on, such as 2026-11-01.")
@click.option("--until", metavar="DAY", help="Up to and with this day.")
@click.option(
    "--by", metavar="COLUMNS", default="day,model", show_default=True, help="Of day, model, provider, label, tag:NAME."
)
@click.option("--out", metavar="FILE", help="Write a .csv, .jsonl or .parquet file, a page (.html) or a figure (.png).")
@click.option("--attempts", is_flag=True, help="Write a row for each single request into --out, not sums.")
@click.option("--forget-before", metavar="DAY", help="Take out the rows of single requests before a day; sums stay.")
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
    if forget_before is not None and (out is not None or as_json or this_month or last_month or since or until):
        raise click.UsageError("--forget-before shows nothing: leave the other options out")
    gone = _day("--forget-before", forget_before)
    config = load(app.config)
    if config.ledger is None:
        raise ConfigError("there is no ledger", hint='Write [ledger] and store = "usage.sqlite" into agouti.toml.')
    first, last = _days(last_month, since, until)
    columns = [each.strip() for each in by.split(",") if each.strip()]
    ledger = open_ledger(config.ledger, reading=True)
    try:
        if gone is not None:
            count = ledger.forget(_begins(gone))
            click.echo(
                f"{count:,} rows of single requests before {gone} are gone; the sums of their days stay", err=True
            )
            return
        report = usage_of(ledger, first, last, columns, config.plans.values())
        if attempts and out is not None:
            from ...ledger.export import export

            span = (_begins(report.since), _begins(report.until + timedelta(days=1)))
            click.echo(f"{export(ledger.attempts(*span), out):,} rows in {out}", err=True)
            return
    finally:
        ledger.close()
    if out is not None:
        report.save(out)
    if as_json:
        shown = {
            "since": report.since.isoformat(),
            "until": report.until.isoformat(),
            "rows": [_as_json(row) for row in report],
            "total": _as_json(report.total),
            "plans": [{**msgspec.to_builtins(plan), "share": plan.share} for plan in report.plans],
        }
        show_json(shown)
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
    record = {name: value for name, value in record_of(row).items() if not name.startswith("cost_")}
    return {**record, "cost": {currency: float(amount) for currency, amount in row.cost.items()}}


def _show(report: UsageReport, columns: list[str]) -> None:
    click.echo(f"{report.since} to {report.until}, by days of UTC\n")
    names = [*columns, "calls", "failed", "left", "in", "out", "cached", "thinking", "cost", "median, s", "95 %, s"]
    rows = [[*[row.group[each] or "" for each in columns], *_cells(row)] for row in report]
    if rows:
        rows.append([*["total", *[""] * (len(columns) - 1)][: len(columns)], *_cells(report.total)])
    kept = [at for at in range(len(names)) if at < len(columns) or any(row[at] for row in rows)]
    if rows:
        show_columns(
            [names[at] for at in kept],
            [[row[at] for at in kept] for row in rows],
            right=[number for number, at in enumerate(kept) if at >= len(columns)],
        )
    else:
        click.echo("nothing was used in these days")
    for plan in report.plans:
        _show_plan(plan)
    if report.total.unpriced:
        click.echo(f"  (the cost of {report.total.unpriced} calls is not known: {WHY_UNPRICED})", err=True)
    if report.total.estimated:
        click.echo(
            f"  (the tokens of {report.total.estimated} calls are estimated: they were left before their end)", err=True
        )


def _show_plan(plan: PlanUsage) -> None:
    money = plan.currency
    more = f"; {plan.overage:.2f} {money} beyond it".rstrip() if plan.overage else ""
    expected = f", {plan.expected_overage:.2f} {money} beyond it then".rstrip() if plan.expected_overage else ""
    used = f"{plan.used:,} of {plan.tokens:,} tokens ({plan.share:.0%}) since {plan.since}"
    click.echo(f"plan of {plan.provider}: {used}{more}; about {plan.expected:,} by {plan.until}{expected}")


def _cells(row: UsageRow) -> list[str]:
    return [
        f"{row.calls:,}",
        f"{row.failures:,}" if row.failures else "",
        f"{row.abandoned:,}" if row.abandoned else "",
        f"{row.input_tokens:,}",
        f"{row.output_tokens:,}",
        f"{row.cached_tokens:,}" if row.cached_tokens else "",
        f"{row.reasoning_tokens:,}" if row.reasoning_tokens else "",
        ", ".join(f"{_money(amount)} {currency}" for currency, amount in row.cost.items()),
        "" if row.median is None else f"{row.median:.2f}",
        "" if row.p95 is None else f"{row.p95:.2f}",
    ]


def _money(amount: Decimal) -> str:
    return f"{amount:.2f}" if amount >= 100 else f"{amount:.6f}"
