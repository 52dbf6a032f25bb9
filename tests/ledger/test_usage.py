"""Usage reports as pages and figures: of any words, any number of currencies, and of nothing."""

import re
from datetime import UTC, date, datetime, timedelta, timezone
from decimal import Decimal
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.ledger.budget_status import BudgetStatus
from agouti.ledger.rows import LedgerRow
from agouti.ledger.sqlite import SqliteLedger
from agouti.ledger.usage import usage_of
from agouti.ledger.usage_figures import OTHER_MODELS, spent_by_day
from agouti.standins.history import write_history

DAY = datetime(2026, 3, 14, 12, tzinfo=UTC).timestamp()


def report_of(store: Path, **asked: Any) -> Any:
    config = {
        "providers": {"nb": {"address": "http://localhost:1/v1"}},
        "ledger": {"store": str(store)},
        "plans": {"nb": {"tokens": 10, "overage": 1, "currency": "<EUR>"}},
    }
    with agouti.Client(config) as client:
        return client.usage(since="2026-03-01", until="2026-03-31", **asked)


def spending(**more: Any) -> LedgerRow:
    plain = {"provider": "nb", "name": "quill", "label": "a", "operation": "chat", "seconds": 1.5, "input_tokens": 10}
    return LedgerRow(**{"at": DAY, "cost": 5 * 10**10, "currency": "USD", **plain, **more})


