"""The page of a comparison: one HTML file that needs no network, with answers side by side and their differences."""

import difflib
from collections.abc import Callable, Iterable
from functools import partial
from html import escape

from ...core.secrets.masking import printable
from ...tables.html_page import as_html, document, number_cell, sortable, text_cell
from ...tables.statistics import Estimate
from .rows import ComparedAnswer, parameters_text
from .summaries import ComparisonFacts, ModelSummary

_STYLE = """
.answers { display: grid; gap: .8rem; grid-auto-flow: column; grid-auto-columns: minmax(17rem, 1fr); overflow-x: auto; }
.answers > section { background: var(--soft); border-radius: .4rem; padding: .6rem .8rem; }
.answers h3 { font-size: .95rem; margin: 0 0 .3rem; }
.answer { white-space: pre-wrap; overflow-wrap: anywhere; border-top: 1px solid var(--line); padding-top: .4rem;
  margin-top: .4rem; }
mark { background: var(--mark); color: inherit; border-radius: .15rem; }
"""


def page(comparison: ComparisonFacts) -> str:
    """The page as HTML."""
    rows = comparison.rows
    labels = list(dict.fromkeys(row.label for row in rows))
    prompts = list(dict.fromkeys(row.prompt for row in rows))
    cost = ", ".join(f"{amount:.6f} {as_html(currency)}" for currency, amount in comparison.cost.items())
    facts = [f"{len(rows)} answers of {len(labels)} models to {len(prompts)} prompts", f"cost {cost}" if cost else ""]
    sections = "".join(_prompt([row for row in rows if row.prompt == prompt]) for prompt in prompts)
    remarks = "".join(f'<p class="bad">{as_html(remark)}</p>' for remark in comparison.warnings)
    heading = ", ".join(labels)
    tables = f"{_summary(comparison)}\n{_preferences(comparison)}{_differences(comparison)}{_prompts(comparison)}"
    body = f"<p>{'; '.join(filter(None, facts))}</p>\n{remarks}{tables}\n{sections}"
    return document(f"Comparison: {heading}", heading, body, _STYLE)


def _summary(comparison: ComparisonFacts) -> str:
    summary = comparison.summary
    columns = _columns(summary)
    rows = ["".join([text_cell(_name(row)), *[cell(row) for _, cell in columns]]) for row in summary]
    heads = ["model", *[head for head, _ in columns]]
    return (
        sortable(heads, 1, rows)
        + '<p class="small">Ranges are over prompts, and hold with 95 % confidence; an answer that failed has passed '
        "nothing. Marked below: where an answer differs from the first one of another model.</p>"
    )


def _columns(summary: Iterable[ModelSummary]) -> list[tuple[str, Callable[[ModelSummary], str]]]:
    """The columns in which something stands: an empty one would only make the table wide."""
    rows = list(summary)
    checks = list(dict.fromkeys(name for row in rows for name in row.checks))
    currencies = sorted({row.currency for row in rows if row.currency is not None})
    judged = sorted({row.judge_currency for row in rows if row.judge_currency is not None and row.judge_cost})
    columns: list[tuple[str, Callable[[ModelSummary], str]]] = [("answers", _answers)]
    columns += [(name, partial(_check, name)) for name in checks]
    for head, name in (
        ("first token, s", "first_token"),
        ("whole, s", "seconds"),
        ("tokens/s", "tokens_per_second"),
        ("tokens", "output_tokens"),
        ("thinking", "reasoning_tokens"),
        ("cached", "cached_tokens"),
    ):
        if any(getattr(row, name) is not None for row in rows):
            columns.append((head, partial(_measure, name)))
    columns += [(f"cost, {currency}", partial(_cost, "cost", "currency", currency)) for currency in currencies]
    columns += [(f"judge, {currency}", partial(_cost, "judge_cost", "judge_currency", currency)) for currency in judged]
    for name, head in (("distinct", "distinct"), ("similarity", "alike")):
        if any(getattr(row, name) is not None for row in rows):
            columns.append((head, partial(_model_text, name)))
    return columns


