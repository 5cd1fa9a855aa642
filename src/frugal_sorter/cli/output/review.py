"""The page on which the owner of a machine approves a plan."""

from __future__ import annotations

import base64
import os
from collections.abc import Sequence
from hashlib import sha256
from typing import NamedTuple

from frugal_sorter.cli.output.results import rendered
from frugal_sorter.cli.output.text import below, common_base, moment_text, shown, size_text, step_will_text, will_text
from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.contents import Contents
from frugal_sorter.filesystem.record import TYPE_OF_SUFFIX, suffix_of
from frugal_sorter.planning.plan import load_plan
from frugal_sorter.planning.selection import FORMAT, NOTHING, Numbers, by_rule, digest_of
from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.steps.kinds import FINAL
from frugal_sorter.steps.step import Step

# Small pictures take some 2 kB each; of more than these a mail would be too large.
_MOST_PICTURES = 2_000

_REVIEW = """<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="Content-Security-Policy"
 content="default-src 'none'; img-src data:; style-src 'unsafe-inline'; script-src 'sha256-{{ script_digest }}'">
<title>{{ title }}</title>
<style>
{{ style|safe }}
body { padding-bottom: 9rem; }
td.tick, td.date { white-space: nowrap; } th:first-child { width: 5rem; } th:last-child { width: 40%; }
th.number { width: 5rem; } th:nth-last-child(2) { width: 9rem; }
th:nth-last-child(5):not(:first-child) { width: 80px; }
td.pic img { display: block; max-width: 72px; max-height: 72px; }
td b { font-weight: 600; } td small { color: var(--dim); display: block; }
tr.stays { color: var(--dim); } tr.stays .does { text-decoration: line-through; }
section { content-visibility: auto; contain-intrinsic-size: auto 600px; }
h2 button { font: inherit; font-size: .8rem; margin-left: .75rem; }
form { position: fixed; inset: auto 0 0 0; background: var(--head); border-top: 1px solid var(--line); }
form div { max-width: 70rem; margin: auto; padding: .75rem 1.25rem; display: grid; gap: .5rem; }
form label { margin-right: 1rem; color: var(--ink); } form input, form button, textarea { font: inherit; color: inherit; }
form button { font-weight: 600; padding: .2rem .9rem; }
textarea { width: 100%; box-sizing: border-box; height: 4.6em; font-size: .75rem; background: var(--paper); }
form p { margin: 0; } summary { cursor: pointer; color: var(--dim); }
#sum { color: var(--ink); font-weight: 600; }
@media print { form { display: none; } }
</style>
</head>
<body>
<h1>{{ title }}</h1>
<p class="lead">{{ lead }}</p>
{% for line in lines %}<p>{{ line }}</p>
{% endfor %}
{% for group in groups %}
<section>
<h2>{{ group.title }}<button type="button" class="all">keep all of these</button></h2>
<table>
<thead><tr><th scope="col">keep</th>{% if group.has_pictures %}<th scope="col"></th>{% endif %}<th scope="col">file</th>
<th scope="col" class="number">size</th><th scope="col">last changed</th><th scope="col">what would happen</th></tr></thead>
<tbody>
{% set has_pictures = group.has_pictures %}
{% for row in group.rows %}
<tr><td class="tick"><label><input type="checkbox" value="{{ row.number }}"> {{ row.number }}</label></td>
{% if has_pictures %}
<td class="pic">{% if row.picture %}<img alt="" src="data:image/jpeg;base64,{{ row.picture }}">{% endif %}</td>
{% endif %}
<td><b>{{ row.name }}</b><small>{{ row.folder }}</small></td><td class="number">{{ row.size }}</td>
<td class="date">{{ row.date }}</td>
<td class="does">{{ row.does }}</td></tr>
{% endfor %}
</tbody>
</table>
</section>
{% endfor %}
<form><div>
<p id="sum"></p>
<p><label>Your name <input id="by" autocomplete="name" maxlength="100" required></label>
<button>Save my answer</button></p>
<details>
<summary>Then send the file <b>review.txt</b> back. If nothing is saved, open this and copy the text into a mail.</summary>
<textarea id="text" readonly aria-label="The answer as text"></textarea></details>
</div></form>
<script>{{ script|safe }}</script>
</body>
</html>
"""
# Numbers are joined to ranges, as a person would write them.
_REVIEW_SCRIPT = r"""
const boxes = [...document.querySelectorAll("input[type=checkbox]")];
const by = document.getElementById("by"), text = document.getElementById("text"), sum = document.getElementById("sum");
const [first, plan] = [document.title && "%(format)s", "%(digest)s"];
function answer() {
  const kept = boxes.filter(box => box.checked).map(box => Number(box.value)).sort((one, other) => one - other);
  const ranges = [];
  for (const number of kept) {
    const last = ranges[ranges.length - 1];
    if (last && last[1] === number - 1) last[1] = number; else ranges.push([number, number]);
  }
  const stays = ranges.map(([from, to]) => from === to ? `${from}` : `${from}-${to}`).join(",") || "%(nothing)s";
  sum.textContent = `${boxes.length - kept.length} of ${boxes.length} changes will be made; ${kept.length} will not.`;
  const who = by.value.replace(/\s+/g, " ").trim();
  text.value = `${first}\nPlan: ${plan}\nFrom: ${who}\nOn: ${new Date().toISOString()}\n` +
    `Changes: ${boxes.length}\nStays: ${stays}\n`;
  return who;
}
function show(box) { box.closest("tr").classList.toggle("stays", box.checked); }
document.addEventListener("change", event => {
  if (event.target.type === "checkbox") show(event.target);
  answer();
});
by.addEventListener("input", answer);
for (const button of document.querySelectorAll("button.all")) {
  button.addEventListener("click", () => {
    const those = [...button.closest("section").querySelectorAll("input")];
    const keep = !those.every(box => box.checked);
    those.forEach(box => { box.checked = keep; show(box); });
    button.textContent = keep ? "change all of these" : "keep all of these";
    answer();
  });
}
document.forms[0].addEventListener("submit", event => {
  event.preventDefault();
  if (!answer()) { by.focus(); return; }
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text.value], {type: "text/plain"}));
  link.download = "review.txt";
  link.click();
  URL.revokeObjectURL(link.href);
});
boxes.forEach(show);
answer();
"""