class Seen(HTMLParser):
    """Whether every element is closed, and what would be fetched or run."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.open: list[str] = []
        self.texts: list[str] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attributes: list[tuple[str, str | None]]) -> None:
        assert not {name for name, _ in attributes} & {"src", "onload", "onerror", "onclick"}
        if tag not in ("meta", "link", "line", "br"):
            self.open.append(tag)

    def handle_startendtag(self, tag: str, attributes: list[tuple[str, str | None]]) -> None:
        assert tag == "line"

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        self.texts.append(data)


def test_a_page_of_any_words(tmp_path: Path) -> None:
    odd = ['<script>alert("x")</script>', "a & b", "\x1b[31mred", "'\"><img src=x onerror=y>", "$a_b$", "_x", ""]
    ledger = SqliteLedger(tmp_path / "u.sqlite")
    ledger.add([spending(name=name, currency=currency) for name in odd for currency in ("USD", "<b>E&R", "")])
    ledger.close()
    report = report_of(tmp_path / "u.sqlite", by=["model", "tag:x"])
    report.save(tmp_path / "u.html")
    text = (tmp_path / "u.html").read_text()
    seen = Seen(text)
    assert seen.open == []
    assert {word for word in odd if word.isprintable() and word} <= set(seen.texts)
    assert "\x1b" not in text
    assert "http" not in re.sub(r'xmlns="[^"]*"', "", text)
    for kind in ("cost", "latency"):
        report.figure(kind).savefig(tmp_path / f"{kind}.png")
    report.save(tmp_path / "u.png")
    assert (tmp_path / "u.png").read_bytes()[:4] == b"\x89PNG"
    with pytest.raises(agouti.RequestError, match="no figure 'costs'"):
        report.figure("costs")


def test_percentiles_are_of_answers_alone(tmp_path: Path) -> None:
    ledger = SqliteLedger(tmp_path / "u.sqlite")
    ledger.add([spending(seconds=each) for each in [1.0] * 90 + [4.0] * 7 + [20.0] * 3])
    ledger.add(
        [spending(seconds=300.0, outcome=outcome, cost=None) for outcome in ("failed", "abandoned") for _ in range(99)]
    )
    ledger.close()
    total = report_of(tmp_path / "u.sqlite").total
    assert (total.median, total.p95, total.p99) == (
        pytest.approx(1.0, rel=0.05), pytest.approx(4.0, rel=0.05), pytest.approx(20.0, rel=0.05))  # fmt: skip


@pytest.mark.parametrize(
    ("since", "until", "days"),
    [
        (None, None, [1, 14]),  # the month so far
        (None, "2026-03-13", [1]),
        ("2026-03-14", None, [14]),
        (
            datetime(2026, 3, 14, 0, 30, tzinfo=timezone(timedelta(hours=2))),
            "2026-03-14",
            [13, 14],
        ),  # still the 13th in UTC
        (datetime(2026, 3, 13, 23, 30, tzinfo=timezone(timedelta(hours=-2))), "2026-03-20", [14]),
    ],
)
def test_which_days_a_report_is_of(tmp_path: Path, since: Any, until: Any, days: list[int]) -> None:
    ledger = SqliteLedger(tmp_path / "u.sqlite")
    noon = [datetime(2026, 2, 28, 12, tzinfo=UTC), *[datetime(2026, 3, day, 12, tzinfo=UTC) for day in (1, 13, 14)]]
    ledger.add([spending(at=each.timestamp()) for each in noon if each.day != 13 or days == [13, 14]])
    report = usage_of(ledger, since, until, ["day"], today=date(2026, 3, 14))
    assert [int((row.group["day"] or "")[-2:]) for row in report] == days
    ledger.close()


def test_a_page_of_nothing(tmp_path: Path) -> None:
    SqliteLedger(tmp_path / "u.sqlite").close()
    report = report_of(tmp_path / "u.sqlite")
    report.save(tmp_path / "u.html")
    assert "Nothing was used" in (tmp_path / "u.html").read_text()
    for kind in ("cost", "latency"):
        report.figure(kind).savefig(tmp_path / f"{kind}.png")


def test_a_figure_says_how_full_budgets_are(tmp_path: Path) -> None:
    SqliteLedger(tmp_path / "u.sqlite").close()
    given: dict[str, Any] = {"per": "month", "unit": "USD", "amount": Decimal(4)}
    budgets = [
        BudgetStatus(label="<club>", part=f"$p{part}$", spent=Decimal(part) / 4, reserved=Decimal(1), **given)
        for part in range(20)
    ]
    report = report_of(tmp_path / "u.sqlite")
    report.budgets = budgets
    axes = report.figure("cost").axes[-1]
    assert axes.get_title() == "Budgets now, the 12 fullest of 20"
    names = [each.get_text() for each in axes.get_yticklabels()]
    assert names[-1] == r"<club>, \$p19\$: 4 USD a month"
    widths = [round(bar.get_width(), 2) for bar in axes.patches[-2:]]  # type: ignore[attr-defined]
    assert widths == [118.75, 25.0]


def test_days_without_calls_are_days_and_many_models_are_seven(tmp_path: Path) -> None:
    ledger = SqliteLedger(tmp_path / "u.sqlite")
    ledger.add([spending(name=f"m{number}", cost=(number + 1) * 10**12) for number in range(9)])
    ledger.close()
    days, costs = spent_by_day(report_of(tmp_path / "u.sqlite"), "USD")
    assert (len(days), list(costs)) == (31, ["m8", "m7", "m6", "m5", "m4", "m3", OTHER_MODELS])
    assert [sum(spent) for spent in costs.values()] == [9, 8, 7, 6, 5, 4, 6]
    assert costs["m8"][13] == 9


def test_a_past_is_made_up_once(tmp_path: Path) -> None:
    for name in ("a", "b"):
        assert write_history(tmp_path / name, days=3, calls=50, until=DAY) > 60
    one, other = (report_of(tmp_path / name, by="model") for name in "ab")
    assert one.rows == other.rows
    assert one.total.failures > 0


def test_old_rows_go_in_parts(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("agouti.ledger.ledger_reports.PAGE", 7)
    ledger = SqliteLedger(tmp_path / "u.sqlite")
    ledger.add([spending(at=DAY + number) for number in range(30)])
    assert (ledger.forget(DAY + 20), len(list(ledger.attempts(0, 1e12)))) == (20, 10)
    ledger._execute("DROP TABLE {attempts}")
    with pytest.raises(agouti.ConfigError, match="cannot be written"):
        ledger.forget(DAY)
    ledger.close()
