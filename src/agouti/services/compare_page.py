"""The page of a comparison: one HTML file that needs no network, with answers side by side and their differences."""

import difflib
from collections.abc import Iterable
from html import escape

from ..core.masking import printable
from ..core.statistics import Estimate
from .compare_results import ComparedAnswer, Comparison, ModelSummary, parameters_text

_STYLE = """
:root { color-scheme: light dark; --ink: #1c2321; --paper: #fbfaf6; --line: #d8d5c9; --soft: #f0eee5;
  --mark: #ffe08a; --bad: #b3261e; --good: #2e6b3a; }
@media (prefers-color-scheme: dark) { :root:not([data-shade=light]) { --ink: #e6e4dc; --paper: #171a18; --line: #3a403c;
  --soft: #212623; --mark: #6b5410; --bad: #ff8a80; --good: #8fd19e; } }
:root[data-shade=dark] { --ink: #e6e4dc; --paper: #171a18; --line: #3a403c; --soft: #212623; --mark: #6b5410;
  --bad: #ff8a80; --good: #8fd19e; }
body { font: 15px/1.5 system-ui, sans-serif; color: var(--ink); background: var(--paper); margin: 1.5rem; }
h1 { font-size: 1.4rem; margin: 0 0 .3rem; } h2 { font-size: 1.05rem; margin: 1.6rem 0 .5rem; white-space: pre-wrap; }
p { margin: .3rem 0; } .small { font-size: .85em; opacity: .8; }
.wide { overflow-x: auto; } table { border-collapse: collapse; }
th, td { border-bottom: 1px solid var(--line); padding: .3rem .5rem; text-align: left; vertical-align: top;
  white-space: nowrap; }
td.n, th.n { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap; }
th button { font: inherit; font-weight: 600; color: inherit; background: none; border: 0; padding: 0; cursor: pointer; }
th[aria-sort=ascending] button::after { content: " \\2191"; }
th[aria-sort=descending] button::after { content: " \\2193"; }
.answers { display: grid; gap: .8rem; grid-auto-flow: column; grid-auto-columns: minmax(17rem, 1fr); overflow-x: auto; }
.answers > section { background: var(--soft); border-radius: .4rem; padding: .6rem .8rem; }
.answers h3 { font-size: .95rem; margin: 0 0 .3rem; }
.answer { white-space: pre-wrap; overflow-wrap: anywhere; border-top: 1px solid var(--line); padding-top: .4rem;
  margin-top: .4rem; }
mark { background: var(--mark); color: inherit; border-radius: .15rem; }
.bad { color: var(--bad); } .good { color: var(--good); }
button.shade { float: right; }
"""

_SCRIPT = """
document.querySelectorAll("table.sortable th button").forEach(function (button) {
  button.addEventListener("click", function () {
    var head = button.parentElement, table = head.closest("table"), body = table.tBodies[0];
    var up = head.getAttribute("aria-sort") !== "ascending", at = head.cellIndex;
    table.querySelectorAll("th").forEach(function (each) { each.removeAttribute("aria-sort"); });
    head.setAttribute("aria-sort", up ? "ascending" : "descending");
    Array.from(body.rows).sort(function (one, two) {
      var a = one.cells[at].dataset.value, b = two.cells[at].dataset.value;
      if (a === "" || b === "") { return (a === "") - (b === ""); }
      var by = isNaN(a) || isNaN(b) ? a.localeCompare(b) : a - b;
      return up ? by : -by;
    }).forEach(function (row) { body.appendChild(row); });
  });
});
document.querySelector("button.shade").addEventListener("click", function () {
  var root = document.documentElement;
  var dark = root.dataset.shade ? root.dataset.shade === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  root.dataset.shade = dark ? "light" : "dark";
});
"""


def page(comparison: Comparison) -> str:
    """The page as HTML."""
    rows = comparison.rows
    labels = list(dict.fromkeys(row.label for row in rows))
    prompts = list(dict.fromkeys(row.prompt for row in rows))
    cost = ", ".join(f"{amount:.6f} {_text(currency)}" for currency, amount in comparison.cost.items())
    said = [f"{len(rows)} answers of {len(labels)} models to {len(prompts)} prompts", f"cost {cost}" if cost else ""]
    sections = "".join(_prompt([row for row in rows if row.prompt == prompt]) for prompt in prompts)
    remarks = "".join(f'<p class="bad">{_text(remark)}</p>' for remark in comparison.remarks)
    return (
        '<!doctype html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
        '<meta name="viewport" content="width=device-width, initial-scale=1">\n<link rel="icon" href="data:,">\n'
        f"<title>Comparison: {_text(', '.join(labels))}</title>\n<style>{_STYLE}</style>\n</head>\n<body>\n"
        f'<button class="shade" type="button">dark / light</button>\n<h1>{_text(", ".join(labels))}</h1>\n'
        f"<p>{'; '.join(filter(None, said))}</p>\n{remarks}{_summary(comparison)}\n{sections}\n"
        f"<script>{_SCRIPT}</script>\n</body>\n</html>\n"
    )