def _name(row: ModelSummary) -> str:
    parameters = parameters_text(row.parameters)
    return f"{row.label}, {parameters}" if parameters else row.label


def _answers(row: ModelSummary) -> str:
    counts = [f"{row.errors} failed" if row.errors else "", f"{row.cut} cut" if row.cut else ""]
    note = ", ".join(filter(None, counts))
    return number_cell(
        float(row.answers), f"{row.answers}" + (f'<br><span class="small">{note}</span>' if note else "")
    )


def _check(name: str, row: ModelSummary) -> str:
    return _estimate(row.checks.get(name))


def _measure(name: str, row: ModelSummary) -> str:
    if name == "seconds" and row.seconds_p95 is not None and row.seconds_median is not None:
        note = f"half {_short(row.seconds_median)}, 95 % {_short(row.seconds_p95)}"
        return _estimate(row.seconds, note)
    return _estimate(getattr(row, name))


def _cost(name: str, of: str, currency: str, row: ModelSummary) -> str:
    amount = getattr(row, name) if getattr(row, of) == currency else None
    return number_cell(amount, "" if amount is None else f"{amount:.6f}")


def _model_text(name: str, row: ModelSummary) -> str:
    value = getattr(row, name)
    return number_cell(value, "" if value is None else f"{value:.2f}")


def _preferences(comparison: ComparisonFacts) -> str:
    if not comparison.preferences:
        return ""
    rows = [
        "".join(
            [
                text_cell(f"{row.label} against {row.other}"),
                text_cell(parameters_text(row.parameters)),
                _estimate(row.won),
                number_cell(float(row.pairs), str(row.pairs)),
            ]
        )
        for row in comparison.preferences
    ]
    return f"<h2>Side by side, by the judge</h2>{sortable(['models', 'parameters', 'won', 'pairs'], 2, rows)}"


def _differences(comparison: ComparisonFacts) -> str:
    rows = [row for row in comparison.differences if row.difference.low is not None]
    if not rows:
        return ""
    cells = [
        "".join(
            [
                text_cell(f"{row.label} less {row.other}"),
                text_cell(", ".join(filter(None, (row.measure, parameters_text(row.parameters))))),
                _signed(row.difference),
                text_cell("clear" if row.clear else "may be chance"),
                number_cell(float(row.prompts), str(row.prompts)),
            ]
        )
        for row in rows
    ]
    heads = ["models", "what", "difference", "", "prompts"]
    note = '<p class="small">Of many differences that are looked at, one in twenty is clear by chance.</p>'
    return f"<h2>Differences, prompt by prompt</h2>{sortable(heads, 2, cells)}{note if len(rows) > 10 else ''}"


def _signed(estimate: Estimate) -> str:
    low, high = estimate.low or 0.0, estimate.high or 0.0
    between = f'<br><span class="small">{_exact(low)} to {_exact(high)}</span>'
    return number_cell(estimate.value, f"{_exact(estimate.value)}{between}")


def _exact(value: float) -> str:
    return f"{value:+.2f}" if abs(value) >= 0.1 or not value else f"{value:+.2g}"


def _prompts(comparison: ComparisonFacts) -> str:
    """A table prompt by prompt, where there are several."""
    rows = list(comparison.prompts)
    if len({row.prompt for row in rows}) < 2:
        return ""
    checks = list(dict.fromkeys(name for row in rows for name in row.checks))
    cells = [
        "".join(
            [
                text_cell(f"{row.prompt + 1}. {row.question[:80]}"),
                text_cell(", ".join(filter(None, (row.label, parameters_text(row.parameters))))),
                *[_number_text(row.checks.get(name)) for name in checks],
                _number_text(row.seconds),
                _number_text(row.output_tokens),
                number_cell(float(row.errors), str(row.errors or "")),
            ]
        )
        for row in rows
    ]
    heads = ["prompt", "model", *checks, "s", "tokens", "failed"]
    return f"<details><summary>Prompt by prompt</summary>{sortable(heads, 2, cells)}</details>"


