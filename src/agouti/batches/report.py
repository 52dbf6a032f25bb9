"""The end of a run as a report that can be kept: JSON for programs, a page with a figure for people."""

import json
from html import escape
from pathlib import Path
from typing import Any, Protocol

from ..core.errors import RequestError
from ..core.secrets.masking import printable

SUFFIXES = (".json", ".html")


class BatchFacts(Protocol):
    """What a report says of a run: see `Batch`."""

    @property
    def answered(self) -> int: ...

    out: Path | None
    cut: int
    failed: int
    kinds: dict[str, int]
    left: int
    stopped: str
    done: int
    failed_now: int
    already_done: int
    seconds: float
    rate: float
    costs: dict[str, float]
    costs_in_all: dict[str, float]
    failures: tuple[tuple[int, str], ...]
    warnings: tuple[str, ...]


def facts_of(facts: BatchFacts) -> dict[str, Any]:
    """The figures of a run."""
    return {
        "out": None if facts.out is None else str(facts.out),
        "answered": facts.answered,
        "cut": facts.cut,
        "failed": facts.failed,
        "failed_by_kind": facts.kinds,
        "left": facts.left,
        "stopped": facts.stopped,
        "this_run": {
            "answered": facts.done,
            "failed": facts.failed_now,
            "found_before": facts.already_done,
            "seconds": round(facts.seconds, 3),
            "rows_a_second": round(facts.rate, 3),
            "costs": facts.costs,
        },
        "costs_of_all_runs": facts.costs_in_all,
        "first_failures": [{"line": line, "why": reason} for line, reason in facts.failures],
        "remarks": list(facts.warnings),
    }


def save(batch_facts: BatchFacts, path: Path) -> None:
    """Write a report: .json or .html.

    Raises:
        RequestError: it is another suffix, or the file cannot be written.
    """
    if path.suffix.lower() not in SUFFIXES:
        raise RequestError(f"{path} is no report", hint="Take .json or .html.")
    facts = facts_of(batch_facts)
    text = json.dumps(facts, ensure_ascii=False, indent=2) if path.suffix.lower() == ".json" else page(facts)
    try:
        path.write_text(text, encoding="utf-8")
    except OSError as error:
        raise RequestError(
            f"{path} cannot be written ({error.strerror or error})",
            hint="Name a file in a folder that you can write to.",
        ) from None


def page(facts: dict[str, Any]) -> str:
    """The report as a page that needs no network."""
    from ..tables.html_page import as_html, document, number_cell, sortable, text_cell
    from .progress_display import time_text

    run = facts["this_run"]
    parts = [("answered", facts["answered"], "good"), ("left", facts["left"], "")]
    parts += [(kind, count, "bad") for kind, count in facts["failed_by_kind"].items()]
    total = max(facts["answered"] + facts["failed"] + facts["left"], 1)
    costs = ", ".join(f"{amount:.6f} {currency}" for currency, amount in run["costs"].items())
    total_cost = ", ".join(f"{amount:.6f} {currency}" for currency, amount in facts["costs_of_all_runs"].items())
    lines = [
        f"{facts['answered']:,} of {total:,} rows are answered",
        f"{facts['cut']:,} of them end at their cap" if facts["cut"] else "",
        f"{run['rows_a_second']:.3g} rows a second for {time_text(run['seconds'])}",
        f"this run cost {costs}" if costs else "",
        f"all runs on the file cost {total_cost}" if total_cost and total_cost != costs else "",
    ]
    rows = [
        "".join([text_cell(name), number_cell(float(count), f"{count:,}"), _share(count / total)])
        for name, count, _ in parts
        if count
    ]
    failures = [
        "".join([text_cell(str(each["why"])), number_cell(float(each["line"]), str(each["line"]))])
        for each in facts["first_failures"]
    ]
    body = f"<p>{as_html('; '.join(filter(None, lines)))}.</p>\n{_figure(parts, total)}\n"
    stopped = [f"Stopped: {facts['stopped']}"] if facts["stopped"] else []
    body += "".join(f'<p class="bad">{as_html(remark)}</p>' for remark in [*stopped, *facts["remarks"]])
    body += sortable(["what became of the rows", "rows", "share"], 1, rows)
    if failures:
        body += f"<h2>The first that failed</h2>{sortable(['why', 'line'], 1, failures)}"
    heading = Path(facts["out"]).name if facts["out"] else "A run over rows"
    return document(f"Run: {heading}", heading, body, _STYLE)


def _share(part: float) -> str:
    from ..tables.html_page import number_cell

    return number_cell(part, f"{part:.2%}")


_STYLE = """
svg { max-width: 60rem; width: 100%; height: auto; display: block; margin: .6rem 0; }
svg text { font: 13px system-ui, sans-serif; fill: var(--ink); }
td:not(.n) { white-space: normal; }
"""
_COLOURS = {"good": "var(--good)", "bad": "var(--bad)", "": "var(--line)"}


def _figure(parts: list[tuple[str, int, str]], total: int) -> str:
    """A bar for each part, as long as its share; one that is too short to be seen is a line."""
    visible = [each for each in parts if each[1]]
    bars = []
    for number, (name, count, kind) in enumerate(visible):
        y = 6 + number * 28
        width = max(560 * count / total, 2)
        label = escape(printable(name))
        bars.append(
            f'<text x="170" y="{y + 15}" text-anchor="end">{label}</text>'
            f'<rect x="180" y="{y}" width="{width:.1f}" height="20" fill="{_COLOURS[kind]}"/>'
            f'<text x="{188 + width:.1f}" y="{y + 15}">{count:,}</text>'
        )
    height = 12 + 28 * len(visible)
    title = "What became of the rows"
    return (
        f'<svg viewBox="0 0 860 {height}" role="img" aria-label="{title}"><title>{title}</title>{"".join(bars)}</svg>'
    )
