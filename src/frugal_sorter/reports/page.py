"""An inventory as one page of HTML for the owner of a machine: self-contained, escaped, printable (Jinja2)."""

from __future__ import annotations

from collections.abc import Sequence

from frugal_sorter.values import frozen


@frozen
class PageTable:
    """A table of the page.

    Args:
        title: its heading.
        heads: the headings of the columns.
        rows: for each cell its text and the value that it sorts by.
        total: the last row, empty for none.
    """

    title: str
    heads: Sequence[str]
    rows: Sequence[Sequence[tuple[str, str | int]]]
    total: Sequence[str] = ()

    @property
    def sides(self) -> list[str]:
        """The class of each column: numbers stand on the right."""
        first = self.rows[0] if self.rows else [("", "")] * len(self.heads)
        return ["number" if isinstance(value, int) else "" for _, value in first]


_PAGE = """<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{ title }}</title>
<style>
:root { color-scheme: light dark; --ink: #1c2326; --dim: #5b6a70; --line: #d3dadd; --paper: #ffffff; --head: #f2f5f6; }
@media (prefers-color-scheme: dark) {
  :root { --ink: #e4eaec; --dim: #9aa8ae; --line: #36434a; --paper: #14191c; --head: #1e262a; }
}
body { font: 15px/1.45 system-ui, "Noto Sans", sans-serif; color: var(--ink); background: var(--paper);
       max-width: 70rem; margin: 2rem auto; padding: 0 1.25rem; }
h1 { font-size: 1.5rem; margin: 0; overflow-wrap: anywhere; }
h2 { font-size: 1.1rem; margin: 2rem 0 .5rem; }
p { color: var(--dim); margin: .25rem 0; overflow-wrap: anywhere; }
table { border-collapse: collapse; width: 100%; font-variant-numeric: tabular-nums; }
th, td { text-align: left; padding: .3rem .8rem .3rem 0; border-bottom: 1px solid var(--line); vertical-align: top;
         overflow-wrap: anywhere; white-space: pre-wrap; }
th { background: var(--head); position: sticky; top: 0; font-weight: 600; padding-left: .4rem; }
td { padding-left: .4rem; }
th.number, td.number { text-align: right; white-space: nowrap; }
th button { all: unset; cursor: pointer; }
th button:focus-visible { outline: 2px solid currentColor; }
th[aria-sort=ascending] button::after { content: " ↑"; }
th[aria-sort=descending] button::after { content: " ↓"; }
tfoot td { font-weight: 600; border-bottom: 0; }
figure { margin: 1.5rem 0; background: #ffffff; border-radius: 6px; padding: .5rem; }
figure svg { width: 100%; height: auto; display: block; }
td, th { min-width: 4.5rem; }
@media print {
  body { max-width: none; margin: 0; font-size: 12px; }
  th { position: static; }
  tr { break-inside: avoid; }
  /* Else the last row would stand at the foot of each sheet. */
  thead, tfoot { display: table-row-group; }
}
</style>
</head>
<body>
<h1>{{ title }}</h1>
{% for line in lines %}<p>{{ line }}</p>
{% endfor %}
{% if figure %}<figure role="img" aria-label="What fills the space, by folder, age and type">{{ figure|safe }}</figure>{% endif %}
{% macro cells(texts, tag, sides) %}
{% for text in texts %}
{% set side = sides[loop.index0] %}
<{{ tag }}{% if tag == "th" %} scope="col"{% endif %}{% if side %} class="{{ side }}"{% endif %}>{{ text }}</{{ tag }}>
{% endfor %}
{% endmacro %}
{% for table in tables %}
<h2>{{ table.title }}</h2>
<table>
<thead><tr>{{ cells(table.heads, "th", table.sides) }}</tr></thead>
<tbody>
{% for row in table.rows %}
<tr>
{% for text, value in row %}
<td{% if table.sides[loop.index0] %} class="{{ table.sides[loop.index0] }}"{% endif %} data-value="{{ value }}">{{ text }}</td>
{% endfor %}
</tr>
{% endfor %}
</tbody>
{% if table.total %}
<tfoot><tr>{{ cells(table.total, "td", table.sides) }}</tr></tfoot>
{% endif %}
</table>
{% endfor %}
<script>
// Everything can be read without this; it only sorts the tables.
for (const table of document.querySelectorAll("table")) {
  const heads = [...table.tHead.rows[0].cells];
  heads.forEach((head, at) => {
    const button = document.createElement("button");
    button.textContent = head.textContent;
    head.replaceChildren(button);
    button.addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") === "ascending";
      heads.forEach(other => other.removeAttribute("aria-sort"));
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      const value = row => row.cells[at].dataset.value;
      const rows = [...table.tBodies[0].rows].sort((one, other) =>
        value(one).localeCompare(value(other), undefined, {numeric: true}));
      table.tBodies[0].append(...(down ? rows.reverse() : rows));
    });
  });
}
</script>
</body>
</html>
"""


def render(title: str, lines: Sequence[str], figure: str, tables: Sequence[PageTable]) -> str:
    """Return the page.

    Args:
        title: its heading.
        lines: what is said below it.
        figure: SVG, trusted as it is ours; empty for none.
        tables: the tables.
    """
    from jinja2 import Environment, StrictUndefined

    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    return environment.from_string(_PAGE).render(title=title, lines=lines, figure=figure, tables=tables)
