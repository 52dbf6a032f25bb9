"""A provider's bill beside the ledger, by day and model."""

import csv
from collections.abc import Iterable
from datetime import date, datetime
from decimal import Decimal, InvalidOperation
from pathlib import Path

from msgspec import Struct

from ..core.errors import RequestError
from .usage import UsageReport

# What the columns of bills are called, in small letters.
_DAYS = ("day", "date", "usage date", "usage_date", "start", "start_time")
_MODELS = ("model", "name", "sku", "description", "line item", "line_item")
_AMOUNTS = ("cost", "amount", "total", "cost_usd", "amount_usd", "price", "charge")


class InvoiceLine(Struct, frozen=True, kw_only=True):
    """What a bill and the ledger say of a day and a model.

    Attributes:
        day, model: as both name them.
        calls: requests in the ledger.
        billed: what the bill says.
        cost: what the ledger says.
        difference: by how much the bill is higher.
    """

    day: str
    model: str
    calls: int
    billed: Decimal
    cost: Decimal
    difference: Decimal


def read_invoice(path: str) -> dict[tuple[str, str], Decimal]:
    """The amounts of a bill in CSV, by day and model; it needs columns for the day, the model and the amount.

    Raises:
        RequestError: it cannot be read; names the line.
    """
    try:
        text = Path(path).read_text(encoding="utf-8-sig")
    except (OSError, UnicodeError) as error:
        raise RequestError(f"{path} cannot be read ({error})", hint="Name a file of CSV in UTF-8.") from None
    rows = list(csv.reader(text.splitlines()))
    heads = [head.strip().lower() for head in rows[0]] if rows else []
    columns = [next((heads.index(name) for name in names if name in heads), -1) for names in (_DAYS, _MODELS, _AMOUNTS)]
    if -1 in columns:
        raise RequestError(
            f"{path} has no columns for day, model and cost",
            hint="Give it a first line with the names day, model and cost.",
        )
    found: dict[tuple[str, str], Decimal] = {}
    for number, row in enumerate(rows[1:], 2):
        if not any(row):
            continue
        try:
            day, model, amount = (row[column].strip() for column in columns)
            key = (_day(day), model)
            found[key] = found.get(key, Decimal(0)) + _amount(amount)
        except (IndexError, ValueError, InvalidOperation):
            raise RequestError(
                f"line {number} of {path} is no line of a bill: {','.join(row)[:80]}",
                hint="It takes a day such as 2026-11-01, a model, and an amount with a point.",
            ) from None
    return found


def _day(text: str) -> str:
    try:
        return date.fromisoformat(text[:10]).isoformat()
    except ValueError:
        return datetime.fromisoformat(text).date().isoformat()


def _amount(text: str) -> Decimal:
    value = Decimal(text.strip("$\N{EURO SIGN} ").replace(",", ""))
    if not value.is_finite():
        raise ValueError(text)
    return value


def compared(report: UsageReport, invoice: dict[tuple[str, str], Decimal]) -> list[InvoiceLine]:
    """The bill and the ledger side by side, the days of the report alone; a line for what stands in either."""
    own_sums: dict[tuple[str, str], tuple[int, Decimal]] = {}
    for row in report.days:
        key = (row.group["day"] or "", row.group["model"] or "")
        calls, cost = own_sums.get(key, (0, Decimal(0)))
        own_sums[key] = (calls + row.calls, cost + sum(row.cost.values(), Decimal(0)))
    days = (report.since.isoformat(), report.until.isoformat())
    keys: Iterable[tuple[str, str]] = sorted({*own_sums, *[key for key in invoice if days[0] <= key[0] <= days[1]]})
    lines = []
    for key in keys:
        calls, cost = own_sums.get(key, (0, Decimal(0)))
        billed = invoice.get(key, Decimal(0))
        lines.append(
            InvoiceLine(day=key[0], model=key[1], calls=calls, billed=billed, cost=cost, difference=billed - cost)
        )
    return lines
