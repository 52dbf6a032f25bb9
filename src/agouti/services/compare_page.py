"""The page of a comparison: one HTML file that needs no network, with answers side by side and their differences."""

import difflib
from collections.abc import Iterable
from html import escape

from ..core.masking import printable
from ..core.statistics import Estimate
from ..pages import as_html, document, number_cell, sortable, text_cell
from .compare_results import ComparedAnswer, Comparison, ModelSummary, parameters_text

_STYLE = """
.answers { display: grid; gap: .8rem; grid-auto-flow: column; grid-auto-columns: minmax(17rem, 1fr); overflow-x: auto; }
.answers > section { background: var(--soft); border-radius: .4rem; padding: .6rem .8rem; }
.answers h3 { font-size: .95rem; margin: 0 0 .3rem; }
.answer { white-space: pre-wrap; overflow-wrap: anywhere; border-top: 1px solid var(--line); padding-top: .4rem;
  margin-top: .4rem; }
mark { background: var(--mark); color: inherit; border-radius: .15rem; }
"""


def page(comparison: Comparison) -> str:
    """The page as HTML."""
    rows = comparison.rows
    labels = list(dict.fromkeys(row.label for row in rows))
    prompts = list(dict.fromkeys(row.prompt for row in rows))
    cost = ", ".join(f"{amount:.6f} {as_html(currency)}" for currency, amount in comparison.cost.items())
    said = [f"{len(rows)} answers of {len(labels)} models to {len(prompts)} prompts", f"cost {cost}" if cost else ""]
    sections = "".join(_prompt([row for row in rows if row.prompt == prompt]) for prompt in prompts)
    remarks = "".join(f'<p class="bad">{as_html(remark)}</p>' for remark in comparison.remarks)
    heading = ", ".join(labels)
    body = f"<p>{'; '.join(filter(None, said))}</p>\n{remarks}{_summary(comparison)}\n{sections}"
    return document(f"Comparison: {heading}", heading, body, _STYLE)


def _summary(comparison: Comparison) -> str:
    summary = comparison.summary
    checks = list(dict.fromkeys(name for row in summary for name in row.checks))
    heads = ["model", "parameters", "answers", "failed", "cut", *checks]
    heads += ["first token, s", "whole, s", "tokens/s", "tokens", "cost", "distinct", "alike"]
    return (
        sortable(heads, 2, [_summary_cells(row, checks) for row in summary])
        + '<p class="small">Ranges hold with 95 % confidence. Marked: where an answer differs from the first one.</p>'
    )


def _summary_cells(row: ModelSummary, checks: list[str]) -> str:
    parameters = parameters_text(row.parameters)
    cells = [text_cell(each) for each in (row.label, parameters)]
    cells += [number_cell(float(each), str(each)) for each in (row.answers, row.errors, row.cut)]
    cells += [_estimate(row.checks.get(name)) for name in checks]
    cells += [_estimate(each) for each in (row.first_token, row.seconds, row.tokens_per_second, row.output_tokens)]
    cells.append(number_cell(row.cost, "" if row.cost is None else f"{row.cost:.6f} {as_html(row.currency or '')}"))
    cells += [number_cell(each, "" if each is None else f"{each:.2f}") for each in (row.distinct, row.similarity)]
    return "".join(cells)


def _estimate(estimate: Estimate | None) -> str:
    if estimate is None:
        return number_cell(None, "")
    between = ""
    if estimate.low is not None and estimate.high is not None:
        between = f'<br><span class="small">{_short(max(estimate.low, 0.0))} to {_short(estimate.high)}</span>'
    return number_cell(estimate.value, f"{_short(estimate.value)}{between}")


def _short(value: float) -> str:
    return f"{value:.0f}" if abs(value) >= 100 else f"{value:.2f}"


def _prompt(rows: list[ComparedAnswer]) -> str:
    columns: dict[tuple[str, str], list[ComparedAnswer]] = {}
    for row in rows:
        columns.setdefault((row.label, parameters_text(row.parameters)), []).append(row)
    texts = [row.text for row in rows if row.error is None]
    sections = "".join(_column(label, parameters, each, texts) for (label, parameters), each in columns.items())
    return f'<h2>{as_html(rows[0].question)}</h2>\n<div class="answers">{sections}</div>\n'


def _column(label: str, parameters: str, rows: list[ComparedAnswer], texts: list[str]) -> str:
    answers = "".join(_answer(row, texts) for row in rows)
    beside = f' <span class="small">{as_html(parameters)}</span>' if parameters else ""
    return f"<section><h3>{as_html(label)}{beside}</h3>{answers}</section>"


def _answer(row: ComparedAnswer, texts: list[str]) -> str:
    if row.error is not None:
        return f'<div class="answer bad">{as_html(row.error)}</div>'
    facts = [f"{row.seconds:.2f} s" if row.seconds is not None else ""]
    facts.append(f"{row.output_tokens} tokens" if row.output_tokens is not None else "")
    facts.append("cut off" if row.finish_reason == "length" else "")
    checks = "".join(
        f' <span class="{"good" if value >= 0.5 else "bad"}">{as_html(name)} {value:.2f}</span>'
        for name, value in row.checks.items()
    )
    reason = f'<p class="small">{as_html(row.reason)}</p>' if row.reason else ""
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
