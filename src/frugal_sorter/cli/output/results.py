"""What a reading command answers: JSON, CSV, and tables of typed columns, on a terminal or on a page."""

from __future__ import annotations

import io
import json
import sys
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from frugal_sorter.cli.output.text import below, cell_text, date_text, moment_text, raw, shown, signed_size_text, size_text
from frugal_sorter.values import frozen, replace

_Get = Callable[[Any], Any]
# The format of all JSON output: keys are added, removed or change their meaning only with a new number.
FORMAT = 2
# A bar of this many letters is the whole.
_BAR = 16


def _or_said(write: Callable[[Any], str]) -> Callable[[Any], str]:
    """Return a writer of values that leaves a text as it is, such as `unknown` in place of a date."""
    return lambda value: value if isinstance(value, str) else write(value)


@frozen
class Column:
    """A column of a table.

    Args:
        head: its heading.
        get: takes its value out of a row; None where rows are sequences of values.
        text: writes a value; None is an empty cell.
        is_right: its cells are aligned right, as numbers are.
        is_whole: it is never cut, however narrow the terminal is.
        is_extra: it is left out where the others leave it no room, and where no person looks.
    """

    head: str
    get: _Get | None = None
    text: Callable[[Any], str] = shown
    is_right: bool = False
    is_whole: bool = False
    is_extra: bool = False

    @classmethod
    def count(cls, head: str, get: _Get | None = None, is_whole: bool = False) -> Column:
        """Return a column of counts."""
        return cls(head, get, _or_said("{:,}".format), True, is_whole)

    @classmethod
    def size(cls, head: str, get: _Get | None = None, is_whole: bool = False) -> Column:
        """Return a column of sizes in bytes."""
        return cls(head, get, _or_said(size_text), True, is_whole)

    @classmethod
    def change(cls, head: str, get: _Get | None = None) -> Column:
        """Return a column of differences of sizes in bytes, empty where there is none."""
        return cls(head, get, lambda size: signed_size_text(size) if size else "", True)

    @classmethod
    def date(cls, head: str, get: _Get | None = None, is_whole: bool = False) -> Column:
        """Return a column of days, each a moment in ns since the epoch."""
        return cls(head, get, _or_said(date_text), is_whole=is_whole)

    @classmethod
    def moment(cls, head: str, get: _Get | None = None, is_whole: bool = False) -> Column:
        """Return a column of moments in ns since the epoch, to the minute."""
        return cls(head, get, _or_said(moment_text), is_whole=is_whole)

    @classmethod
    def bar(cls, whole: int, get: _Get) -> Column:
        """Return a column of bars, each as long as a size is a part of the whole."""
        return cls("", get, lambda size: "=" * round(_BAR * size / whole) if whole else "", is_extra=True)

    @classmethod
    def path(cls, head: str, base: str, get: _Get | None = None) -> Column:
        """Return a column of paths as seen from a base folder."""
        return cls(head, get, lambda one: below(one, base))


@frozen
class Table:
    """A table of values.

    Args:
        title: its heading; on a terminal the caller prints it where it is wanted.
        columns: they.
        rows: what each row is made from.
        last: what a last row is made from, such as sums.
    """

    title: str
    columns: Sequence[Column]
    rows: Sequence[Any]
    last: Any = None

    def values(self, row: Any) -> list[Any]:
        """Return the values of a row."""
        return [row[at] if column.get is None else column.get(row) for at, column in enumerate(self.columns)]

    def texts(self, row: Any) -> list[str]:
        """Return the cells of a row; a row that is a text is one cell."""
        if isinstance(row, str):
            return [row, *[""] * (len(self.columns) - 1)]
        values = zip(self.columns, self.values(row), strict=True)
        return ["" if value is None else column.text(value) for column, value in values]

    @property
    def plain(self) -> Table:
        """The same without the columns that may be left out."""
        return replace(self, columns=[column for column in self.columns if not column.is_extra])

    @property
    def sides(self) -> list[str]:
        """The class of each column on a page: numbers are aligned right, dates among them."""
        first = self.values(self.rows[0]) if self.rows else [""] * len(self.columns)
        return ["number" if isinstance(value, int) else "" for value in first]


