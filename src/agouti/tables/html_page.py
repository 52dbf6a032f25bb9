"""Pages of results: one HTML file that needs no network, dark and light, with tables that are sorted by a click."""

from collections.abc import Iterable, Sequence
from html import escape

from ..core.secrets.masking import printable

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


def document(title: str, heading: str, body: str, style: str = "") -> str:
    """A whole page.

    Args:
        title, heading: texts of anybody.
        body: HTML.
        style: more rules.
    """
    return (
        '<!doctype html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
        '<meta name="viewport" content="width=device-width, initial-scale=1">\n<link rel="icon" href="data:,">\n'
        f"<title>{as_html(title)}</title>\n<style>{_STYLE}{style}</style>\n</head>\n<body>\n"
        f'<button class="shade" type="button">dark / light</button>\n<h1>{as_html(heading)}</h1>\n'
        f"{body}\n<script>{_SCRIPT}</script>\n</body>\n</html>\n"
    )


def as_html(text: str) -> str:
    """A foreign text as it can stand in a page."""
    return escape(printable(text))


def sortable(heads: Sequence[str], texts: int, rows: Iterable[str]) -> str:
    """A table that is sorted by a click on a heading.

    Args:
        heads: of the columns.
        texts: so many columns at the left are texts; the others are numbers.
        rows: the cells of each.
    """
    head = "".join(
        f'<th scope="col"{"" if at < texts else " class=n"}><button type="button">{as_html(name)}</button></th>'
        for at, name in enumerate(heads)
    )
    body = "".join(f"<tr>{row}</tr>" for row in rows)
    return (
        f'<div class="wide"><table class="sortable"><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table></div>'
    )


def text_cell(text: str) -> str:
    """A cell with a text of anybody."""
    return f'<td data-value="{as_html(text)}">{as_html(text)}</td>'


def number_cell(value: float | None, html: str) -> str:
    """A cell with a number as it is shown; it is sorted by its value."""
    return f'<td class="n" data-value="{"" if value is None else value}">{html}</td>'