def _text(text: str) -> str:
    """A foreign text as it can stand in a page."""
    return escape(printable(text))


def _summary(comparison: Comparison) -> str:
    summary = comparison.summary
    checks = list(dict.fromkeys(name for row in summary for name in row.checks))
    heads = ["model", "parameters", "answers", "failed", "cut", *checks]
    heads += ["first token, s", "whole, s", "tokens/s", "tokens", "cost", "distinct", "alike"]
    head = "".join(
        f'<th scope="col"{"" if at < 2 else " class=n"}><button type="button">{_text(name)}</button></th>'
        for at, name in enumerate(heads)
    )
    body = "".join(f"<tr>{_summary_cells(row, checks)}</tr>" for row in summary)
    return (
        f'<div class="wide"><table class="sortable"><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table></div>'
        '<p class="small">Ranges hold with 95 % confidence. Marked: where an answer differs from the first one.</p>'
    )


def _summary_cells(row: ModelSummary, checks: list[str]) -> str:
    parameters = parameters_text(row.parameters)
    cells = [f'<td data-value="{_text(each)}">{_text(each)}</td>' for each in (row.label, parameters)]
    cells += [_number(float(each), str(each)) for each in (row.answers, row.errors, row.cut)]
    cells += [_estimate(row.checks.get(name)) for name in checks]
    cells += [_estimate(each) for each in (row.first_token, row.seconds, row.tokens_per_second, row.output_tokens)]
    cells.append(_number(row.cost, "" if row.cost is None else f"{row.cost:.6f} {_text(row.currency or '')}"))
    cells += [_number(each, "" if each is None else f"{each:.2f}") for each in (row.distinct, row.similarity)]
    return "".join(cells)


def _number(value: float | None, text: str) -> str:
    return f'<td class="n" data-value="{"" if value is None else value}">{text}</td>'


def _estimate(estimate: Estimate | None) -> str:
    if estimate is None:
        return _number(None, "")
    between = ""
    if estimate.low is not None and estimate.high is not None:
        between = f'<br><span class="small">{_short(max(estimate.low, 0.0))} to {_short(estimate.high)}</span>'
    return _number(estimate.value, f"{_short(estimate.value)}{between}")


def _short(value: float) -> str:
    return f"{value:.0f}" if abs(value) >= 100 else f"{value:.2f}"


def _prompt(rows: list[ComparedAnswer]) -> str:
    columns: dict[tuple[str, str], list[ComparedAnswer]] = {}
    for row in rows:
        columns.setdefault((row.label, parameters_text(row.parameters)), []).append(row)
    texts = [row.text for row in rows if row.error is None]
    sections = "".join(_column(label, parameters, each, texts) for (label, parameters), each in columns.items())
    return f'<h2>{_text(rows[0].question)}</h2>\n<div class="answers">{sections}</div>\n'


def _column(label: str, parameters: str, rows: list[ComparedAnswer], texts: list[str]) -> str:
    answers = "".join(_answer(row, texts) for row in rows)
    beside = f' <span class="small">{_text(parameters)}</span>' if parameters else ""
    return f"<section><h3>{_text(label)}{beside}</h3>{answers}</section>"


def _answer(row: ComparedAnswer, texts: list[str]) -> str:
    if row.error is not None:
        return f'<div class="answer bad">{_text(row.error)}</div>'
    facts = [f"{row.seconds:.2f} s" if row.seconds is not None else ""]
    facts.append(f"{row.output_tokens} tokens" if row.output_tokens is not None else "")
    facts.append("cut off" if row.finish_reason == "length" else "")
    checks = "".join(
        f' <span class="{"good" if value >= 0.5 else "bad"}">{_text(name)} {value:.2f}</span>'
        for name, value in row.checks.items()
    )
    reason = f'<p class="small">{_text(row.reason)}</p>' if row.reason else ""
    text = marked(row.text, [each for each in texts[:1] if each != row.text])
    said = ", ".join(filter(None, facts))
    return f'<div class="answer">{text}</div><p class="small">{said}{checks}</p>{reason}'


def marked(text: str, others: Iterable[str]) -> str:
    """A text as HTML, with the words marked that another one does not have there.

    >>> marked("Sow in March.", ["Sow in May."])
    'Sow in <mark>March.</mark>'
    """
    words = printable(text).split(" ")
    differs = [False] * len(words)
    for other in others:
        matcher = difflib.SequenceMatcher(None, printable(other).split(" "), words, autojunk=False)
        for kind, _, _, start, end in matcher.get_opcodes():
            if kind in ("replace", "insert"):
                differs[start:end] = [True] * (end - start)
    pieces, at = [], 0
    while at < len(words):
        end = at
        while end < len(words) and differs[end] == differs[at]:
            end += 1
        run = escape(" ".join(words[at:end]))
        pieces.append(f"<mark>{run}</mark>" if differs[at] else run)
        at = end
    return " ".join(pieces)