def print_json(value: object, **long: Iterable[object]) -> None:
    """Print a value of JSON; docs/formats.md describes them all.

    Args:
        value: it.
        long: lists that are first in it, an element to a line, printed as they come: indented whole, a hundred
            thousand elements would take longer than the search for them.
    """
    if isinstance(value, dict) and "$schema" not in value:
        value = {"format": FORMAT, **value}
    text = json.dumps(value, indent=2)
    if not long:
        print(text)
        return
    print("{", end="")
    for name, items in long.items():
        end = "]"
        print(f'\n  "{name}": [', end="")
        for item in items:
            print(f"{'' if end == ']' else ','}\n    {json.dumps(item)}", end="")
            end = "\n  ]"
        print(end, end=",")
    print(text[1:])


def print_csv(heads: Sequence[str], rows: Iterable[Iterable[object]]) -> None:
    """Print rows as CSV (RFC 4180); no cell of it is taken for a formula."""
    import csv  # nine of ten commands print none

    stream = raw(sys.stdout)
    if isinstance(stream, io.TextIOWrapper):
        # It has its own ends of lines, which no system may add to.
        stream.reconfigure(newline="")
    writer = csv.writer(sys.stdout)
    writer.writerow(heads)
    for row in rows:
        writer.writerow([cell_text(cell) if isinstance(cell, str) else cell for cell in row])


_STYLE = """
:root { color-scheme: light dark; --ink: #1c2326; --dim: #5b6a70; --line: #d3dadd; --paper: #ffffff; --head: #f2f5f6; }
@media (prefers-color-scheme: dark) {
  :root { --ink: #e4eaec; --dim: #9aa8ae; --line: #36434a; --paper: #14191c; --head: #1e262a; }
}
body { font: 15px/1.45 system-ui, "Noto Sans", sans-serif; color: var(--ink); background: var(--paper);
       max-width: 70rem; margin: 2rem auto; padding: 0 1.25rem; }
h1 { font-size: 1.5rem; margin: 0; overflow-wrap: anywhere; }
h2 { font-size: 1.1rem; margin: 2rem 0 .5rem; }
.lead { font-size: 1.6rem; line-height: 1.3; color: var(--ink); margin: 1.25rem 0; max-width: 45rem; }
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
"""
_PAGE = """<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{ title }}</title>
<style>
{{ style|safe }}</style>
</head>
<body>
<h1>{{ title }}</h1>
{% if lead %}<p class="lead">{{ lead }}</p>
{% endif %}
{% for line in lines %}<p>{{ line }}</p>
{% endfor %}
{% if figure %}<figure role="img" aria-label="{{ about }}">{{ figure|safe }}</figure>{% endif %}
{% macro cells(texts, tag, sides) %}
{% for text in texts %}
{% set side = sides[loop.index0] %}
<{{ tag }}{% if tag == "th" %} scope="col"{% endif %}{% if side %} class="{{ side }}"{% endif %}>{{ text }}</{{ tag }}>
{% endfor %}
{% endmacro %}
{% for table in tables %}
{% set sides = table.sides %}
<h2>{{ table.title }}</h2>
<table>
<thead><tr>{{ cells(table.columns|map(attribute="head"), "th", sides) }}</tr></thead>
<tbody>
{% for row in table.rows %}
<tr>
{% set texts = table.texts(row) %}
{% for value in table.values(row) %}
{% set side, text = sides[loop.index0], texts[loop.index0] %}
<td{% if side %} class="{{ side }}"{% endif %} data-value="{{ value }}">{{ text }}</td>
{% endfor %}
</tr>
{% endfor %}
</tbody>
{% if table.last is not none %}
<tfoot><tr>{{ cells(table.texts(table.last), "td", sides) }}</tr></tfoot>
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


def page(
    title: str,
    lines: Sequence[str],
    tables: Sequence[Table],
    figure: str = "",
    about: str = "What fills the space, by folder, age and type",
    lead: str = "",
) -> str:
    """Return a page of HTML whose tables a reader can sort.

    Args:
        title: its heading.
        lines: the lines below it.
        tables: they.
        figure: SVG, trusted as it is ours; empty for none.
        about: what the figure shows, for readers who cannot see it.
        lead: the one sentence to read, in large letters; empty for none.
    """
    return rendered(_PAGE, title=title, lead=lead, lines=lines, figure=figure, about=about, tables=tables)


def rendered(template: str, **values: object) -> str:
    """Return a page after a template, in which texts cannot be taken for markup.

    Args:
        template: in the language of Jinja; it places the style.
        values: what it names.
    """
    from jinja2 import Environment, StrictUndefined

    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    return environment.from_string(template).render(style=_STYLE, **values)