class Change(NamedTuple):
    """A change on a page for the owner, in texts; the picture is a JPEG in base64, empty for none."""

    number: int
    name: str
    folder: str
    size: str
    date: str
    does: str
    picture: str


class Changes(NamedTuple):
    """Changes of one rule."""

    title: str
    rows: Sequence[Change]

    @property
    def has_pictures(self) -> bool:
        return any(row.picture for row in self.rows)


def review_page(title: str, lead: str, lines: Sequence[str], groups: Sequence[Changes], digest: str) -> str:
    """Return a page on which the owner of a machine ticks what stays, and saves an answer; it needs nothing from outside.

    Args:
        title: its heading.
        lead: the one sentence to read.
        lines: the lines below it.
        groups: the changes.
        digest: which plan it is about.
    """

    script = _REVIEW_SCRIPT % {"format": FORMAT, "nothing": NOTHING, "digest": digest}
    shown_of = base64.b64encode(sha256(script.encode()).digest()).decode()
    return rendered(_REVIEW, title=title, lead=lead, lines=lines, groups=groups, script=script, script_digest=shown_of)


def write_review(path: Path, plan_file: Path, machine: str, now_ns: int) -> None:
    """Write the page about a saved plan to a new file.

    Args:
        path: of the page.
        plan_file: of the plan.
        machine: the name of the machine.
        now_ns: the moment.

    Raises:
        UsageError: the page is there already, or cannot be written.
    """
    # As `tidy` will read it: the numbers are those of the saved plan.
    plan = load_plan(plan_file)
    numbers = Numbers(plan)
    near = {place.folder for step in plan.asked for place in (step.source, step.target) if place and step.verb != "trash"}
    base = common_base(sorted(near or set(plan.roots)))
    contents, pictures = Contents(), 0

    def change(step: Step) -> Change:
        nonlocal pictures
        picture, was = "", step.was
        is_file = was is not None and was.kind == "file"
        if is_file and pictures < _MOST_PICTURES and TYPE_OF_SUFFIX.get(suffix_of(step.place.name)) == "image":
            found = contents.read("thumbnail", step.place.path)
            picture = found if isinstance(found, str) else ""
            pictures += bool(picture)
        date = moment_text(was.mtime_ns) if was is not None and is_file else ""
        size = size_text(step.bytes) if was is not None else ""
        folder = below(step.place.folder, base)
        return Change(numbers.of(step), shown(step.place.name), folder, size, date, step_will_text(step, base), picture)

    groups = []
    for rule, steps in by_rule(plan).items():
        listed = sorted((step for step in steps if numbers.of(step)), key=numbers.of)
        groups.append(Changes(f"{shown(rule)}: {will_text(steps)}", [change(step) for step in listed]))
    contents.close()
    what = "this change" if len(numbers.steps) == 1 else f"these {len(numbers.steps):,} changes"
    lead = f"Is it all right to make {what}? Nothing has been changed yet."
    lines = [
        f"{shown(machine)}, {shown(base)}, {moment_text(now_ns)}",
        "Tick what should stay as it is, add your name, and save your answer.",
    ]
    if any(step.verb in FINAL for step in plan.asked):
        lines.append("Files that are deleted permanently cannot be restored. All other changes can be undone.")
    text = review_page(f"Please check: {shown(os.path.basename(base) or base)}", lead, lines, groups, digest_of(plan_file))
    flags = disk.O_WRONLY | disk.O_CREAT | disk.O_EXCL | disk.O_CLOEXEC
    try:
        with open(disk.open(path, flags, 0o600), "w", encoding="utf-8", errors="surrogateescape") as file:
            file.write(text)
    except FileExistsError:
        raise UsageError(f"{path}: the file already exists", "choose another name, or remove it") from None
    except OSError as error:
        raise UsageError(f"{path}: the page cannot be written ({error.strerror})", "choose another place") from None