def _number_text(value: float | None) -> str:
    return number_cell(value, "" if value is None else _short(value))


def _estimate(estimate: Estimate | None, note: str = "") -> str:
    if estimate is None:
        return number_cell(None, "")
    between = f'<br><span class="small">{note}</span>' if note else ""
    if not note and estimate.low is not None and estimate.high is not None:
        between = f'<br><span class="small">{_short(max(estimate.low, 0.0))} to {_short(estimate.high)}</span>'
    return number_cell(estimate.value, f"{_short(estimate.value)}{between}")


def _short(value: float) -> str:
    return f"{value:.0f}" if abs(value) >= 100 else f"{value:.2f}"


def _prompt(rows: list[ComparedAnswer]) -> str:
    columns: dict[tuple[str, str], list[ComparedAnswer]] = {}
    for row in rows:
        columns.setdefault((row.label, parameters_text(row.parameters)), []).append(row)
    firsts = {key: next((row.text for row in each if row.error is None), None) for key, each in columns.items()}
    sections = "".join(
        _column(*key, each, [text for label, text in firsts.items() if label != key and text is not None])
        for key, each in columns.items()
    )
    return f'<h2>{as_html(rows[0].question)}</h2>\n<div class="answers">{sections}</div>\n'


def _column(label: str, parameters: str, rows: list[ComparedAnswer], texts: list[str]) -> str:
    answers = "".join(_answer(row, texts) for row in rows)
    parameter_text = f' <span class="small">{as_html(parameters)}</span>' if parameters else ""
    return f"<section><h3>{as_html(label)}{parameter_text}</h3>{answers}</section>"


def _answer(row: ComparedAnswer, texts: list[str]) -> str:
    if row.error is not None:
        answer = f'<div class="answer">{as_html(row.text)}</div>' if row.text else ""
        return f'<div class="answer bad">{as_html(row.error)}</div>{answer}'
    facts = [f"{row.seconds:.2f} s" if row.seconds is not None else ""]
    facts.append(f"{row.output_tokens} tokens" if row.output_tokens is not None else "")
    facts.append("cut off" if row.finish_reason == "length" else "")
    checks = "".join(
        f' <span class="{"good" if value >= 0.5 else "bad"}">{as_html(name)} {value:.2f}</span>'
        for name, value in row.checks.items()
    )
    checks += "".join(
        f' <span class="bad">{as_html(name)}: {as_html(check_error)}</span>'
        for name, check_error in row.check_errors.items()
    )
    verdict_text = row.reason or (f"no verdict: {row.judge_error}" if row.judge_error else "")
    reason = f'<p class="small">{as_html(verdict_text)}</p>' if verdict_text else ""
    text = marked(row.text, [each for each in texts[:1] if each != row.text])
    fact_list = ", ".join(filter(None, facts))
    return f'<div class="answer">{text}</div><p class="small">{fact_list}{checks}</p>{reason}'


def marked(text: str, other_texts: Iterable[str]) -> str:
    """A text as HTML, with the words marked that another one does not have there.

    >>> marked("Sow in March.", ["Sow in May."])
    'Sow in <mark>March.</mark>'
    """
    tokens = printable(text).split(" ")
    differs = [False] * len(tokens)
    for label in other_texts:
        matcher = difflib.SequenceMatcher(None, printable(label).split(" "), tokens, autojunk=False)
        for kind, _, _, start, end in matcher.get_opcodes():
            if kind in ("replace", "insert"):
                differs[start:end] = [True] * (end - start)
    marked_parts, at = [], 0
    while at < len(tokens):
        end = at
        while end < len(tokens) and differs[end] == differs[at]:
            end += 1
        run = escape(" ".join(tokens[at:end]))
        marked_parts.append(f"<mark>{run}</mark>" if differs[at] else run)
        at = end
    return " ".join(marked_parts)
